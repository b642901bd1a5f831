//! The terminal: questions, raw mode, its modes for the far side, and the way out of a hung session.

pub(crate) mod escape;
pub(crate) mod modes;
pub(crate) mod prompt;
pub(crate) mod raw;
