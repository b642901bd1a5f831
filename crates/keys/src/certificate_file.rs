//! Files with certificates of TLS: in armour, as many as there are, or one in DER.

use base64ct::{Base64, Encoding};

use crate::{KeyError, TlsCertificate};

/// Most certificates that are read of one file: a bundle of all public authorities has about 150.
const MAX_CERTIFICATES: usize = 512;
/// Their label (RFC 7468 §5.1), and those of old and of another toolkit.
const LABELS: [&str; 3] = ["CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE"];
const NONE: KeyError = KeyError::Malformed("there is no X.509 certificate in it");

/// The certificates of a file, in its order; at least one.
///
/// # Errors
/// None in it, or one that is damaged.
pub fn read_certificates(bytes: &[u8]) -> Result<Vec<TlsCertificate>, KeyError> {
    let Some(text) = std::str::from_utf8(bytes).ok().filter(|text| text.contains("-----BEGIN")) else {
        return TlsCertificate::read(bytes).map(|one| vec![one]).map_err(|_| NONE);
    };
    let mut found = Vec::new();
    let mut rest = text;
    while let Some((_, behind)) = rest.split_once("-----BEGIN ") {
        let Some((label, behind)) = behind.split_once("-----") else { break };
        rest = behind;
        if !LABELS.contains(&label) {
            continue;
        }
        let damaged = || KeyError::Malformed("the armour of a certificate is damaged");
        let (body, after) = behind.split_once("-----END ").ok_or_else(damaged)?;
        let body: String = body.chars().filter(|c| !c.is_whitespace()).collect();
        let der = Base64::decode_vec(&body).map_err(|_| damaged())?;
        found.push(TlsCertificate::read(&der)?);
        rest = after;
        if found.len() >= MAX_CERTIFICATES {
            break;
        }
    }
    if found.is_empty() { Err(NONE) } else { Ok(found) }
}

/// Certificates in armour, one after the other (RFC 7468 §5.1).
pub fn write_certificates(all: &[TlsCertificate]) -> String {
    let mut text = String::new();
    for one in all {
        text.push_str("-----BEGIN CERTIFICATE-----\n");
        let body = Base64::encode_string(one.der());
        for line in body.as_bytes().chunks(64) {
            text.extend(line.iter().map(|byte| char::from(*byte)));
            text.push('\n');
        }
        text.push_str("-----END CERTIFICATE-----\n");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>, text in "(-----BEGIN CERTIFICATE-----)?[A-Za-z0-9+/=\n -]{0,200}(-----END CERTIFICATE-----)?") {
            let _ = read_certificates(&bytes);
            let _ = read_certificates(text.as_bytes());
        }
    }
}
