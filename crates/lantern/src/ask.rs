//! Questions at the terminal.

use std::collections::HashMap;

use lantern_book::Verified;
use lantern_keys::{Fingerprint, SecretString};
use lantern_link::{Ask, FirstContact, HostKeyAnswer, Note};
use lantern_ssh::{Prompts, neutralize};

use crate::failure::chain;
use crate::flags_view;
use crate::output;
use crate::terminal::prompt::{Answer, Terminal};

/// Most tries at the question of first contact before it counts as no.
const MAX_TRIES: u32 = 3;

/// Asks the person at the terminal; secrets given beforehand answer first, once.
#[derive(Debug)]
pub(crate) struct TerminalAsk {
    terminal: Option<Terminal>,
    /// The password that was handed over, and the machine that it is for.
    password: Option<SecretString>,
    machine: Option<String>,
    proxy_password: Option<SecretString>,
    passphrase: Option<SecretString>,
    /// What was answered before, for commands that connect several times.
    passphrases: HashMap<String, SecretString>,
    interrupted: bool,
}

impl TerminalAsk {
    /// With these ready-made secrets; `may_ask` false: without a person.
    pub(crate) fn new(
        may_ask: bool,
        password: Option<SecretString>,
        passphrase: Option<SecretString>,
    ) -> Self {
        let terminal = if may_ask { Terminal::open() } else { None };
        Self {
            terminal,
            password,
            machine: None,
            proxy_password: None,
            passphrase,
            passphrases: HashMap::new(),
            interrupted: false,
        }
    }

    /// The same with the password of a proxy.
    pub(crate) fn with_proxy_password(mut self, password: Option<SecretString>) -> Self {
        self.proxy_password = password;
        self
    }

    /// The password that was handed over is for this machine: not for the gateways on the way to it.
    pub(crate) fn is_for(&mut self, machine: &str) {
        self.machine = Some(machine.to_owned());
    }

    fn is_meant(&self, machine: &str) -> bool {
        self.machine.as_deref().is_none_or(|meant| meant == machine)
    }

    /// Somebody who knows the answers of another, and asks nobody.
    pub(crate) fn without_person(&self) -> Self {
        Self {
            terminal: None,
            password: None,
            machine: None,
            proxy_password: None,
            passphrase: None,
            passphrases: self.passphrases.clone(),
            interrupted: false,
        }
    }

    /// Tells the passphrase of a key beforehand.
    pub(crate) fn know_passphrase(&mut self, key: &str, passphrase: SecretString) {
        self.passphrases.insert(key.to_owned(), passphrase);
    }

    /// The passphrase that was handed over, when it has not been used yet.
    pub(crate) fn take_given_passphrase(&mut self) -> Option<SecretString> {
        self.passphrase.take()
    }

    /// Whether a question was answered with Ctrl-C.
    pub(crate) fn was_interrupted(&self) -> bool {
        self.interrupted
    }

    fn secret(&mut self, question: &str) -> Option<SecretString> {
        self.question(|terminal| terminal.ask_secret(question))
    }

    fn line(&mut self, question: &str) -> Option<String> {
        self.question(|terminal| terminal.ask_line(question))
    }

    /// After Ctrl-C nothing more is asked.
    fn question<T>(&mut self, ask: impl FnOnce(&mut Terminal) -> Answer<T>) -> Option<T> {
        if self.interrupted {
            return None;
        }
        match ask(self.terminal.as_mut()?) {
            Answer::Given(answer) => Some(answer),
            Answer::Interrupted => {
                self.interrupted = true;
                None
            }
            Answer::Ended => None,
        }
    }
}

/// What is shown of a key before it is trusted.
pub(crate) fn introduce(contact: &FirstContact<'_>) -> String {
    let fingerprint = contact.key.fingerprint();
    let picture = flags_view::draw(&fingerprint, output::colorful_stderr());
    let picture: String = picture.lines().map(|line| format!("    {line}\n")).collect();
    let mut text = format!(
        "First contact with {}, reached at {}. It proved to hold this host key:\n\n    {}  {fingerprint}\n\n{picture}\n",
        contact.machine,
        contact.reached_at,
        contact.key.describe(),
    );
    if !contact.same_key.is_empty() {
        text.push_str(&format!("  The same key is known as the key of {}.\n", contact.same_key.join(", ")));
    }
    if !contact.same_address.is_empty() {
        text.push_str(&format!(
            "  At this address you have met {}, with another key.\n",
            contact.same_address.join(", ")
        ));
    }
    text.push_str(
        "  To verify it, look at the machine's own console: a cloud prints fingerprints in its boot log, and on the\n  machine `lantern key show FILE.pub` on its public host key prints this same line and flags.\n",
    );
    text
}

