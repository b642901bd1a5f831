//! Authentication as the client runs it: one attempt at a time, and what the server says to it.

use std::sync::Arc;

use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PrivateKey, PublicKey, SecretString, SignatureAlgorithm};
use tracing::debug;

use super::Flushed;
use crate::SshError;
use crate::limits::{MAX_AUTH_ROUNDS, MAX_BANNERS_LEN};
use crate::message::auth::{self, AUTH_SERVICE, Failure, Prompts};
use crate::message::number;
use crate::transport::Transport;

/// One try to authenticate.
#[derive(Debug)]
pub enum Attempt {
    /// Nothing: succeeds on open machines and otherwise tells which methods there are (RFC 4252 §5.2).
    None,
    /// A signature, sent at once.
    PublicKey(Arc<PrivateKey>),
    /// A signature that somebody else makes: [`AuthEvent::SignatureWanted`] follows.
    SignElsewhere(PublicKey),
    /// A question whether this key would do, without a signature: for keys that cost a passphrase.
    QueryPublicKey(PublicKey),
    /// A password.
    Password(SecretString),
    /// The old password and the new one that the server demanded.
    ChangePassword {
        /// The one that has expired.
        old: SecretString,
        /// The one to set.
        new: SecretString,
    },
    /// Questions that the server asks.
    KeyboardInteractive,
}

/// What the server says during authentication.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AuthEvent {
    /// Text to show before login, made harmless.
    Banner(String),
    /// The attempt failed, or was only a part of what is needed.
    Rejected {
        /// The methods that can continue.
        methods: Vec<String>,
        /// Whether the attempt itself was good and more is needed.
        partial_success: bool,
    },
    /// The attempt was not made: the server takes no signature algorithm that the key has.
    KeyTypeRefused {
        /// Whether it would take one with SHA-1, which is not made any more (RFC 8332, RFC 9142).
        only_sha1: bool,
    },
    /// Somebody else is to sign this; answer with [`crate::Client::supply_signature`], or start another attempt.
    SignatureWanted {
        /// The key to sign with.
        key: PublicKey,
        /// How.
        algorithm: SignatureAlgorithm,
        /// What.
        data: Vec<u8>,
    },
    /// The key of a query would do.
    PublicKeyAccepted(PublicKey),
    /// The server asks; answer with [`crate::Client::answer_prompts`].
    Prompts(Prompts),
    /// The password has expired; the server's words.
    PasswordExpired(String),
    /// Login is complete.
    Succeeded,
}

#[derive(Debug)]
enum State {
    Idle,
    Queued(Attempt),
    ExpectAnswer(Sent),
    /// The caller is answering prompts.
    Answering,
    /// Somebody else signs; the request that the signature completes.
    Signing(Vec<u8>),
    Done,
}

/// What kind of attempt is out: message 60 means something else for each.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Sent {
    Query(PublicKey),
    Password,
    KeyboardInteractive,
    Other,
}

pub(crate) struct ClientAuth {
    user: String,
    state: State,
    service_requested: bool,
    /// The server's answers so far.
    rounds: u32,
    /// How much of banners is still shown, in bytes.
    banner_room: usize,
}

impl ClientAuth {
    pub(crate) fn new(user: String) -> Self {
        Self { user, state: State::Idle, service_requested: false, rounds: 0, banner_room: MAX_BANNERS_LEN }
    }

    /// Whether the server has to answer something.
    pub(crate) fn waits_for_peer(&self) -> bool {
        matches!(self.state, State::ExpectAnswer(_) | State::Queued(_))
    }

    /// How many times the server has said no, or wanted more, or yes.
    pub(crate) fn answers(&self) -> u32 {
        self.rounds
    }

    pub(crate) fn is_done(&self) -> bool {
        matches!(self.state, State::Done)
    }

    /// Somebody else has logged in.
    pub(crate) fn skip(&mut self) {
        self.state = State::Done;
    }

    /// Queues an attempt; it leaves as soon as there are keys, in one flight with them.
    pub(crate) fn attempt(&mut self, attempt: Attempt) -> Result<(), SshError> {
        match self.state {
            // RFC 4256 §3.1: a new request abandons a round of questions.
            State::Idle | State::Answering | State::Signing(_) => {
                self.state = State::Queued(attempt);
                Ok(())
            }
            _ => Err(SshError::Misuse("an authentication attempt is under way or login is complete")),
        }
    }

