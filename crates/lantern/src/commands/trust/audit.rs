//! `lantern trust audit`: what is questionable about the host keys that are trusted.

use std::borrow::Cow;
use std::collections::BTreeMap;

use clap::Args;
use jiff::{Timestamp, ToSpan};
use lantern_book::{Home, MachineBook, TrustStore};
use lantern_keys::{Fingerprint, PublicKey};
use serde_json::{Value, json};

use crate::failure::Failure;
use crate::output;

/// RSA keys below this are on their way out, in bits: what NIST SP 800-57 gives until 2030.
const SMALL_RSA_BITS: usize = 3072;

/// Arguments of `trust audit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust audit
  lantern trust audit --unseen-for 30 --json

Exit code 1 when something is found.")]
pub(crate) struct AuditArgs {
    /// After how many days without being seen a key is questionable
    #[arg(long, value_name = "DAYS", default_value_t = 180, value_parser = clap::value_parser!(u16).range(1..))]
    unseen_for: u16,
}

/// Something that was found.
struct Finding {
    machines: Vec<String>,
    fingerprint: Fingerprint,
    kind: &'static str,
    detail: String,
    mend: String,
}

pub(super) fn run(args: &AuditArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let store = TrustStore::load(home)?;
    let book = MachineBook::load(home)?;
    let findings = look(&store, &book, args.unseen_for);
    if json {
        let values: Vec<Value> = findings
            .iter()
            .map(|f| {
                json!({
                    "kind": f.kind, "machines": f.machines, "fingerprint": f.fingerprint.to_string(),
                    "detail": f.detail, "mend": f.mend,
                })
            })
            .collect();
        output::print_json(&values)?;
    } else if findings.is_empty() {
        output::say(&format!("{} machines looked at, nothing found.", store.iter().count()));
    } else {
        let rows = findings.iter().map(|f| {
            [
                Cow::Borrowed(f.kind),
                f.machines.join(", ").into(),
                f.fingerprint.to_string().into(),
                f.detail.as_str().into(),
                f.mend.as_str().into(),
            ]
        });
        output::print(&output::table(&["FOUND", "MACHINES", "FINGERPRINT", "DETAIL", "WHAT TO DO"], rows))?;
    }
    Ok(u8::from(!findings.is_empty()))
}

fn look(store: &TrustStore, book: &MachineBook, unseen_for: u16) -> Vec<Finding> {
    let mut holders: BTreeMap<String, (Fingerprint, Vec<String>)> = BTreeMap::new();
    for (name, record) in store.iter() {
        for known in &record.keys {
            let fingerprint = known.key.fingerprint();
            let holder = holders.entry(fingerprint.to_string()).or_insert_with(|| (fingerprint, Vec::new()));
            holder.1.push(name.to_owned());
        }
    }
    let mut findings = Vec::new();
    for (fingerprint, machines) in holders.into_values().filter(|(_, machines)| machines.len() > 1) {
        findings.push(Finding {
            machines,
            fingerprint,
            kind: "shared",
            detail: "one of them can pass for the others: copies of one image?".into(),
            mend: "make new host keys on all but one, on their consoles".into(),
        });
    }
    let oldest = Timestamp::now() - (i64::from(unseen_for) * 24).hours();
    for (name, record) in store.iter() {
        for known in &record.keys {
            let mut found = |kind, detail: String, mend: String| {
                let fingerprint = known.key.fingerprint();
                findings.push(Finding { machines: vec![name.to_owned()], fingerprint, kind, detail, mend });
            };
            if let Some(revoked) = store.is_revoked(&known.key.fingerprint()) {
                found(
                    "revoked",
                    revoked.reason.clone(),
                    format!("new host keys on {name}, then lantern trust forget {name}"),
                );
            }
            if let PublicKey::Rsa { n, .. } = &known.key
                && n.len() * 8 < SMALL_RSA_BITS
            {
                found("weak", known.key.describe(), format!("make an Ed25519 host key on {name}"));
            }
            if !known.verified.is_compared() {
                found(
                    "uncompared",
                    known.verified.to_string(),
                    format!("lantern trust accept {name} --expect FINGERPRINT"),
                );
            }
            if known.last_seen < oldest {
                let day = known.last_seen.strftime("%Y-%m-%d");
                let mend = match book.get(name) {
                    Ok(_) => format!("lantern trust scan {name}"),
                    Err(_) => format!("lantern trust forget {name}"),
                };
                found("unseen", format!("last seen {day}"), mend);
            }
        }
    }
    // What is worst comes first.
    let rank =
        |kind: &str| ["revoked", "shared", "weak", "uncompared", "unseen"].iter().position(|k| *k == kind);
    findings.sort_by_key(|finding| rank(finding.kind));
    findings
}
