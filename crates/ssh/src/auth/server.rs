//! Authentication as the server runs it: the signature is checked here, everything else is the caller's decision.

use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PublicKey, SecretString, SignatureAlgorithm};

use crate::SshError;
use crate::limits::MAX_AUTH_ATTEMPTS;
use crate::message::auth::{self, AUTH_SERVICE, CONNECTION_SERVICE, Prompts, Request, RequestMethod};
use crate::message::number;
use crate::transport::Transport;

/// A client's attempt, for the caller to decide on.
#[derive(Debug)]
pub struct AuthRequest {
    /// The user name.
    pub user: String,
    /// What it brings.
    pub method: AuthMethod,
}

/// What a client brings.
#[derive(Debug)]
pub enum AuthMethod {
    /// Nothing.
    None,
    /// A password.
    Password(SecretString),
    /// The old password with a new one.
    ChangePassword {
        /// The old one.
        old: SecretString,
        /// The new one.
        new: SecretString,
    },
    /// A question whether this key would do.
    QueryPublicKey(PublicKey),
    /// A key whose signature has been verified.
    PublicKey(PublicKey),
    /// The wish to be asked.
    KeyboardInteractive,
    /// Answers to the questions asked.
    Answers(Vec<SecretString>),
    /// A method that we don't know, or a key or signature that is no good.
    Unusable,
}

/// The caller's decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AuthAnswer {
    /// Login is complete.
    Accept,
    /// No, or not yet.
    Reject {
        /// The methods that can continue.
        methods: Vec<String>,
        /// Whether this attempt was good and more is needed.
        partial_success: bool,
    },
    /// The key asked about would do.
    PublicKeyOk,
    /// Ask these questions.
    Prompts(Prompts),
    /// The password has expired.
    PasswordExpired(String),
}

#[derive(Debug)]
enum State {
    ExpectService,
    ExpectRequest,
    /// The caller is deciding; `query` for its answer to one.
    Deciding {
        query: Option<(SignatureAlgorithm, PublicKey)>,
    },
    ExpectAnswers {
        user: String,
    },
    Done,
}

pub(crate) struct ServerAuth {
    state: State,
    attempts: u32,
    user: String,
}

impl ServerAuth {
    pub(crate) fn new() -> Self {
        Self { state: State::ExpectService, attempts: 0, user: String::new() }
    }

    /// Nobody has to log in.
    pub(crate) fn skip(&mut self) {
        self.state = State::Done;
    }

    pub(crate) fn is_deciding(&self) -> bool {
        matches!(self.state, State::Deciding { .. })
    }

    pub(crate) fn is_done(&self) -> bool {
        matches!(self.state, State::Done)
    }

    pub(crate) fn handle(
        &mut self,
        message: u8,
        mut reader: Reader<'_>,
        transport: &mut Transport,
    ) -> Result<Option<AuthRequest>, SshError> {
        match (&self.state, message) {
            (State::ExpectService, number::SERVICE_REQUEST) => {
                let service = reader.string("service").map_err(SshError::malformed("SERVICE_REQUEST"))?;
                if service != AUTH_SERVICE {
                    return Err(SshError::PeerBroke { rule: "ssh-userauth comes first (RFC 4253 §10)" });
                }
                transport.send(|out| {
                    out.put_byte(number::SERVICE_ACCEPT);
                    out.put_string(AUTH_SERVICE);
                })?;
                self.state = State::ExpectRequest;
                Ok(None)
            }
            (State::ExpectAnswers { user }, number::USERAUTH_INFO_RESPONSE) => {
                let user = user.clone();
                let answers =
                    auth::decode_responses(reader).map_err(SshError::malformed("USERAUTH_INFO_RESPONSE"))?;
                self.state = State::Deciding { query: None };
                Ok(Some(AuthRequest { user, method: AuthMethod::Answers(answers) }))
            }
            // A new request abandons a round of questions (RFC 4256 §3.1).
            (State::ExpectRequest | State::ExpectAnswers { .. }, number::USERAUTH_REQUEST) => {
                self.handle_request(reader, transport).map(Some)
            }
            // RFC 4252 §5.3: requests after success are ignored.
            (State::Done, number::USERAUTH_REQUEST) => Ok(None),
            (_, met) => Err(SshError::Unexpected { expected: "authentication", met }),
        }
    }