    /// Sends a queued attempt when that is possible now.
    pub(crate) fn flush(&mut self, transport: &mut Transport) -> Result<Flushed, SshError> {
        let attempt = match std::mem::replace(&mut self.state, State::Idle) {
            State::Queued(attempt) if transport.is_settled() => attempt,
            other => {
                self.state = other;
                return Ok(Flushed::Nothing);
            }
        };
        let is_signed = matches!(attempt, Attempt::PublicKey(_));
        if !std::mem::replace(&mut self.service_requested, true) {
            // The answer is not awaited: a server that refuses the service disconnects (RFC 4253 §10).
            transport.send(|out| {
                out.put_byte(number::SERVICE_REQUEST);
                out.put_string(AUTH_SERVICE);
            })?;
        }
        if let Attempt::SignElsewhere(key) = attempt {
            return Ok(Flushed::Event(self.want_signature(key, transport)));
        }
        match self.send(attempt, transport)? {
            Some(sent) => {
                self.state = State::ExpectAnswer(sent);
                Ok(Flushed::Sent { is_signed })
            }
            None => Ok(Flushed::Event(self.refused_type(transport))),
        }
    }

    /// A key of no type that the server takes signatures of: with a word where it is stuck at SHA-1.
    fn refused_type(&self, transport: &Transport) -> AuthEvent {
        let names = transport.server_sig_algs().unwrap_or_default();
        AuthEvent::KeyTypeRefused { only_sha1: names.iter().any(|name| name == "ssh-rsa") }
    }

    fn send(&self, attempt: Attempt, transport: &mut Transport) -> Result<Option<Sent>, SshError> {
        let user = self.user.as_str();
        Ok(Some(match attempt {
            Attempt::None => {
                debug!(user, "trying method none");
                transport.send(|out| auth::put_request(out, user, "none"))?;
                Sent::Other
            }
            Attempt::PublicKey(key) => {
                let Some(algorithm) = signature_algorithm(key.public(), transport.server_sig_algs()) else {
                    return Ok(None);
                };
                debug!(user, key = %key.public().fingerprint(), algorithm = algorithm.name(), "trying a key");
                let signed = signed_data(user, key.public(), algorithm, transport);
                let signature = key.sign(&signed, algorithm).map_err(SshError::Key)?.encode();
                let request = request_of(&signed, transport);
                transport.send(|out| {
                    out.put(&request);
                    out.put_string(&signature);
                })?;
                Sent::Other
            }
            // Handled before: it sends nothing yet.
            Attempt::SignElsewhere(_) => return Ok(None),
            Attempt::QueryPublicKey(key) => {
                let Some(algorithm) = signature_algorithm(&key, transport.server_sig_algs()) else {
                    return Ok(None);
                };
                debug!(user, key = %key.fingerprint(), "asking about a key");
                transport.send(|out| auth::put_public_key_request(out, user, algorithm, &key, false))?;
                Sent::Query(key)
            }
            Attempt::Password(password) => {
                debug!(user, "trying a password");
                transport.send(|out| {
                    auth::put_request(out, user, "password");
                    out.put_bool(false);
                    out.put_string(password.expose_secret().as_bytes());
                })?;
                Sent::Password
            }
            Attempt::ChangePassword { old, new } => {
                debug!(user, "changing the password");
                transport.send(|out| {
                    auth::put_request(out, user, "password");
                    out.put_bool(true);
                    out.put_string(old.expose_secret().as_bytes());
                    out.put_string(new.expose_secret().as_bytes());
                })?;
                Sent::Password
            }
            Attempt::KeyboardInteractive => {
                debug!(user, "trying keyboard-interactive");
                transport.send(|out| {
                    auth::put_request(out, user, "keyboard-interactive");
                    out.put_string(b"");
                    out.put_string(b"");
                })?;
                Sent::KeyboardInteractive
            }
        }))
    }

    /// Has somebody else sign; nothing leaves until they have.
    fn want_signature(&mut self, key: PublicKey, transport: &Transport) -> AuthEvent {
        let Some(algorithm) = signature_algorithm(&key, transport.server_sig_algs()) else {
            return self.refused_type(transport);
        };
        debug!(user = self.user, key = %key.fingerprint(), algorithm = algorithm.name(), "trying a key held elsewhere");
        let data = signed_data(&self.user, &key, algorithm, transport);
        self.state = State::Signing(request_of(&data, transport));
        AuthEvent::SignatureWanted { key, algorithm, data }
    }

    /// The signature of [`AuthEvent::SignatureWanted`], in its wire form.
    pub(crate) fn supply_signature(
        &mut self,
        signature: &[u8],
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let State::Signing(request) = &self.state else {
            return Err(SshError::Misuse("no signature is wanted"));
        };
        transport.send(|out| {
            out.put(request);
            out.put_string(signature);
        })?;
        self.state = State::ExpectAnswer(Sent::Other);
        Ok(())
    }

    /// The caller's answers to [`AuthEvent::Prompts`].
    pub(crate) fn answer(
        &mut self,
        answers: &[SecretString],
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        if !matches!(self.state, State::Answering) {
            return Err(SshError::Misuse("no prompts await an answer"));
        }
        transport.send(|out| {
            out.put_byte(number::USERAUTH_INFO_RESPONSE);
            out.put_uint32(answers.len() as u32);
            for answer in answers {
                out.put_string(answer.expose_secret().as_bytes());
            }
        })?;
        self.state = State::ExpectAnswer(Sent::KeyboardInteractive);
        Ok(())
    }

