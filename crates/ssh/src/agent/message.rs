//! Requests and responses of the agent protocol.

use lantern_keys::wire::{Reader, WireError, Writer};
use lantern_keys::{KeyError, PrivateKey, SecretBuffer, SecretBytes, SignatureAlgorithm};

/// Most identities that we read from one answer.
const MAX_IDENTITIES: u32 = 1024;

// Numbers of draft-ietf-sshm-ssh-agent §6.1.
const FAILURE: u8 = 5;
const SUCCESS: u8 = 6;
const REQUEST_IDENTITIES: u8 = 11;
const IDENTITIES_ANSWER: u8 = 12;
const SIGN_REQUEST: u8 = 13;
const SIGN_RESPONSE: u8 = 14;
const ADD_IDENTITY: u8 = 17;
const REMOVE_IDENTITY: u8 = 18;
const REMOVE_ALL_IDENTITIES: u8 = 19;
const LOCK: u8 = 22;
const UNLOCK: u8 = 23;
const ADD_ID_CONSTRAINED: u8 = 25;
const EXTENSION: u8 = 27;
const EXTENSION_FAILURE: u8 = 28;
const EXTENSION_RESPONSE: u8 = 29;

// §3.2.7
const CONSTRAIN_LIFETIME: u8 = 1;
const CONSTRAIN_CONFIRM: u8 = 2;

/// Which hash an RSA key is to sign with (§3.6.1); SHA-1 is what no flag means, and what nobody gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SignFlags(pub u32);

impl SignFlags {
    const RSA_SHA2_256: u32 = 2;
    const RSA_SHA2_512: u32 = 4;

    /// The flags that ask for this algorithm.
    pub fn for_algorithm(algorithm: SignatureAlgorithm) -> Self {
        Self(match algorithm {
            SignatureAlgorithm::RsaSha256 => Self::RSA_SHA2_256,
            SignatureAlgorithm::RsaSha512 => Self::RSA_SHA2_512,
            _ => 0,
        })
    }

    /// The algorithm that a key of these possible ones is to sign with; none when that would be SHA-1 or something
    /// that is not known.
    pub fn algorithm(self, possible: &[SignatureAlgorithm]) -> Option<SignatureAlgorithm> {
        let is_rsa = possible.contains(&SignatureAlgorithm::RsaSha512);
        match (is_rsa, self.0) {
            (false, 0) => possible.first().copied(),
            (true, flags) if flags & Self::RSA_SHA2_512 != 0 => Some(SignatureAlgorithm::RsaSha512),
            (true, flags) if flags & Self::RSA_SHA2_256 != 0 => Some(SignatureAlgorithm::RsaSha256),
            // Flags that mean nothing to other keys are ignored, as the draft wants.
            (false, _) => possible.first().copied(),
            _ => None,
        }
    }
}

/// Conditions under which a key is held.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Constraints {
    /// Seconds until it is forgotten.
    pub lifetime: Option<u32>,
    /// Whether a person is asked before each use.
    pub confirm: bool,
}

/// A key that an agent offers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// The public key blob, of whatever kind.
    pub blob: Vec<u8>,
    /// Its comment.
    pub comment: String,
}

/// What is asked of an agent.
#[derive(Debug)]
pub enum AgentRequest {
    /// Which keys are there.
    List,
    /// A signature.
    Sign {
        /// Of this key.
        blob: Vec<u8>,
        /// Over this.
        data: Vec<u8>,
        /// With this hash.
        flags: SignFlags,
    },
    /// Hold this key.
    Add {
        /// The key.
        key: Box<PrivateKey>,
        /// Under these conditions.
        constraints: Constraints,
    },
    /// Forget this key.
    Remove(Vec<u8>),
    /// Forget all keys.
    RemoveAll,
    /// Show and use nothing until unlocked.
    Lock(SecretBytes),
    /// Unlock.
    Unlock(SecretBytes),
    /// Something of a name of its own.
    Extension {
        /// The name.
        name: String,
        /// What follows it.
        content: Vec<u8>,
    },
    /// Nothing that we know, or a key or a condition that we do not take.
    Unknown,
}

/// What an agent answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AgentResponse {
    /// No.
    Failure,
    /// Done.
    Success,
    /// The keys.
    Identities(Vec<Identity>),
    /// The signature in its wire form.
    Signature(Vec<u8>),
    /// The extension did not work.
    ExtensionFailure,
    /// What the extension says.
    Extension {
        /// Its name.
        name: String,
        /// What follows it.
        content: Vec<u8>,
    },
}

impl AgentRequest {
    /// Reads a message.
    ///
    /// # Errors
    /// Malformed bytes. A well-formed message that asks for what we don't do is [`Self::Unknown`].
    pub fn decode(message: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(message);
        let number = reader.u8("message number")?;
        let request = match number {
            REQUEST_IDENTITIES => Self::List,
            SIGN_REQUEST => Self::Sign {
                blob: reader.string("key blob")?.to_vec(),
                data: reader.string("data")?.to_vec(),
                flags: SignFlags(reader.u32("flags")?),
            },
            ADD_IDENTITY | ADD_ID_CONSTRAINED => return Self::decode_add(reader, number),
            REMOVE_IDENTITY => Self::Remove(reader.string("key blob")?.to_vec()),
            REMOVE_ALL_IDENTITIES => Self::RemoveAll,
            LOCK => Self::Lock(SecretBytes::new(reader.string("passphrase")?.to_vec())),
            UNLOCK => Self::Unlock(SecretBytes::new(reader.string("passphrase")?.to_vec())),
            EXTENSION => {
                let name = reader.text("extension")?.to_owned();
                return Ok(Self::Extension { name, content: reader.rest().to_vec() });
            }
            _ => return Ok(Self::Unknown),
        };
        reader.finish()?;
        Ok(request)
    }

