//! Questions that only a person can answer, and what a person may want to hear. The program asks at the terminal, tests answer
//! from a script, a batch run answers no.

use std::future::{Future, ready};
use std::pin::Pin;

use lantern_book::{Presented, Verified};
use lantern_keys::{CertificateFault, SecretString, TlsCertificate};
use lantern_ssh::Prompts;

use crate::step::Step;

/// What is known when a machine shows a key or a certificate for the first time.
#[derive(Debug, Clone)]
pub struct FirstContact {
    /// The machine, as the user calls it.
    pub machine: String,
    /// Where it was reached: the address dialed and the one that answered.
    pub reached_at: String,
    /// What it proved to hold.
    pub presented: Presented,
    /// What is wrong with that, where it is a certificate.
    pub faults: Vec<CertificateFault>,
    /// Other machines known to have the same.
    pub same_key: Vec<String>,
    /// Other machines met at this address with others.
    pub same_address: Vec<String>,
}

/// Something to be answered. `again`: the answer before was wrong.
#[derive(Debug, Clone)]
pub enum Question {
    /// Is this the right key? Answered by [`Answer::Trust`].
    FirstContact(FirstContact),
    /// The passphrase of a key, by [`Answer::Secret`].
    Passphrase {
        /// The key, as the user calls it.
        key: String,
        /// Whether another one was wrong.
        again: bool,
    },
    /// The password of a user, by [`Answer::Secret`].
    Password {
        /// The user.
        user: String,
        /// The machine.
        machine: String,
        /// Whether another one was wrong.
        again: bool,
    },
    /// The password of a user who is to act as another one, for the machine's program that lets them, by [`Answer::Secret`].
    Privilege {
        /// Who is logged in, and whose password it is.
        user: String,
        /// The machine.
        machine: String,
        /// Who they are to act as.
        other: String,
        /// Whether another one was wrong.
        again: bool,
    },
    /// The password of a user of a proxy, by [`Answer::Secret`].
    ProxyPassword {
        /// The user.
        user: String,
        /// The proxy.
        proxy: String,
        /// Whether another one was wrong.
        again: bool,
    },
    /// The new password that the server demands with these words, typed twice; by [`Answer::Secret`].
    NewPassword {
        /// The machine.
        machine: String,
        /// Its words.
        demand: String,
        /// Whether another one was refused.
        again: bool,
    },
    /// The server's own questions, by [`Answer::Secrets`], as many as there are.
    Prompts {
        /// The machine.
        machine: String,
        /// What it asks.
        prompts: Prompts,
    },
    /// Whether a machine may have a signature, by [`Answer::Yes`].
    Signature {
        /// The machine that asks.
        machine: String,
        /// Which key, and what for as far as that can be told.
        what: String,
    },
}

/// An answer. One that does not fit its question counts as [`Answer::No`].
#[derive(Debug, Clone)]
pub enum Answer {
    /// No, or nothing is given.
    No,
    /// Nobody is there to ask.
    NoOne,
    /// Yes.
    Yes,
    /// The key is trusted, verified like this.
    Trust(Verified),
    /// A secret.
    Secret(SecretString),
    /// Several.
    Secrets(Vec<SecretString>),
}

impl Answer {
    /// The secret, when it is one.
    pub fn secret(self) -> Option<SecretString> {
        match self {
            Self::Secret(secret) => Some(secret),
            _ => None,
        }
    }
}

/// An answer that is being waited for. Dropped, nobody needs it any more.
pub type Answering = Pin<Box<dyn Future<Output = Answer> + Send>>;

/// Something worth telling that needs no answer.
#[derive(Debug)]
pub enum Note<'a> {
    /// A known machine was met at a new address.
    Moved {
        /// The machine.
        machine: &'a str,
        /// Where it was met before.
        from: &'a [String],
        /// Where it is now.
        to: &'a str,
    },
    /// The server's text before login, already harmless.
    Banner(&'a str),
    /// What a machine presented was trusted at first use, as the machine's policy has it.
    FirstUse {
        /// The machine.
        machine: &'a str,
        /// What it presented.
        presented: &'a Presented,
        /// Other machines known to have the same.
        same_key: &'a [String],
    },
    /// Keys came to nothing, and a question follows.
    KeysRefused {
        /// The machine.
        machine: &'a str,
        /// The names of the keys that were offered.
        refused: &'a [String],
        /// The names of those that were not, because servers allow few tries.
        not_offered: &'a [String],
    },
    /// Host keys in the domain name system were of no use.
    DnsUnproven {
        /// The machine.
        machine: &'a str,
        /// Why.
        why: &'a str,
    },
    /// Host keys in the domain name system are believed although anybody on the way to the resolver could have forged them, as the book has it.
    DnsUnprotected {
        /// The machine.
        machine: &'a str,
        /// The resolver.
        resolver: std::net::SocketAddr,
    },
    /// A certificate that is trusted has ended, and is believed all the same.
    CertificateEnded {
        /// The machine.
        machine: &'a str,
        /// The certificate.
        certificate: &'a TlsCertificate,
    },
    /// A machine proves nothing of itself: over plain HTTP a login by password does not say who takes it.
    NotProven {
        /// The machine.
        machine: &'a str,
    },
    /// There is no ticket that can be used, and so a password is asked for.
    NoTicket {
        /// The machine.
        machine: &'a str,
        /// Why.
        why: &'a str,
    },
    /// There is no login by Kerberos, and so it is NTLM.
    ByNtlm {
        /// The machine.
        machine: &'a str,
        /// Why.
        why: &'a str,
        /// Whether nothing else was to be expected here.
        is_expected: bool,
    },
    /// The trust store or the hints could not be written, in these words; the session goes on.
    NotRemembered(&'a str),
}

/// Answers questions. Connections live on while a question waits, and several may ask at once: whoever answers puts them in turn.
pub trait Ask: Send + Sync {
    /// Puts a question.
    fn ask(&self, question: Question) -> Answering;

    /// Whether a password for this machine can be given without asking a person.
    fn password_at_hand(&self, _machine: &str) -> bool {
        false
    }

    /// Something to tell.
    fn note(&self, _note: &Note<'_>) {}

    /// Whether the methods that a server takes are of interest, at the cost of a round trip.
    fn wants_methods(&self) -> bool {
        false
    }

    /// A step was taken.
    fn step(&self, _step: &Step<'_>) {}
}

/// Nobody: every question is answered with that.
#[derive(Debug, Clone, Copy, Default)]
pub struct Nobody;

impl Ask for Nobody {
    fn ask(&self, _question: Question) -> Answering {
        Box::pin(ready(Answer::NoOne))
    }
}
