//! Connections that the keeper holds and programs join.
//!
//! Whoever joins speaks the connection protocol (RFC 4254) with the keeper, which passes it on: each channel of the program's is a channel of the
//! connection, each request a request, and what the machine opens under a grant of the program's is opened to the program.

mod grants;
mod join;
mod passage;

pub(crate) use join::serve;
