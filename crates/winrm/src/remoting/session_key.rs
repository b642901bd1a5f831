//! The key of a session, under which secrets travel (MS-PSRP 2.2.2.3, 2.2.2.4, 2.2.5.1.24): RSA brings it, AES-256 in CBC mode uses it.
//!
//! The cipher has neither a random beginning nor a check: it is TLS or a sealed message around it that protects it from others.

use aes::Aes256;
use aws_lc_rs::encoding::{AsDer, PublicKeyX509Der};
use aws_lc_rs::rsa::{
    KeySize, Pkcs1PrivateDecryptingKey, Pkcs1PublicEncryptingKey, PrivateDecryptingKey, PublicEncryptingKey,
};
use base64ct::{Base64, Encoding};
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockModeDecrypt, BlockModeEncrypt, KeyIvInit};
use lantern_keys::container::{Found, PublicContainer, contents, write_public};
use lantern_keys::{PublicKey, RandomSource, SecretString};
use zeroize::Zeroizing;

use super::RemotingError;

/// The head of a public key's blob: `PUBLICKEYBLOB`, version 2, CALG_RSA_KEYX.
const PUBLIC_HEAD: [u8; 8] = [6, 2, 0, 0, 0, 0xa4, 0, 0];
/// `RSA1`.
const RSA_MARK: &[u8; 4] = b"RSA1";
/// The head of an encrypted key's blob: `SIMPLEBLOB`, version 2, CALG_AES_256, sealed by CALG_RSA_KEYX.
const SESSION_HEAD: [u8; 12] = [1, 2, 0, 0, 0x10, 0x66, 0, 0, 0, 0xa4, 0, 0];
const KEY_LEN: usize = 32;
const IV: [u8; 16] = [0; 16];

fn damaged() -> RemotingError {
    RemotingError::Message("the exchange of a key makes no sense")
}

fn failed<E>(_: E) -> RemotingError {
    RemotingError::Message("no key could be made for secrets")
}

/// Our half of an exchange.
pub(super) struct KeyExchange(Pkcs1PrivateDecryptingKey, String);

impl KeyExchange {
    /// A new pair of keys.
    pub(super) fn new() -> Result<Self, RemotingError> {
        let pair = PrivateDecryptingKey::generate(KeySize::Rsa2048).map_err(failed)?;
        let der: PublicKeyX509Der<'_> = pair.public_key().as_der().map_err(failed)?;
        let found = contents(der.as_ref()).map_err(failed)?.found;
        let Some(Ok(Found::Public(public))) = found.into_iter().next() else { return Err(failed(())) };
        let PublicKey::Rsa { e, n } = public.key else { return Err(failed(())) };
        let bits = u32::try_from(n.len() * 8).map_err(failed)?;
        let mut blob = PUBLIC_HEAD.to_vec();
        blob.extend(RSA_MARK);
        blob.extend(bits.to_le_bytes());
        blob.extend(e.iter().rev().chain([&0; 4]).take(4));
        blob.extend(n.iter().rev());
        Ok(Self(Pkcs1PrivateDecryptingKey::new(pair).map_err(failed)?, Base64::encode_string(&blob)))
    }

    /// What the machine is told.
    pub(super) fn public(&self) -> &str {
        &self.1
    }

    /// The key, of what it answers.
    pub(super) fn finish(&self, answer: &str) -> Result<SessionKey, RemotingError> {
        let blob = Base64::decode_vec(answer.trim()).map_err(|_| damaged())?;
        let sealed = blob.strip_prefix(&SESSION_HEAD).ok_or_else(damaged)?;
        let sealed: Vec<u8> = sealed.iter().rev().copied().collect();
        let mut room = Zeroizing::new(vec![0; self.0.min_output_size()]);
        let key = self.0.decrypt(&sealed, &mut room).map_err(|_| damaged())?;
        SessionKey::of(key)
    }
}

/// The key of a session.
pub struct SessionKey(Zeroizing<[u8; KEY_LEN]>);

impl SessionKey {
    fn of(bytes: &[u8]) -> Result<Self, RemotingError> {
        bytes.try_into().map(|key| Self(Zeroizing::new(key))).map_err(|_| damaged())
    }

