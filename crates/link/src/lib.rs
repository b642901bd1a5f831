//! The drivers: they own sockets and timers, feed the protocol machines, and turn what happens into one account.
//!
//! - [`dial()`] reaches an address and tells apart why it could not.
//! - [`Pump`] moves bytes between a socket and either role of the protocol.
//! - [`connect`] takes a machine of the book from nothing to logged in; questions leave through [`Ask`].
//! - [`Link`] is the result: events come out, requests and data go in.

mod agent;
mod ask;
mod capture;
mod dial;
mod error;
mod link;
mod login;
mod login_trust;
mod own_keys;
mod probe;
mod pump;
pub mod remote_logins;
mod request;

pub use agent::{AgentClient, AgentError, AgentSocket};
pub use ask::{Ask, FirstContact, HostKeyAnswer, Note};
pub use capture::{Captured, capture};
pub use dial::dial;
pub use error::{AuthFailure, LinkError, TrustFailure};
pub use link::Link;
pub use login::connect;
pub use probe::probe_host_key;
pub use pump::{Pump, PumpError};
pub use request::{ConnectRequest, KeyChoice, TimeLimits, our_offer};