impl Ask for TerminalAsk {
    fn first_contact(&mut self, contact: &FirstContact<'_>) -> HostKeyAnswer {
        if self.terminal.is_none() {
            return HostKeyAnswer::NoOneToAsk;
        }
        output::warn_block(&introduce(contact));
        for _ in 0..MAX_TRIES {
            let question = "Type yes to trust it, or paste the fingerprint that you were given: ";
            let Some(answer) = self.line(question) else { return HostKeyAnswer::Reject };
            match (answer.trim(), answer.parse::<Fingerprint>()) {
                ("yes", _) => return HostKeyAnswer::Accept(Verified::Accepted),
                ("" | "no", _) => return HostKeyAnswer::Reject,
                (_, Ok(pasted)) if pasted == contact.key.fingerprint() => {
                    output::say("It is the same: recorded as verified.");
                    return HostKeyAnswer::Accept(Verified::Pasted);
                }
                (_, Ok(_)) => {
                    output::say(
                        "That is the fingerprint of ANOTHER key. This is not the machine you were told about.",
                    );
                    return HostKeyAnswer::Reject;
                }
                _ => output::say("Neither yes in full, nor no, nor a fingerprint."),
            }
        }
        HostKeyAnswer::Reject
    }

    fn passphrase(&mut self, key: &str, again: bool) -> Option<SecretString> {
        if let Some(secret) = self.passphrases.get(key).filter(|_| !again) {
            return Some(secret.clone());
        }
        let secret = match self.passphrase.take() {
            Some(secret) => secret,
            None => {
                let again = if again { "That did not open it. " } else { "" };
                self.secret(&format!("{again}Passphrase of the key {key}: "))?
            }
        };
        self.passphrases.insert(key.to_owned(), secret.clone());
        Some(secret)
    }

    fn password_at_hand(&self, machine: &str) -> bool {
        self.password.is_some() && self.is_meant(machine)
    }

    fn password(&mut self, user: &str, machine: &str, again: bool) -> Option<SecretString> {
        if self.is_meant(machine)
            && let Some(secret) = self.password.take()
        {
            return Some(secret);
        }
        let again = if again { "That was not it. " } else { "" };
        self.secret(&format!("{again}Password of {user} on {machine}: "))
    }

    fn proxy_password(&mut self, user: &str, proxy: &str, again: bool) -> Option<SecretString> {
        if let Some(secret) = self.proxy_password.take() {
            return Some(secret);
        }
        let again = if again { "That was not it. " } else { "" };
        self.secret(&format!("{again}Password of {user} at the proxy {proxy}: "))
    }

    fn new_password(&mut self, demand: &str) -> Option<SecretString> {
        output::say(&format!("The machine says: {demand}"));
        loop {
            let first = self.secret("New password: ").filter(|secret| !secret.is_empty())?;
            if self.secret("The same again: ")? == first {
                return Some(first);
            }
            output::say("They differ.");
        }
    }

    fn prompts(&mut self, machine: &str, prompts: &Prompts) -> Option<Vec<SecretString>> {
        // A ready-made password answers a single hidden question, which is how many servers ask for it.
        if let [only] = prompts.prompts.as_slice()
            && !only.echo
            && self.is_meant(machine)
            && let Some(secret) = self.password.take()
        {
            return Some(vec![secret]);
        }
        if prompts.prompts.is_empty() {
            return Some(Vec::new());
        }
        for text in [&prompts.name, &prompts.instruction].into_iter().filter(|text| !text.is_empty()) {
            output::say(text);
        }
        let mut answers = Vec::new();
        for prompt in &prompts.prompts {
            // Marked as the machine's words: it must not pass for a question of ours.
            let question = format!("[{machine}] {}", prompt.text);
            answers.push(match prompt.echo {
                true => SecretString::new(self.line(&question)?),
                false => self.secret(&question)?,
            });
        }
        Some(answers)
    }

    fn note(&mut self, note: &Note<'_>) {
        match note {
            Note::Moved { machine, from, to } => output::say(&format!(
                "note: {machine} has moved from {} to {to}; its host key is the same.",
                from.join(", ")
            )),
            Note::FirstUse { machine, key } => output::say(&format!(
                "note: first contact with {machine}: {} {} is trusted from now on, as its policy has it.",
                key.describe(),
                key.fingerprint()
            )),
            Note::DnsUnproven { machine, why } => {
                output::warn(&format!("DNS cannot vouch for {machine}: {why}"));
            }
            Note::Banner(text) => output::say(neutralize(text, usize::MAX).trim_end()),
            Note::NotRemembered(error) => {
                output::warn(&format!("not remembered for next time: {}", chain(*error)))
            }
        }
    }
}
