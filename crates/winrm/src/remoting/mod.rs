//! PowerShell remoting (MS-PSRP) as messages, without knowing who carries them: fragments that messages are cut into, and the objects that are in them.
//!
//! - [`Fragmenter`] cuts messages, and [`Defragmenter`] puts them together again.
//! - [`Message`] is a message with its kind and whom it concerns.
//! - [`Objects`] are what it says, read from the serialization of objects in XML, and written in it, as JSON and as text.
//! - [`Session`] is the client's side of a session: pipelines, what they say and ask, and secrets.

mod fragment;
mod host;
mod host_call;
pub mod limits;
mod message;
mod numbering;
mod objects;
mod pipeline;
mod record;
mod session;
mod session_key;
mod state;

pub use fragment::{Defragmenter, FRAGMENT_HEAD, Fragmenter};
pub use host::HostFacts;
pub use host_call::{CallNumber, Colour, Fact, Field, FieldKind, HostAsks, HostCall, Telling};
pub use message::{Destination, Message, MessageKind};
pub use objects::{Content, Object, ObjectId, Objects, Primitive, Value};
pub use pipeline::{Argument, Command, Parameter, Pipeline};
pub use record::{ErrorRecord, Information, Place, Progress, Record};
pub use session::{FieldAnswer, HostAnswer, Kept, PipelineEnd, Said, Session, SessionEvent};
pub use session_key::SessionKey;
pub use state::{PipelineState, PoolState};

/// The version of the protocol that we speak (MS-PSRP 2.2.2.1).
pub const PROTOCOL_VERSION: &str = "2.3";

/// What each side is able to do: the protocol, and the form of objects, by their versions.
pub fn capability() -> String {
    let version = |text: &str| Value::Primitive(Primitive::Version(text.to_owned()));
    let mut objects = Objects::default();
    let root = objects.bag([
        ("protocolversion", version(PROTOCOL_VERSION)),
        ("PSVersion", version("2.0")),
        ("SerializationVersion", version("1.1.0.1")),
    ]);
    objects.write(&root)
}

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
