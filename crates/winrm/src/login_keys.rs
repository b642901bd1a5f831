//! The keys of a login, whichever kind it was, and what they do to messages.

use lantern_kerberos::{Wrapped, Wraps};

use crate::ntlm::{SIGNATURE_LEN, Seals};
use crate::sealed::{Sealed, SealedBy};

/// The keys of a login.
#[derive(Debug)]
pub enum LoginKeys {
    /// Of NTLM.
    Ntlm(Box<Seals>),
    /// Of Kerberos.
    Kerberos(Box<Wraps>),
}

impl LoginKeys {
    /// The body of a post or of its answer: the message, sealed.
    pub fn seal(&mut self, message: &[u8], by: SealedBy) -> Vec<u8> {
        let plain_len = message.len();
        let (signature, data) = match self {
            Self::Ntlm(seals) => {
                let mut data = message.to_vec();
                (seals.seal(&mut data).to_vec(), data)
            }
            Self::Kerberos(wraps) => {
                let Wrapped { signature, data } = wraps.seal(message);
                (signature, data)
            }
        };
        Sealed { signature, data, plain_len }.encode(by)
    }

    /// The message in a sealed part; nothing, where it does not open.
    pub fn open(&mut self, sealed: Sealed) -> Option<Vec<u8>> {
        let Sealed { signature, mut data, .. } = sealed;
        match self {
            Self::Ntlm(seals) if signature.len() == SIGNATURE_LEN => {
                seals.open(&mut data, &signature).ok()?;
                Some(data)
            }
            Self::Ntlm(_) => None,
            Self::Kerberos(wraps) => Some(wraps.open(&signature, &data).ok()?.to_vec()),
        }
    }
}
