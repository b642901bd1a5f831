//! Messages of the authentication protocol: RFC 4252 and RFC 4256.

use lantern_keys::wire::{Reader, WireError, Writer};
use lantern_keys::{PublicKey, SecretString, Signature, SignatureAlgorithm};

use super::number;
use crate::limits::{MAX_BANNERS_LEN, MAX_NAME_LIST_LEN, MAX_PROMPTS};
use crate::text::neutralize;

/// The only service that we authenticate for.
pub(crate) const CONNECTION_SERVICE: &[u8] = b"ssh-connection";
pub(crate) const AUTH_SERVICE: &[u8] = b"ssh-userauth";

/// Start of SSH_MSG_USERAUTH_REQUEST (50), RFC 4252 §5.
pub(crate) fn put_request(out: &mut impl Writer, user: &str, method: &str) {
    out.put_byte(number::USERAUTH_REQUEST);
    out.put_string(user.as_bytes());
    out.put_string(CONNECTION_SERVICE);
    out.put_string(method.as_bytes());
}

/// The publickey request (RFC 4252 §7) up to its signature: what is signed, behind the session identifier.
pub(crate) fn put_public_key_request(
    out: &mut impl Writer,
    user: &str,
    algorithm: SignatureAlgorithm,
    key: &PublicKey,
    signed: bool,
) {
    put_request(out, user, "publickey");
    out.put_bool(signed);
    out.put_string(algorithm.name().as_bytes());
    out.put_string(&key.encode());
}

/// SSH_MSG_USERAUTH_REQUEST as our server role reads it.
#[derive(Debug)]
pub(crate) struct Request<'a> {
    pub(crate) user: &'a str,
    pub(crate) service: &'a [u8],
    pub(crate) method: RequestMethod<'a>,
}

#[derive(Debug)]
pub(crate) enum RequestMethod<'a> {
    None,
    Password { password: SecretString, new_password: Option<SecretString> },
    PublicKey { algorithm: &'a str, blob: &'a [u8], signature: Option<&'a [u8]> },
    KeyboardInteractive,
    Unknown,
}

impl<'a> Request<'a> {
    pub(crate) fn decode(mut reader: Reader<'a>) -> Result<Self, WireError> {
        let user = reader.text("user name")?;
        let service = reader.string("service")?;
        let method = match reader.text("method")? {
            "none" => RequestMethod::None,
            "password" => {
                let changing = reader.bool("new password follows")?;
                let password = SecretString::new(reader.text("password")?.to_owned());
                let new_password = match changing {
                    true => Some(SecretString::new(reader.text("new password")?.to_owned())),
                    false => None,
                };
                RequestMethod::Password { password, new_password }
            }
            "publickey" => {
                let signed = reader.bool("signature follows")?;
                let algorithm = reader.text("algorithm")?;
                let blob = reader.string("public key")?;
                let signature = if signed { Some(reader.string("signature")?) } else { None };
                RequestMethod::PublicKey { algorithm, blob, signature }
            }
            "keyboard-interactive" => {
                reader.string("language")?;
                reader.string("submethods")?;
                RequestMethod::KeyboardInteractive
            }
            _ => return Ok(Self { user, service, method: RequestMethod::Unknown }),
        };
        reader.finish()?;
        Ok(Self { user, service, method })
    }
}

/// SSH_MSG_USERAUTH_FAILURE (51), RFC 4252 §5.1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Failure {
    pub(crate) methods: Vec<String>,
    pub(crate) partial_success: bool,
}

impl Failure {
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let methods = reader.name_list(MAX_NAME_LIST_LEN, "methods that can continue")?;
        let methods = methods.into_iter().map(str::to_owned).collect();
        let partial_success = reader.bool("partial success")?;
        reader.finish()?;
        Ok(Self { methods, partial_success })
    }
}

/// SSH_MSG_USERAUTH_BANNER (53), RFC 4252 §5.4: the text, made harmless.
pub(crate) fn decode_banner(mut reader: Reader<'_>) -> Result<String, WireError> {
    let text = String::from_utf8_lossy(reader.string("banner")?);
    Ok(neutralize(&text, MAX_BANNERS_LEN))
}

/// One question of keyboard-interactive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prompt {
    /// The question, with control characters made harmless.
    pub text: String,
    /// Whether what is typed may be shown.
    pub echo: bool,
}

/// A round of questions: SSH_MSG_USERAUTH_INFO_REQUEST (60), RFC 4256 §3.2.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Prompts {
    /// A title, often empty.
    pub name: String,
    /// An instruction, often empty.
    pub instruction: String,
    /// The questions; a round may have none.
    pub prompts: Vec<Prompt>,
}

impl Prompts {
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let text = |reader: &mut Reader<'_>, field| -> Result<String, WireError> {
            Ok(neutralize(&String::from_utf8_lossy(reader.string(field)?), 4096))
        };
        let name = text(&mut reader, "name")?;
        let instruction = text(&mut reader, "instruction")?;
        reader.string("language")?;
        let count = reader.u32("number of prompts")?;
        if count > MAX_PROMPTS {
            return Err(WireError::Invalid { field: "number of prompts", rule: "more than our limit" });
        }
        let mut prompts = Vec::new();
        for _ in 0..count {
            prompts.push(Prompt { text: text(&mut reader, "prompt")?, echo: reader.bool("echo")? });
        }
        reader.finish()?;
        Ok(Self { name, instruction, prompts })
    }

    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_byte(number::USERAUTH_METHOD);
        out.put_string(self.name.as_bytes());
        out.put_string(self.instruction.as_bytes());
        out.put_string(b"");
        out.put_uint32(self.prompts.len() as u32);
        for prompt in &self.prompts {
            out.put_string(prompt.text.as_bytes());
            out.put_bool(prompt.echo);
        }
    }
}

/// SSH_MSG_USERAUTH_INFO_RESPONSE (61), RFC 4256 §3.4.
pub(crate) fn decode_responses(mut reader: Reader<'_>) -> Result<Vec<SecretString>, WireError> {
    let count = reader.u32("number of responses")?;
    if count > MAX_PROMPTS {
        return Err(WireError::Invalid { field: "number of responses", rule: "more than our limit" });
    }
    let mut responses = Vec::new();
    for _ in 0..count {
        responses.push(SecretString::new(reader.text("response")?.to_owned()));
    }
    reader.finish()?;
    Ok(responses)
}

/// A signature in a publickey request: the algorithm named outside and inside must agree (RFC 8332 §3.2).
pub(crate) fn decode_signature(algorithm: SignatureAlgorithm, bytes: &[u8]) -> Option<Signature> {
    Signature::decode(bytes).ok().filter(|signature| signature.algorithm == algorithm)
}

#[cfg(any(test, fuzzing))]
#[allow(unused_must_use)]
pub(crate) fn decode_anything(bytes: &[u8]) {
    Request::decode(Reader::new(bytes));
    Failure::decode(Reader::new(bytes));
    decode_banner(Reader::new(bytes));
    Prompts::decode(Reader::new(bytes));
    decode_responses(Reader::new(bytes));
}
