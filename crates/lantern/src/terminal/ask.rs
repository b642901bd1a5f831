//! Questions at the terminal.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_book::Verified;
use lantern_keeper::unforeseen;
use lantern_keys::SecretString;
use lantern_link::{Answer, Answering, Ask, FirstContact, Note, Question};
use lantern_operations::Target;
use lantern_ssh::Prompts;
use tracing::debug;

use crate::screen::certificate;
use crate::screen::fit::{Fit, fit};
use crate::screen::login_advice::some;
use crate::screen::mark::Mark;
use crate::screen::output;
use crate::terminal::aside::{aside, theirs};
use crate::terminal::first_contact::{Heard, heard, introduce};
use crate::terminal::known_answers::Known;
use crate::terminal::prompt::{Answer as Typed, Terminal};
use crate::terminal::session_ask::READABLE;

/// Most tries at the question of first contact before it counts as no.
const MAX_TRIES: u32 = 3;

/// Asks the person at the terminal, one question at a time; secrets given beforehand answer first, once. Clones are the same.
#[derive(Debug, Clone)]
pub(crate) struct TerminalAsk {
    may_ask: bool,
    known: Arc<Mutex<Known>>,
    /// Held by the question that is being answered.
    turn: Arc<tokio::sync::Mutex<()>>,
}

impl TerminalAsk {
    /// With these ready-made secrets; `may_ask` false: without a person.
    pub(crate) fn new(
        may_ask: bool,
        password: Option<SecretString>,
        passphrase: Option<SecretString>,
    ) -> Self {
        let known = Known { password, passphrase, ..Known::default() };
        Self { may_ask, known: Arc::new(Mutex::new(known)), turn: Arc::default() }
    }

    /// The same with the password of a proxy.
    pub(crate) fn with_proxy_password(self, password: Option<SecretString>) -> Self {
        self.known().proxy_password = password;
        self
    }

    /// The same with the password that lets a user act as another.
    pub(crate) fn with_privilege_password(self, password: Option<SecretString>) -> Self {
        self.known().privilege_password = password;
        self
    }

    /// That password was told.
    pub(crate) fn know_privilege_password(&self, password: SecretString) {
        self.known().privilege_password = Some(password);
    }

    /// Whether that is known.
    pub(crate) fn has_privilege_password(&self) -> bool {
        self.known().privilege_password.is_some()
    }

    fn known(&self) -> MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The password that was handed over is for this machine: not for the gateways on the way to it. Questions about it bear its mark.
    pub(crate) fn is_for(&self, target: &Target) {
        let mut known = self.known();
        known.machine = Some(target.name.clone());
        known.mark = Some(Mark::of(target));
    }

    /// Somebody who knows the answers of another, and asks nobody.
    pub(crate) fn without_person(&self) -> Self {
        let nobody = Self::new(false, None, None);
        nobody.known().passphrases.clone_from(&self.known().passphrases);
        nobody
    }

    /// From now on what is typed or was handed over answers again: for connections that are made anew when they are lost.
    pub(crate) fn remember(&self) {
        self.known().remembers = true;
    }

    /// The same, and nobody is asked: what is not known is not answered.
    pub(crate) fn unattended(&self) -> Self {
        Self { may_ask: false, ..self.clone() }
    }

    /// Tells the passphrase of a key beforehand.
    pub(crate) fn know_passphrase(&self, key: &str, passphrase: SecretString) {
        self.known().passphrases.insert(key.to_owned(), passphrase);
    }

    /// The passphrase that a key was opened with.
    pub(crate) fn passphrase_of(&self, key: &str) -> Option<SecretString> {
        self.known().passphrases.get(key).cloned()
    }

    /// The passphrase that was handed over, when it has not been used yet.
    pub(crate) fn take_given_passphrase(&self) -> Option<SecretString> {
        self.known().passphrase.take()
    }

    /// Whether a question was answered with Ctrl-C.
    pub(crate) fn was_interrupted(&self) -> bool {
        self.known().interrupted
    }

