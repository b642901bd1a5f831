//! `lantern trust export` and `import`: what one has verified, for a team.

use std::path::PathBuf;

use clap::Args;
use lantern_book::{Home, KeyRing, TrustFile, TrustStore, glob, write_new};
use lantern_keys::{Fingerprint, PublicKey};
use serde_json::json;

use crate::confirm;
use crate::failure::{Failure, code};
use crate::output;
use crate::passphrase::{self, OpenArgs};

/// Largest file that is read, in bytes.
const MAX_FILE: u64 = 16 * 1024 * 1024;

/// Arguments of `trust export`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust export --key harbour --to coast.trust
  lantern trust export 'lamp-*' --key harbour > lamps.trust
  lantern trust export --unsigned > for-reading.trust")]
pub(crate) struct ExportArgs {
    /// Only machines whose name is like this (`*` and `?` stand for others)
    #[arg(value_name = "GLOB")]
    names: Vec<String>,
    /// The key of the ring to sign with
    #[arg(long, value_name = "NAME", required_unless_present = "unsigned", add = crate::completing::keys())]
    key: Option<String>,
    /// Don't sign: whoever reads it has to take your word for it
    #[arg(long, conflicts_with = "key")]
    unsigned: bool,
    /// Write to this file instead of standard output
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, requires = "to")]
    replace: bool,
    #[command(flatten)]
    open: OpenArgs,
}

/// Arguments of `trust import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust import coast.trust                       asks whether you believe who signed it
  lantern trust import coast.trust --signer SHA256:…     if it is signed with that key
  lantern trust import coast.trust --plan

Machines that you know by other keys are left as they are. A file that was changed after it
was signed is refused.")]
pub(crate) struct ImportArgs {
    /// The file; - for standard input
    file: PathBuf,
    /// Believe what this key signed: its fingerprint, or its name in the ring
    #[arg(long, value_name = "FINGERPRINT|NAME")]
    signer: Option<String>,
    /// Take in a file that nobody signed
    #[arg(long, conflicts_with = "signer")]
    unsigned: bool,
    /// Say what would change, and change nothing
    #[arg(long)]
    plan: bool,
}

pub(super) fn export(args: &ExportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    let wanted = |name: &str| args.names.is_empty() || args.names.iter().any(|pattern| glob(pattern, name));
    let count = store.iter().filter(|(name, _)| wanted(name)).count();
    if count == 0 {
        return Err(Failure::new(code::LOCAL, "there is nothing to export: no such machine has been met"));
    }
    let text = match &args.key {
        None => TrustFile::write(&store, wanted, None)?,
        Some(name) => {
            let entry = KeyRing::new(home).get(name)?;
            let opened = passphrase::open(&entry.sealed, &format!("the key {name}"), &args.open)?;
            let key = crate::key_source::pick_opened(opened.keys, None, name)?;
            TrustFile::write(&store, wanted, Some((&key, &entry.comment)))?
        }
    };
    match &args.to {
        Some(path) => {
            write_new(path, text.as_bytes(), 0o644, args.replace)?;
            if json {
                return output::print_json(
                    &json!({ "file": path, "machines": count, "signed": args.key.is_some() }),
                );
            }
            output::say(&format!("{count} machines are in {}.", path.display()));
            Ok(())
        }
        None => output::print(&text),
    }
}

pub(super) fn import(args: &ImportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let text = crate::key_source::read_text(&args.file, MAX_FILE)?;
    let file = TrustFile::read(&args.file, &text)?;
    let store = TrustStore::load(home)?;
    if let Some(revoked) = file.signer.as_ref().and_then(|key| store.is_revoked(&key.fingerprint())) {
        return Err(Failure::new(
            code::TRUST,
            format!("the key that signed it was revoked: {}", revoked.reason),
        ));
    }
    if !args.plan {
        believe(args, home, file.signer.as_ref())?;
    }
    let machines: Vec<&String> = file.records.keys().collect();
    if args.plan {
        let signer = file.signer.as_ref().map(|key| key.fingerprint().to_string());
        if json {
            return output::print_json(
                &json!({ "machines": machines, "signer": signer, "revoked": file.revoked.len() }),
            );
        }
        output::say(&format!("signed by: {}", signer.unwrap_or_else(|| "nobody".into())));
        for (name, record) in &file.records {
            for known in &record.keys {
                output::say(&format!("{name}  {} {}", known.key.describe(), known.key.fingerprint()));
            }
        }
        return Ok(());
    }
    let (taken, left) = TrustStore::take_in(home, &file.records, &file.revoked)?;
    if json {
        return output::print_json(&json!({
            "taken": taken, "left": left, "revoked": file.revoked.len(),
            "signer": file.signer.as_ref().map(|key| key.fingerprint().to_string()),
        }));
    }
    output::say(&format!(
        "{} of {} machines taken in{}.",
        taken.len(),
        file.records.len(),
        if taken.len() + left.len() < file.records.len() { "; the rest was known" } else { "" }
    ));
    if !left.is_empty() {
        output::warn(&format!(
            "known here by other keys, and left as they are: {}. `lantern trust scan` shows which is right.",
            left.join(", ")
        ));
    }
    Ok(())
}

/// Whether who signed is to be believed: as said, or by a yes.
fn believe(args: &ImportArgs, home: &Home, signer: Option<&PublicKey>) -> Result<(), Failure> {
    let Some(key) = signer else {
        return match args.unsigned {
            true => Ok(()),
            false => Err(Failure::new(code::TRUST, format!("nobody signed {}", args.file.display()))
                .hint("`--unsigned` takes it in nevertheless; its keys are marked as imported unsigned")),
        };
    };
    let fingerprint = key.fingerprint();
    let ring = KeyRing::new(home);
    if let Some(typed) = &args.signer {
        let wanted = match typed.parse::<Fingerprint>() {
            Ok(wanted) => wanted,
            Err(_) => ring.get(typed)?.public.fingerprint(),
        };
        return match wanted == fingerprint {
            true => Ok(()),
            false => {
                Err(Failure::new(code::TRUST, format!("{} is signed with another key", args.file.display()))
                    .detail(format!("signed with {fingerprint}"))
                    .detail(format!("expected    {wanted}")))
            }
        };
    }
    let own = ring.all()?.into_iter().filter_map(Result::ok).find(|entry| entry.public == *key);
    if own.is_some() {
        return Ok(());
    }
    output::warn_block(&format!("It is signed with {}  {fingerprint}", key.describe()));
    confirm::agree(
        "Is that the key of somebody whose word you take for these machines?",
        &format!("compare it, then: --signer {fingerprint}"),
    )
}
