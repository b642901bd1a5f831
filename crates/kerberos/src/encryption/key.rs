//! A key, and what is done with it.

use lantern_keys::{RandomSource, SecretString};
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

use super::derive::{Purpose, derived, from_password, mac};
use super::mode::{self, BLOCK};
use crate::{EncryptionType, KerberosError};

/// A secret key of an encryption type.
#[derive(Clone, PartialEq, Eq)]
pub struct Key {
    kind: EncryptionType,
    bytes: Zeroizing<Vec<u8>>,
}

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Key({}, …)", self.kind.name())
    }
}

impl Key {
    /// Takes over bytes.
    ///
    /// # Errors
    /// They are not as many as the type wants.
    pub fn new(kind: EncryptionType, bytes: Zeroizing<Vec<u8>>) -> Result<Self, KerberosError> {
        match bytes.len() == kind.key_len() {
            true => Ok(Self { kind, bytes }),
            false => Err(KerberosError::Damaged("a key has another length than its kind")),
        }
    }

    /// A new one.
    pub fn generate(kind: EncryptionType, random: &mut dyn RandomSource) -> Self {
        let mut bytes = Zeroizing::new(vec![0; kind.key_len()]);
        random.fill(&mut bytes);
        Self { kind, bytes }
    }

    /// The key of a password. `salt` and `params` are what the centre says of it.
    ///
    /// # Errors
    /// It would take more work than is done for anybody.
    pub fn of_password(
        kind: EncryptionType,
        password: &SecretString,
        salt: &str,
        params: Option<&[u8]>,
    ) -> Result<Self, KerberosError> {
        let bytes = from_password(kind, password.expose_secret(), salt.as_bytes(), params)?;
        Ok(Self { kind, bytes })
    }

    /// Its type.
    pub fn kind(&self) -> EncryptionType {
        self.kind
    }

    /// The bytes, by a name that can be found.
    pub(crate) fn expose_secret(&self) -> &[u8] {
        &self.bytes
    }

    fn derived(&self, usage: u32, purpose: Purpose) -> Zeroizing<Vec<u8>> {
        derived(self.kind, &self.bytes, usage, purpose)
    }

    /// Encrypts: what is random, the message, and an integrity code.
    pub(crate) fn encrypt(&self, usage: u32, plain: &[u8], random: &mut dyn RandomSource) -> Vec<u8> {
        let mut data = Vec::with_capacity(BLOCK + plain.len() + self.kind.mac_len());
        data.resize(BLOCK, 0);
        random.fill(&mut data);
        data.extend_from_slice(plain);
        let integrity = self.derived(usage, Purpose::Integrity);
        // RFC 3961 §5.3 signs what is plain, RFC 8009 §5 what is encrypted.
        let of_plain = (!self.signs_encrypted()).then(|| mac(self.kind, &integrity, &[&data]));
        mode::encrypt(&self.derived(usage, Purpose::Encryption), &mut data);
        let code = of_plain.unwrap_or_else(|| mac(self.kind, &integrity, &[&[0; BLOCK], &data]));
        data.extend(code.iter().take(self.kind.mac_len()));
        data
    }

    /// Decrypts what [`encrypt`](Self::encrypt) made.
    ///
    /// # Errors
    /// It was encrypted with another key or for another purpose, or changed.
    pub(crate) fn decrypt(&self, usage: u32, cipher: &[u8]) -> Result<Zeroizing<Vec<u8>>, KerberosError> {
        let at = cipher.len().checked_sub(self.kind.mac_len()).filter(|len| *len >= BLOCK);
        let (cipher, code) =
            cipher.split_at_checked(at.ok_or(KerberosError::Altered)?).ok_or(KerberosError::Altered)?;
        let integrity = self.derived(usage, Purpose::Integrity);
        let is_right = |parts: &[&[u8]]| {
            let own = mac(self.kind, &integrity, parts);
            own.get(..code.len()).is_some_and(|own| bool::from(own.ct_eq(code)))
        };
        if self.signs_encrypted() && !is_right(&[&[0; BLOCK], cipher]) {
            return Err(KerberosError::Altered);
        }
        let mut data = Zeroizing::new(cipher.to_vec());
        mode::decrypt(&self.derived(usage, Purpose::Encryption), &mut data)?;
        if !self.signs_encrypted() && !is_right(&[&data]) {
            return Err(KerberosError::Altered);
        }
        Ok(Zeroizing::new(data.get(BLOCK..).unwrap_or_default().to_vec()))
    }

    fn signs_encrypted(&self) -> bool {
        matches!(self.kind, EncryptionType::Aes128Sha256 | EncryptionType::Aes256Sha384)
    }

    /// The checksum of a message.
    pub(crate) fn checksum(&self, usage: u32, parts: &[&[u8]]) -> Vec<u8> {
        let mut code = mac(self.kind, &self.derived(usage, Purpose::Checksum), parts).to_vec();
        code.truncate(self.kind.mac_len());
        code
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use lantern_keys::SystemRandom;
    use proptest::prelude::*;

    #[test]
    fn work_beyond_measure_is_refused() {
        let password = SecretString::new("password".into());
        for kind in EncryptionType::ALL {
            for params in [&[0, 0, 0, 0][..], &[0xff; 4], &[1, 2, 3], &[0; 5]] {
                assert!(Key::of_password(kind, &password, "salt", Some(params)).is_err());
            }
        }
    }

    proptest! {
        #[test]
        fn what_is_encrypted_opens_once_and_for_its_purpose_only(plain in proptest::collection::vec(any::<u8>(), 0..100), at: prop::sample::Index, flip in 1u8.., usage in 1u32..30) {
            for kind in EncryptionType::ALL {
                let key = Key::generate(kind, &mut SystemRandom);
                let cipher = key.encrypt(usage, &plain, &mut SystemRandom);
                prop_assert_eq!(cipher.len(), BLOCK + plain.len() + kind.mac_len());
                prop_assert_eq!(&*key.decrypt(usage, &cipher).unwrap(), &plain);
                prop_assert_eq!(key.decrypt(usage + 1, &cipher), Err(KerberosError::Altered));
                let mut changed = cipher.clone();
                *changed.get_mut(at.index(cipher.len())).unwrap() ^= flip;
                prop_assert_eq!(key.decrypt(usage, &changed), Err(KerberosError::Altered));
                prop_assert_eq!(key.decrypt(usage, &cipher[..at.index(cipher.len())]), Err(KerberosError::Altered));
            }
        }
    }
}
