//! What can be answered without asking a person, and what is said when one is asked.

use std::collections::{HashMap, HashSet};

use lantern_keys::SecretString;
use lantern_link::{Answer, Question};

use crate::screen::fit::Fit;
use crate::screen::mark::Mark;
use crate::screen::output;

/// Which machines a password that was handed over is for.
#[derive(Debug, Default)]
pub(super) enum Meant {
    /// Whichever asks.
    #[default]
    Any,
    /// This one.
    One(String),
    /// All of these, and none on the way to them.
    These(HashSet<String>),
}

/// What is known without asking.
#[derive(Debug, Default)]
pub(super) struct Known {
    /// The password that was handed over, and the machines that it is for.
    pub(super) password: Option<SecretString>,
    pub(super) meant: Meant,
    /// Whether this is for one or all of many machines that are reached at once.
    pub(super) of_many: bool,
    /// Those of them that were told the password at a question in their own words: their next one means that it was not it.
    pub(super) told: HashSet<String>,
    pub(super) proxy_password: Option<SecretString>,
    /// What lets users act as others.
    pub(super) privilege_password: Option<SecretString>,
    pub(super) passphrase: Option<SecretString>,
    /// What was answered before, for commands that connect several times.
    pub(super) passphrases: HashMap<String, SecretString>,
    /// Whether passwords answer more than once, and typed ones too.
    pub(super) remembers: bool,
    pub(super) interrupted: bool,
    /// Whether a question found nobody to answer it.
    pub(super) lacked_an_answer: bool,
    /// How the machine is marked.
    pub(super) mark: Option<Mark>,
    /// Which keys were refused, for whoever is asked for a password now.
    pub(super) refusals: Option<String>,
}

impl Known {
    pub(super) fn is_meant(&self, machine: &str) -> bool {
        match &self.meant {
            Meant::Any => true,
            Meant::One(meant) => meant == machine,
            Meant::These(all) => all.contains(machine),
        }
    }

    /// The same for one or all of many machines. What somebody typed as the password of one of them stays behind.
    pub(super) fn for_many(&self, meant: Meant) -> Self {
        Self {
            password: self.password.clone(),
            meant,
            of_many: true,
            proxy_password: self.proxy_password.clone(),
            privilege_password: self.privilege_password.clone(),
            passphrase: self.passphrase.clone(),
            passphrases: self.passphrases.clone(),
            remembers: true,
            ..Self::default()
        }
    }

    /// Whether a password answers a question in the machine's own words.
    fn answers_prompts(&mut self, machine: &str) -> bool {
        self.password.is_some()
            && self.is_meant(machine)
            && (!self.of_many || self.told.insert(machine.to_owned()))
    }

    /// What a person answered, as far as it is good for another time.
    pub(super) fn learn(&mut self, question: &Question, answer: &Answer) {
        match (question, answer) {
            (Question::Passphrase { key, .. }, Answer::Secret(secret)) => {
                self.passphrases.insert(key.clone(), secret.clone());
            }
            (Question::Password { machine, .. }, Answer::Secret(secret))
                if self.remembers && self.is_meant(machine) =>
            {
                self.password = Some(secret.clone());
            }
            (Question::Privilege { .. }, Answer::Secret(secret)) => {
                self.privilege_password = Some(secret.clone())
            }
            (Question::ProxyPassword { .. }, Answer::Secret(secret)) if self.remembers => {
                self.proxy_password = Some(secret.clone());
            }
            _ => {}
        }
    }

    fn password(&mut self) -> Option<SecretString> {
        if self.remembers { self.password.clone() } else { self.password.take() }
    }

    /// What stands before a question: the mark of the machine that it is about.
    pub(super) fn mark_for(&self, question: &Question) -> Fit {
        let machine = match question {
            Question::FirstContact(contact) => Some(&contact.machine),
            Question::Password { machine, .. }
            | Question::Privilege { machine, .. }
            | Question::NewPassword { machine, .. }
            | Question::Prompts { machine, .. }
            | Question::Signature { machine, .. } => Some(machine),
            // On the way to it.
            Question::Passphrase { .. } | Question::ProxyPassword { .. } => match &self.meant {
                Meant::One(machine) => Some(machine),
                Meant::Any | Meant::These(_) => None,
            },
        };
        let mark = self.mark.as_ref().filter(|_| machine.is_some_and(|machine| self.is_meant(machine)));
        mark.map(|mark| mark.before_question(output::colorful_stderr())).unwrap_or_default()
    }

    /// The answer, when nobody need be asked for it.
    pub(super) fn answer(&mut self, question: &Question) -> Option<Answer> {
        let secret = match question {
            // Of many machines, each would try again what does not open it.
            Question::Passphrase { key, again: true } if self.of_many => {
                self.passphrases.remove(key);
                self.passphrase = None;
                return None;
            }
            Question::Passphrase { key, again } => {
                let known = self.passphrases.get(key).filter(|_| !again).cloned();
                let secret = known.or_else(|| self.passphrase.take())?;
                self.passphrases.insert(key.clone(), secret.clone());
                secret
            }
            // One that was not it is not said twice.
            Question::Password { again: true, .. } | Question::ProxyPassword { again: true, .. }
                if self.remembers =>
            {
                return None;
            }
            Question::Privilege { again: true, .. } => return None,
            // The same for all: whoever runs a command on many machines has one.
            Question::Privilege { .. } => self.privilege_password.clone()?,
            Question::Password { machine, .. } if self.is_meant(machine) => self.password()?,
            Question::ProxyPassword { .. } if self.remembers => self.proxy_password.clone()?,
            Question::ProxyPassword { .. } => self.proxy_password.take()?,
            // A ready-made password answers a single hidden question, which is how many servers ask for it.
            Question::Prompts { machine, prompts } => match prompts.prompts.as_slice() {
                [only] if !only.echo && self.answers_prompts(machine) => {
                    return Some(Answer::Secrets(vec![self.password()?]));
                }
                _ => return None,
            },
            _ => return None,
        };
        Some(Answer::Secret(secret))
    }
}
