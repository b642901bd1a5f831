//! `lantern trust`: what each machine proved to be.

pub(crate) mod accept;
mod audit;
mod list;
mod look;
mod revoke;
mod share;

use lantern_book::{
    Home, KnownBy, KnownCertificate, KnownKey, MachineBook, Presented, TrustRecord, TrustStore, glob,
    natural, select,
};
use lantern_keys::{PublicKey, TlsCertificate};
use lantern_operations::Target;
use serde_json::{Value, json};

use super::block_on;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::cli::trust::{ForgetArgs, TrustCommand};
use crate::screen::failure::{Failure, code};
use crate::screen::flags_view;
use crate::screen::output;
use crate::screen::plan::Planned;
use lantern_operations::counted;

pub(crate) fn run(command: TrustCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        TrustCommand::List(args) => list::list(&args, &home, json).map(|()| 0),
        TrustCommand::Show(args) => list::show(&args, &home, json).map(|()| 0),
        TrustCommand::Look(args) => block_on(look::run(&home, &args, json)),
        TrustCommand::Accept(args) => block_on(accept::run(&home, &args, json)),
        TrustCommand::Forget(args) => forget(&args, &home, json).map(|()| 0),
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

fn certificates_json(certificates: &[KnownCertificate]) -> Value {
    let certificate = |known: &KnownCertificate| {
        let mut value = match TlsCertificate::read(&known.der) {
            Ok(certificate) => certificate_json(&certificate),
            Err(_) => json!({ "fingerprint": known.fingerprint().to_string() }),
        };
        value["verified"] = json!(known.verified);
        value["compared"] = json!(known.verified.is_compared());
        value["first_seen"] = json!(known.first_seen);
        value["last_seen"] = json!(known.last_seen);
        value
    };
    certificates.iter().map(certificate).collect()
}

pub(crate) fn certificate_json(certificate: &TlsCertificate) -> Value {
    let (from, until) = certificate.validity();
    let day = |seconds: i64| jiff::Timestamp::from_second(seconds).ok();
    json!({
        "algorithm": certificate.describe(),
        "fingerprint": certificate.fingerprint().to_string(),
        "thumbprint": certificate.thumbprint(),
        "names": certificate.names().iter().map(ToString::to_string).collect::<Vec<_>>(),
        "subject": certificate.subject(),
        "issuer": certificate.issuer(),
        "valid_from": day(from),
        "valid_until": day(until),
    })
}

fn known_json(known: &KnownBy) -> Value {
    match known {
        KnownBy::Key(known) => key_json(&known.key),
        KnownBy::Certificate(known) => {
            TlsCertificate::read(&known.der).map_or(Value::Null, |certificate| certificate_json(&certificate))
        }
        _ => Value::Null,
    }
}

fn presented_json(presented: &Presented) -> Value {
    match (presented.host_key(), presented.certificate()) {
        (Some(key), _) => key_json(key),
        (None, Some(certificate)) => certificate_json(certificate),
        (None, None) => Value::Null,
    }
}

fn key_json(key: &PublicKey) -> Value {
    let fingerprint = key.fingerprint();
    json!({
        "algorithm": key.describe(),
        "fingerprint": fingerprint.to_string(),
        "flags": flags_view::words(&fingerprint),
    })
}

/// The machines of a selection, by the names under which the store knows them: also of machines that are out of the book. Without words, all that
/// it knows.
///
/// # Errors
/// A name that neither store nor book has; a glob or a tag that stands for nothing.
fn known_names(
    home: &Home,
    store: &TrustStore,
    words: &[String],
    except: &[String],
) -> Result<Vec<String>, Failure> {
    let book = MachineBook::load(home)?;
    let known = store.machines();
    let stands_for = |word: &str| -> Result<Vec<String>, Failure> {
        if store.has(word) {
            return Ok(vec![word.to_owned()]);
        }
        if word.contains(['*', '?']) && !word.starts_with('@') {
            let mut fitting: Vec<String> =
                known.iter().filter(|name| glob(word, name)).map(|name| (*name).to_owned()).collect();
            fitting.sort_by(|one, other| natural(one, other));
            return match fitting.is_empty() {
                true => Err(Failure::new(code::USAGE, format!("no machine that was met is like {word}"))),
                false => Ok(fitting),
            };
        }
        let selected = select(&book, &[word], &[] as &[&str])?;
        match selected.as_slice() {
            // Nothing is known of it, and that is to be told.
            [only] => Ok(vec![Target::find(home, &book, only)?.name]),
            several => Ok(several.iter().filter(|name| store.has(name)).cloned().collect()),
        }
    };
    let all = |words: &[String]| -> Result<Vec<String>, Failure> {
        let mut names = Vec::new();
        for word in
            words.iter().flat_map(|word| word.split(',')).map(str::trim).filter(|word| !word.is_empty())
        {
            names.extend(stands_for(word)?);
        }
        Ok(names)
    };
    let mut names = match words.is_empty() {
        true => {
            let mut all: Vec<String> = known.iter().map(|name| (*name).to_owned()).collect();
            all.sort_by(|one, other| natural(one, other));
            all
        }
        false => all(words)?,
    };
    let left_out = all(except)?;
    let mut seen = std::collections::BTreeSet::new();
    names.retain(|name| !left_out.contains(name) && seen.insert(name.clone()));
    Ok(names)
}

fn forget(args: &ForgetArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    let names = known_names(home, &store, &args.machines.selection, &args.machines.but.except)?;
    let known: Vec<&String> = names.iter().filter(|name| store.has(name)).collect();
    let rows: Vec<Planned> = known.iter().map(|name| Planned::gone(name, "what it proved to be")).collect();
    let question = match known.as_slice() {
        [only] => format!("Forget what {only} proved to be?"),
        several => format!("Forget what {} proved to be?", counted(several.len(), "machine")),
    };
    let goes_on = args.plan.settle(&rows, &question, !known.is_empty(), json)?;
    if goes_on {
        for name in &known {
            TrustStore::forget(home, name)?;
        }
    }
    if json {
        let forgotten = |name: &String| goes_on && store.has(name);
        let values: Vec<Value> =
            names.iter().map(|name| json!({ "machine": name, "forgotten": forgotten(name) })).collect();
        return output::print_json(&values);
    }
    for name in names.iter().filter(|name| !store.has(name)) {
        output::say(format!("Nothing was known of {name}."));
    }
    if names.is_empty() {
        output::say("Nothing was known of any of them.");
    }
    if goes_on {
        match known.as_slice() {
            [] => {}
            [only] => output::say(format!("{only} is forgotten: the next contact is the first.")),
            several => output::say(format!(
                "{} are forgotten: the next contact is the first.",
                counted(several.len(), "machine")
            )),
        }
    }
    Ok(())
}
