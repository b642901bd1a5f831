//! What is said in a conversation: questions, notes, answers.

use base64ct::{Base64, Encoding};
use lantern_book::{Presented, Verified};
use lantern_keys::{PublicKey, SecretString, TlsCertificate};
use lantern_link::{Answer, FirstContact, Note, Question};
use lantern_ssh::{Prompt, Prompts};
use serde::{Deserialize, Serialize};

/// What the keeper says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum Said {
    /// A question, by its number.
    Question(u32, QuestionForm),
    /// Nobody needs the answer to this one any more.
    Withdrawn(u32),
    /// Something to tell.
    Note(NoteForm),
    /// What came of it, as JSON of whatever was asked for.
    Outcome(serde_json::Value),
}

/// What a program answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum Reply {
    /// The answer to a question; secrets stand behind it.
    Answer(u32, AnswerForm),
    /// The outcome was heard: what follows is no message.
    Heard,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) enum AnswerForm {
    No,
    NoOne,
    Yes,
    Trust(Verified),
    Secret,
    Secrets,
}

/// A public key in its wire form, in base64.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct KeyForm(String);

impl KeyForm {
    pub(crate) fn of(key: &PublicKey) -> Self {
        Self(Base64::encode_string(&key.encode()))
    }

    pub(crate) fn key(&self) -> Option<PublicKey> {
        PublicKey::decode(&Base64::decode_vec(&self.0).ok()?).ok()
    }
}

/// What a machine presents. The keeper makes connections of SSH; certificates are here so that nothing it is asked about is lost on the way.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum PresentedForm {
    HostKey(KeyForm),
    Certificate(String),
    Unknown,
}

impl PresentedForm {
    fn of(presented: &Presented) -> Self {
        match presented {
            Presented::HostKey(key) => Self::HostKey(KeyForm::of(key)),
            Presented::Certificate(certificate) => {
                Self::Certificate(Base64::encode_string(certificate.der()))
            }
            _ => Self::Unknown,
        }
    }

