//! `lantern key`: the key ring. One file each command.

mod audit;
mod audit_files;
mod audit_report;
mod change;
mod convert;
mod import;
mod install;
mod list;
mod new;
mod remove;
mod rotate;
mod show;
mod withdraw;

pub(crate) use import::import_file;

use clap::Subcommand;
use lantern_book::{KeyRing, RingEntry};
use lantern_keys::{PublicKey, fingerprint, public_line};
use serde_json::{Value, json};

use crate::cli::Global;
use crate::failure::Failure;
use crate::flags_view;
use crate::settings::{self, local_user};

/// Commands of the key ring.
#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Make a key pair
    New(new::NewArgs),
    /// Take a key that was made elsewhere into the ring
    Import(import::ImportArgs),
    /// List the key ring
    List,
    /// Show all about a key of the ring, or about what is in a key file
    Show(show::ShowArgs),
    /// Write a key, or its public half, in another container
    Convert(convert::ConvertArgs),
    /// Change, set or drop the passphrase of a key
    Passphrase(change::PassphraseArgs),
    /// Give a key another name
    Rename(change::RenameArgs),
    /// Give a key another comment
    Comment(change::CommentArgs),
    /// Remove a key from the ring
    Remove(remove::RemoveArgs),
    /// Put the public half of a key on a machine, and prove it by logging in
    Install(install::InstallArgs),
    /// Take a key out of a machine, unless it is the last way in
    Withdraw(withdraw::WithdrawArgs),
    /// Replace a key by a new one, machine by machine
    Rotate(rotate::RotateArgs),
    /// Look for what is wrong with keys
    Audit(audit::AuditArgs),
}

pub(crate) fn run(command: KeyCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ring = KeyRing::new(&home);
    let done = |outcome: Result<(), Failure>| outcome.map(|()| 0);
    match command {
        KeyCommand::New(args) => done(new::run(&args, &ring, global.json)),
        KeyCommand::Import(args) => done(import::run(&args, &home, global.json)),
        KeyCommand::List => done(list::run(&home, global.json)),
        KeyCommand::Show(args) => done(show::run(&args, &home, global.json)),
        KeyCommand::Convert(args) => done(convert::run(&args, &ring, global.json)),
        KeyCommand::Passphrase(args) => done(change::passphrase(&args, &ring, global.json)),
        KeyCommand::Rename(args) => done(change::rename(&args, &home, global.json)),
        KeyCommand::Comment(args) => done(change::comment(&args, &ring, global.json)),
        KeyCommand::Remove(args) => done(remove::run(&args, &home, global.json)),
        KeyCommand::Install(args) => done(install::run(&args, &home, global.json)),
        KeyCommand::Withdraw(args) => done(withdraw::run(&args, &home, global.json)),
        KeyCommand::Rotate(args) => done(rotate::run(&args, &home, global.json)),
        KeyCommand::Audit(args) => audit::run(&args, &home, global.json),
    }
}

fn default_comment() -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    format!("{}@{host}", local_user().unwrap_or_else(|| "someone".into()))
}

fn public_json(key: &PublicKey, comment: &str) -> Value {
    let fingerprint = key.fingerprint();
    json!({
        "algorithm": key.describe(),
        "key_type": key.key_type(),
        "fingerprint": fingerprint.to_string(),
        "fingerprint_md5": fingerprint::md5_of_blob(&key.encode()),
        "flags": flags_view::words(&fingerprint),
        "comment": comment,
        "line": public_line::format(key, comment),
    })
}

fn entry_json(entry: &RingEntry) -> Value {
    let mut value = public_json(&entry.public, &entry.comment);
    value["name"] = json!(entry.name);
    value["private_file"] = json!(entry.path);
    value["passphrase"] = json!(entry.sealed.is_protected());
    value["container"] = json!(entry.sealed.container().name());
    value["protection"] = json!(entry.sealed.describe_protection());
    value["made"] = json!(entry.note.made);
    value["imported_from"] = json!(entry.note.imported_from);
    value["replaced_by"] = json!(entry.note.replaced_by);
    value["installed"] = json!(entry.note.installed);
    value["mode"] = json!(format!("{:04o}", entry.mode));
    value["exposed"] = json!(entry.is_exposed());
    value
}