    /// A message of the authentication protocol.
    pub(crate) fn handle(
        &mut self,
        message: u8,
        mut reader: Reader<'_>,
    ) -> Result<Option<AuthEvent>, SshError> {
        match message {
            number::SERVICE_ACCEPT => {
                let service = reader.string("service").map_err(SshError::malformed("SERVICE_ACCEPT"))?;
                match service == AUTH_SERVICE {
                    true => Ok(None),
                    false => Err(SshError::PeerBroke {
                        rule: "it must accept the service asked for (RFC 4253 §10)",
                    }),
                }
            }
            // RFC 4252 §5.4: before login is complete.
            number::USERAUTH_BANNER if !self.is_done() => {
                let text = auth::decode_banner(reader).map_err(SshError::malformed("USERAUTH_BANNER"))?;
                let text = crate::text::neutralize(&text, self.banner_room);
                self.banner_room -= text.len();
                Ok((!text.is_empty()).then_some(AuthEvent::Banner(text)))
            }
            _ => {
                let State::ExpectAnswer(sent) = std::mem::replace(&mut self.state, State::Idle) else {
                    return Err(SshError::Unexpected {
                        expected: "no answer about authentication",
                        met: message,
                    });
                };
                self.rounds += 1;
                if self.rounds > MAX_AUTH_ROUNDS {
                    let limit = u64::from(MAX_AUTH_ROUNDS);
                    return Err(SshError::LimitExceeded { what: "rounds of a login", limit });
                }
                self.handle_answer(message, sent, reader).map(Some)
            }
        }
    }

    fn handle_answer(&mut self, message: u8, sent: Sent, reader: Reader<'_>) -> Result<AuthEvent, SshError> {
        match (message, sent) {
            (number::USERAUTH_SUCCESS, sent) if !matches!(sent, Sent::Query(_)) => {
                debug!("login is complete");
                self.state = State::Done;
                Ok(AuthEvent::Succeeded)
            }
            (number::USERAUTH_FAILURE, _) => {
                let failure = Failure::decode(reader).map_err(SshError::malformed("USERAUTH_FAILURE"))?;
                debug!(methods = failure.methods.join(", "), partial = failure.partial_success, "rejected");
                Ok(AuthEvent::Rejected { methods: failure.methods, partial_success: failure.partial_success })
            }
            (number::USERAUTH_METHOD, Sent::Query(key)) => {
                let mut reader = reader;
                let malformed = SshError::malformed("USERAUTH_PK_OK");
                reader.string("algorithm").map_err(&malformed)?;
                let blob = reader.string("public key").map_err(malformed)?;
                match blob == key.encode() {
                    true => Ok(AuthEvent::PublicKeyAccepted(key)),
                    false => Err(SshError::PeerBroke {
                        rule: "it must answer about the key asked for (RFC 4252 §7)",
                    }),
                }
            }
            (number::USERAUTH_METHOD, Sent::KeyboardInteractive) => {
                let prompts =
                    Prompts::decode(reader).map_err(SshError::malformed("USERAUTH_INFO_REQUEST"))?;
                debug!(prompts = prompts.prompts.len(), "asked");
                self.state = State::Answering;
                Ok(AuthEvent::Prompts(prompts))
            }
            (number::USERAUTH_METHOD, Sent::Password) => {
                let text =
                    auth::decode_banner(reader).map_err(SshError::malformed("USERAUTH_PASSWD_CHANGEREQ"))?;
                Ok(AuthEvent::PasswordExpired(text))
            }
            (met, _) => {
                Err(SshError::Unexpected { expected: "an answer to the authentication attempt", met })
            }
        }
    }
}

/// What a key signs to log in: the session identifier and the request without its signature (RFC 4252 §7).
fn signed_data(user: &str, key: &PublicKey, algorithm: SignatureAlgorithm, transport: &Transport) -> Vec<u8> {
    let mut signed = Vec::with_capacity(2048);
    signed.put_string(transport.session_id().unwrap_or_default());
    auth::put_public_key_request(&mut signed, user, algorithm, key, true);
    signed
}

/// The request within what is signed: all that follows the session identifier.
fn request_of(signed: &[u8], transport: &Transport) -> Vec<u8> {
    let before = 4 + transport.session_id().unwrap_or_default().len();
    signed.get(before..).unwrap_or_default().to_vec()
}

/// The best algorithm of the key that the server takes; without its list (RFC 8308), the best one.
fn signature_algorithm(key: &PublicKey, server: Option<&[String]>) -> Option<SignatureAlgorithm> {
    let own = key.signature_algorithms();
    match server {
        Some(names) => own.iter().find(|own| names.iter().any(|name| name == own.name())).copied(),
        None => own.first().copied(),
    }
}
