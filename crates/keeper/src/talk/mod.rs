//! A conversation with the keeper while it does something for a program: it asks what only a person can answer, and the program asks at its terminal.
//!
//! ```text
//!   program                         keeper
//!     request ────────────────────►
//!             ◄──────────────────── Question 1, Note …
//!     Reply 1 ────────────────────►
//!             ◄──────────────────── Outcome
//! ```
//!
//! Secrets travel in frames of their own, which are wiped when they have been read.

mod answering;
mod asking;
#[cfg(test)]
mod conversation;
mod forms;
mod frames;

pub(crate) use answering::attend;
pub(crate) use asking::{Gone, converse};
pub(crate) use forms::KeyForm;
pub(crate) use frames::Talk;
