//! Where a command goes and by what: a name of the book, a place, or what a pasted text leads to. And what is kept of it, once it has worked.

use std::io::{IsTerminal, stderr, stdin, stdout};
use std::path::PathBuf;

use lantern_book::{Field, FieldValue, Home, KeyRing, MachineBook, Pasted, Protocol, Uses};
use lantern_keys::SecretString;
use lantern_link::KeyChoice;
use lantern_operations::keep::{self, KeepError, check_free, kept_as, suggest_name};
use lantern_operations::{ReachError, ReachOptions, Target};

use crate::cli::connect::ConnectArgs;
use crate::cli::one_off::OneOffArgs;
use crate::cli::settings::agents;
use crate::commands::keeper;
use crate::commands::key::import::{Given, import_file};
use crate::commands::pasted_errand::{pasted_key, read_paste, tell, typed};
use crate::commands::sharing::sharing;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;
use crate::terminal::prompt::Terminal;
use lantern_operations::quoted;

/// Where a command goes, and by what.
pub(crate) struct Errand {
    /// What was typed, or what a pasted text comes to.
    pub(crate) typed: String,
    /// The machine.
    pub(crate) target: Target,
    /// What is said for this one time.
    pub(crate) options: ReachOptions,
    pasted: Option<Pasted>,
    /// The file of a key that the text names, which the ring does not have.
    key_file: Option<PathBuf>,
    save: Option<String>,
    may_ask: bool,
    /// Whether somebody had to say where the key is.
    has_asked_about_key: bool,
}

/// A key of the ring, and its passphrase where that is known.
type KeptKey = (String, Option<SecretString>);

impl Errand {
    /// Finds out. What is missing is asked for, where somebody is there to ask.
    ///
    /// # Errors
    /// No machine, or one that makes no sense; a name for it that cannot be given.
    pub(crate) fn of(
        home: &Home,
        machine: Option<&str>,
        args: &OneOffArgs,
        connect: &ConnectArgs,
    ) -> Result<Self, Failure> {
        let pasted = args.paste.as_deref().map(read_paste).transpose()?;
        let may_ask = !connect.no_questions;
        let mut options = connect.reach(home);
        let (mut key_file, mut has_asked_about_key) = (None, false);
        let typed = match (machine, &pasted) {
            (Some(machine), None) => machine.to_owned(),
            (None, Some(pasted)) => {
                tell(pasted, may_ask)?;
                if options.gateways.is_empty() {
                    options.gateways.clone_from(&pasted.gateways);
                }
                options.addresses.clone_from(&pasted.addresses);
                if let Some(said) = pasted.key_file.as_deref().filter(|_| options.keys.is_none()) {
                    let (keys, found) = pasted_key(home, said, may_ask)?;
                    options.keys = keys;
                    // One that is where the text says is taken without a question.
                    has_asked_about_key = found.as_ref().is_some_and(|found| found.elsewhere);
                    key_file = found.map(|found| found.path);
                }
                typed(pasted)
            }
            _ => {
                return Err(Failure::new(
                    code::USAGE,
                    "a machine is wanted: its name or address, or --paste TEXT",
                ));
            }
        };
        let book = MachineBook::load(home)?;
        let target = Target::find(home, &book, &typed)?.with_options(home, &options)?;
        if let Some(name) = &args.save {
            if !target.is_one_off() {
                let text = format!("{} is in the book already", target.name);
                return Err(Failure::new(code::USAGE, text)
                    .hint(format!("lantern machine copy {} {name}", target.name)));
            }
            check_free(&book, name)?;
        }
        let save = args.save.clone();
        options.shares = sharing(home, &target, &typed, connect);
        if options.shares.is_some() && !connect.no_agent {
            // It may have been started just now.
            options.agents = agents(home);
        }
        let mut errand =
            Self { typed, target, options, pasted, key_file, save, may_ask, has_asked_about_key };
        if errand.target.protocol == Protocol::Ssh {
            errand.settle_user()?;
        }
        Ok(errand)
    }

    /// The same for one of several machines of the book, about none of which is anybody asked.
    ///
    /// # Errors
    /// A machine that makes no sense.
    pub(crate) fn one_of(
        home: &Home,
        book: &MachineBook,
        name: &str,
        options: &ReachOptions,
    ) -> Result<Self, Failure> {
        Ok(Self {
            typed: name.to_owned(),
            target: Target::find(home, book, name)?.with_options(home, options)?,
            options: options.clone(),
            pasted: None,
            key_file: None,
            save: None,
            may_ask: false,
            has_asked_about_key: false,
        })
    }

    /// As whom: asked where nothing says.
    fn settle_user(&mut self) -> Result<(), Failure> {
        if !matches!(self.target.user(&self.options), Err(ReachError::NoUser)) {
            return Ok(());
        }
        if !self.may_ask || Terminal::open().is_none() {
            return Err(ReachError::NoUser.into());
        }
        let question = format!("User on {}: ", self.target.name);
        while self.options.user.is_none() {
            self.options.user = confirm::line(&question, "`--user NAME`")?;
        }
        Ok(())
    }