    /// Puts a question to the person. After Ctrl-C nothing more is asked.
    async fn put(self, question: Question) -> Answer {
        let _turn = self.turn.clone().lock_owned().await;
        let known = self.known().answer(&question);
        if let Some(answer) = known {
            return answer;
        }
        if !self.may_ask || self.was_interrupted() {
            return Answer::NoOne;
        }
        if matches!(question, Question::Password { .. } | Question::Prompts { .. }) {
            let refusals = self.known().refusals.take();
            refusals.iter().for_each(output::say);
        }
        let known = self.known.clone();
        let mark = self.known().mark_for(&question);
        let answer = aside(move |terminal| {
            let mut conversation = Conversation { terminal, interrupted: false, mark };
            let answer = conversation.answer(&question);
            let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
            known.interrupted |= conversation.interrupted;
            known.learn(&question, &answer);
            answer
        });
        answer.await.unwrap_or(Answer::NoOne)
    }
}

/// One question being asked, on a thread of its own.
struct Conversation {
    terminal: Terminal,
    interrupted: bool,
    /// In front of every question.
    mark: Fit,
}

impl Conversation {
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

    fn answer(&mut self, question: &Question) -> Answer {
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

/// Why a password is asked for.
fn refusals(machine: &str, refused: &[String], not_offered: &[String]) -> String {
    let mut text = match refused {
        [] => format!("No key was offered to {machine}."),
        [one] => format!("{machine} did not take the key {one}."),
        several => format!("{machine} took none of the keys {}.", some(several)),
    };
    if !not_offered.is_empty() {
        text.push_str(&format!(
            " Not offered, since servers allow few tries: {}; `--key NAME` offers one.",
            some(not_offered)
        ));
    }
    text
}

impl Ask for TerminalAsk {
    fn ask(&self, question: Question) -> Answering {
        Box::pin(self.clone().put(question))
    }

    fn password_at_hand(&self, machine: &str) -> bool {
        let known = self.known();
        known.password.is_some() && known.is_meant(machine)
    }

    fn note(&self, note: &Note<'_>) {
        match note {
            Note::Moved { machine, from, to } => output::say(format!(
                "note: {machine} has moved from {} to {to}; what it presents is the same.",
                from.join(", ")
            )),
            Note::FirstUse { machine, presented, same_key } => {
                output::say(format!(
                    "note: first contact with {machine}: {} {} is trusted from now on, as its policy has it.",
                    presented.describe(),
                    presented.fingerprint()
                ));
                if !same_key.is_empty() {
                    output::warn(format!(
                        "this is the key of {}: is the address right?",
                        same_key.join(", ")
                    ));
                }
            }
            Note::CertificateEnded { machine, certificate } => output::warn(format!(
                "the certificate of {machine} ended on {}; it is believed since it is the one that is known.",
                certificate::day(certificate.validity().1)
            )),
            Note::NotProven { machine } => output::warn(format!(
                "{machine} is spoken to without TLS: messages are sealed, and it proves nothing of itself."
            )),
            // Said when somebody is asked for something instead.
            Note::KeysRefused { machine, refused, not_offered } => {
                self.known().refusals = Some(refusals(machine, refused, not_offered));
            }
            Note::DnsUnprotected { machine, resolver } => output::warn(format!(
                "{resolver} vouches for {machine}, and anybody on the way to it could have forged that."
            )),
            Note::DnsUnproven { machine, why } => {
                output::warn(format!("DNS cannot vouch for {machine}: {why}"));
            }
            Note::Banner(text) => {
                text.trim_end().lines().for_each(|line| output::say(fit!("| {}", line)));
            }
            Note::NoTicket { machine, why } => {
                output::say(fit!("note: {} wants a password: {}", machine, why));
            }
            // Where no realm is set up, NTLM is what there is.
            Note::ByNtlm { is_expected: true, why, .. } => debug!(why, "by NTLM"),
            Note::ByNtlm { machine, why, .. } => {
                output::say(fit!(
                    "note: {} is logged in to by NTLM, not by Kerberos: {} (`login-by=ntlm` leaves it at that)",
                    machine,
                    why
                ));
            }
            Note::NotRemembered(why) => output::warn(format!("not remembered for next time: {why}")),
        }
    }
}
