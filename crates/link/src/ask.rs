//! Questions that only a person can answer. The program asks at the terminal, tests answer from a script, a batch
//! run answers no.

use lantern_book::Verified;
use lantern_keys::{PublicKey, SecretString};
use lantern_ssh::Prompts;

use crate::step::Step;

/// What is known when a machine shows a key for the first time.
#[derive(Debug)]
pub struct FirstContact<'a> {
    /// The machine, as the user calls it.
    pub machine: &'a str,
    /// Where it was reached: the address dialed and the one that answered.
    pub reached_at: String,
    /// The key it proved to hold.
    pub key: &'a PublicKey,
    /// Other machines known to have this key.
    pub same_key: Vec<String>,
    /// Other machines met at this address with other keys.
    pub same_address: Vec<String>,
}

/// The answer at first contact.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HostKeyAnswer {
    /// No, and the connection ends.
    Reject,
    /// Nobody is there to ask.
    NoOneToAsk,
    /// Yes, verified like this.
    Accept(Verified),
}

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
    /// A key was trusted at first use, as the machine's policy has it.
    FirstUse {
        /// The machine.
        machine: &'a str,
        /// The key.
        key: &'a PublicKey,
    },
    /// Host keys in the domain name system were of no use.
    DnsUnproven {
        /// The machine.
        machine: &'a str,
        /// Why.
        why: &'a str,
    },
    /// The trust store or the hints could not be written; the session goes on.
    NotRemembered(&'a lantern_book::BookError),
}

/// Answers questions. Every method may block: nothing else happens on the connection meanwhile.
pub trait Ask: Send {
    /// Is this the right key?
    fn first_contact(&mut self, contact: &FirstContact<'_>) -> HostKeyAnswer;

    /// The passphrase of a key; `again` after a wrong one. `None`: there is none to be had.
    fn passphrase(&mut self, key: &str, again: bool) -> Option<SecretString>;

    /// Whether a password for this machine can be given without asking a person.
    fn password_at_hand(&self, machine: &str) -> bool;

    /// The password of a user; `again` after a wrong one.
    fn password(&mut self, user: &str, machine: &str, again: bool) -> Option<SecretString>;

    /// The password of a user of a proxy; `again` after a wrong one.
    fn proxy_password(&mut self, _user: &str, _proxy: &str, _again: bool) -> Option<SecretString> {
        None
    }

    /// The new password that the server demands with these words, typed twice.
    fn new_password(&mut self, demand: &str) -> Option<SecretString>;

    /// Answers to the server's own questions.
    fn prompts(&mut self, machine: &str, prompts: &Prompts) -> Option<Vec<SecretString>>;

    /// Something to tell.
    fn note(&mut self, note: &Note<'_>);

    /// Whether the methods that a server takes are of interest, at the cost of a round trip.
    fn wants_methods(&self) -> bool {
        false
    }

    /// A step was taken.
    fn step(&mut self, _step: &Step<'_>) {}
}
