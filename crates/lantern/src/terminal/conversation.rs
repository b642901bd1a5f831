//! One question to the person at the terminal, and what is said to it.

use lantern_book::Verified;
use lantern_keeper::unforeseen;
use lantern_keys::SecretString;
use lantern_link::{Answer, FirstContact, Question};
use lantern_ssh::Prompts;

use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::aside::theirs;
use crate::terminal::first_contact::{Heard, heard, introduce};
use crate::terminal::prompt::{Answer as Typed, Terminal};
use crate::terminal::session_ask::READABLE;

/// Most tries at the question of first contact before it counts as no.
const MAX_TRIES: u32 = 3;

/// One question being asked, on a thread of its own.
pub(super) struct Conversation {
    terminal: Terminal,
    pub(super) interrupted: bool,
    /// In front of every question.
    mark: Fit,
}

impl Conversation {
    /// About to be held.
    pub(super) fn new(terminal: Terminal, mark: Fit) -> Self {
        Self { terminal, interrupted: false, mark }
    }

    fn heard<T>(&mut self, typed: Typed<T>) -> Option<T> {
        match typed {
            Typed::Given(answer) => Some(answer),
            Typed::Interrupted => {
                self.interrupted = true;
                None
            }
            Typed::Ended => None,
        }
    }

    fn secret(&mut self, question: impl Into<Fit>) -> Option<SecretString> {
        let typed = self.terminal.ask_secret(fit!("{}{}", self.mark, question.into()));
        self.heard(typed)
    }

    fn line(&mut self, question: impl Into<Fit>) -> Option<String> {
        let typed = self.terminal.ask_line(fit!("{}{}", self.mark, question.into()));
        self.heard(typed)
    }

    /// What the person says to a question.
    pub(super) fn answer(&mut self, question: &Question) -> Answer {
        let not_it = |again: &bool, words: &'static str| if *again { words } else { "" };
        let secret = match question {
            Question::FirstContact(contact) => return self.first_contact(contact),
            Question::Passphrase { key, again } => {
                let again = not_it(again, "That did not open it. ");
                self.secret(format!("{again}Passphrase of the key {key}: "))
            }
            Question::Password { user, machine, again } => {
                let again = not_it(again, "That was not it. ");
                self.secret(format!("{again}Password of {user} on {machine}: "))
            }
            Question::ProxyPassword { user, proxy, again } => {
                let again = not_it(again, "That was not it. ");
                self.secret(format!("{again}Password of {user} at the proxy {proxy}: "))
            }
            Question::Privilege { user, machine, other, again } => {
                let again = not_it(again, "That was not it. ");
                self.secret(format!("{again}Password of {user} on {machine}, to act as {other}: "))
            }
            Question::NewPassword { machine, demand, again } => {
                if *again {
                    output::say(format!("{machine} did not take the new password."));
                }
                if !demand.is_empty() {
                    output::say(format!("{machine} says: {demand}"));
                }
                self.new_password()
            }
            Question::Prompts { machine, prompts } => {
                return self.prompts(machine, prompts).map_or(Answer::No, Answer::Secrets);
            }
            Question::Signature { machine, what } => {
                let word = unforeseen();
                let question = fit!(
                    "{}\r\n{} asks for {}.\nType {} and Enter to allow it this once; anything else refuses. ",
                    Fit::literal(READABLE),
                    machine,
                    what,
                    word
                );
                return match self.line(question) {
                    Some(answer) if answer == word => Answer::Yes,
                    _ => Answer::No,
                };
            }
        };
        secret.map_or(Answer::No, Answer::Secret)
    }

    fn first_contact(&mut self, contact: &FirstContact) -> Answer {
        output::warn_block(introduce(contact));
        for _ in 0..MAX_TRIES {
            let question = match contact.presented.host_key() {
                Some(_) => "Fingerprint, its last 8 characters, or `trust`: ",
                None => "Fingerprint, thumbprint, or `trust`: ",
            };
            let Some(answer) = self.line(question) else {
                return Answer::No;
            };
            match heard(answer.trim(), &contact.presented) {
                Heard::Compared => {
                    output::say("It is the same: recorded as compared.");
                    return Answer::Trust(Verified::Pasted);
                }
                Heard::ComparedWeakly => {
                    output::say("It is the same: recorded as compared by SHA-1, which is weak.");
                    return Answer::Trust(Verified::Thumbprint);
                }
                Heard::Trusted => return Answer::Trust(Verified::Accepted),
                Heard::Refused => return Answer::No,
                Heard::AnotherKey => {
                    output::say(format!(
                        "That is the fingerprint of ANOTHER {}. This is not the machine you were told about.",
                        contact.presented.noun().trim_start_matches("host "),
                    ));
                    return Answer::No;
                }
                Heard::NotItsEnd => {
                    output::say("That is not how its fingerprint ends: do not trust it before you know why.")
                }
                Heard::Nothing => {
                    output::say("Neither its fingerprint, nor the end of it, nor the word `trust` in full.");
                }
            }
        }
        Answer::No
    }

    fn new_password(&mut self) -> Option<SecretString> {
        loop {
            let first = self.secret("New password: ").filter(|secret| !secret.is_empty())?;
            if self.secret("The same again: ")? == first {
                return Some(first);
            }
            output::say("They differ.");
        }
    }

    fn prompts(&mut self, machine: &str, prompts: &Prompts) -> Option<Vec<SecretString>> {
        for text in [&prompts.name, &prompts.instruction] {
            text.lines().filter(|line| !line.is_empty()).for_each(|line| output::say(theirs(machine, line)));
        }
        let mut answers = Vec::new();
        for prompt in &prompts.prompts {
            // Marked as the machine's words: it must not pass for a question of ours.
            let question = Fit::stacked(prompt.text.split('\n').map(|line| theirs(machine, line)));
            answers.push(match prompt.echo {
                true => SecretString::new(self.line(question)?),
                false => self.secret(question)?,
            });
        }
        Some(answers)
    }
}
