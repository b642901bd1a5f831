//! `lantern trust export` and `import`: what one has verified, for a team.

use lantern_book::{Home, KeyRing, TrustStore, write_new};
use lantern_keys::PublicKey;
use lantern_operations::trust::{Belief, Offer, ShareError, share};
use serde_json::json;

use super::known_names;
use crate::cli::trust::share::{ExportArgs, ImportArgs};
use crate::commands::key_source::{pick_opened, read_text};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::{confirm, passphrase};
use lantern_operations::counted;

/// Largest file that is read, in bytes.
const MAX_FILE: u64 = 16 * 1024 * 1024;

pub(super) fn export(args: &ExportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let signer = match &args.key {
        None => None,
        Some(name) => {
            let entry = KeyRing::new(home).get(name)?;
            let opened = passphrase::open(&entry.sealed, &format!("the key {name}"), &args.open)?;
            Some((pick_opened(opened.keys, None, name)?, entry.comment))
        }
    };
    let signer = signer.as_ref().map(|(key, comment)| (key, comment.as_str()));
    let names = known_names(home, &TrustStore::load(home)?, &args.selection, &args.but.except)?;
    let shared = share(home, &names, signer)?.ok_or_else(|| {
        Failure::new(code::LOCAL, "there is nothing to export: no such machine has been met")
    })?;
    let Some(path) = args.to.as_ref().filter(|path| !output::is_stdout(path)) else {
        return output::print_raw(shared.text.as_bytes());
    };
    write_new(path, shared.text.as_bytes(), 0o644, args.replace)?;
    if json {
        return output::print_json(
            &json!({ "file": path, "machines": shared.machines, "signed": args.key.is_some() }),
        );
    }
    output::say(format!("{} in {}.", counted(shared.machines, "machine"), path.display()));
    Ok(())
}

fn unsigned(args: &ImportArgs) -> Failure {
    Failure::new(code::TRUST, format!("nobody signed {}", args.file.display()))
        .hint("`--unsigned` takes it in nevertheless; its keys are marked as imported unsigned")
}

fn failed(error: ShareError, args: &ImportArgs) -> Failure {
    let words = error.to_string();
    match error {
        ShareError::Book(error) => error.into(),
        ShareError::Revoked { .. } => Failure::new(code::TRUST, words),
        ShareError::OtherSigner { signed: None, .. } => unsigned(args),
        ShareError::OtherSigner { signed: Some(signed), expected } => {
            Failure::new(code::TRUST, format!("{} is signed with another key", args.file.display()))
                .detail(format!("signed with {signed}"))
                .detail(format!("expected    {expected}"))
        }
    }
}

pub(super) fn import(args: &ImportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let text = read_text(&args.file, MAX_FILE)?;
    let offer = Offer::read(home, &args.file, &text, args.signer.as_deref());
    let offer = offer.map_err(|error| failed(error, args))?;
    if args.plan {
        return tell_plan(&offer, json);
    }
    match &offer.belief {
        Belief::Own | Belief::AsSaid => {}
        Belief::Unsigned if args.unsigned => {}
        Belief::Unsigned => return Err(unsigned(args)),
        Belief::Stranger(key) => ask_about(key)?,
    }
    let came = offer.take_in(home)?;
    let file = &offer.file;
    if json {
        return output::print_json(&json!({
            "taken": came.taken, "left": came.left, "revoked": file.revoked.len(),
            "signer": file.signer.as_ref().map(|key| key.fingerprint().to_string()),
        }));
    }
    output::say(format!(
        "{} of {} machines taken in{}.",
        came.taken.len(),
        file.records.len(),
        if came.taken.len() + came.left.len() < file.records.len() { "; the rest was known" } else { "" }
    ));
    if !came.left.is_empty() {
        output::warn(format!(
            "known here by other keys, and left as they are: {}. `lantern trust look` shows which is right.",
            came.left.join(", ")
        ));
    }
    Ok(())
}

fn tell_plan(offer: &Offer, json: bool) -> Result<(), Failure> {
    let file = &offer.file;
    let signer = file.signer.as_ref().map(|key| key.fingerprint().to_string());
    if json {
        let machines: Vec<&String> = file.records.keys().collect();
        return output::print_json(
            &json!({ "machines": machines, "signer": signer, "revoked": file.revoked.len() }),
        );
    }
    output::say(format!("signed by: {}", signer.unwrap_or_else(|| "nobody".into())));
    for (name, record) in &file.records {
        for known in &record.keys {
            output::say(format!("{name}  {} {}", known.key.describe(), known.key.fingerprint()));
        }
    }
    Ok(())
}

/// Whether somebody is to be believed of whom nothing is known.
fn ask_about(key: &PublicKey) -> Result<(), Failure> {
    let fingerprint = key.fingerprint();
    output::warn_block(format!("It is signed with {}  {fingerprint}", key.describe()));
    confirm::agree(
        "Is that the key of somebody whose word you take for these machines?",
        &format!("compare it, then: --signer {fingerprint}"),
    )
}
