//! `lantern key`: the key ring. One file each command.

mod audit;
mod certificate;
mod change;
pub(crate) mod convert;
mod each;
pub(crate) mod import;
mod install;
mod list;
mod moving;
pub(crate) mod new;
mod remove;
mod rotate;
mod show;
mod withdraw;

use lantern_book::{KeyRing, KeySummary};
use lantern_keys::{PublicKey, fingerprint, public_line};
use serde_json::{Value, json};

use crate::cli::global::Global;
use crate::cli::key::KeyCommand;
use crate::cli::settings::{self, local_user};
use crate::screen::failure::Failure;
use crate::screen::flags_view;

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

pub(crate) fn default_comment() -> String {
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

fn summary_json(entry: &KeySummary, ring: &KeyRing) -> Value {
    let mut value = entry.public().map_or(json!({}), |public| public_json(&public, &entry.comment));
    value["name"] = json!(entry.name);
    value["private_file"] = json!(ring.private_path(&entry.name));
    value["passphrase"] = json!(entry.is_protected());
    value["container"] = json!(entry.container);
    value["protection"] = json!(entry.protection);
    value["made"] = json!(entry.note.made);
    value["imported_from"] = json!(entry.note.imported_from);
    value["replaced_by"] = json!(entry.note.replaced_by);
    value["installed"] = json!(entry.note.installed);
    value["mode"] = json!(format!("{:04o}", entry.mode));
    value["exposed"] = json!(entry.is_exposed());
    value
}
