//! The agent protocol (draft-ietf-sshm-ssh-agent): a process that holds private keys signs for those that ask it to.
//!
//! - [`AgentRequest`] and [`AgentResponse`] are its messages, [`Frames`] cuts a stream of bytes into them.
//! - [`Keeper`] is the holding side as a state machine: requests and instants in, answers out. It has no socket and asks
//!   nobody; where its keys lie is up to a [`Vault`].

mod frames;
mod keeper;
mod message;

pub use frames::{Frames, MAX_FRAME_LEN};
pub use keeper::{Held, Keeper, MAX_KEYS, Outcome, PlainVault, SLOT_LEN, SignTask, Vault};
pub use message::{AgentRequest, AgentResponse, Constraints, Identity, SignFlags};

/// The channel type that a server opens to a forwarded agent.
pub const CHANNEL_TYPE: &str = "auth-agent@openssh.com";
/// The request on a session that allows it.
pub const FORWARD_REQUEST: &str = "auth-agent-req@openssh.com";
