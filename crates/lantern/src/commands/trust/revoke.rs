//! `lantern trust revoke`, `revoked` and `unrevoke`: keys that must not be trusted, whoever presents them.

use std::borrow::Cow;

use jiff::Timestamp;
use lantern_book::{Home, Revoked, TrustRecord, TrustStore};
use lantern_keys::Fingerprint;
use serde_json::{Value, json};

use crate::cli::trust::revoke::{RevokeArgs, UnrevokeArgs};
use crate::commands::key_source::KeyFile;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

pub(super) fn revoke(args: &RevokeArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let fingerprint = match args.key.parse::<Fingerprint>() {
        Ok(fingerprint) => fingerprint,
        Err(_) if args.key.contains(['/', '.']) => {
            let file = KeyFile::read(&args.key)?;
            file.public_fingerprint()
                .ok_or_else(|| Failure::new(code::LOCAL, format!("{} shows no public key", file.name())))?
        }
        Err(error) => return Err(Failure::new(code::USAGE, format!("`{}`: {error}", args.key))),
    };
    let reason = args.reason.trim();
    if reason.is_empty() || reason.chars().any(char::is_control) {
        return Err(Failure::new(code::USAGE, "say why, in a line"));
    }
    let revoked = Revoked { fingerprint, reason: reason.to_owned(), since: Timestamp::now() };
    let new = TrustStore::revoke(home, revoked)?;
    let store = TrustStore::load(home)?;
    let has_it =
        |record: &TrustRecord| record.keys.iter().any(|known| known.key.fingerprint() == fingerprint);
    let records = store.records()?.into_iter();
    let machines: Vec<String> = records.filter(|(_, record)| has_it(record)).map(|(name, _)| name).collect();
    if json {
        return output::print_json(
            &json!({ "fingerprint": fingerprint.to_string(), "revoked": new, "machines": machines }),
        );
    }
    output::say(&match new {
        true => format!("{fingerprint} is refused from now on."),
        false => format!("{fingerprint} was refused already."),
    });
    if !machines.is_empty() {
        output::warn(format!("it is the key of {}: they need new host keys", machines.join(", ")));
    }
    Ok(())
}

pub(super) fn list(home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    if json {
        let values: Vec<Value> = store
            .revoked()
            .iter()
            .map(
                |r| json!({ "fingerprint": r.fingerprint.to_string(), "reason": r.reason, "since": r.since }),
            )
            .collect();
        return output::print_json(&values);
    }
    if store.revoked().is_empty() {
        output::say("No key is refused. `lantern trust revoke` refuses one.");
        return Ok(());
    }
    let rows = store.revoked().iter().map(|revoked| {
        let since = revoked.since.strftime("%Y-%m-%d").to_string();
        [Cow::Owned(revoked.fingerprint.to_string()), since.into(), Cow::Borrowed(revoked.reason.as_str())]
    });
    output::print(&output::table(&["FINGERPRINT", "SINCE", "WHY"], rows))
}

pub(super) fn unrevoke(args: &UnrevokeArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let found = TrustStore::unrevoke(home, &args.fingerprint)?;
    if json {
        return output::print_json(
            &json!({ "fingerprint": args.fingerprint.to_string(), "taken_back": found }),
        );
    }
    match found {
        true => output::say(format!("{} is judged like any other key again.", args.fingerprint)),
        false => output::say("It was not refused."),
    }
    Ok(())
}
