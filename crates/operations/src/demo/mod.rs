//! The demo: what its book says of the simulated machines, and the story that is told with them.

mod book;
mod story;

use std::net::SocketAddr;

use lantern_keys::Fingerprint;

pub use book::enter_into_book;
pub use story::{Beat, Ending, Run, changed_key, connect_line, opening, walk};

/// The demo's key in the ring.
pub const KEY: &str = "harbour";
/// The machine that is not in the book until its line is carried back.
pub const BARE: &str = "lamp-03";
/// The machine that is set up anew at the end of the story.
pub const SET_UP_ANEW: &str = "lamp-02";

/// A simulated machine, as the demo knows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DemoMachine {
    /// Its name.
    pub name: String,
    /// Where it is reached from here.
    pub address: SocketAddr,
    /// Its address behind the gateway, when it has none of its own here.
    pub inner_address: Option<String>,
    /// Whether it is a machine of Windows, spoken to by WinRM.
    pub is_windows: bool,
    /// The fingerprint of its host key, or of its certificate.
    pub fingerprint: Fingerprint,
}
