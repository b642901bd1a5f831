//! `lantern trust`: what each machine proved to be.

mod accept;
mod audit;
mod list;
mod look;
mod revoke;
mod share;

use lantern_book::{Home, KnownCertificate, KnownKey, TrustRecord, TrustStore};
use lantern_keys::PublicKey;
use lantern_operations::Target;
use serde_json::{Value, json};

use super::block_on;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::cli::trust::TrustCommand;
use crate::screen::failure::Failure;
use crate::screen::flags_view;
use crate::screen::output;

pub(crate) fn run(command: TrustCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        TrustCommand::List(args) => list::list(&args, &home, json).map(|()| 0),
        TrustCommand::Show(args) => list::show(&args.machine, &home, json).map(|()| 0),
        TrustCommand::Look(args) => block_on(look::run(&home, &args, json)),
        TrustCommand::Accept(args) => block_on(accept::run(&home, &args, json)),
        TrustCommand::Forget(args) => forget(&home, &args.machine, json).map(|()| 0),
        TrustCommand::Export(args) => share::export(&args, &home, json).map(|()| 0),
        TrustCommand::Import(args) => share::import(&args, &home, json).map(|()| 0),
        TrustCommand::Revoke(args) => revoke::revoke(&args, &home, json).map(|()| 0),
        TrustCommand::Revoked => revoke::list(&home, json).map(|()| 0),
        TrustCommand::Unrevoke(args) => revoke::unrevoke(&args, &home, json).map(|()| 0),
        TrustCommand::Audit(args) => audit::run(&args, &home, json),
    }
}

/// The keys of a record as JSON.
pub(crate) fn keys_json(record: &TrustRecord) -> Value {
    let key = |known: &KnownKey| {
        let mut value = key_json(&known.key);
        value["verified"] = json!(known.verified);
        value["compared"] = json!(known.verified.is_compared());
        value["by"] = json!(known.by.map(|by| by.to_string()));
        value["first_seen"] = json!(known.first_seen);
        value["last_seen"] = json!(known.last_seen);
        value
    };
    record.keys.iter().map(key).collect()
}

fn certificates_json(record: &TrustRecord) -> Value {
    let certificate = |known: &KnownCertificate| {
        json!({
            "fingerprint": known.fingerprint().to_string(), "verified": known.verified,
            "first_seen": known.first_seen, "last_seen": known.last_seen,
        })
    };
    record.certificates.iter().map(certificate).collect()
}

fn key_json(key: &PublicKey) -> Value {
    let fingerprint = key.fingerprint();
    json!({
        "algorithm": key.describe(),
        "fingerprint": fingerprint.to_string(),
        "flags": flags_view::words(&fingerprint),
    })
}

/// The name under which the store knows what was typed: also of a machine that is out of the book.
fn known_name(home: &Home, store: &TrustStore, typed: &str) -> Result<String, Failure> {
    match store.has(typed) {
        true => Ok(typed.to_owned()),
        false => Ok(Target::resolve(home, typed)?.name),
    }
}

fn forget(home: &Home, typed: &str, json: bool) -> Result<(), Failure> {
    let name = known_name(home, &TrustStore::load(home)?, typed)?;
    let known = TrustStore::forget(home, &name)?;
    if json {
        return output::print_json(&json!({ "machine": name, "forgotten": known }));
    }
    output::say(&match known {
        true => format!("{name} is forgotten: the next contact is the first."),
        false => format!("Nothing was known of {name}."),
    });
    Ok(())
}
