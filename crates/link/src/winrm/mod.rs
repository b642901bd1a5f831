//! Machines that are spoken to by WinRM: connections with TLS or sealed messages, logins, and commands on them.

mod answers;
mod arrival;
mod client_certificate;
mod command;
mod driver;
mod failure;
mod http;
mod login;
mod look;
mod opener;
mod remote;
mod remoting;
mod session;
mod shared;
mod ticketed;
mod tls;
mod trust;
mod user;

pub(crate) use command::{CommandEnd, WinrmCommand};
pub use failure::{LoginRefused, WinrmFailure};
pub use login::LoginWay;
pub use look::{ShownChain, look_at_chain};
pub use opener::WinrmRequest;
pub use remote::SessionOptions;
pub(crate) use remote::WinrmRemote;
pub use remoting::{RemoteSession, SessionNews};
pub use user::UserForm;
