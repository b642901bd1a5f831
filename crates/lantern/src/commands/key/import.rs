//! `lantern key import`: a key that was made elsewhere comes into the ring.

use std::path::Path;

use jiff::Timestamp;
use lantern_book::{BookError, Home, KeyNote, KeyRing, MachineBook, check_name_of, public_beside};
use lantern_keys::container::Protect;
use lantern_keys::{PrivateKey, SecretString, SystemRandom};
use serde_json::json;

use super::{moving, public_json};
use crate::cli::key::import::ImportArgs;
use crate::cli::open::OpenArgs;
use crate::commands::key_source::{KeyFile, pick_opened};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::passphrase;
use crate::terminal::prompt::{Answer, Terminal};

/// What is known of a key's passphrases beforehand.
#[derive(Default)]
pub(crate) struct Given {
    /// The one that opened the file already.
    pub(crate) passphrase: Option<SecretString>,
    /// Whether a new one is asked for only once: where the file stays, a slip loses nothing.
    pub(crate) once: bool,
}

/// Takes a key file into the ring under a name, asking what there is to ask; the name, and the passphrase that it has there.
pub(crate) fn import_file(
    file: &str,
    name: &str,
    home: &Home,
    given: Given,
) -> Result<(String, Option<SecretString>), Failure> {
    let args = ImportArgs {
        file: file.to_owned(),
        name: Some(name.to_owned()),
        take: false,
        plain: false,
        comment: None,
        pick: None,
        open: OpenArgs::default(),
        new_passphrase_from: None,
    };
    take_in(&args, home, false, given).map(|passphrase| (name.to_owned(), passphrase))
}

pub(super) fn run(args: &ImportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    take_in(args, home, json, Given::default()).map(drop)
}

fn take_in(
    args: &ImportArgs,
    home: &Home,
    json: bool,
    given: Given,
) -> Result<Option<SecretString>, Failure> {
    let ring = KeyRing::new(home);
    if let Some(name) = &args.name {
        check_free(&ring, name)?;
    }
    let file = KeyFile::read(&args.file)?;
    if args.take {
        moving::check(&file)?;
    }
    let sealed = file.private(args.pick.filter(|_| file.found.len() > 1))?;
    let opened = passphrase::open_with(sealed, &file.name(), &args.open, given.passphrase)?;
    let pick = if file.found.len() > 1 { None } else { args.pick };
    let alone = file.is_one_private_key && opened.keys.len() == 1;
    let mut key = pick_opened(opened.keys, pick, &file.name())?;
    if let Some(name) = ring.name_of(key.public())? {
        if !(args.take && alone) {
            return Err(BookError::Held { name }.into());
        }
        let entry = ring.get(&name)?;
        moving::prove_held(&entry, &key, opened.passphrase.as_ref())?;
        moving::remove(&file)?;
        return tell_moved(&name, &file, &key, json).map(|()| opened.passphrase);
    }
    if let Some(comment) = &args.comment {
        key = key.with_comment(comment.clone());
    } else if key.comment().is_empty()
        && let Some(comment) = file.path.as_deref().and_then(|path| comment_beside(path, &key))
    {
        key = key.with_comment(comment);
    }
    let name = match &args.name {
        Some(name) => name.clone(),
        None => choose_name(&suggest(&key, file.path.as_deref(), home)?, &ring)?,
    };
    let passphrase = match opened.passphrase {
        Some(passphrase) => Some(passphrase),
        None => {
            let what = format!("the key {name}, which has none yet");
            match given.once {
                true => Some(passphrase::ask_once(&what)?),
                false => passphrase::choose_new(
                    &what,
                    args.plain,
                    args.new_passphrase_from.as_ref(),
                    "--new-passphrase-from",
                )?,
            }
        }
    };
    let from = file.path.as_ref().map(|path| std::path::absolute(path).unwrap_or(path.clone()));
    let note = KeyNote {
        made: Some(Timestamp::now()),
        imported_from: from.map(|path| path.display().to_string()),
        ..KeyNote::default()
    };
    let path = ring.add(&name, &key, Protect::with(passphrase.as_ref()), note, &mut SystemRandom)?;
    let exposed = file.mode.filter(|mode| mode & 0o077 != 0);
    let moved = args.take && alone;
    if moved {
        moving::remove(&file).map_err(|failure| failure.detail(format!("{name} is in the ring")))?;
    } else if args.take {
        output::warn(format!("{} was not removed: {}.", file.name(), moving::what_else(&file)));
    }
    if let Some(mode) = exposed {
        output::warn(format!(
            "others on this computer could read {} (mode {mode:04o}). If somebody may have copied it, make a new key.",
            file.name()
        ));
    }
    if json {
        let mut value = public_json(key.public(), key.comment());
        value["name"] = json!(name);
        value["private_file"] = json!(path);
        value["passphrase"] = json!(passphrase.is_some());
        value["imported_from"] = json!(file.path);
        value["was_exposed"] = json!(exposed.is_some());
        value["original_removed"] = json!(moved);
        return output::print_json(&value).map(|()| passphrase);
    }
    output::say(format!(
        "{name} is in the ring: {} {}, {}.",
        key.public().describe(),
        key.public().fingerprint(),
        if passphrase.is_some() { "with a passphrase" } else { "without a passphrase" }
    ));
    match &file.path {
        Some(original) if moved => output::say(format!("{} is gone.", original.display())),
        Some(original) if !args.take => {
            output::say(format!(
                "{} is still there; remove it when nothing else needs it.",
                original.display()
            ));
        }
        _ => {}
    }
    Ok(passphrase)
}

