//! Requests for certificates (RFC 2986), as machines write them whose keys never leave them.

use base64ct::{Base64, Encoding};
use der::{Decode, Encode};
use x509_cert::request::CertReq;

use crate::signed::is_signed_by;
use crate::{KeyError, PublicKey};

/// Most bytes of one: usual ones have one thousand.
const MAX_LEN: usize = 64 * 1024;
const BROKEN: KeyError = KeyError::Malformed("it is no request of RFC 2986");
/// The labels that requests have in armour.
const LABELS: [&str; 2] = ["CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST"];

/// A request whose signature proves that whoever made it has the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateRequest {
    key_info: Vec<u8>,
    subject: String,
    key: String,
}

impl CertificateRequest {
    /// Reads one in PEM or DER, and checks its signature.
    ///
    /// # Errors
    /// It is none, its key is of a kind that we don't handle, or the signature is not that key's.
    pub fn read(bytes: &[u8]) -> Result<Self, KeyError> {
        if bytes.len() > MAX_LEN {
            return Err(KeyError::TooCostly {
                what: "bytes",
                met: bytes.len() as u64,
                limit: MAX_LEN as u64,
            });
        }
        let der = match std::str::from_utf8(bytes).ok().and_then(body) {
            Some(body) => Base64::decode_vec(&body).map_err(|_| BROKEN)?,
            None => bytes.to_vec(),
        };
        let broken = |_| BROKEN;
        let request = CertReq::from_der(&der).map_err(broken)?;
        let key_info = request.info.public_key.to_der().map_err(broken)?;
        let key: PublicKey = crate::container::spki::decode(&key_info)?;
        let message = request.info.to_der().map_err(broken)?;
        let signature = request.signature.as_bytes().ok_or(BROKEN)?;
        if is_signed_by(&key_info, request.algorithm.oid, &message, signature) != Some(true) {
            return Err(KeyError::Malformed("the request's signature is not made by the key in it"));
        }
        Ok(Self { key_info, subject: request.info.subject.to_string(), key: key.describe() })
    }

    /// The key in DER.
    pub fn key_info(&self) -> &[u8] {
        &self.key_info
    }

    /// Whom it says to be of: text from outside.
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// What people call its key.
    pub fn describe_key(&self) -> &str {
        &self.key
    }
}

/// What stands within the armour.
fn body(text: &str) -> Option<String> {
    let inside = LABELS.iter().find_map(|label| {
        let (_, rest) = text.split_once(&format!("-----BEGIN {label}-----"))?;
        Some(rest.split_once(&format!("-----END {label}-----"))?.0)
    })?;
    Some(inside.chars().filter(|c| !c.is_whitespace()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>) {
            prop_assert!(CertificateRequest::read(&bytes).is_err());
        }
    }
}
