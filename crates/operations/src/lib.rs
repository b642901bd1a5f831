//! What an administrator does, whole, without an interface.
//!
//! An operation takes plain inputs, asks through [`lantern_link::Ask`], and returns a typed result; nothing here prints, reads the
//! command line or knows a terminal. The program's commands turn arguments into such inputs and results into words.
//!
//! - [`Target`] and [`ReachOptions`]: from a name or an address to everything that a connection needs to know.
//! - [`login`]: logging in for an operation, with a proof of what one key is good for.
//! - [`install()`], [`withdraw()`], [`rotate`]: keys onto machines, off them, and one in place of another.
//! - [`AgentForward`]: the agent for a machine that asks for signatures.
//! - [`trust`]: what machines present now, and what that means.

mod error;
mod forward;
mod install;
pub mod login;
pub mod place;
pub mod rotate;
mod target;
pub mod trust;
mod withdraw;

pub use error::OperationError;
pub use forward::AgentForward;
pub use install::{InstallError, Installation, install};
pub use target::{LimitOptions, ReachError, ReachOptions, SessionSettings, Target};
pub use withdraw::{WithdrawError, Withdrawal, withdraw};
