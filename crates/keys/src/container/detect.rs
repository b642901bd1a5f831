//! What a file holds, told by its content: names and endings of files lie.

use der::{Decode, Encode, Header, Reader, SliceReader, Tag};
use zeroize::Zeroizing;

use super::pem::{self, Block};
use super::{
    Form, Found, MAX_FILE_LEN, Other, PrivateContainer, PublicContainer, PublicFile, Sealed, encrypted_pkcs8,
    jwk, legacy_pem, openssh_key_v1, pkcs8, rfc4716, sec1, spki,
};
use crate::parts::PrivateParts;
use crate::public::unsupported_key_type;
use crate::rsa::RsaComponents;
use crate::{Fingerprint, KeyError, PrivateKey, PublicKey, public_line};

type Finding = Result<Found, KeyError>;
type DecodePrivate = fn(&[u8]) -> Result<PrivateKey, KeyError>;

const RSA_LABEL: &str = "RSA PRIVATE KEY";
/// Most lines of a list of public keys that we look at.
const MAX_LINES: usize = 100_000;

/// Labels of armour that is no key of ours, and what we say of it.
const OTHER_LABELS: [(&str, &str, &str); 13] = [
    ("CERTIFICATE", "an X.509 certificate", "it names a key and holds none that could log in"),
    ("X509 CERTIFICATE", "an X.509 certificate", "it names a key and holds none that could log in"),
    ("TRUSTED CERTIFICATE", "an X.509 certificate", "it names a key and holds none that could log in"),
    ("CERTIFICATE REQUEST", "a certificate request", "the key that belongs to it is in another file"),
    ("NEW CERTIFICATE REQUEST", "a certificate request", "the key that belongs to it is in another file"),
    ("X509 CRL", "a list of revoked certificates", ""),
    ("PKCS7", "a bundle of certificates (PKCS#7)", "it holds no private key"),
    ("DH PARAMETERS", "Diffie-Hellman parameters", "they are no key"),
    ("DSA PRIVATE KEY", "a DSA private key", "DSA was retired by RFC 9142; make a new key"),
    ("PGP PRIVATE KEY BLOCK", "an OpenPGP private key", "SSH does not use it"),
    ("PGP PUBLIC KEY BLOCK", "an OpenPGP public key", "SSH does not use it"),
    (
        "SSH2 ENCRYPTED PRIVATE KEY",
        "a private key in a vendor's container",
        "export it as openssh-key-v1 or PKCS#8 first",
    ),
    ("PGP MESSAGE", "an encrypted message", "decrypt it first"),
];

/// First bytes of files that are no keys.
const MAGIC_NUMBERS: [(&[u8], &str, &str); 6] = [
    (b"PK\x03\x04", "an archive (ZIP)", "unpack it first; perhaps it asks for a password"),
    (b"7z\xbc\xaf\x27\x1c", "an archive (7z)", "unpack it first; perhaps it asks for a password"),
    (b"Rar!\x1a\x07", "an archive (RAR)", "unpack it first; perhaps it asks for a password"),
    (b"\x1f\x8b", "a compressed file (gzip)", "unpack it first"),
    (b"\x7fELF", "a program", ""),
    (b"%PDF", "a PDF document", "copy the key's text out of it"),
];

/// Everything that a file holds, in its order; at least one thing, if only [`Found::Other`].
///
/// # Errors
/// [`KeyError::TooCostly`] above [`MAX_FILE_LEN`]; [`KeyError::NotAKey`] for what nothing is known of.
pub fn read(file: &[u8]) -> Result<Vec<Finding>, KeyError> {
    if file.len() > MAX_FILE_LEN {
        return Err(KeyError::TooCostly {
            what: "bytes",
            met: file.len() as u64,
            limit: MAX_FILE_LEN as u64,
        });
    }
    if let Some((_, what, why)) = MAGIC_NUMBERS.into_iter().find(|(magic, ..)| file.starts_with(magic)) {
        return Ok(vec![other(what, why)]);
    }
    if file.iter().all(u8::is_ascii_whitespace) {
        return Err(KeyError::NotAKey("the file is empty".into()));
    }
    if file.first() == Some(&0x30)
        && let Some(finding) = read_der(file)
    {
        return Ok(vec![finding]);
    }
    let text = to_text(file).ok_or_else(|| KeyError::NotAKey("it is neither text nor DER".into()))?;
    let found = read_text(&text);
    if found.is_empty() {
        return Err(KeyError::NotAKey(
            "there is no `-----BEGIN` line, no public key line and no JWK in it".into(),
        ));
    }
    Ok(found)
}

