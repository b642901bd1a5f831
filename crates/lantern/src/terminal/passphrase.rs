//! Passphrases of keys: asked for, chosen, judged.

use lantern_keys::container::{Patience, Sealed};
use lantern_keys::{KeyError, PrivateKey, SecretString};

use crate::cli::open::OpenArgs;
use crate::cli::secret_source::SecretSource;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::prompt::{Answer, Terminal};

/// Most tries at a passphrase.
const MAX_TRIES: u32 = 3;
/// Guesses below which a passphrase is called weak, as a power of ten: with the key derivation that we write, a
/// thousand processors take some days for this many.
const WEAK_BELOW: f64 = 10.0;

/// An opened container.
pub(crate) struct Opened {
    /// Its keys, one or more.
    pub(crate) keys: Vec<PrivateKey>,
    /// The passphrase that opened it, when there is one.
    pub(crate) passphrase: Option<SecretString>,
}

/// Opens a container, with a passphrase that is known already when it is the right one, else asking as [`open`].
///
/// # Errors
/// As [`open`].
pub(crate) fn open_with(
    sealed: &Sealed,
    name: &str,
    args: &OpenArgs,
    known: Option<SecretString>,
) -> Result<Opened, Failure> {
    if let Some(known) = known.filter(|_| sealed.is_protected())
        && let Ok(keys) = sealed.open_all(Some(&known), Patience::Short)
    {
        return Ok(Opened { keys, passphrase: Some(known) });
    }
    open(sealed, name, args)
}

/// Opens a container, asking for its passphrase when it has one.
///
/// # Errors
/// No or a wrong passphrase, a damaged content, or nobody to ask.
pub(crate) fn open(sealed: &Sealed, name: &str, args: &OpenArgs) -> Result<Opened, Failure> {
    let failed = |error: &KeyError| Failure::new(code::LOCAL, format!("cannot open {name}: {error}"));
    let mut patience = if args.patient { Patience::Long } else { Patience::Short };
    if !sealed.is_protected() {
        let keys = sealed.open_all(None, patience).map_err(|error| failed(&error))?;
        return Ok(Opened { keys, passphrase: None });
    }
    // Before anybody types a passphrase for nothing.
    if let Err(error) = sealed.work().check(patience) {
        sealed.work().check(Patience::Long).map_err(|error| failed(&error))?;
        if !agree_to_wait(sealed.work().seconds()) {
            return Err(failed(&error).hint("`--patient` opens it nevertheless"));
        }
        patience = Patience::Long;
    }
    if let Some(source) = &args.passphrase_from {
        let passphrase = source.read()?;
        let keys = sealed.open_all(Some(&passphrase), patience).map_err(|error| failed(&error))?;
        return Ok(Opened { keys, passphrase: Some(passphrase) });
    }
    let mut terminal = Terminal::open().ok_or_else(|| {
        failed(&KeyError::PassphraseNeeded)
            .detail("there is no terminal to ask at")
            .hint("`--passphrase-from SOURCE` reads it: fd:N, file:PATH or command:LINE")
    })?;
    let mut error = KeyError::PassphraseNeeded;
    for attempt in 0..MAX_TRIES {
        let again = if attempt > 0 { "That did not open it. " } else { "" };
        let passphrase = match terminal.ask_secret(format!("{again}Passphrase of {name}: ")) {
            Answer::Given(passphrase) => passphrase,
            Answer::Interrupted => return Err(interrupted()),
            Answer::Ended => break,
        };
        match sealed.open_all(Some(&passphrase), patience) {
            Ok(keys) => return Ok(Opened { keys, passphrase: Some(passphrase) }),
            Err(met) => error = met,
        }
        let try_again = matches!(
            error,
            KeyError::WrongPassphrase | KeyError::WrongPassphraseOrDamaged | KeyError::PassphraseNeeded
        );
        if !try_again {
            break;
        }
    }
    Err(failed(&error))
}

fn agree_to_wait(seconds: u64) -> bool {
    let question = format!("Deriving its key takes about {seconds} seconds. Type yes to go on: ");
    Terminal::open().is_some_and(
        |mut terminal| matches!(terminal.ask_line(&question), Answer::Given(yes) if yes.trim() == "yes"),
    )
}

/// The failure of a question that was answered with Ctrl-C.
pub(crate) fn interrupted() -> Failure {
    Failure::new(code::INTERRUPTED, "interrupted; nothing was changed")
}

