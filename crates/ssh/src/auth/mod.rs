//! The authentication protocol (RFC 4252, 4256): each role's side of it, and the client's plan of what to try.

pub(crate) mod client;
pub(crate) mod plan;
pub(crate) mod server;
