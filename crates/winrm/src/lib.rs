//! WS-Management for machines that are administered by WinRM, for both roles: messages, and the state machine of a command shell.
//!
//! No input or output, no clock: texts come in and go out, and whoever drives this brings them over a connection.
//!
//! - [`Request`] and [`Response`] are what is said: encoded and decoded by both roles, held to [`limits`].
//! - [`Fault`] is a machine's refusal, with our words for what administrators meet.
//! - [`CommandShell`] is a command on a machine: it says what to post next, takes the answers, and tells what came of it.
//! - [`SessionShell`] is the same for a session of PowerShell, whose pipelines run one after the other.
//! - [`program_line`] and [`interpreter_line`] put words together so that a program there reads them back.
//! - [`remoting`] is what is said to PowerShell: messages in fragments, and the objects in them.
//! - [`file_helper`] is a file service that is brought along and compiled on the machine.
//! - [`sealed`] is the form of messages that a login's keys have encrypted, for lines without TLS; [`Challenges`] are the logins that a service offers, and [`ntlm`] is
//!   one of them; [`LoginKeys`] are what a login leaves behind.

mod challenge;
mod command_shell;
mod envelope;
mod error;
mod fault;
mod fault_code;
pub mod file_helper;
mod ids;
pub mod limits;
mod login_keys;
pub mod namespace;
pub mod ntlm;
mod posting;
pub mod remoting;
mod request;
mod response;
pub mod sealed;
mod session_shell;
mod words;
pub mod xml;

pub use challenge::{Challenges, Scheme};
pub use command_shell::{CommandShell, ShellConfig, ShellError, ShellEvent};
pub use envelope::{RequestHeaders, answer_fault};
pub use error::WinrmError;
pub use fault::Fault;
pub use fault_code::FaultKind;
pub use ids::uuid;
pub use login_keys::LoginKeys;
pub use posting::{Lane, Post, Posts, ServicePlace, Wanted};
pub use request::{NewCommand, NewSession, NewShell, Request, Sent, Signal};
pub use response::{Identity, Output, Received, Response, max_envelope};
pub use session_shell::{KeptSession, SessionConfig, SessionShell, SessionShellEvent};
pub use words::{WordsError, interpreter_line, program_line, split};