/// Asks for a new passphrase, twice; an empty answer is not taken for "none", which has an option of its own where there is a file to be without
/// (`has_plain`). A weak one is warned about.
///
/// # Errors
/// Nobody to ask, or Ctrl-C.
pub(crate) fn ask_new(what: &str, option: &str, has_plain: bool) -> Result<SecretString, Failure> {
    let nobody = || {
        let failure = Failure::new(
            code::LOCAL,
            format!("{what} wants a passphrase, and there is no terminal to ask at"),
        )
        .hint(format!("`{option} SOURCE` reads it: fd:N, file:PATH or command:LINE"));
        match has_plain {
            true => failure.hint("`--plain` does without: whoever reads the file can use the key"),
            false => failure,
        }
    };
    let mut terminal = Terminal::open().ok_or_else(nobody)?;
    let mut ask = |question: &str| match terminal.ask_secret(question) {
        Answer::Given(secret) => Ok(secret),
        Answer::Interrupted => Err(interrupted()),
        Answer::Ended => Err(nobody()),
    };
    loop {
        let first = ask(&format!("New passphrase for {what}: "))?;
        if first.is_empty() {
            output::say(match has_plain {
                true => "An empty one protects nothing; `--plain` is there for keys without.",
                false => "An empty one protects nothing.",
            });
            continue;
        }
        warn_if_weak(&first);
        if ask("The same again: ")? == first {
            return Ok(first);
        }
        output::say("They differ; once more.");
    }
}

/// Opens something that is no key by its passphrase: from a source, or asked for until it opens or somebody has had enough.
///
/// # Errors
/// Nobody to ask, or Ctrl-C. That it does not open is what is returned.
pub(crate) fn open_by<T>(
    what: &str,
    source: Option<&SecretSource>,
    open: impl Fn(&SecretString) -> Result<T, KeyError>,
) -> Result<Result<T, KeyError>, Failure> {
    if let Some(source) = source {
        return Ok(open(&source.read()?));
    }
    let mut terminal = Terminal::open().ok_or_else(|| {
        Failure::new(
            code::LOCAL,
            format!("{what} is closed by a passphrase, and there is no terminal to ask at"),
        )
        .hint("`--passphrase-from SOURCE` reads it: fd:N, file:PATH or command:LINE")
    })?;
    let mut met = KeyError::PassphraseNeeded;
    for attempt in 0..MAX_TRIES {
        let again = if attempt > 0 { "That did not open it. " } else { "" };
        let secret = match terminal.ask_secret(format!("{again}Passphrase of {what}: ")) {
            Answer::Given(secret) => secret,
            Answer::Interrupted => return Err(interrupted()),
            Answer::Ended => break,
        };
        match open(&secret) {
            Err(error @ KeyError::WrongPassphrase) => met = error,
            opened => return Ok(opened),
        }
    }
    Ok(Err(met))
}

/// Asks for a new passphrase once, where a slip loses nothing.
///
/// # Errors
/// Nobody to ask, or Ctrl-C.
pub(crate) fn ask_once(what: &str) -> Result<SecretString, Failure> {
    let mut terminal = Terminal::open().ok_or_else(|| {
        Failure::new(code::LOCAL, format!("{what} wants a passphrase, and there is no terminal to ask at"))
    })?;
    loop {
        match terminal.ask_secret(format!("New passphrase for {what}: ")) {
            Answer::Given(secret) if secret.is_empty() => output::say("An empty one protects nothing."),
            Answer::Given(secret) => {
                warn_if_weak(&secret);
                return Ok(secret);
            }
            Answer::Interrupted | Answer::Ended => return Err(interrupted()),
        }
    }
}

/// The new passphrase by the options: none, from a source, or asked for.
///
/// # Errors
/// As [`ask_new`].
pub(crate) fn choose_new(
    what: &str,
    plain: bool,
    source: Option<&SecretSource>,
    option: &str,
) -> Result<Option<SecretString>, Failure> {
    match source {
        Some(source) => {
            let secret = source.read()?;
            warn_if_weak(&secret);
            Ok(Some(secret))
        }
        None if plain => Ok(None),
        None => ask_new(what, option, true).map(Some),
    }
}

/// The passphrase of something that is never without one: from a source, or asked for.
///
/// # Errors
/// As [`ask_new`]; a source that gives none.
pub(crate) fn choose_sealing(
    what: &str,
    source: Option<&SecretSource>,
    option: &str,
) -> Result<SecretString, Failure> {
    let Some(source) = source else { return ask_new(what, option, false) };
    // A source that gives an empty one is an error of its own.
    let secret = source.read()?;
    warn_if_weak(&secret);
    Ok(secret)
}

/// Warns about a passphrase that can be guessed; it is taken nevertheless.
fn warn_if_weak(secret: &SecretString) {
    let estimate = zxcvbn::zxcvbn(secret.expose_secret(), &[]);
    let power = estimate.guesses_log10();
    if power < WEAK_BELOW {
        output::warn(format!(
            "that passphrase is weak: about 10^{power:.0} guesses find it. Four or five words picked at random make a good one."
        ));
    }
}
