//! PKCS#12 (RFC 7292): a key with its certificates in one file, as Windows takes them. How it is laid out and sealed is the library's, which also bounds
//! what a file may have us compute.

use p12_keystore::error::Error;
use p12_keystore::{
    Certificate, EncryptionAlgorithm, KeyStore, KeyStoreEntry, MacAlgorithm, Pkcs12Archive, PrivateKeyChain,
};

use crate::container::{PrivateContainer, Protect, write_private};
use crate::{KeyError, PrivateKey, RandomSource, SecretBytes, SecretString, TlsCertificate};

/// Largest file that is read, in bytes: a key and a few certificates take some thousand, and each key in it may want a second of deriving.
pub const MAX_LEN: usize = 256 * 1024;
/// Rounds of deriving keys, for the cipher and for the integrity check: a tenth of a second, and within what every reader allows itself.
const ITERATIONS: u32 = 100_000;
/// Most certificates that are kept of one file.
const MAX_CERTIFICATES: usize = 64;

/// How a file is sealed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pkcs12Ciphers {
    /// AES-256 with PBKDF2 and SHA-256: Windows 10 and Server 2019 and later.
    Current,
    /// Three-key triple DES with SHA-1, which is all that older systems read. Weak: a passphrase can be searched for faster, and the cipher is retired.
    Old,
}

/// What a file holds.
#[derive(Debug)]
pub struct Pkcs12 {
    /// Certificates, in the order of the file.
    pub certificates: Vec<TlsCertificate>,
    /// How many private keys.
    pub keys: usize,
}

/// Whether bytes look like PKCS#12: a sequence that begins with version 3.
pub fn is_pkcs12(bytes: &[u8]) -> bool {
    let mut rest = bytes.iter().copied();
    if rest.next() != Some(0x30) {
        return false;
    }
    let skip = match rest.next() {
        Some(long) if long & 0x80 != 0 => usize::from(long & 0x7f),
        Some(_) => 0,
        None => return false,
    };
    rest.skip(skip).take(3).eq([0x02, 0x01, 0x03])
}

/// Opens a file.
///
/// # Errors
/// Another passphrase, a damaged file, or a form or a cost that is not for us.
pub fn read(bytes: &[u8], passphrase: &SecretString) -> Result<Pkcs12, KeyError> {
    if bytes.len() > MAX_LEN {
        return Err(KeyError::TooCostly { what: "bytes", met: bytes.len() as u64, limit: MAX_LEN as u64 });
    }
    let archive =
        Pkcs12Archive::from_pkcs12(bytes, passphrase.expose_secret()).map_err(|error| match error {
            Error::MacError(_) => KeyError::WrongPassphrase,
            Error::InvalidParameters => {
                KeyError::Malformed("its sealing has parameters that nobody would choose")
            }
            Error::UnsupportedContentType
            | Error::UnsupportedEncryptionScheme
            | Error::UnsupportedMacAlgorithm => {
                KeyError::Malformed("it is sealed in a way that is not read here")
            }
            _ => KeyError::Malformed("it is no PKCS#12 of RFC 7292, or it is damaged"),
        })?;
    let certificates = archive.certs.iter().take(MAX_CERTIFICATES);
    let certificates =
        certificates.map(|bag| TlsCertificate::read(bag.cert.as_der())).collect::<Result<_, _>>()?;
    Ok(Pkcs12 { certificates, keys: archive.keys.len() })
}

/// Seals a key with its certificates, its own first, under this name.
///
/// # Errors
/// A key that has no form in PKCS#8, or certificates that the library does not read.
pub fn write(
    key: &PrivateKey,
    chain: &[TlsCertificate],
    name: &str,
    passphrase: &SecretString,
    ciphers: Pkcs12Ciphers,
    random: &mut dyn RandomSource,
) -> Result<SecretBytes, KeyError> {
    let refused = |_| KeyError::Refused("write PKCS#12");
    let pkcs8 = write_private(key, PrivateContainer::Pkcs8Der, Protect::default(), random)?;
    let own = p12_keystore::PrivateKey::from_der(&pkcs8).map_err(refused)?;
    let certificates = chain
        .iter()
        .map(|one| Certificate::from_der(one.der()))
        .collect::<Result<Vec<_>, _>>()
        .map_err(refused)?;
    let id = chain.first().map(|first| first.fingerprint().as_bytes().to_vec()).unwrap_or_default();
    let mut store = KeyStore::new();
    store.add_entry(name, KeyStoreEntry::PrivateKeyChain(PrivateKeyChain::new(id, own, certificates)));
    let (cipher, mac) = match ciphers {
        Pkcs12Ciphers::Current => (EncryptionAlgorithm::PbeWithHmacSha256AndAes256, MacAlgorithm::HmacSha256),
        Pkcs12Ciphers::Old => (EncryptionAlgorithm::PbeWithShaAnd3KeyTripleDesCbc, MacAlgorithm::HmacSha1),
    };
    let writer = store.writer(passphrase.expose_secret()).encryption_algorithm(cipher).mac_algorithm(mac);
    let written =
        writer.encryption_iterations(ITERATIONS).mac_iterations(ITERATIONS).write().map_err(refused)?;
    Ok(SecretBytes::new(written))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use crate::issuing::{Plan, Purpose, new_authority};
    use crate::{KeyAlgorithm, SystemRandom};
    use proptest::prelude::*;

    fn secret(text: &str) -> SecretString {
        SecretString::new(text.into())
    }

    #[test]
    fn a_file_opens_with_its_passphrase_and_no_other() {
        let key = PrivateKey::generate(KeyAlgorithm::from_name("ecdsa-p256").unwrap(), "").unwrap();
        let purpose = Purpose::Authority { only: Vec::new() };
        let plan = Plan { common_name: "coast".into(), purpose, from: 1_700_000_000, until: 1_900_000_000 };
        let certificate = new_authority(&plan, &key, &mut SystemRandom).unwrap();
        for ciphers in [Pkcs12Ciphers::Current, Pkcs12Ciphers::Old] {
            let own = std::slice::from_ref(&certificate);
            let made =
                write(&key, own, "tide-gauge", &secret("low water"), ciphers, &mut SystemRandom).unwrap();
            assert!(is_pkcs12(made.expose_secret()));
            let read_back = read(made.expose_secret(), &secret("low water")).unwrap();
            assert_eq!((read_back.certificates.as_slice(), read_back.keys), (own, 1));
            assert!(matches!(
                read(made.expose_secret(), &secret("high water")),
                Err(KeyError::WrongPassphrase)
            ));
        }
        assert!(!is_pkcs12(certificate.der()));
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>) {
            let _ = is_pkcs12(&bytes);
            prop_assert!(read(&bytes, &secret("x")).is_err());
        }
    }
}
