//! `lantern key passphrase`, `key rename`, `key comment`: a key stays the same and is kept otherwise.

use clap::Args;
use lantern_book::{BookError, Home, KeyRing, MachineBook};
use lantern_keys::SystemRandom;
use lantern_keys::container::Protect;
use serde_json::json;

use crate::failure::Failure;
use crate::key_source::pick_opened;
use crate::output;
use crate::passphrase::{self, OpenArgs};

/// Arguments of `key passphrase`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key passphrase harbour            asks for the old one, then for the new one twice
  lantern key passphrase robot --plain      drops it: whoever reads the file can use the key")]
pub(crate) struct PassphraseArgs {
    /// A name in the ring
    name: String,
    /// Drop the passphrase
    #[arg(long, conflicts_with = "new_passphrase_fd")]
    plain: bool,
    #[command(flatten)]
    open: OpenArgs,
    /// Read the new passphrase from this file descriptor
    #[arg(long, value_name = "N")]
    new_passphrase_fd: Option<u32>,
}

/// Arguments of `key rename`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key rename imported lamp-01       machines that name it are changed too")]
pub(crate) struct RenameArgs {
    /// A name in the ring
    name: String,
    /// The new name
    new_name: String,
}

/// Arguments of `key comment`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key comment harbour 'keeper@chart-room, second floor'

Comments stand in the public half and, behind the passphrase, in the private one. Those that
machines have already stay as they are.")]
pub(crate) struct CommentArgs {
    /// A name in the ring
    name: String,
    /// The new comment
    comment: String,
    #[command(flatten)]
    open: OpenArgs,
}

pub(super) fn passphrase(args: &PassphraseArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    let entry = ring.get(&args.name)?;
    let opened = passphrase::open(&entry.sealed, &args.name, &args.open)?;
    let key = pick_opened(opened.keys, None, &args.name)?;
    let new = passphrase::choose_new(&args.name, args.plain, args.new_passphrase_fd, "--new-passphrase-fd")?;
    ring.rewrite(&args.name, &key, Protect::with(new.as_ref()), &mut SystemRandom)?;
    if json {
        return output::print_json(&json!({ "name": args.name, "passphrase": new.is_some() }));
    }
    output::say(&match new {
        Some(_) => format!("{} has the new passphrase.", args.name),
        None => format!("{} has no passphrase any more.", args.name),
    });
    Ok(())
}

pub(super) fn rename(args: &RenameArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    // A rename that was interrupted between ring and book is finished by asking again.
    match ring.rename(&args.name, &args.new_name) {
        Err(BookError::Unknown { .. })
            if ring.get(&args.new_name).is_ok() && book_names(home, &args.name)? => {}
        other => other?,
    }
    let machines = MachineBook::rename_key(home, &args.name, &args.new_name)?;
    if json {
        let value = json!({ "name": args.new_name, "was": args.name, "machines_changed": machines });
        return output::print_json(&value);
    }
    let also = match machines {
        0 => String::new(),
        1 => "; 1 machine in the book names it so now".into(),
        many => format!("; {many} machines in the book name it so now"),
    };
    output::say(&format!("{} is called {} now{also}.", args.name, args.new_name));
    Ok(())
}

fn book_names(home: &Home, key: &str) -> Result<bool, Failure> {
    Ok(MachineBook::load(home)?.users_of_key(key).next().is_some())
}

pub(super) fn comment(args: &CommentArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    let entry = ring.get(&args.name)?;
    let opened = passphrase::open(&entry.sealed, &args.name, &args.open)?;
    let key = pick_opened(opened.keys, None, &args.name)?.with_comment(args.comment.clone());
    ring.rewrite(&args.name, &key, Protect::with(opened.passphrase.as_ref()), &mut SystemRandom)?;
    if json {
        return output::print_json(&json!({ "name": args.name, "comment": args.comment }));
    }
    output::say(&format!("{} has the comment `{}`.", args.name, args.comment));
    Ok(())
}
