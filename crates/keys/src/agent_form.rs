//! Private keys as the agent protocol carries them: the same numbers as in `openssh-key-v1`.

use zeroize::Zeroizing;

use crate::container::openssh_key_v1::{decode_parts, encode_parts};
use crate::wire::Reader;
use crate::{KeyError, PrivateKey};

impl PrivateKey {
    /// The key as the agent protocol adds it (draft-ietf-sshm-ssh-agent §3.2): type name, numbers, comment. Secret.
    ///
    /// # Errors
    /// [`KeyError::Refused`] when the cryptographic library fails.
    pub fn to_agent_form(&self) -> Result<Zeroizing<Vec<u8>>, KeyError> {
        encode_parts(self)
    }

    /// Reads what [`Self::to_agent_form`] writes, checking the key as any other.
    ///
    /// # Errors
    /// Malformed bytes, halves that do not match, or an algorithm that we refuse.
    pub fn from_agent_form(reader: &mut Reader<'_>) -> Result<Self, KeyError> {
        decode_parts(reader)
    }
}
