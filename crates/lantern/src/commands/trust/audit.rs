//! `lantern trust audit`: what is questionable about the host keys and certificates that are trusted.

use std::borrow::Cow;

use jiff::Timestamp;
use lantern_book::{Home, MachineBook, TrustStore};
use lantern_operations::trust::{Finding, FindingKind, audit};
use serde_json::{Value, json};

use crate::cli::trust::audit::AuditArgs;
use crate::screen::certificate;
use crate::screen::failure::Failure;
use crate::screen::output;
use lantern_operations::counted;

pub(super) fn run(args: &AuditArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let store = TrustStore::load(home)?;
    let book = MachineBook::load(home)?;
    let findings = audit(&store, args.unseen_for, Timestamp::now())?;
    if json {
        let values: Vec<Value> = findings
            .iter()
            .map(|f| {
                let (kind, detail, mend) = in_words(f, &book);
                json!({
                    "kind": kind, "machines": f.machines, "fingerprint": f.fingerprint.to_string(),
                    "detail": detail, "mend": mend,
                })
            })
            .collect();
        output::print_json(&values)?;
    } else if findings.is_empty() {
        output::say(format!("{} looked at, nothing found.", counted(store.machines().len(), "machine")));
    } else {
        let rows = findings.iter().map(|f| {
            let (kind, detail, mend) = in_words(f, &book);
            [
                Cow::Borrowed(kind),
                f.machines.join(", ").into(),
                f.fingerprint.to_string().into(),
                detail.into(),
                mend.into(),
            ]
        });
        output::print(&output::table(&["FOUND", "MACHINES", "FINGERPRINT", "DETAIL", "WHAT TO DO"], rows))?;
    }
    Ok(u8::from(!findings.is_empty()))
}

/// What was found, in a word and a sentence, and what to do about it.
fn in_words(finding: &Finding, book: &MachineBook) -> (&'static str, String, String) {
    let name = finding.machines.first().map_or("", String::as_str);
    match &finding.kind {
        FindingKind::Revoked { reason } => {
            let new = if finding.is_certificate { "a new certificate" } else { "new host keys" };
            ("revoked", reason.clone(), format!("{new} on {name}, then lantern trust forget {name}"))
        }
        FindingKind::Shared => (
            "shared",
            "one of them can pass for the others: copies of one image?".into(),
            match finding.is_certificate {
                true => "make new certificates on all but one, on their consoles".into(),
                false => "make new host keys on all but one, on their consoles".into(),
            },
        ),
        FindingKind::Twice { address } => (
            "twice",
            format!("one machine by several names: all were met at {address}"),
            match finding.machines.iter().find(|name| book.get(name).is_err()) {
                Some(name) => format!("lantern trust forget {name}"),
                None => format!("lantern machine show {}", finding.machines.join(",")),
            },
        ),
        FindingKind::Ends { at, has_ended } => {
            let (kind, verb) = if *has_ended { ("ended", "ended") } else { ("ends", "ends") };
            let mend = format!("a new certificate on {name}, then lantern trust accept {name}");
            (kind, format!("{verb} on {}", certificate::day(*at)), mend)
        }
        FindingKind::Weak { what } if finding.is_certificate => {
            let mend = format!("a new certificate on {name}, then lantern trust accept {name}");
            ("weak", what.clone(), mend)
        }
        FindingKind::Weak { what } => ("weak", what.clone(), format!("make an Ed25519 host key on {name}")),
        FindingKind::Uncompared { how } => {
            ("uncompared", how.clone(), format!("lantern trust accept {name} --expect FINGERPRINT"))
        }
        FindingKind::Unseen { since } => {
            let mend = match book.get(name) {
                Ok(_) => format!("lantern trust look {name}"),
                Err(_) => format!("lantern trust forget {name}"),
            };
            ("unseen", format!("last seen {}", since.strftime("%Y-%m-%d")), mend)
        }
    }
}
