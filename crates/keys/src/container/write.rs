//! Writing keys down: one door for every container.

use zeroize::Zeroizing;

use super::{
    PrivateContainer, PublicContainer, encrypted_pkcs8, jwk, openssh_key_v1, pem, pkcs8, rfc4716, sec1, spki,
};
use crate::parts::PrivateParts;
use crate::{KeyError, PrivateKey, PublicKey, RandomSource, SecretString, public_line};

/// Width of base64 lines (RFC 7468 §2).
const WIDTH: usize = 64;

/// How a passphrase is to protect a new file.
#[derive(Debug, Clone, Copy, Default)]
pub struct Protect<'a> {
    /// The passphrase; none or an empty one writes the key in the open.
    pub passphrase: Option<&'a SecretString>,
    /// For `openssh-key-v1`.
    pub openssh: openssh_key_v1::Settings,
    /// For PKCS#8.
    pub pkcs8: encrypted_pkcs8::Settings,
}

impl<'a> Protect<'a> {
    /// With our own settings.
    pub fn with(passphrase: Option<&'a SecretString>) -> Self {
        Self { passphrase: passphrase.filter(|text| !text.is_empty()), ..Self::default() }
    }
}

/// The bytes of a private key in a container. They are secret either way.
///
/// # Errors
/// [`KeyError::Unsupported`] when the container does not hold this algorithm, or would need a passphrase that it cannot
/// use well.
pub fn write_private(
    key: &PrivateKey,
    container: PrivateContainer,
    protect: Protect<'_>,
    random: &mut dyn RandomSource,
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let protect = Protect { passphrase: protect.passphrase.filter(|text| !text.is_empty()), ..protect };
    if protect.passphrase.is_some() && !container.can_protect() {
        return Err(KeyError::Unsupported {
            what: "passphrase in the container",
            met: container.name().into(),
            why: "its only encryption puts one MD5 between the passphrase and the key; pkcs8-pem does it well",
        });
    }
    use PrivateContainer as C;
    match container {
        C::OpensshKeyV1 => {
            let text = openssh_key_v1::format(key, protect.passphrase, protect.openssh, random)?;
            Ok(Zeroizing::new(text.as_bytes().to_vec()))
        }
        C::Pkcs8Pem | C::Pkcs8Der => {
            let (der, label) = match protect.passphrase {
                Some(secret) => (
                    Zeroizing::new(encrypted_pkcs8::encode(key, secret, protect.pkcs8, random)?),
                    encrypted_pkcs8::LABEL,
                ),
                None => (pkcs8::encode(key)?, pkcs8::LABEL),
            };
            Ok(if container == C::Pkcs8Der { der } else { armour(&der, label) })
        }
        C::Pkcs1Pem | C::Pkcs1Der => {
            let PrivateParts::Rsa(parts) = key.parts()? else {
                return Err(holds_only(container, "PKCS#1 holds RSA keys only; pkcs8-pem holds every kind"));
            };
            let der = parts.to_pkcs1_der()?;
            Ok(if container == C::Pkcs1Der { der } else { armour(&der, "RSA PRIVATE KEY") })
        }
        C::Sec1Pem | C::Sec1Der => {
            let PrivateParts::Ecdsa { curve, scalar, point } = key.parts()? else {
                return Err(holds_only(container, "SEC 1 holds ECDSA keys only; pkcs8-pem holds every kind"));
            };
            let der = sec1::encode(curve, &scalar, point.as_deref())?;
            Ok(if container == C::Sec1Der { der } else { armour(&der, sec1::LABEL) })
        }
    }
}

/// The bytes of a public key in a container.
///
/// # Errors
/// [`KeyError::Unsupported`] when the container does not hold this algorithm.
pub fn write_public(key: &PublicKey, comment: &str, container: PublicContainer) -> Result<Vec<u8>, KeyError> {
    use PublicContainer as C;
    Ok(match container {
        C::Line => format!("{}\n", public_line::format(key, comment)).into_bytes(),
        C::Rfc4716 => rfc4716::format(key, comment).into_bytes(),
        C::SpkiPem => armour(&spki::encode(key)?, spki::LABEL).to_vec(),
        C::SpkiDer => spki::encode(key)?,
        C::Pkcs1PublicPem => armour(&spki::encode_pkcs1(key)?, spki::PKCS1_LABEL).to_vec(),
        C::Jwk => jwk::format(key, comment).into_bytes(),
    })
}

fn armour(der: &[u8], label: &str) -> Zeroizing<Vec<u8>> {
    Zeroizing::new(pem::encode(der, label, WIDTH).as_bytes().to_vec())
}

fn holds_only(container: PrivateContainer, why: &'static str) -> KeyError {
    KeyError::Unsupported { what: "container for this key", met: container.name().into(), why }
}