    /// The machine's part of an exchange: a key, and what is answered to a client with this public key.
    ///
    /// # Errors
    /// The public key is none.
    pub fn answer(public: &str, random: &mut dyn RandomSource) -> Result<(Self, String), RemotingError> {
        let blob = Base64::decode_vec(public.trim()).map_err(|_| damaged())?;
        let rest = blob.strip_prefix(&PUBLIC_HEAD).and_then(|rest| rest.strip_prefix(RSA_MARK));
        let rest = rest.and_then(|rest| rest.get(4..)).ok_or_else(damaged)?;
        let (e, n) = rest.split_first_chunk::<4>().ok_or_else(damaged)?;
        let big = |bytes: &[u8]| {
            let big: Vec<u8> = bytes.iter().rev().copied().collect();
            big.iter().position(|byte| *byte != 0).and_then(|at| big.get(at..)).unwrap_or_default().to_vec()
        };
        let public = PublicKey::Rsa { e: big(e), n: big(n) };
        let der = write_public(&public, "", PublicContainer::SpkiDer).map_err(|_| damaged())?;
        let public = PublicEncryptingKey::from_der(&der).map_err(|_| damaged())?;
        let public = Pkcs1PublicEncryptingKey::new(public).map_err(|_| damaged())?;
        let mut key = Zeroizing::new([0; KEY_LEN]);
        random.fill(key.as_mut_slice());
        let mut room = vec![0; public.ciphertext_size()];
        let sealed = public.encrypt(key.as_slice(), &mut room).map_err(|_| damaged())?;
        let blob: Vec<u8> = SESSION_HEAD.iter().copied().chain(sealed.iter().rev().copied()).collect();
        Ok((Self(key), Base64::encode_string(&blob)))
    }

    /// A secret as it travels.
    pub fn seal(&self, text: &SecretString) -> String {
        let units: Zeroizing<Vec<u8>> =
            Zeroizing::new(text.expose_secret().encode_utf16().flat_map(u16::to_le_bytes).collect());
        let cipher = cbc::Encryptor::<Aes256>::new((&*self.0).into(), &IV.into());
        Base64::encode_string(&cipher.encrypt_padded_vec::<Pkcs7>(&units))
    }

    /// A secret that came.
    pub fn open(&self, sealed: &str) -> Option<SecretString> {
        let bytes = Base64::decode_vec(sealed.trim()).ok()?;
        let cipher = cbc::Decryptor::<Aes256>::new((&*self.0).into(), &IV.into());
        let plain = Zeroizing::new(cipher.decrypt_padded_vec::<Pkcs7>(&bytes).ok()?);
        let (pairs, []) = plain.as_chunks::<2>() else { return None };
        let units: Zeroizing<Vec<u16>> =
            Zeroizing::new(pairs.iter().map(|pair| u16::from_le_bytes(*pair)).collect());
        String::from_utf16(&units).ok().map(SecretString::new)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use lantern_keys::SystemRandom;

    #[test]
    fn a_secret_arrives_and_what_is_no_exchange_is_refused() {
        let ours = KeyExchange::new().unwrap();
        let (theirs, answer) = SessionKey::answer(ours.public(), &mut SystemRandom).unwrap();
        let key = ours.finish(&answer).unwrap();
        for text in ["", "high water", "Ebbe \u{1f30a} und Flut, sixteen units or more"] {
            let sealed = key.seal(&SecretString::new(text.to_owned()));
            assert!(!sealed.contains("water"));
            assert_eq!(theirs.open(&sealed).unwrap().expose_secret(), text);
        }
        assert!(theirs.open("AAAA").is_none() && theirs.open("no base64!").is_none());
        let mut blob = Base64::decode_vec(&answer).unwrap();
        *blob.last_mut().unwrap() ^= 1;
        // RSA of another number is no key; PKCS#1 answers with one by chance (RFC 8017 §7.2.2 leaves that open), which opens nothing.
        if let Ok(other) = ours.finish(&Base64::encode_string(&blob)) {
            assert_ne!(*other.0, *key.0);
        }
        for wrong in ["", "AAAA", "no base64!"] {
            assert!(ours.finish(wrong).is_err());
            assert!(SessionKey::answer(wrong, &mut SystemRandom).is_err());
        }
    }

    #[test]
    fn the_blob_of_a_public_key_is_as_the_standard_has_it() {
        let ours = KeyExchange::new().unwrap();
        let blob = Base64::decode_vec(ours.public()).unwrap();
        assert_eq!(blob.len(), 8 + 4 + 4 + 4 + 256);
        assert_eq!(blob[..20], [6, 2, 0, 0, 0, 0xa4, 0, 0, b'R', b'S', b'A', b'1', 0, 8, 0, 0, 1, 0, 1, 0]);
    }
}
