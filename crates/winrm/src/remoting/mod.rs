//! PowerShell remoting (MS-PSRP) as messages, without knowing who carries them: fragments that messages are cut into, and the objects that are in them.
//!
//! - [`Fragmenter`] cuts messages, and [`Defragmenter`] puts them together again.
//! - [`Message`] is a message with its kind and whom it concerns.
//! - [`Objects`] are what it says, read from the serialization of objects in XML, and written in it.

mod fragment;
pub mod limits;
mod message;
mod objects;

pub use fragment::{Defragmenter, FRAGMENT_HEAD, Fragmenter};
pub use message::{Destination, Message, MessageKind};
pub use objects::{Content, Object, ObjectId, Objects, Primitive, Value};

/// Why something that came is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RemotingError {
    /// A fragment or a message ends too early, or has a length that it cannot have.
    #[error("a fragment of a message is damaged: {0}")]
    Fragment(&'static str),
    /// A fragment was left out, came twice or in another order.
    #[error(
        "a fragment of a message is missing, or came twice: its number is {met}, and {expected} was to come"
    )]
    Gap {
        /// The number that was to come.
        expected: u64,
        /// The one that came.
        met: u64,
    },
    /// A message in a form that nobody knows.
    #[error("a message is damaged: {0}")]
    Message(&'static str),
    /// More than is read.
    #[error("a message has more than {limit} {what}")]
    TooMuch {
        /// Of what.
        what: &'static str,
        /// How much is read.
        limit: usize,
    },
    /// Objects that are not in the form of the standard.
    #[error("an object is damaged: {0}")]
    Objects(String),
}