/// A key that the ring had already, and whose file is gone now.
fn tell_moved(name: &str, file: &KeyFile, key: &PrivateKey, json: bool) -> Result<(), Failure> {
    if json {
        let mut value = public_json(key.public(), key.comment());
        value["name"] = json!(name);
        value["imported_from"] = json!(file.path);
        value["original_removed"] = json!(true);
        return output::print_json(&value);
    }
    output::say(format!("This key is in the ring already, as {name}; its copy there opens and is the same."));
    output::say(format!("{} is gone.", file.name()));
    Ok(())
}

/// The comment of the public file beside a private one that has none: containers other than our own have no place for it.
fn comment_beside(path: &Path, key: &PrivateKey) -> Option<String> {
    let beside = public_beside(path).into_iter().find(|(_, half)| half.key == *key.public());
    beside.map(|(_, half)| half.comment).filter(|comment| !comment.is_empty())
}

fn check_free(ring: &KeyRing, name: &str) -> Result<(), Failure> {
    check_name_of("key name", name)?;
    match ring.private_path(name).exists() {
        true => Err(BookError::Exists { what: "key", name: name.to_owned() }.into()),
        false => Ok(()),
    }
}

/// A name from what the key opens (a machine that the file is called after), else its comment, else its file.
fn suggest(key: &PrivateKey, path: Option<&Path>, home: &Home) -> Result<String, Failure> {
    let plain = |text: &str| {
        let word = |c: char| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' };
        let text: String = text.chars().map(word).take(64).collect();
        text.trim_matches(|c: char| !c.is_ascii_alphanumeric()).to_owned()
    };
    let stem = path.and_then(Path::file_stem).map(|stem| plain(&stem.to_string_lossy())).unwrap_or_default();
    let book = MachineBook::load(home)?;
    let ring = KeyRing::new(home);
    let words = [stem.as_str()].into_iter().filter(|stem| book.get(stem).is_ok());
    let wanted = words
        .map(str::to_owned)
        .chain([plain(key.comment()), stem.clone(), "imported".into()])
        .find(|name| !name.is_empty())
        .unwrap_or_default();
    let numbered = (2..).map(|number| format!("{wanted}-{number}"));
    Ok(std::iter::once(wanted.clone())
        .chain(numbered)
        .find(|name| !ring.private_path(name).exists())
        .unwrap_or_default())
}

fn choose_name(suggestion: &str, ring: &KeyRing) -> Result<String, Failure> {
    let Some(mut terminal) = Terminal::open() else {
        return Err(Failure::new(code::USAGE, "the key wants a name, and there is no terminal to ask at")
            .hint(format!("`--name {suggestion}`, for instance")));
    };
    loop {
        match terminal.ask_line(format!("Name in the ring [{suggestion}]: ")) {
            Answer::Given(answer) => {
                let name = if answer.trim().is_empty() { suggestion } else { answer.trim() };
                match check_free(ring, name) {
                    Ok(()) => return Ok(name.to_owned()),
                    Err(failure) => output::say(&failure.headline),
                }
            }
            Answer::Interrupted | Answer::Ended => return Err(passphrase::interrupted()),
        }
    }
}
