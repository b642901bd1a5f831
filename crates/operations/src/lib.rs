//! What an administrator does, whole, without an interface.
//!
//! An operation takes plain inputs, asks through [`lantern_link::Ask`], and returns a typed result; nothing here prints, reads the
//! command line or knows a terminal. The program's commands turn arguments into such inputs and results into words.
//!
//! - [`Target`] and [`ReachOptions`]: from a name or an address to everything that a connection needs to know.
//! - [`login`]: logging in for an operation, with a proof of what one key is good for.
//! - [`install()`], [`withdraw()`], [`rotate`]: keys onto machines, off them, and one in place of another.
//! - [`keep`]: a one-off becomes a machine of the book. [`find_key_file`]: the file that a pasted text names.
//! - [`login_clues`]: what is known here that says why a login was refused.
//! - [`AgentForward`]: the agent for a machine that asks for signatures.
//! - [`display`]: the display for a machine's programs.
//! - [`certificates`]: authorities for one's own machines, and what they sign.
//! - [`check`]: every step of a connection, what it saw, and the first that failed.
//! - [`doctor`]: this computer alone.
//! - [`key_audit`]: what is wrong with keys. [`convert`]: the same key in another container.
//! - [`trust`]: what machines present now, what that means, and what a team has verified.
//! - [`files`]: files here and on machines. [`copy`]: from the one to the other. [`edit`]: one of a machine in an editor here.
//! - [`inventory`]: the book brought in line with an inventory.
//! - [`prepare`]: scripts that are pasted on a machine's console, so that it can be reached.
//! - [`tunnel`]: tunnels, kept up, and what is behind them.
//! - [`remoting`]: a text that is to run in a session of PowerShell, as a pipeline; what is given to it; what its end means.
//! - [`many`]: the same on many machines.
//! - [`demo`]: the sample book and the story that is told with it.

mod at_once;
pub mod certificates;
pub mod check;
pub mod convert;
pub mod copy;
mod counted;
pub mod demo;
pub mod display;
pub mod doctor;
pub mod edit;
mod error;
pub mod files;
mod forward;
mod install;
pub mod inventory;
pub mod keep;
pub mod key_audit;
mod key_search;
pub mod login;
mod login_clues;
pub mod many;
pub mod mount;
pub mod place;
pub mod prepare;
mod quoted;
mod reach;
pub mod remoting;
pub mod rotate;
mod source_address;
mod target;
mod tries;
pub mod trust;
pub mod tunnel;
mod windows;
mod winrm_settings;
mod withdraw;

pub use at_once::{Turn, in_order};
pub use counted::counted;
pub use error::OperationError;
pub use forward::AgentForward;
pub use install::{InstallError, Installation, install};
pub use key_search::{FoundKey, find_key_file};
pub use lantern_link::chain;
pub use login_clues::{LoginClues, SameHost, login_clues};
pub use quoted::quoted;
pub use reach::{LimitOptions, ReachError, ReachOptions};
pub use target::{SessionSettings, Target};
pub use winrm_settings::WinrmSettings;
pub use withdraw::{WithdrawError, Withdrawal, withdraw};
