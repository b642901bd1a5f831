//! The terminal: questions, raw mode, its modes for the far side, our own streams, and the way out of a hung session.

mod aside;
pub(crate) mod ask;
pub(crate) mod clipboard;
pub(crate) mod confirm;
mod conversation;
pub(crate) mod editor;
pub(crate) mod escape;
pub(crate) mod first_contact;
pub(crate) mod host_prompt;
mod known_answers;
pub(crate) mod left_on;
pub(crate) mod line_editor;
pub(crate) mod modes;
pub(crate) mod passphrase;
pub(crate) mod picker;
pub(crate) mod pipes;
pub(crate) mod prompt;
pub(crate) mod raw;
pub(crate) mod session_ask;
pub(crate) mod signals;
pub(crate) mod stdio;
