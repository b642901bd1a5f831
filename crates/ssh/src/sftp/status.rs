//! How a request went (draft §7).

use std::fmt;

/// The codes of version 3.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StatusCode {
    /// It was done.
    Ok,
    /// The end of a file or of a listing.
    EndOfFile,
    /// There is no such file.
    NoSuchFile,
    /// The user may not do that.
    PermissionDenied,
    /// Something else; servers have this for a full disk, a file that exists, a folder that is not empty.
    Failure,
    /// The server did not understand the message.
    BadMessage,
    /// There is no connection to what holds the files.
    NoConnection,
    /// That connection was lost.
    ConnectionLost,
    /// The server does not do that.
    Unsupported,
    /// A code that version 3 does not have.
    Other(u32),
}

impl StatusCode {
    /// The code of a number.
    pub fn from_number(number: u32) -> Self {
        match number {
            0 => Self::Ok,
            1 => Self::EndOfFile,
            2 => Self::NoSuchFile,
            3 => Self::PermissionDenied,
            4 => Self::Failure,
            5 => Self::BadMessage,
            6 => Self::NoConnection,
            7 => Self::ConnectionLost,
            8 => Self::Unsupported,
            other => Self::Other(other),
        }
    }

    /// Its number.
    pub fn number(self) -> u32 {
        match self {
            Self::Ok => 0,
            Self::EndOfFile => 1,
            Self::NoSuchFile => 2,
            Self::PermissionDenied => 3,
            Self::Failure => 4,
            Self::BadMessage => 5,
            Self::NoConnection => 6,
            Self::ConnectionLost => 7,
            Self::Unsupported => 8,
            Self::Other(number) => number,
        }
    }
}

impl fmt::Display for StatusCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ok => "done",
            Self::EndOfFile => "end of file",
            Self::NoSuchFile => "no such file",
            Self::PermissionDenied => "permission denied",
            Self::Failure => "failure",
            Self::BadMessage => "message not understood",
            Self::NoConnection => "no connection behind the server",
            Self::ConnectionLost => "connection behind the server lost",
            Self::Unsupported => "not supported by the server",
            Self::Other(number) => return write!(f, "status {number}"),
        })
    }
}

/// Longest words of a server that are shown, in bytes.
const MAX_SHOWN: usize = 200;

/// A request that was not done.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.words())]
pub struct Refusal {
    /// Why.
    pub code: StatusCode,
    /// The server's words, which may be empty; text from outside.
    pub message: String,
}

impl Refusal {
    /// A refusal without words.
    pub fn new(code: StatusCode) -> Self {
        Self { code, message: String::new() }
    }

    /// Code and words, the latter only where they say more.
    fn words(&self) -> String {
        let (code, message) = (self.code.to_string(), self.message.trim());
        match message.is_empty() || message.eq_ignore_ascii_case(&code) {
            true => code,
            false => format!("{code} ({})", crate::neutralize_line(message, MAX_SHOWN)),
        }
    }
}