    /// Keeps the machine, once it has worked: under the name that was given, or that a person gives when asked, once.
    ///
    /// # Errors
    /// The book, the ring, or Ctrl-C.
    pub(crate) fn keep(&self, home: &Home, ask: &TerminalAsk) -> Result<(), Failure> {
        if !self.target.is_one_off() {
            return Ok(());
        }
        let name = match &self.save {
            Some(name) => name.clone(),
            None => match self.choose_name(home)? {
                Some(name) => name,
                None => return Ok(()),
            },
        };
        let mut settings = keep::settings_of(
            &self.typed,
            self.pasted.as_ref(),
            self.options.user.as_deref(),
            &self.options.gateways,
            self.options.proxy.as_deref(),
        )?;
        let key = self.keep_key(home, &name, ask)?;
        if let Some((key, _)) = &key {
            settings = settings.with(Field::Key, FieldValue::List(vec![key.clone()]))?;
        }
        keep::keep(home, &name, &settings, &self.target.name)?;
        output::say(format!("{name} is in the book. Next time: lantern shell {name}"));
        match key {
            Some((key, passphrase)) if passphrase.is_some() => {
                self.offer_keeper(home, &key, passphrase.as_ref())
            }
            _ => Ok(()),
        }
    }

    /// Has the keeper hold a key that was just taken in, while its passphrase is known: one that runs without a question, another after a yes. Where
    /// enough was asked already, it is only told.
    fn offer_keeper(&self, home: &Home, key: &str, passphrase: Option<&SecretString>) -> Result<(), Failure> {
        let runs = keeper::state(home)?;
        if runs.as_ref().is_some_and(|status| status.locked) {
            return Ok(());
        }
        let asks = runs.is_none() && self.may_ask && !self.has_asked_about_key && is_person_there();
        let wanted = runs.is_some()
            || asks
                && confirm::ask("Start the keeper, and have it hold the key unlocked?", "").unwrap_or(false);
        match wanted {
            true => keeper::hold(home, key, passphrase),
            false => {
                output::say(format!("To type its passphrase once for all logins: lantern keeper add {key}"));
                Ok(())
            }
        }
    }

    /// A name from a person; none when it is not wanted, or there is nobody.
    fn choose_name(&self, home: &Home) -> Result<Option<String>, Failure> {
        let uses = Uses::of(home);
        let may_ask = self.may_ask && is_person_there() && !uses.get(&self.target.name).declined;
        if !may_ask {
            return Ok(None);
        }
        let book = &MachineBook::load(home)?;
        if kept_as(book, &self.target).is_some() {
            return Ok(None);
        }
        let suggestion = suggest_name(book, &self.target, self.pasted.as_ref());
        let what = if self.key_file.is_some() { "machine and its key" } else { "machine" };
        output::say(format!(
            "Keep this {what}? Enter keeps it as {suggestion}, another name as that, `no` does not."
        ));
        loop {
            let answer = match confirm::line(&format!("Name [{suggestion}]: "), "`--save NAME`") {
                // Whoever says yes wants it kept, not called so.
                Ok(answer) => answer
                    .filter(|answer| !matches!(answer.as_str(), "yes" | "y"))
                    .unwrap_or_else(|| suggestion.clone()),
                // It has worked: there is nothing to undo.
                Err(_) => return Ok(None),
            };
            if matches!(answer.as_str(), "no" | "n") {
                uses.note(&self.target.name, |noted| noted.declined = true)?;
                return Ok(None);
            }
            match check_free(book, &answer) {
                Ok(()) => return Ok(Some(answer)),
                Err(error) => output::say(error.to_string()),
            }
        }
    }

    /// The key that it is to be reached with, by its name in the ring; with its passphrase, when it was taken in just now.
    fn keep_key(&self, home: &Home, name: &str, ask: &TerminalAsk) -> Result<Option<KeptKey>, Failure> {
        match (&self.options.keys, &self.key_file) {
            (Some(KeyChoice::Named(names)), _) => Ok(names.first().map(|name| (name.clone(), None))),
            (Some(KeyChoice::File(_)), Some(file)) => {
                let said = file.display().to_string();
                let passphrase = ask.passphrase_of(&said);
                if passphrase.is_none() && (!self.may_ask || Terminal::open().is_none()) {
                    output::say(format!(
                        "The key file is not in the ring, which wants a passphrase: lantern key import {} --name {name}",
                        quoted(file)
                    ));
                    return Ok(None);
                }
                let ring = KeyRing::new(home);
                let name = match ring.private_path(name).exists() {
                    true => format!("{name}-key"),
                    false => name.to_owned(),
                };
                import_file(&said, &name, home, Given { passphrase, once: true }).map(Some)
            }
            _ => Ok(None),
        }
    }
}

impl From<KeepError> for Failure {
    fn from(error: KeepError) -> Self {
        match error {
            KeepError::Book(error) => error.into(),
            KeepError::KnownAsAnother(ref name) => {
                let hint = format!("if that one is gone: lantern trust forget {name}");
                Self::new(code::LOCAL, error.to_string()).hint(hint)
            }
        }
    }
}

/// Whether a person typed this command at a prompt: whoever reads from a terminal for a script is another one. A shell gives what is typed at its
/// prompt a process group of its own; what a script runs is in the script's.
fn is_person_there() -> bool {
    let leads = rustix::process::getpgrp() == rustix::process::getpid();
    leads && stdin().is_terminal() && stdout().is_terminal() && stderr().is_terminal()
}
