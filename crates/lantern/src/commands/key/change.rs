//! `lantern key passphrase`, `key rename`, `key comment`: a key stays the same and is kept otherwise.

use lantern_book::{BookError, Home, KeyRing, MachineBook};
use lantern_keys::SystemRandom;
use lantern_keys::container::Protect;
use serde_json::json;

use crate::cli::key::change::{CommentArgs, PassphraseArgs, RenameArgs};
use crate::commands::key_source::pick_opened;
use crate::screen::failure::Failure;
use crate::screen::output;
use crate::terminal::passphrase;

pub(super) fn passphrase(args: &PassphraseArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    let entry = ring.get(&args.name)?;
    let opened = passphrase::open(&entry.sealed, &args.name, &args.open)?;
    let key = pick_opened(opened.keys, None, &args.name)?;
    let new = passphrase::choose_new(
        &args.name,
        args.plain,
        args.new_passphrase_from.as_ref(),
        "--new-passphrase-from",
    )?;
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
    output::say(format!("{} is called {} now{also}.", args.name, args.new_name));
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
    output::say(format!("{} has the comment `{}`.", args.name, args.comment));
    Ok(())
}
