//! Tunnels on the screen: in words, as JSON, and live.

pub(crate) mod json;
pub(crate) mod live;
pub(crate) mod words;
