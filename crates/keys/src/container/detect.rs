//! What a file holds, told by its content: names and endings of files lie.

use der::{Decode, Encode, Header, Reader, SliceReader, Tag};
use zeroize::Zeroizing;

use super::labels::{MAGIC_NUMBERS, OTHER_LABELS};
use super::pem::{self, Block, Part};
use super::{
    Contents, Form, Found, MAX_FILE_LEN, Other, PrivateContainer, PublicContainer, PublicFile, Sealed,
    Secrecy, encrypted_pkcs8, jwk, legacy_pem, openssh_key_v1, pkcs8, rfc4716, sec1, spki,
};
use crate::parts::PrivateParts;
use crate::public::unsupported_key_type;
use crate::rsa_numbers::RsaComponents;
use crate::{Certificate, Fingerprint, KeyError, PrivateKey, PublicKey, public_line};

type Finding = Result<Found, KeyError>;
type DecodePrivate = fn(&[u8]) -> Result<PrivateKey, KeyError>;

const RSA_LABEL: &str = "RSA PRIVATE KEY";
/// Most lines of a list of public keys that we look at.
const MAX_LINES: usize = 100_000;

/// Everything that a file holds, in its order; at least one thing, if only [`Found::Other`].
///
/// # Errors
/// [`KeyError::TooCostly`] above [`MAX_FILE_LEN`]; [`KeyError::NotAKey`] for what nothing is known of.
pub fn read(file: &[u8]) -> Result<Vec<Finding>, KeyError> {
    contents(file).map(|contents| contents.found)
}

