//! What one administrator has verified, in a file for the others: signed, so that what it says can be told from what somebody made of it.
//!
//! The file is text: a first line that says what it is, the records in TOML, and after a line of dashes the key that signed and its
//! signature. What is signed is [`CONTEXT`], a zero byte, and everything up to the line of dashes.

use std::collections::BTreeMap;
use std::path::Path;

use base64ct::{Base64, Encoding};
use lantern_keys::{PrivateKey, PublicKey, Signature, public_line};

use crate::trust_form::{Trust, TrustForm};
use crate::{BookError, TrustRecord, TrustStore, Verified};

/// The first line.
const FIRST_LINE: &str = "# lantern trust, form 1\n";
/// What divides the records from the signature.
const DIVIDER: &str = "-----\n";
/// What keeps a signature of a trust file from being taken for one of anything else.
const CONTEXT: &[u8] = b"lantern trust file, form 1";
/// Largest file that is read, in bytes.
const MAX_LEN: usize = 16 * 1024 * 1024;

/// A file with what somebody has verified.
#[derive(Debug, Clone)]
pub struct TrustFile {
    /// The records, all keys marked as signed or imported.
    pub records: BTreeMap<String, TrustRecord>,
    /// Keys and certificates that it says must not be trusted.
    pub revoked: Vec<crate::Revoked>,
    /// The key that signed it; none: nobody did.
    pub signer: Option<PublicKey>,
}

fn signed_bytes(body: &str) -> Vec<u8> {
    [CONTEXT, b"\0", body.as_bytes()].concat()
}

impl TrustFile {
    /// Writes the records of these machines, and all revocations, signed with a key.
    ///
    /// # Errors
    /// A key that cannot sign.
    pub fn write(
        store: &TrustStore,
        wanted: impl Fn(&str) -> bool,
        signer: Option<(&PrivateKey, &str)>,
    ) -> Result<String, BookError> {
        let path = Path::new("the export");
        let records = store.records()?;
        let records =
            records.iter().map(|(name, record)| (name.as_str(), record)).filter(|(name, record)| {
                wanted(name) && !(record.keys.is_empty() && record.certificates.is_empty())
            });
        let mut text = format!("{FIRST_LINE}{}", TrustForm::of(records, store.revoked()).to_text(path)?);
        if let Some((key, comment)) = signer {
            let failed = |source| BookError::Key { path: path.to_owned(), source };
            let algorithm = key.signature_algorithms().first().copied();
            let algorithm = algorithm.ok_or_else(|| BookError::bad("key", comment, "cannot sign"))?;
            let signature = key.sign(&signed_bytes(&text), algorithm).map_err(failed)?;
            let line = public_line::format(key.public(), comment);
            text.push_str(&format!("{DIVIDER}{line}\n{}\n", Base64::encode_string(&signature.encode())));
        }
        Ok(text)
    }

    /// Reads a file and checks its signature. Whether the signer is to be believed is the caller's to decide.
    ///
    /// # Errors
    /// [`BookError::Syntax`]; [`BookError::Tampered`] when the signature is not the key's.
    pub fn read(path: &Path, text: &str) -> Result<Self, BookError> {
        let syntax = |line, message: &str| BookError::Syntax {
            path: path.to_owned(),
            line,
            message: message.to_owned(),
        };
        if text.len() > MAX_LEN {
            return Err(syntax(1, "it is larger than 16 MiB"));
        }
        if !text.starts_with(FIRST_LINE) {
            return Err(syntax(1, "it is no file that `lantern trust export` wrote"));
        }
        // No record can have a line of dashes in it: TOML has no such line, and strings are written on one line.
        let (body, signature) = match text.split_once(&format!("\n{DIVIDER}")) {
            None => (text, None),
            Some((body, signature)) => (text.get(..body.len() + 1).unwrap_or(text), Some(signature)),
        };
        let form: TrustForm = toml::from_str(body).map_err(|error| {
            BookError::syntax(path, text, error.span().map(|span| span.start), error.message().to_owned())
        })?;
        let (mut records, revoked): Trust = form.read(path, text)?;
        let signer = signature.map(|lines| verify(path, body, lines)).transpose()?;
        for record in records.values_mut() {
            record.authorities.clear();
            for known in &mut record.keys {
                known.verified = if signer.is_some() { Verified::Signed } else { Verified::Imported };
                known.by = signer.as_ref().map(PublicKey::fingerprint);
            }
            for known in &mut record.certificates {
                known.verified = if signer.is_some() { Verified::Signed } else { Verified::Imported };
            }
        }
        for name in records.keys() {
            crate::check_name_of("machine name", name).or_else(|error| {
                // One-offs are known by their place, and that by the gateway before it.
                let (place, gateway) = name.split_once(" via ").unwrap_or((name, "gateway"));
                let is_place = |text: &str| crate::Destination::parse(text).is_ok();
                if is_place(place) && is_place(gateway) { Ok(()) } else { Err(error) }
            })?;
        }
        Ok(Self { records, revoked, signer })
    }
}

fn verify(path: &Path, body: &str, lines: &str) -> Result<PublicKey, BookError> {
    let tampered = || BookError::Tampered { path: path.to_owned() };
    let mut lines = lines.lines();
    let (Some(key), Some(signature), None) = (lines.next(), lines.next(), lines.next()) else {
        return Err(tampered());
    };
    let (key, _) = public_line::parse(key).map_err(|_| tampered())?;
    let blob = Base64::decode_vec(signature).map_err(|_| tampered())?;
    let signature = Signature::decode(&blob).map_err(|_| tampered())?;
    key.verify(&signed_bytes(body), &signature).map_err(|_| tampered())?;
    Ok(key)
}
