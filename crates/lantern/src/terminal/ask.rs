//! Questions at the terminal.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_keys::SecretString;
use lantern_link::{Answer, Answering, Ask, Note, Question};
use lantern_operations::Target;
use tracing::debug;

use crate::screen::certificate;
use crate::screen::fit::fit;
use crate::screen::login_advice::some;
use crate::screen::mark::Mark;
use crate::screen::output;
use crate::terminal::aside::aside;
use crate::terminal::conversation::Conversation;
use crate::terminal::known_answers::{Known, Meant};
use crate::terminal::prompt::Terminal;

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
        if !matches!(known.meant, Meant::These(_)) {
            known.meant = Meant::One(target.name.clone());
            known.mark = Some(Mark::of(target));
        }
    }

    /// Somebody who knows the same for many machines at once, and asks nobody: what was handed over is for each of them, and for none on the way to them.
    pub(crate) fn for_many(&self, machines: &[String]) -> Self {
        self.unattended_for(Meant::These(machines.iter().cloned().collect()))
    }

    /// The same for one of them alone, which is said by [`Self::is_for`].
    pub(crate) fn for_one_of_many(&self) -> Self {
        self.unattended_for(Meant::Any)
    }

    fn unattended_for(&self, meant: Meant) -> Self {
        let known = self.known().for_many(meant);
        Self { may_ask: false, known: Arc::new(Mutex::new(known)), turn: Arc::default() }
    }

    /// Whether this is for one or all of many.
    pub(crate) fn is_of_many(&self) -> bool {
        self.known().of_many
    }

    /// The password that was handed over has been tried wherever it was for.
    pub(crate) fn forget_given_password(&self) {
        self.known().password = None;
    }

    /// How many passphrases are known.
    pub(crate) fn passphrases(&self) -> usize {
        self.known().passphrases.len()
    }

    /// Whether a question found nobody to answer it.
    pub(crate) fn lacked_an_answer(&self) -> bool {
        self.known().lacked_an_answer
    }

    /// Whether there is somebody who can be asked.
    pub(crate) fn has_person(&self) -> bool {
        self.may_ask && Terminal::open().is_some()
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
            self.known().lacked_an_answer = true;
            return Answer::NoOne;
        }
        if matches!(question, Question::Password { .. } | Question::Prompts { .. }) {
            let refusals = self.known().refusals.take();
            refusals.iter().for_each(output::say);
        }
        let known = self.known.clone();
        let mark = self.known().mark_for(&question);
        let answer = aside(move |terminal| {
            let mut conversation = Conversation::new(terminal, mark);
            let answer = conversation.answer(&question);
            let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
            known.interrupted |= conversation.interrupted;
            known.learn(&question, &answer);
            answer
        });
        answer.await.unwrap_or(Answer::NoOne)
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