    fn decode_add(mut reader: Reader<'_>, number: u8) -> Result<Self, WireError> {
        let key = match PrivateKey::from_agent_form(&mut reader) {
            Ok(key) => Box::new(key),
            Err(KeyError::Wire(error)) => return Err(error),
            Err(_) => return Ok(Self::Unknown),
        };
        let mut constraints = Constraints::default();
        if number == ADD_ID_CONSTRAINED {
            while !reader.rest().is_empty() {
                match reader.u8("constraint")? {
                    CONSTRAIN_LIFETIME => constraints.lifetime = Some(reader.u32("lifetime")?),
                    CONSTRAIN_CONFIRM => constraints.confirm = true,
                    // §3.2.7: what cannot be kept to must not be taken.
                    _ => return Ok(Self::Unknown),
                }
            }
        }
        reader.finish()?;
        Ok(Self::Add { key, constraints })
    }

    /// Writes the message. It may hold a private key.
    ///
    /// # Errors
    /// When a key cannot be written down.
    pub fn encode(&self) -> Result<SecretBuffer, KeyError> {
        let mut out = SecretBuffer::with_capacity(1024);
        match self {
            Self::List => out.put_byte(REQUEST_IDENTITIES),
            Self::Sign { blob, data, flags } => {
                out.put_byte(SIGN_REQUEST);
                out.put_string(blob);
                out.put_string(data);
                out.put_uint32(flags.0);
            }
            Self::Add { key, constraints } => {
                let constrained = *constraints != Constraints::default();
                out.put_byte(if constrained { ADD_ID_CONSTRAINED } else { ADD_IDENTITY });
                out.put(&key.to_agent_form()?);
                if let Some(seconds) = constraints.lifetime {
                    out.put_byte(CONSTRAIN_LIFETIME);
                    out.put_uint32(seconds);
                }
                if constraints.confirm {
                    out.put_byte(CONSTRAIN_CONFIRM);
                }
            }
            Self::Remove(blob) => {
                out.put_byte(REMOVE_IDENTITY);
                out.put_string(blob);
            }
            Self::RemoveAll => out.put_byte(REMOVE_ALL_IDENTITIES),
            Self::Lock(secret) | Self::Unlock(secret) => {
                out.put_byte(if matches!(self, Self::Lock(_)) { LOCK } else { UNLOCK });
                out.put_string(secret.expose_secret());
            }
            Self::Extension { name, content } => {
                out.put_byte(EXTENSION);
                out.put_string(name.as_bytes());
                out.put(content);
            }
            Self::Unknown => return Err(KeyError::Refused("send a message that is none")),
        }
        Ok(out)
    }
}

impl AgentResponse {
    /// Reads a message.
    ///
    /// # Errors
    /// Malformed bytes, or a number that is no answer.
    pub fn decode(message: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(message);
        let response = match reader.u8("message number")? {
            FAILURE => Self::Failure,
            SUCCESS => Self::Success,
            IDENTITIES_ANSWER => {
                let count = reader.u32("number of keys")?;
                if count > MAX_IDENTITIES {
                    return Err(WireError::Invalid {
                        field: "number of keys",
                        rule: "must be below our limit",
                    });
                }
                let identity = |_| {
                    let blob = reader.string("key blob")?.to_vec();
                    let comment = String::from_utf8_lossy(reader.string("comment")?).into_owned();
                    Ok(Identity { blob, comment })
                };
                Self::Identities((0..count).map(identity).collect::<Result<_, _>>()?)
            }
            SIGN_RESPONSE => Self::Signature(reader.string("signature")?.to_vec()),
            EXTENSION_FAILURE => Self::ExtensionFailure,
            EXTENSION_RESPONSE => {
                let name = reader.text("extension")?.to_owned();
                return Ok(Self::Extension { name, content: reader.rest().to_vec() });
            }
            _ => return Err(WireError::Invalid { field: "message number", rule: "must be an answer" }),
        };
        reader.finish()?;
        Ok(response)
    }

    /// Writes the message.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        match self {
            Self::Failure => out.put_byte(FAILURE),
            Self::Success => out.put_byte(SUCCESS),
            Self::Identities(identities) => {
                out.put_byte(IDENTITIES_ANSWER);
                out.put_uint32(u32::try_from(identities.len()).unwrap_or(u32::MAX));
                for identity in identities {
                    out.put_string(&identity.blob);
                    out.put_string(identity.comment.as_bytes());
                }
            }
            Self::Signature(signature) => {
                out.put_byte(SIGN_RESPONSE);
                out.put_string(signature);
            }
            Self::ExtensionFailure => out.put_byte(EXTENSION_FAILURE),
            Self::Extension { name, content } => {
                out.put_byte(EXTENSION_RESPONSE);
                out.put_string(name.as_bytes());
                out.put(content);
            }
        }
        out
    }
}