/// The same, and whether there is anything beside it.
///
/// # Errors
/// As [`read`].
pub fn contents(file: &[u8]) -> Result<Contents, KeyError> {
    if file.len() > MAX_FILE_LEN {
        return Err(KeyError::TooCostly {
            what: "bytes",
            met: file.len() as u64,
            limit: MAX_FILE_LEN as u64,
        });
    }
    let only = |finding| {
        let names_private_key = match &finding {
            Ok(found) => matches!(found, Found::Private(_)),
            Err(_) => !is_public_shape(file),
        };
        Contents { found: vec![finding], lines_beside: 0, names_private_key }
    };
    if let Some((_, what, why)) = MAGIC_NUMBERS.into_iter().find(|(magic, ..)| file.starts_with(magic)) {
        return Ok(only(other(what, why, Secrecy::None)));
    }
    if file.iter().all(u8::is_ascii_whitespace) {
        return Err(KeyError::NotAKey("the file is empty".into()));
    }
    if file.first() == Some(&0x30)
        && let Some(finding) = read_der(file)
    {
        return Ok(only(finding));
    }
    let text = to_text(file).ok_or_else(|| KeyError::NotAKey("it is neither text nor DER".into()))?;
    let contents = read_text(&text);
    if contents.found.is_empty() {
        return Err(KeyError::NotAKey(
            "there is no `-----BEGIN` line, no public key line and no JWK in it".into(),
        ));
    }
    Ok(contents)
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

fn read_text(text: &str) -> Contents {
    let parts = pem::parts(text);
    if parts.iter().any(|part| matches!(part, Part::Block(_))) {
        return read_parts(&parts);
    }
    let all = |found| Contents { found, lines_beside: 0, names_private_key: false };
    let start = text.trim_start();
    let lower: String = start.chars().take(256).collect::<String>().to_ascii_lowercase();
    if lower.starts_with("<!doctype html") || lower.starts_with("<html") || lower.contains("<head") {
        let why = "the download was a page to sign in, perhaps; fetch the key again";
        return all(vec![other("a web page", why, Secrecy::None)]);
    }
    if start.starts_with('{')
        && let Some(found) = jwk::read(start)
    {
        return all(found);
    }
    all(read_lines(text))
}

fn read_parts(parts: &[Part<'_>]) -> Contents {
    let mut contents = Contents { found: Vec::new(), lines_beside: 0, names_private_key: false };
    for part in parts {
        match part {
            Part::Block(block) => {
                contents.names_private_key |= block.label.ends_with("PRIVATE KEY");
                contents.found.extend(read_block(block));
            }
            Part::Beside(text) => {
                for line in lines(text) {
                    match read_line(line) {
                        Ok(found) => contents.found.push(Ok(found)),
                        Err(_) => contents.lines_beside += 1,
                    }
                }
            }
        }
    }
    // Parameters alone are told; in front of a key they say nothing that the key does not.
    if contents.found.is_empty() {
        let why = "the key itself is missing";
        contents.found.push(other("the parameters of an elliptic curve", why, Secrecy::None));
    }
    contents
}

fn read_block(block: &Block<'_>) -> Option<Finding> {
    if let Some((_, what, why, secrecy)) = OTHER_LABELS.into_iter().find(|(label, ..)| *label == block.label)
    {
        return Some(other(what, why, secrecy));
    }
    if block.label == "EC PARAMETERS" {
        return None;
    }
    if block.label == rfc4716::LABEL {
        return Some(match rfc4716::decode(block) {
            Ok((key, comment)) => Ok(public(key, comment, PublicContainer::Rfc4716)),
            Err(error) => match &block.bytes {
                Ok(blob) if is_certificate(blob) => certificate(blob, rfc4716::comment(block)),
                Ok(blob) => unheld_public(blob, rfc4716::comment(block)).ok_or(error),
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
            let (publics, comments) = (sealed.publics().to_vec(), sealed.comments().to_vec());
            let form = Form::OpensshKeyV1(sealed);
            Found::Private(Sealed { container: PrivateContainer::OpensshKeyV1, form, publics, comments })
        }),
        pkcs8::LABEL => plain(PrivateContainer::Pkcs8Pem, bytes, pkcs8::decode),
        encrypted_pkcs8::LABEL => encrypted(PrivateContainer::Pkcs8Pem, bytes),
        RSA_LABEL => traditional(block, bytes, PrivateContainer::Pkcs1Pem, decode_pkcs1),
        sec1::LABEL => traditional(block, bytes, PrivateContainer::Sec1Pem, decode_sec1),
        spki::LABEL => spki::decode(bytes).map(|key| public(key, String::new(), PublicContainer::SpkiPem)),
        spki::PKCS1_LABEL => {
            spki::decode_pkcs1(bytes).map(|key| public(key, String::new(), PublicContainer::Pkcs1PublicPem))
        }
        // Its label is not repeated: capitals and digits may be the key itself.
        _ => other("a block of a kind that we don't know", "its BEGIN line names no key", Secrecy::None),
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
        comments: Vec::new(),
    }))
}

fn encrypted(container: PrivateContainer, bytes: &[u8]) -> Finding {
    let form = Form::EncryptedPkcs8(encrypted_pkcs8::Sealed::decode(bytes)?);
    Ok(Found::Private(Sealed { container, form, publics: Vec::new(), comments: Vec::new() }))
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
    Ok(Found::Private(Sealed { container, form, publics: Vec::new(), comments: Vec::new() }))
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
        other("a DSA private key", "DSA was retired by RFC 9142; make a new key", Secrecy::Open)
    } else if shape == [Sequence, BitString] && inner_tags().first() == Some(&Oid) {
        spki::decode(file).map(|key| public(key, String::new(), PublicContainer::SpkiDer))
    } else if shape == [Integer, Integer] {
        spki::decode_pkcs1(file).map(|key| public(key, String::new(), PublicContainer::Pkcs1PublicPem))
    } else if shape == [Sequence, Sequence, BitString] {
        other(
            "an X.509 certificate or request",
            "it names a key and holds none that could log in",
            Secrecy::None,
        )
    } else if is(&[Integer, Sequence]) {
        other(
            "an encrypted archive of keys and certificates (PKCS#12)",
            "take the key out of it as PKCS#8 first",
            Secrecy::Closed,
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

/// Whether DER has the shape of a public key.
fn is_public_shape(file: &[u8]) -> bool {
    let shape = shape(file).unwrap_or_default();
    shape == [Tag::Sequence, Tag::BitString] || shape == [Tag::Integer, Tag::Integer]
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

/// The lines of a text that say anything, whichever way they end.
fn lines(text: &str) -> impl Iterator<Item = &str> {
    text.split(['\n', '\r']).map(str::trim).filter(|line| !line.is_empty())
}

/// Lines of public keys; comments and empty lines between them are read over.
fn read_lines(text: &str) -> Vec<Finding> {
    let lines: Vec<&str> = lines(text).take(MAX_LINES).filter(|line| !line.starts_with('#')).collect();
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
    if Certificate::is_type(parts.key_type) {
        return certificate(&parts.blob, parts.comment);
    }
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

fn is_certificate(blob: &[u8]) -> bool {
    crate::wire::Reader::new(blob).text("key type").is_ok_and(Certificate::is_type)
}

fn certificate(blob: &[u8], comment: &str) -> Finding {
    let comment = comment.to_owned();
    Certificate::decode(blob).map(|certificate| Found::Certificate { certificate, comment })
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
        secrecy: Secrecy::None,
        fingerprint: Some(Fingerprint::of_blob(blob)),
        comment: comment.to_owned(),
    }))
}

fn public(key: PublicKey, comment: String, container: PublicContainer) -> Found {
    Found::Public(PublicFile { key, comment, options: String::new(), container })
}

fn other(what: &str, why: &'static str, secrecy: Secrecy) -> Finding {
    Ok(Found::Other(Other::new(what, why, secrecy)))
}
