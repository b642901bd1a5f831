//! The harbour: simulated machines of a coastal lighthouse service, for the demo and the tests.
//!
//! A [`MachineSpec`] says who may log in to a machine and what goes wrong on it; [`Harbour::light`] opens them all
//! on loopback addresses. They speak through the server role of `lantern-ssh` and run a small made-up system
//! ([`system`]), whose output never changes. A [`WindowsSpec`] is a machine of Windows, which speaks through `lantern-winrm`. [`LatencyLink`] is a line in front of one that delays every byte and counts
//! round trips.

mod acting;
mod cable;
mod console;
mod dns;
mod fault;
mod fleet;
mod forwarding;
mod gate;
mod holdings;
mod latency;
mod lit;
mod proxy;
mod serve;
mod service;
mod session;
mod spec;
pub mod system;
mod tree;
mod windows;

pub use acting::Acting;
pub use cable::Cable;
pub use dns::NameServer;
pub use fault::Fault;
pub use fleet::{bare_machine, sample_fleet, sample_windows};
pub use latency::LatencyLink;
pub use lit::LitMachine;
pub use proxy::ProxyServer;
pub use serve::Harbour;
pub use service::Service;
pub use spec::{FilesSpec, LoginRule, MachineSpec, UserSpec};
pub use windows::{
    Endpoint, LitWindows, Rights, Seen, ServerCertificate, WindowsFault, WindowsMachine, WindowsRealm,
    WindowsSpec, WindowsUser,
};