    fn presented(&self) -> Option<Presented> {
        match self {
            Self::HostKey(key) => key.key().map(Presented::HostKey),
            Self::Certificate(der) => {
                TlsCertificate::read(&Base64::decode_vec(der).ok()?).ok().map(Presented::Certificate)
            }
            Self::Unknown => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum QuestionForm {
    FirstContact {
        machine: String,
        reached_at: String,
        presented: PresentedForm,
        same_key: Vec<String>,
        same_address: Vec<String>,
    },
    Passphrase {
        key: String,
        again: bool,
    },
    Password {
        user: String,
        machine: String,
        again: bool,
    },
    ProxyPassword {
        user: String,
        proxy: String,
        again: bool,
    },
    Privilege {
        user: String,
        machine: String,
        other: String,
        again: bool,
    },
    NewPassword {
        machine: String,
        demand: String,
        again: bool,
    },
    Prompts {
        machine: String,
        name: String,
        instruction: String,
        prompts: Vec<(String, bool)>,
    },
    Signature {
        machine: String,
        what: String,
    },
}

impl From<Question> for QuestionForm {
    fn from(question: Question) -> Self {
        match question {
            Question::FirstContact(contact) => Self::FirstContact {
                presented: PresentedForm::of(&contact.presented),
                machine: contact.machine,
                reached_at: contact.reached_at,
                same_key: contact.same_key,
                same_address: contact.same_address,
            },
            Question::Passphrase { key, again } => Self::Passphrase { key, again },
            Question::Password { user, machine, again } => Self::Password { user, machine, again },
            Question::ProxyPassword { user, proxy, again } => Self::ProxyPassword { user, proxy, again },
            Question::Privilege { user, machine, other, again } => {
                Self::Privilege { user, machine, other, again }
            }
            Question::NewPassword { machine, demand, again } => Self::NewPassword { machine, demand, again },
            Question::Prompts { machine, prompts } => Self::Prompts {
                machine,
                name: prompts.name,
                instruction: prompts.instruction,
                prompts: prompts.prompts.into_iter().map(|prompt| (prompt.text, prompt.echo)).collect(),
            },
            Question::Signature { machine, what } => Self::Signature { machine, what },
        }
    }
}

impl QuestionForm {
    /// The question; none where its key is none that is known here.
    pub(super) fn question(self) -> Option<Question> {
        Some(match self {
            Self::FirstContact { machine, reached_at, presented, same_key, same_address } => {
                let (presented, faults) = (presented.presented()?, Vec::new());
                Question::FirstContact(FirstContact {
                    machine,
                    reached_at,
                    presented,
                    faults,
                    same_key,
                    same_address,
                })
            }
            Self::Passphrase { key, again } => Question::Passphrase { key, again },
            Self::Password { user, machine, again } => Question::Password { user, machine, again },
            Self::ProxyPassword { user, proxy, again } => Question::ProxyPassword { user, proxy, again },
            Self::Privilege { user, machine, other, again } => {
                Question::Privilege { user, machine, other, again }
            }
            Self::NewPassword { machine, demand, again } => Question::NewPassword { machine, demand, again },
            Self::Prompts { machine, name, instruction, prompts } => {
                let prompt = |(text, echo)| Prompt { text, echo };
                let prompts = prompts.into_iter().map(prompt).collect();
                Question::Prompts { machine, prompts: Prompts { name, instruction, prompts } }
            }
            Self::Signature { machine, what } => Question::Signature { machine, what },
        })
    }
}

impl Reply {
    #[cfg(test)]
    pub(super) fn secrets(number: u32) -> Self {
        Self::Answer(number, AnswerForm::Secrets)
    }
}

impl AnswerForm {
    /// The form of an answer, and the secrets that stand behind it.
    pub(super) fn of(answer: Answer) -> (Self, Vec<SecretString>) {
        match answer {
            Answer::No => (Self::No, Vec::new()),
            Answer::NoOne => (Self::NoOne, Vec::new()),
            Answer::Yes => (Self::Yes, Vec::new()),
            Answer::Trust(verified) => (Self::Trust(verified), Vec::new()),
            Answer::Secret(secret) => (Self::Secret, vec![secret]),
            Answer::Secrets(secrets) => (Self::Secrets, secrets),
        }
    }

    pub(super) fn answer(self, mut secrets: Vec<SecretString>) -> Answer {
        match self {
            Self::No => Answer::No,
            Self::NoOne => Answer::NoOne,
            Self::Yes => Answer::Yes,
            Self::Trust(verified) => Answer::Trust(verified),
            Self::Secret => secrets.pop().map_or(Answer::No, Answer::Secret),
            Self::Secrets => Answer::Secrets(secrets),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum NoteForm {
    Moved { machine: String, from: Vec<String>, to: String },
    Banner(String),
    FirstUse { machine: String, presented: PresentedForm, same_key: Vec<String> },
    KeysRefused { machine: String, refused: Vec<String>, not_offered: Vec<String> },
    DnsUnproven { machine: String, why: String },
    DnsUnprotected { machine: String, resolver: std::net::SocketAddr },
    CertificateEnded { machine: String, certificate: String },
    NotProven { machine: String },
    NoTicket { machine: String, why: String },
    ByNtlm { machine: String, why: String, is_expected: bool },
    NotRemembered(String),
}

impl NoteForm {
    pub(super) fn of(note: &Note<'_>) -> Self {
        match note {
            Note::Moved { machine, from, to } => {
                Self::Moved { machine: (*machine).into(), from: from.to_vec(), to: (*to).into() }
            }
            Note::Banner(text) => Self::Banner((*text).into()),
            Note::FirstUse { machine, presented, same_key } => Self::FirstUse {
                machine: (*machine).into(),
                presented: PresentedForm::of(presented),
                same_key: same_key.to_vec(),
            },
            Note::KeysRefused { machine, refused, not_offered } => Self::KeysRefused {
                machine: (*machine).into(),
                refused: refused.to_vec(),
                not_offered: not_offered.to_vec(),
            },
            Note::DnsUnproven { machine, why } => {
                Self::DnsUnproven { machine: (*machine).into(), why: (*why).into() }
            }
            Note::DnsUnprotected { machine, resolver } => {
                Self::DnsUnprotected { machine: (*machine).into(), resolver: *resolver }
            }
            Note::CertificateEnded { machine, certificate } => Self::CertificateEnded {
                machine: (*machine).into(),
                certificate: Base64::encode_string(certificate.der()),
            },
            Note::NotProven { machine } => Self::NotProven { machine: (*machine).into() },
            Note::NoTicket { machine, why } => {
                Self::NoTicket { machine: (*machine).into(), why: (*why).into() }
            }
            Note::ByNtlm { machine, why, is_expected } => {
                Self::ByNtlm { machine: (*machine).into(), why: (*why).into(), is_expected: *is_expected }
            }
            Note::NotRemembered(why) => Self::NotRemembered((*why).into()),
        }
    }

    /// Tells it to somebody.
    pub(super) fn tell(&self, tell: impl FnOnce(&Note<'_>)) {
        match self {
            Self::Moved { machine, from, to } => tell(&Note::Moved { machine, from, to }),
            Self::Banner(text) => tell(&Note::Banner(text)),
            Self::FirstUse { machine, presented, same_key } => {
                if let Some(presented) = presented.presented() {
                    tell(&Note::FirstUse { machine, presented: &presented, same_key });
                }
            }
            Self::KeysRefused { machine, refused, not_offered } => {
                tell(&Note::KeysRefused { machine, refused, not_offered });
            }
            Self::DnsUnproven { machine, why } => tell(&Note::DnsUnproven { machine, why }),
            Self::DnsUnprotected { machine, resolver } => {
                tell(&Note::DnsUnprotected { machine, resolver: *resolver });
            }
            Self::CertificateEnded { machine, certificate } => {
                let read =
                    Base64::decode_vec(certificate).ok().and_then(|der| TlsCertificate::read(&der).ok());
                if let Some(certificate) = read {
                    tell(&Note::CertificateEnded { machine, certificate: &certificate });
                }
            }
            Self::NotProven { machine } => tell(&Note::NotProven { machine }),
            Self::NoTicket { machine, why } => tell(&Note::NoTicket { machine, why }),
            Self::ByNtlm { machine, why, is_expected } => {
                tell(&Note::ByNtlm { machine, why, is_expected: *is_expected });
            }
            Self::NotRemembered(why) => tell(&Note::NotRemembered(why)),
        }
    }
}
