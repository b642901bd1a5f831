//! SSH 2 as a state machine, for both roles.
//!
//! Nothing here touches a socket or a clock. A driver owns both and repeats:
//!
//! 1. put received bytes into [`Machine::receive_buffer`], then call [`Machine::handle_input`] with the time;
//! 2. take events with [`Client::poll_event`] or [`Server::poll_event`] and act on them;
//! 3. send [`Machine::poll_transmit`], and say how much went out with [`Machine::sent`];
//! 4. wait for input or for [`Machine::poll_timeout`], then [`Machine::handle_timeout`].
//!
//! ```text
//!        bytes, instants                        events, deadlines
//!   socket ───────────► identification           ▲
//!                        packet (cipher)         │
//!                        transport (kex) ──► auth ──► connection (channels)
//!   socket ◄─────────── packet (cipher) ◄────┴──────────┘
//! ```
//!
//! [`Client`] is what the product runs; [`Server`] is what the simulated machines run. [`manual`] explains defaults,
//! refusals and known attacks; [`limits`] lists what a peer can make us do at most.

pub mod agent;
pub mod algorithm;
mod auth;
mod base;
mod channel;
mod cipher;
mod client;
mod client_early;
mod client_requests;
mod connection;
pub mod disconnect;
mod display;
mod early;
mod error;
#[cfg(fuzzing)]
pub mod fuzzing;
mod global;
mod identification;
mod joined;
mod kex;
pub mod limits;
mod listen;
mod machine;
pub mod manual;
mod message;
mod negotiate;
mod owed;
mod pace;
mod packet;
mod patience;
mod rtt;
mod server;
pub mod sftp;
pub mod signals;
pub mod terminal_modes;
mod text;
mod transport;

pub use algorithm::Offer;
pub use auth::client::{Attempt, AuthEvent};
pub use auth::plan::{AuthPlan, KeyCandidate, PlanReport, PlannedStep};
pub use auth::server::{AuthAnswer, AuthMethod, AuthRequest};
pub use channel::{ChannelEnded, ChannelEvent, ChannelId, Stream};
pub use client::{Client, ClientConfig, ClientEvent};
pub use disconnect::Disconnect;
pub use display::{COOKIE_PROTOCOL, Cookie, DisplaySetup, SetupError};
pub use early::EarlySession;
pub use error::SshError;
pub use global::{GlobalEvent, GlobalTicket};
pub use identification::OURS as IDENTIFICATION;
pub use listen::ListenAt;
pub use machine::Machine;
pub use message::auth::{Prompt, Prompts};
pub use message::connection::{DisplayRequest, OpenFailure, PtyRequest, SessionRequest, TerminalSize};
pub use message::peer_channel::{DirectTcpip, Forwarded, PeerChannel};
pub use negotiate::{Algorithms, Direction};
pub use owed::ListenTicket;
pub use server::{Server, ServerConfig, ServerEvent};
pub use text::{is_invisible, neutralize, neutralize_line};
pub use transport::{Guess, Joining, RekeyPolicy, Statistics};

/// Which end of a connection a machine plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Connects, and checks the host key.
    Client,
    /// Is connected to, and presents a host key.
    Server,
}
