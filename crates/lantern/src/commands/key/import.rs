//! `lantern key import`: a key that was made elsewhere comes into the ring.

use std::path::Path;

use clap::Args;
use jiff::Timestamp;
use lantern_book::{Home, KeyNote, KeyRing, MachineBook, check_name_of};
use lantern_keys::container::Protect;
use lantern_keys::{PrivateKey, SystemRandom};
use serde_json::json;

use super::public_json;
use crate::failure::{Failure, code};
use crate::key_source::{KeyFile, pick_opened};
use crate::output;
use crate::passphrase::{self, OpenArgs};
use crate::terminal::prompt::{Answer, Terminal};

/// Arguments of `key import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key import ~/Downloads/lamp-01.pem            asks for a name and a passphrase
  lantern key import lamp-01.pem --name lamp-01 --move  and its file is gone afterwards
  lantern key import - --name tide-gauge < pasted.txt

What the file is shows by its content; its name does not matter. The copy in the ring has
mode 0600 and, unless --plain says no, a passphrase. Warns when others could read the
original.")]
pub(crate) struct ImportArgs {
    /// The file, in any container; - for standard input
    file: String,
    /// Its name in the ring [default: asked for, with a suggestion]
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Remove the file once the key is in the ring
    #[arg(long = "move")]
    take: bool,
    /// Leave a key without passphrase as it is: whoever reads the file can use it
    #[arg(long)]
    plain: bool,
    /// Give it this comment
    #[arg(long, value_name = "TEXT")]
    comment: Option<String>,
    /// Of several keys in the file, take this one, counted from 1
    #[arg(long, value_name = "NUMBER")]
    pick: Option<usize>,
    #[command(flatten)]
    open: OpenArgs,
    /// For a key without passphrase, read the new one from this file descriptor
    #[arg(long, value_name = "N", conflicts_with = "plain")]
    new_passphrase_fd: Option<u32>,
}

/// Takes a key file into the ring under a name, asking what there is to ask; the name.
pub(crate) fn import_file(file: &str, name: &str, home: &Home) -> Result<String, Failure> {
    let args = ImportArgs {
        file: file.to_owned(),
        name: Some(name.to_owned()),
        take: false,
        plain: false,
        comment: None,
        pick: None,
        open: OpenArgs::default(),
        new_passphrase_fd: None,
    };
    run(&args, home, false).map(|()| name.to_owned())
}

pub(super) fn run(args: &ImportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    if let Some(name) = &args.name {
        check_free(&ring, name)?;
    }
    let file = KeyFile::read(&args.file)?;
    let sealed = file.private(args.pick.filter(|_| file.found.len() > 1))?;
    let opened = passphrase::open(sealed, &file.name(), &args.open)?;
    // Other things in the file would go with it.
    let alone = file.found.len() == 1 && opened.keys.len() == 1;
    let pick = if file.found.len() > 1 { None } else { args.pick };
    let mut key = pick_opened(opened.keys, pick, &file.name())?;
    if let Some(name) = held_as(&ring, &key)? {
        return Err(Failure::new(code::LOCAL, format!("this key is in the ring already, as {name}"))
            .hint(format!("`lantern key show {name}` shows it")));
    }
    if let Some(comment) = &args.comment {
        key = key.with_comment(comment.clone());
    }
    let name = match &args.name {
        Some(name) => name.clone(),
        None => choose_name(&suggest(&key, file.path.as_deref(), home)?, &ring)?,
    };
    let passphrase = match opened.passphrase {
        Some(passphrase) => Some(passphrase),
        None => {
            let what = format!("the key {name}, which has none yet");
            passphrase::choose_new(&what, args.plain, args.new_passphrase_fd, "--new-passphrase-fd")?
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
    let moved = match &file.path {
        Some(original) if args.take && alone => {
            std::fs::remove_file(original).map_err(|error| {
                Failure::new(
                    code::LOCAL,
                    format!("{name} is in the ring, but {} cannot be removed: {error}", original.display()),
                )
            })?;
            true
        }
        _ => false,
    };
    if args.take && !alone {
        output::warn(&format!("{} holds more than this key, so it was not removed.", file.name()));
    }
    if let Some(mode) = exposed {
        output::warn(&format!(
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
        return output::print_json(&value);
    }
    output::say(&format!(
        "{name} is in the ring: {} {}, {}.",
        key.public().describe(),
        key.public().fingerprint(),
        if passphrase.is_some() { "with a passphrase" } else { "without a passphrase" }
    ));
    match (&file.path, moved) {
        (Some(original), true) => output::say(&format!("{} is gone.", original.display())),
        (Some(original), false) => {
            output::say(&format!(
                "{} is still there; remove it when nothing else needs it.",
                original.display()
            ));
        }
        (None, _) => {}
    }
    Ok(())
}

fn check_free(ring: &KeyRing, name: &str) -> Result<(), Failure> {
    check_name_of("key name", name)?;
    match ring.private_path(name).exists() {
        true => Err(lantern_book::BookError::Exists { what: "key", name: name.to_owned() }.into()),
        false => Ok(()),
    }
}

/// The name under which the ring has this key.
fn held_as(ring: &KeyRing, key: &PrivateKey) -> Result<Option<String>, Failure> {
    let mut entries = ring.all()?.into_iter().filter_map(Result::ok);
    Ok(entries.find(|entry| entry.public == *key.public()).map(|entry| entry.name))
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
        match terminal.ask_line(&format!("Name in the ring [{suggestion}]: ")) {
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
