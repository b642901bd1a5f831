//! Where a command goes and by what: a name of the book, a place, or what a pasted text leads to. And what is kept of it, once it has worked.

use std::io::{IsTerminal, Read, stderr, stdin, stdout};
use std::path::{Path, PathBuf};

use lantern_book::{Field, FieldValue, Home, KeyRing, MachineBook, Pasted, Protocol, Uses, place};
use lantern_keys::SecretString;
use lantern_link::KeyChoice;
use lantern_operations::keep::{self, KeepError, check_free, kept_as, suggest_name};
use lantern_operations::{FoundKey, ReachError, ReachOptions, Target, find_key_file};

use crate::cli::connect::ConnectArgs;
use crate::cli::one_off::OneOffArgs;
use crate::cli::settings::agents;
use crate::commands::keeper;
use crate::commands::key::import::{Given, import_file};
use crate::commands::sharing::sharing;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;
use crate::terminal::prompt::Terminal;
use lantern_operations::quoted;

/// Most of a pasted text that is read from standard input, in bytes.
const MAX_PASTE: u64 = 64 * 1024;

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

/// What a pasted text comes to, as it could have been typed.
fn typed(pasted: &Pasted) -> String {
    let address = pasted.addresses.first().map_or("", String::as_str);
    let winrm = pasted.protocol == Protocol::Winrm;
    let usual = if winrm { lantern_book::DEFAULT_WINRM_PORT } else { lantern_book::DEFAULT_SSH_PORT };
    let scheme = if winrm { "winrm://" } else { "" };
    let user = pasted.user.as_ref().map(|user| format!("{user}@")).unwrap_or_default();
    format!("{scheme}{user}{}", place(address, pasted.port.unwrap_or(usual)))
}

/// What was understood of a text, and what was not. Where it can be read in another way, a person says whether that is it.
///
/// # Errors
/// Another reading and nobody to ask, or a no.
fn tell(pasted: &Pasted, may_ask: bool) -> Result<(), Failure> {
    let mut text = format!("Understood: {}", typed(pasted));
    if !pasted.gateways.is_empty() {
        text.push_str(&format!(" through {}", pasted.gateways.join(" then ")));
    }
    if let Some(file) = &pasted.key_file {
        text.push_str(&format!(", with the key file {file}"));
    }
    output::say(text);
    if let Some(doubt) = pasted.doubt() {
        output::warn(doubt);
    }
    if pasted.doubts.is_empty() {
        return Ok(());
    }
    if !may_ask || Terminal::open().is_none() {
        return Err(Failure::new(code::USAGE, "the pasted text can be understood in more than one way")
            .hint("paste what matters of it, or give the address: user@address:port"));
    }
    match confirm::ask("Is that the machine?", "")? {
        true => Ok(()),
        false => Err(Failure::new(code::INTERRUPTED, "nothing was reached")),
    }
}

/// Reads a pasted text.
///
/// # Errors
/// Nothing in it that could be understood.
pub(crate) fn read_paste(text: &str) -> Result<Pasted, Failure> {
    Ok(Pasted::parse(&pasted_text(text)?)?)
}

/// A text that was typed as an option, or comes through standard input.
///
/// # Errors
/// Standard input cannot be read.
pub(crate) fn pasted_text(text: &str) -> Result<String, Failure> {
    if text != "-" {
        return Ok(text.to_owned());
    }
    if stdin().is_terminal() {
        output::say("Paste the text, then press Enter and Ctrl-D:");
    }
    let mut pasted = String::new();
    stdin()
        .take(MAX_PASTE + 1)
        .read_to_string(&mut pasted)
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot read the pasted text: {error}")))?;
    Ok(pasted)
}

/// Where key files are looked for: the current folder, and the one for downloads.
fn key_folders(house: Option<&Path>) -> Vec<PathBuf> {
    let mut folders = vec![PathBuf::from(".")];
    folders.extend(std::env::var_os("XDG_DOWNLOAD_DIR").map(PathBuf::from));
    folders.extend(house.map(|house| house.join("Downloads")));
    folders
}

/// Finds the key file that a text names; one that is not where it says is shown, and asked about.
///
/// # Errors
/// Ctrl-C.
pub(crate) fn look_for_key(said: &str, may_ask: bool) -> Result<Option<FoundKey>, Failure> {
    let house = etcetera::home_dir().ok();
    let Some(FoundKey { path, elsewhere }) =
        find_key_file(said, house.as_deref(), &key_folders(house.as_deref()))
    else {
        output::warn(fit!(
            "there is no key file {}, neither where the text says nor here nor among the downloads.",
            said
        ));
        return Ok(None);
    };
    let path = path.strip_prefix(".").map(Path::to_owned).unwrap_or(path);
    if !elsewhere {
        return Ok(Some(FoundKey { path, elsewhere }));
    }
    let question = format!("The text names the key file {said}. Is it {}?", path.display());
    if may_ask && Terminal::open().is_some() && confirm::ask(&question, "")? {
        return Ok(Some(FoundKey { path, elsewhere }));
    }
    output::say(fit!("Not used: {}; `--key FILE` names the file.", path.display().to_string()));
    Ok(None)
}

/// The key that a text names: of the ring, when it is there, else its file. Its permissions are narrowed: it was downloaded, and is ours.
fn pasted_key(
    home: &Home,
    said: &str,
    may_ask: bool,
) -> Result<(Option<KeyChoice>, Option<FoundKey>), Failure> {
    let ring = KeyRing::new(home);
    let Some(FoundKey { path, elsewhere }) = look_for_key(said, may_ask)? else {
        let stem = Path::new(said).file_stem().map(|stem| stem.to_string_lossy().into_owned());
        let known = stem.filter(|stem| ring.get(stem).is_ok());
        return Ok((known.map(|name| KeyChoice::Named(vec![name])), None));
    };
    let (sealed, mode) = KeyRing::read_file(&path)?;
    let held = sealed.public().map(|public| ring.name_of(public)).transpose()?.flatten();
    if let Some(name) = held {
        return Ok((Some(KeyChoice::Named(vec![name])), None));
    }
    if mode & 0o077 != 0 && may_ask && Terminal::open().is_some() {
        narrow(&path, mode)?;
    }
    // As a path it is never taken for a name.
    let file = if path.components().count() < 2 { Path::new(".").join(path) } else { path };
    Ok((Some(KeyChoice::File(file.clone())), Some(FoundKey { path: file, elsewhere })))
}

fn narrow(path: &Path, mode: u32) -> Result<(), Failure> {
    use std::os::unix::fs::PermissionsExt;
    let name = path.display().to_string();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot close {name} to others: {error}")))?;
    output::warn(Fit::line(&format!(
        "others on this computer could read {name} (mode {mode:04o}); it is closed to them now."
    )));
    Ok(())
}
