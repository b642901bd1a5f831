//! A message: its kind, whom it concerns, and what it says (MS-PSRP 2.2.1).

use super::RemotingError;

/// The length of what stands before a message's data, in bytes.
const HEAD: usize = 40;
/// What some write before text in UTF-8.
const MARK: &[u8] = &[0xef, 0xbb, 0xbf];

/// Who is to read it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Destination {
    /// The client.
    Client,
    /// The machine.
    Server,
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $name:ident = $number:literal,)*) => {
        /// What a message is about (MS-PSRP 2.2.1).
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[non_exhaustive]
        pub enum MessageKind {
            $($(#[$doc])* $name,)*
        }

        impl MessageKind {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// Its number.
            pub fn number(self) -> u32 {
                match self {
                    $(Self::$name => $number,)*
                }
            }
        }
    };
}

kinds! {
    /// What each side is able to do.
    SessionCapability = 0x0001_0002,
    /// A pool of runspaces is to be made.
    InitRunspacePool = 0x0001_0004,
    /// The client's half of the exchange of a key.
    PublicKey = 0x0001_0005,
    /// The machine's half.
    EncryptedSessionKey = 0x0001_0006,
    /// A key is wanted.
    PublicKeyRequest = 0x0001_0007,
    /// A pool that was left is joined.
    ConnectRunspacePool = 0x0001_0008,
    /// How many runspaces a pool has at most.
    SetMaxRunspaces = 0x0002_1002,
    /// And at least.
    SetMinRunspaces = 0x0002_1003,
    /// What came of that.
    RunspaceAvailability = 0x0002_1004,
    /// How a pool is.
    RunspacePoolState = 0x0002_1005,
    /// A pipeline is to run.
    CreatePipeline = 0x0002_1006,
    /// How many runspaces are free.
    GetAvailableRunspaces = 0x0002_1007,
    /// An event that was subscribed to.
    UserEvent = 0x0002_1008,
    /// What the pool is about, for applications.
    ApplicationPrivateData = 0x0002_1009,
    /// Which commands there are.
    GetCommandMetadata = 0x0002_100a,
    /// What a pool is, told to whoever joins it.
    RunspacePoolInitData = 0x0002_100b,
    /// Something is asked of the pool's host.
    RunspacePoolHostCall = 0x0002_1100,
    /// What it answers.
    RunspacePoolHostResponse = 0x0002_1101,
    /// An object that goes into a pipeline.
    PipelineInput = 0x0004_1002,
    /// There are no more.
    EndOfPipelineInput = 0x0004_1003,
    /// An object that comes out.
    PipelineOutput = 0x0004_1004,
    /// An error.
    ErrorRecord = 0x0004_1005,
    /// How a pipeline is.
    PipelineState = 0x0004_1006,
    /// For whoever looks for a fault.
    DebugRecord = 0x0004_1007,
    /// For whoever wants to know more.
    VerboseRecord = 0x0004_1008,
    /// A warning.
    WarningRecord = 0x0004_1009,
    /// How far something is.
    ProgressRecord = 0x0004_1010,
    /// Information.
    InformationRecord = 0x0004_1011,
    /// Something is asked of a pipeline's host.
    PipelineHostCall = 0x0004_1100,
    /// What it answers.
    PipelineHostResponse = 0x0004_1101,
}

/// A message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Who is to read it.
    pub destination: Destination,
    /// Its kind.
    pub kind: MessageKind,
    /// The pool of runspaces that it is about, as the bytes stand on the wire.
    pub pool: [u8; 16],
    /// The pipeline that it is about; zeros: none.
    pub pipeline: [u8; 16],
    /// What it says: objects in XML, or nothing.
    pub data: String,
}

impl Message {
    /// The message as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let destination: u32 = match self.destination {
            Destination::Client => 1,
            Destination::Server => 2,
        };
        let mut bytes = Vec::with_capacity(HEAD + self.data.len());
        bytes.extend(destination.to_le_bytes());
        bytes.extend(self.kind.number().to_le_bytes());
        bytes.extend(self.pool);
        bytes.extend(self.pipeline);
        bytes.extend(self.data.bytes());
        bytes
    }

    /// Reads one.
    ///
    /// # Errors
    /// It ends early, is of no known kind, or is not text.
    pub fn decode(bytes: &[u8]) -> Result<Self, RemotingError> {
        let (head, data) =
            bytes.split_first_chunk::<HEAD>().ok_or(RemotingError::Message("it ends early"))?;
        let number = |at: usize| {
            let four = head.get(at..at + 4).and_then(|four| four.try_into().ok());
            four.map_or(0, u32::from_le_bytes)
        };
        let id = |at: usize| head.get(at..at + 16).and_then(|id| id.try_into().ok()).unwrap_or_default();
        let destination = match number(0) {
            1 => Destination::Client,
            2 => Destination::Server,
            _ => return Err(RemotingError::Message("nobody is to read it")),
        };
        let kind = MessageKind::ALL.iter().find(|kind| kind.number() == number(4));
        let data = data.strip_prefix(MARK).unwrap_or(data);
        Ok(Self {
            destination,
            kind: *kind.ok_or(RemotingError::Message("it is of no known kind"))?,
            pool: id(8),
            pipeline: id(24),
            data: str::from_utf8(data).map_err(|_| RemotingError::Message("it is not UTF-8"))?.to_owned(),
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_no_message_is_refused() {
        let message = Message {
            destination: Destination::Server,
            kind: MessageKind::PipelineInput,
            pool: [1; 16],
            pipeline: [2; 16],
            data: "<S>lit</S>".into(),
        };
        let bytes = message.encode();
        assert_eq!(bytes[..8], [2, 0, 0, 0, 2, 0x10, 4, 0]);
        // A mark before the text says nothing.
        let marked = [&bytes[..HEAD], MARK, b"<S>lit</S>"].concat();
        assert_eq!(Message::decode(&marked), Ok(message));
        for (at, byte) in [(0, 3), (4, 0xee)] {
            let mut changed = bytes.clone();
            changed[at] = byte;
            assert!(matches!(Message::decode(&changed), Err(RemotingError::Message(_))));
        }
        assert!(Message::decode(&bytes[..HEAD - 1]).is_err());
        assert!(Message::decode(&[&bytes[..HEAD], &[0xff]].concat()).is_err());
    }

    proptest! {
        #[test]
        fn a_message_comes_back(which in 0..MessageKind::ALL.len(), pool: [u8; 16], pipeline: [u8; 16], data: String, bytes: Vec<u8>) {
            let data = data.trim_start_matches('\u{feff}').to_owned();
            let message = Message { destination: Destination::Client, kind: MessageKind::ALL[which], pool, pipeline, data };
            prop_assert_eq!(Message::decode(&message.encode()), Ok(message));
            let _ = Message::decode(&bytes);
        }
    }
}
