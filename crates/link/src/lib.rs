//! The drivers: they own sockets and timers, feed the protocol machines, and turn what happens into one account.
//!
//! - [`dial()`] reaches an address and tells apart why it could not.
//! - [`Pump`] moves bytes between a socket and either role of the protocol.
//! - [`connect`] takes a machine of the book from nothing to logged in; questions leave through [`Ask`].
//! - [`Trunk`] is the result: a connection whose channels are streams, shared by whoever needs one.
//! - [`Remote`] is what a command asks of a machine, whatever it is spoken to by.

mod agent;
mod ask;
mod capture;
mod connect;
mod decision;
mod dial;
mod display;
mod dns;
mod dynamic;
mod early;
mod error;
mod explained;
mod files;
mod gateway;
mod gateway_steps;
mod identity;
mod kerberos;
mod line;
mod local;
mod login;
mod login_early;
mod login_report;
mod login_trust;
mod look_around;
mod own_keys;
mod pool;
mod prepared;
mod privilege;
mod probe;
mod program;
mod proxy;
mod pump;
mod remote;
pub mod remote_digest;
pub mod remote_logins;
mod request;
mod rotation;
mod shared_ring;
mod step;
mod surroundings;
mod trunk;
mod winrm;

pub use agent::{AgentClient, AgentError, AgentSocket};
pub use ask::{Answer, Answering, Ask, FirstContact, Nobody, Note, Question};
pub use capture::{Captured, capture};
pub use connect::{connect, connect_alone, connect_over};
pub use dial::{Dial, dial};
pub use display::{
    AuthorityError, AuthorityFile, DisplayAnswer, DisplayAuthorization, DisplayError, DisplayHere,
    DisplayName, RestrictedAuthorization, restricted_authorization,
};
#[cfg(fuzzing)]
pub use display::{fuzz_entries, fuzz_reply};
#[cfg(fuzzing)]
pub use dns::fuzz_answer;
pub use dns::{DnsError, SshfpAnswer, sshfp_records};
pub use dynamic::{Dialect, Greeting, Next, Outcome, TunnelLogin, Wish};
pub use error::{AuthFailure, Kinship, LinkError, ProxyError, TrustFailure, chain};
pub use explained::Explained;
pub use files::{FILE_SERVER, FileReader, FileWriter, Files, FilesError, RandomAccess};
pub use identity::Identity;
pub use kerberos::{KerberosFailure, KerberosPlaces};
pub use line::{ByteStream, Line, Lines};
pub use local::{Broken, ListenError, Listener, LocalStream, Meter, Passing, bind_unix, relay};
pub use look_around::{Forwarding, ShellAnswer, WHO_AND_WHERE, WhoAndWhere, forwarding, who_and_where};
pub use pool::{Pool, Pooled};
pub use privilege::{Entering, Privilege, PrivilegeFailure};
pub use probe::{probe_host_key, probe_host_keys};
pub use program::{CommandWords, Opens, Program, Runs};
pub use pump::{Pump, PumpError};
pub use remote::{ACTING, InputEnded, News, Process, ProcessEnd, Remote, RemoteRequest, Seen, Start};
pub use request::{ConnectRequest, Finding, KeyChoice, Known, Shares, TimeLimits, TrustPolicy, our_offer};
pub use shared_ring::SharedRing;
pub use step::Step;
pub use surroundings::{Happened, Surroundings};
pub use trunk::{
    Account, Channel, ChannelEnd, Grant, Granted, Listening, Opened, Reply, Trunk, Uses, refuse_display,
};
pub use winrm::{
    LoginRefused, LoginWay, RemoteSession, SessionNews, SessionOptions, ShownChain, UserForm, WinrmFailure,
    WinrmRequest, look_at_chain,
};