/// UTF-8, or the UTF-16 that some editors and shells write, by its byte order mark.
fn to_text(file: &[u8]) -> Option<Zeroizing<String>> {
    let wide = |bytes: &[u8], number: fn([u8; 2]) -> u16| {
        let units = bytes.chunks_exact(2).filter_map(|pair| Some(number(pair.try_into().ok()?)));
        char::decode_utf16(units).collect::<Result<String, _>>().ok()
    };
    let narrow = |bytes: &[u8]| std::str::from_utf8(bytes).ok().map(str::to_owned);
    let text = match file {
        [0xff, 0xfe, rest @ ..] => wide(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => wide(rest, u16::from_be_bytes),
        [0xef, 0xbb, 0xbf, rest @ ..] => narrow(rest),
        _ => narrow(file),
    };
    text.map(Zeroizing::new)
}

fn read_text(text: &str) -> Vec<Finding> {
    let blocks = pem::blocks(text);
    if !blocks.is_empty() {
        let mut found: Vec<Finding> = blocks.iter().filter_map(read_block).collect();
        // Parameters alone are told; in front of a key they say nothing that the key does not.
        if found.is_empty() {
            found.push(other("the parameters of an elliptic curve", "the key itself is missing"));
        }
        return found;
    }
    let start = text.trim_start();
    let lower: String = start.chars().take(256).collect::<String>().to_ascii_lowercase();
    if lower.starts_with("<!doctype html") || lower.starts_with("<html") || lower.contains("<head") {
        return vec![other("a web page", "the download was a page to sign in, perhaps; fetch the key again")];
    }
    if start.starts_with('{')
        && let Some(found) = jwk::read(start)
    {
        return found;
    }
    read_lines(text)
}

fn read_block(block: &Block<'_>) -> Option<Finding> {
    if let Some((_, what, why)) = OTHER_LABELS.into_iter().find(|(label, ..)| *label == block.label) {
        return Some(other(what, why));
    }
    if block.label == "EC PARAMETERS" {
        return None;
    }
    if block.label == rfc4716::LABEL {
        return Some(match rfc4716::decode(block) {
            Ok((key, comment)) => Ok(public(key, comment, PublicContainer::Rfc4716)),
            Err(error) => match &block.bytes {
                Ok(blob) => unheld_public(blob, block.header("Comment").unwrap_or_default()).ok_or(error),
                Err(_) => Err(error),
            },
        });
    }
    let bytes = match &block.bytes {
        // Damage first, whatever the kind; but a kind that we don't know is no damaged key.
        Err(error) if is_ours(block.label) => return Some(Err(error.clone())),
        Err(_) => &Zeroizing::new(Vec::new()),
        Ok(bytes) => bytes,
    };
    Some(match block.label {
        openssh_key_v1::LABEL => openssh_key_v1::Sealed::decode(bytes).map(|sealed| {
            let publics = sealed.publics().to_vec();
            Found::Private(Sealed {
                container: PrivateContainer::OpensshKeyV1,
                form: Form::OpensshKeyV1(sealed),
                publics,
            })
        }),
        pkcs8::LABEL => plain(PrivateContainer::Pkcs8Pem, bytes, pkcs8::decode),
        encrypted_pkcs8::LABEL => encrypted(PrivateContainer::Pkcs8Pem, bytes),
        RSA_LABEL => traditional(block, bytes, PrivateContainer::Pkcs1Pem, decode_pkcs1),
        sec1::LABEL => traditional(block, bytes, PrivateContainer::Sec1Pem, decode_sec1),
        spki::LABEL => spki::decode(bytes).map(|key| public(key, String::new(), PublicContainer::SpkiPem)),
        spki::PKCS1_LABEL => {
            spki::decode_pkcs1(bytes).map(|key| public(key, String::new(), PublicContainer::Pkcs1PublicPem))
        }
        label => {
            let label: String = label.chars().take(64).collect();
            other(&format!("a block of the kind `{label}`"), "which holds no key that we know")
        }
    })
}

fn is_ours(label: &str) -> bool {
    [
        openssh_key_v1::LABEL,
        pkcs8::LABEL,
        encrypted_pkcs8::LABEL,
        RSA_LABEL,
        sec1::LABEL,
        spki::LABEL,
        spki::PKCS1_LABEL,
    ]
    .contains(&label)
}

fn decode_pkcs1(bytes: &[u8]) -> Result<PrivateKey, KeyError> {
    PrivateKey::from_parts(PrivateParts::Rsa(RsaComponents::from_pkcs1_der(bytes)?), String::new())
}

fn decode_sec1(bytes: &[u8]) -> Result<PrivateKey, KeyError> {
    PrivateKey::from_parts(sec1::decode(bytes, None)?, String::new())
}

/// A form without protection: reading it once shows its public half, and that it is sound.
fn plain(container: PrivateContainer, bytes: &[u8], decode: DecodePrivate) -> Finding {
    let publics = vec![decode(bytes)?.public().clone()];
    Ok(Found::Private(Sealed {
        container,
        form: Form::Plain(Zeroizing::new(bytes.to_vec()), decode),
        publics,
    }))
}

fn encrypted(container: PrivateContainer, bytes: &[u8]) -> Finding {
    let form = Form::EncryptedPkcs8(encrypted_pkcs8::Sealed::decode(bytes)?);
    Ok(Found::Private(Sealed { container, form, publics: Vec::new() }))
}

/// PKCS#1 or SEC 1 in armour, in the open or with the older encryption.
fn traditional(
    block: &Block<'_>,
    bytes: &[u8],
    container: PrivateContainer,
    decode: DecodePrivate,
) -> Finding {
    if !block.header("Proc-Type").is_some_and(|value| value.contains("ENCRYPTED")) {
        return plain(container, bytes, decode);
    }
    let dek_info = block.header("DEK-Info").ok_or(KeyError::Malformed("the DEK-Info header is missing"))?;
    let form = Form::LegacyPem(legacy_pem::Sealed::new(dek_info, bytes.to_vec(), decode)?);
    Ok(Found::Private(Sealed { container, form, publics: Vec::new() }))
}

/// DER has no label: each form is tried by its shape. A shape that fits and content that does not is an error of the
/// key; no shape at all is none of ours.
fn read_der(file: &[u8]) -> Option<Finding> {
    let shape = shape(file)?;
    let is = |expected: &[Tag]| shape.starts_with(expected);
    use Tag::{BitString, Integer, ObjectIdentifier as Oid, OctetString, Sequence};
    let inner_tags = || inner(file).unwrap_or_default();
    Some(if is(&[Integer, Sequence, OctetString]) {
        plain(PrivateContainer::Pkcs8Der, file, pkcs8::decode)
    } else if shape == [Sequence, OctetString] {
        encrypted(PrivateContainer::Pkcs8Der, file)
    } else if is(&[Integer, OctetString]) {
        plain(PrivateContainer::Sec1Der, file, decode_sec1)
    } else if shape == [Integer; 9] || (shape.len() == 10 && is(&[Integer; 9])) {
        plain(PrivateContainer::Pkcs1Der, file, decode_pkcs1)
    } else if shape == [Integer; 6] {
        other("a DSA private key", "DSA was retired by RFC 9142; make a new key")
    } else if shape == [Sequence, BitString] && inner_tags().first() == Some(&Oid) {
        spki::decode(file).map(|key| public(key, String::new(), PublicContainer::SpkiDer))
    } else if shape == [Integer, Integer] {
        spki::decode_pkcs1(file).map(|key| public(key, String::new(), PublicContainer::Pkcs1PublicPem))
    } else if shape == [Sequence, Sequence, BitString] {
        other("an X.509 certificate or request", "it names a key and holds none that could log in")
    } else if is(&[Integer, Sequence]) {
        other(
            "an encrypted archive of keys and certificates (PKCS#12)",
            "take the key out of it as PKCS#8 first",
        )
    } else {
        return None;
    })
}

/// The tags of the elements of the one SEQUENCE that spans the file.
fn shape(file: &[u8]) -> Option<Vec<Tag>> {
    let mut reader = SliceReader::new(file).ok()?;
    let header = Header::decode(&mut reader).ok()?;
    if header.tag() != Tag::Sequence || header.length() != reader.remaining_len() {
        return None;
    }
    let mut tags = Vec::new();
    // No form of ours has more than ten elements.
    while !reader.is_finished() && tags.len() < 12 {
        let header = Header::decode(&mut reader).ok()?;
        reader.read_slice(header.length()).ok()?;
        tags.push(header.tag());
    }
    Some(tags)
}

/// The tags of the elements of its first element.
fn inner(file: &[u8]) -> Option<Vec<Tag>> {
    let mut reader = SliceReader::new(file).ok()?;
    Header::decode(&mut reader).ok()?;
    let header = Header::decode(&mut reader).ok()?;
    let content = reader.read_slice(header.length()).ok()?;
    let mut whole = header.to_der().ok()?;
    whole.extend_from_slice(content);
    shape(&whole)
}

/// Lines of public keys; comments and empty lines between them are read over.
fn read_lines(text: &str) -> Vec<Finding> {
    let lines = text.lines().take(MAX_LINES).map(str::trim);
    let lines: Vec<&str> = lines.filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
    let found: Vec<Finding> = lines.iter().map(|line| read_line(line)).collect();
    // A text in which no line is a key is no list of keys with errors.
    let names_a_key = |line: &&str| ["ssh-", "ecdsa-", "sk-"].iter().any(|start| line.starts_with(start));
    if found.iter().all(Result::is_err) && !lines.iter().any(names_a_key) {
        return Vec::new();
    }
    found
}

fn read_line(line: &str) -> Finding {
    let parts = public_line::split(line)?;
    match PublicKey::decode(&parts.blob) {
        Ok(key) => Ok(Found::Public(PublicFile {
            key,
            comment: parts.comment.to_owned(),
            options: parts.options.to_owned(),
            container: PublicContainer::Line,
        })),
        Err(error) => unheld_public(&parts.blob, parts.comment).ok_or(error),
    }
}

/// A public key of a kind that we don't hold, from a blob that names its type; nothing for a kind that we do hold, whose
/// blob is then damaged.
fn unheld_public(blob: &[u8], comment: &str) -> Option<Found> {
    let mut reader = crate::wire::Reader::new(blob);
    let key_type = reader.text("key type").ok()?;
    let held = key_type == "ssh-rsa"
        || key_type == "ssh-ed25519"
        || crate::Curve::ALL
            .into_iter()
            .any(|curve| key_type == format!("ecdsa-sha2-{}", curve.identifier()));
    if held || key_type.is_empty() || !key_type.bytes().all(|byte| byte.is_ascii_graphic()) {
        return None;
    }
    let KeyError::Unsupported { why, met, .. } = unsupported_key_type(key_type) else { return None };
    Some(Found::Other(Other {
        what: format!("a public key of the kind {met}"),
        why,
        fingerprint: Some(Fingerprint::of_blob(blob)),
        comment: comment.to_owned(),
    }))
}

fn public(key: PublicKey, comment: String, container: PublicContainer) -> Found {
    Found::Public(PublicFile { key, comment, options: String::new(), container })
}

fn other(what: &str, why: &'static str) -> Finding {
    Ok(Found::Other(Other { what: what.to_owned(), why, fingerprint: None, comment: String::new() }))
}
