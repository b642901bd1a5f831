//! The file transfer protocol that servers call `sftp`: version 3 (draft-ietf-secsh-filexfer-02), with extensions that a server announces.
//!
//! - [`SftpRequest`] and [`SftpResponse`] are its messages, for both roles; `frames.rs` cuts a stream of bytes into them.
//! - [`SftpClient`] asks: many requests at once, answers in any order.
//! - [`SftpServer`] answers, out of a [`FileStore`].
//! - [`ReadAhead`] turns a file into reads that are under way together, and their answers into its bytes in order; [`Flight`] says how many.
//!
//! Names are bytes, whatever they look like. Nothing here does I/O or knows the time.

mod attributes;
mod check_file;
mod client;
mod error;
mod extensions;
mod file_handles;
mod flight;
mod frames;
mod numbers;
mod open_flags;
mod read_ahead;
mod request;
mod response;
mod server;
mod status;
mod store;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests;

pub use attributes::{Attributes, FileKind};
pub use client::{Answer, SftpClient, Ticket};
pub use error::SftpError;
pub use extensions::{Extension, Extensions, ServerLimits};
pub use file_handles::FileHandle;
pub use flight::{Departure, Flight};
pub use frames::MAX_SFTP_FRAME;
pub use open_flags::OpenFlags;
pub use read_ahead::{ReadAhead, Stalled};
pub use request::SftpRequest;
pub use response::{NameEntry, SftpResponse, Space};
pub use server::{Flaws, SftpServer};
pub use status::{Refusal, StatusCode};
pub use store::{FileNumber, FileStore, StoreResult};

/// The version that is spoken.
pub const VERSION: u32 = 3;
/// The subsystem's name (draft §2).
pub const SUBSYSTEM: &str = "sftp";

/// Both decoders, for the fuzzers.
#[cfg(fuzzing)]
pub(crate) fn decode_anything(bytes: &[u8]) {
    let _ = SftpRequest::decode(bytes, false);
    let _ = SftpRequest::decode(bytes, true);
    let _ = SftpResponse::decode(vec![bytes::Bytes::copy_from_slice(bytes)]);
}