    fn handle_request(&mut self, reader: Reader<'_>, transport: &Transport) -> Result<AuthRequest, SshError> {
        self.attempts += 1;
        if self.attempts > MAX_AUTH_ATTEMPTS {
            let limit = u64::from(MAX_AUTH_ATTEMPTS);
            return Err(SshError::LimitExceeded { what: "authentication attempts", limit });
        }
        let request = Request::decode(reader).map_err(SshError::malformed("USERAUTH_REQUEST"))?;
        let user = request.user.to_owned();
        self.user.clone_from(&user);
        let mut query = None;
        let method = match request.method {
            _ if request.service != CONNECTION_SERVICE => AuthMethod::Unusable,
            RequestMethod::None => AuthMethod::None,
            RequestMethod::Password { password, new_password: None } => AuthMethod::Password(password),
            RequestMethod::Password { password, new_password: Some(new) } => {
                AuthMethod::ChangePassword { old: password, new }
            }
            RequestMethod::KeyboardInteractive => AuthMethod::KeyboardInteractive,
            RequestMethod::Unknown => AuthMethod::Unusable,
            RequestMethod::PublicKey { algorithm, blob, signature } => {
                match (SignatureAlgorithm::from_name(algorithm), PublicKey::decode(blob)) {
                    (Ok(algorithm), Ok(key)) if key.signature_algorithms().contains(&algorithm) => {
                        match signature {
                            None => {
                                query = Some((algorithm, key.clone()));
                                AuthMethod::QueryPublicKey(key)
                            }
                            Some(signature) => verify(
                                &user,
                                algorithm,
                                key,
                                signature,
                                transport.session_id().unwrap_or_default(),
                            ),
                        }
                    }
                    _ => AuthMethod::Unusable,
                }
            }
        };
        self.state = State::Deciding { query };
        Ok(AuthRequest { user, method })
    }

    pub(crate) fn answer(&mut self, answer: AuthAnswer, transport: &mut Transport) -> Result<(), SshError> {
        let State::Deciding { query } = std::mem::replace(&mut self.state, State::ExpectRequest) else {
            return Err(SshError::Misuse("no authentication request awaits an answer"));
        };
        match answer {
            AuthAnswer::Accept => {
                transport.send(|out| out.put_byte(number::USERAUTH_SUCCESS))?;
                self.state = State::Done;
            }
            AuthAnswer::Reject { methods, partial_success } => transport.send(|out| {
                out.put_byte(number::USERAUTH_FAILURE);
                out.put_name_list(&methods);
                out.put_bool(partial_success);
            })?,
            AuthAnswer::PublicKeyOk => {
                let (algorithm, key) = query.ok_or(SshError::Misuse("no key was asked about"))?;
                transport.send(|out| {
                    out.put_byte(number::USERAUTH_METHOD);
                    out.put_string(algorithm.name().as_bytes());
                    out.put_string(&key.encode());
                })?;
            }
            AuthAnswer::Prompts(prompts) => {
                transport.send(|out| prompts.encode(out))?;
                self.state = State::ExpectAnswers { user: self.user.clone() };
            }
            AuthAnswer::PasswordExpired(prompt) => transport.send(|out| {
                out.put_byte(number::USERAUTH_METHOD);
                out.put_string(prompt.as_bytes());
                out.put_string(b"");
            })?,
        }
        Ok(())
    }
}

/// Checks the signature of a publickey request over the session identifier and the request (RFC 4252 §7).
fn verify(
    user: &str,
    algorithm: SignatureAlgorithm,
    key: PublicKey,
    signature: &[u8],
    session_id: &[u8],
) -> AuthMethod {
    let mut signed = Vec::with_capacity(2048);
    signed.put_string(session_id);
    auth::put_public_key_request(&mut signed, user, algorithm, &key, true);
    match auth::decode_signature(algorithm, signature) {
        Some(signature) if key.verify(&signed, &signature).is_ok() => AuthMethod::PublicKey(key),
        _ => AuthMethod::Unusable,
    }
}

#[cfg(test)]
mod tests {
    use lantern_keys::{KeyAlgorithm, PrivateKey};

    use super::*;

    /// RFC 4252 §7: the signature covers session, user, algorithm and key, so none of them can be exchanged.
    #[test]
    fn a_signature_made_for_another_session_user_or_key_is_worthless() {
        let key = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let other = PrivateKey::generate(KeyAlgorithm::Ed25519, "").unwrap();
        let algorithm = key.signature_algorithms()[0];
        let mut signed = Vec::new();
        signed.put_string(b"this session");
        auth::put_public_key_request(&mut signed, "keeper", algorithm, key.public(), true);
        let signature = key.sign(&signed, algorithm).unwrap().encode();
        let judge = |user, public: &PublicKey, session: &[u8]| {
            matches!(verify(user, algorithm, public.clone(), &signature, session), AuthMethod::PublicKey(_))
        };
        assert!(judge("keeper", key.public(), b"this session"));
        assert!(!judge("keeper", key.public(), b"that session"));
        assert!(!judge("visitor", key.public(), b"this session"));
        assert!(!judge("keeper", other.public(), b"this session"));
    }
}
