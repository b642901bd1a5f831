//! What is wrong with a message, and whose fault it is.

use crate::Fault;
use crate::xml::XmlError;

/// Why a message was not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum WinrmError {
    /// Not XML that is read, or not to be written as such.
    #[error(transparent)]
    Xml(#[from] XmlError),
    /// XML, but not the message that it should be.
    #[error("the message has no {0}")]
    Missing(&'static str),
    /// A value that makes no sense.
    #[error("the message has a wrong {0}")]
    Wrong(&'static str),
    /// An answer to something else.
    #[error("the answer is to another message")]
    NotOurs,
    /// An answer of another kind.
    #[error("{expected} was expected, {met} came")]
    Unexpected {
        /// What was.
        expected: &'static str,
        /// The action of what came.
        met: String,
    },
    /// More than was asked for.
    #[error("the answer has output of another command")]
    OtherCommand,
    /// The machine's own refusal.
    #[error(transparent)]
    Fault(Box<Fault>),
    /// A sealed message that is not in its form (MS-WSMV 2.2.9.1).
    #[error("the sealed message is not in its form: {0}")]
    Sealed(&'static str),
}

impl From<Fault> for WinrmError {
    fn from(fault: Fault) -> Self {
        Self::Fault(Box::new(fault))
    }
}
