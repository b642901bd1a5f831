//! Why a conversation about files cannot go on.

use lantern_keys::wire::WireError;

use super::{MAX_SFTP_FRAME, VERSION};

/// What a server said that makes no sense. Whatever was asked on this conversation has no answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SftpError {
    /// A message of a length that no message has.
    #[error("a message of {0} bytes was announced, where none has more than {MAX_SFTP_FRAME}")]
    Length(usize),
    /// Malformed bytes.
    #[error("a message cannot be read: {0}")]
    Malformed(#[from] WireError),
    /// Another version than ours.
    #[error("version {0} is spoken, and not {VERSION}")]
    Version(u32),
    /// An answer to a question that nobody asked, or that was answered before.
    #[error("an answer came to question {0}, which was not asked")]
    ToNobody(u32),
    /// An answer that does not fit what was asked.
    #[error("{asked} was asked for, and {answered} came")]
    OtherAnswer {
        /// What was asked for.
        asked: &'static str,
        /// What came.
        answered: &'static str,
    },
    /// More bytes than were asked for.
    #[error("{came} bytes came, where {asked} were asked for")]
    TooMuch {
        /// Bytes that were asked for.
        asked: u32,
        /// Bytes that came.
        came: usize,
    },
    /// The handle of a file that is open already, for another one: what is written to the one would end in the other.
    #[error("two open files were given one handle")]
    HandleGivenTwice,
    /// A handle that is longer than the draft (§6.2) lets it be.
    #[error("a handle of {0} bytes")]
    HandleLength(usize),
}
