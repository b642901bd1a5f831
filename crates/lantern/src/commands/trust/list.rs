//! `lantern trust list` and `show`.

use std::borrow::Cow;

use lantern_book::{BookError, Home, TrustRecord, TrustStore};
use lantern_keys::TlsCertificate;
use serde_json::{Value, json};

use super::{certificates_json, keys_json, known_names};
use crate::cli::trust::ShowArgs;
use crate::cli::trust::list::ListArgs;
use crate::screen::certificate;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::flags_view;
use crate::screen::output;

pub(super) fn list(args: &ListArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    let names = known_names(home, &store, &args.selection, &args.but.except)?;
    let mut records: Vec<(&str, TrustRecord)> = names
        .iter()
        .map(|name| Ok((name.as_str(), store.get(name)?.unwrap_or_default())))
        .collect::<Result<_, BookError>>()?;
    if args.uncompared {
        records.retain(|(_, record)| record.keys.iter().any(|known| !known.verified.is_compared()));
    }
    if json {
        let machines: Vec<Value> = records.iter().map(|(name, record)| record_json(name, record)).collect();
        return output::print_json(&machines);
    }
    let mut rows: Vec<[Cow<'_, str>; 6]> = Vec::new();
    for (name, record) in &records {
        let address = || record.addresses.last().cloned().unwrap_or_default().into();
        let day = |at: jiff::Timestamp| at.strftime("%Y-%m-%d").to_string().into();
        for known in record.keys.iter().filter(|known| !args.uncompared || !known.verified.is_compared()) {
            rows.push([
                Cow::Borrowed(name),
                known.key.describe().into(),
                known.key.fingerprint().to_string().into(),
                day(known.last_seen),
                known.verified.to_string().into(),
                address(),
            ]);
        }
        for known in record.certificates.iter().filter(|_| !args.uncompared) {
            rows.push([
                Cow::Borrowed(name),
                "TLS certificate".into(),
                known.fingerprint().to_string().into(),
                day(known.last_seen),
                known.verified.to_string().into(),
                address(),
            ]);
        }
    }
    if rows.is_empty() {
        output::say(if store.machines().is_empty() {
            "No machine has been met yet."
        } else {
            "None is like that."
        });
        return Ok(());
    }
    output::print(&output::table(
        &["MACHINE", "ALGORITHM", "FINGERPRINT", "LAST SEEN", "VERIFIED", "ADDRESS"],
        rows,
    ))
}

fn record_json(name: &str, record: &TrustRecord) -> Value {
    json!({
        "machine": name, "addresses": record.addresses, "keys": keys_json(record),
        "certificates": certificates_json(&record.certificates),
        "authorities": certificates_json(&record.authorities),
    })
}

pub(super) fn show(args: &ShowArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = TrustStore::load(home)?;
    let names = known_names(home, &store, &args.machines.selection, &args.machines.but.except)?;
    let mut records = Vec::new();
    for name in &names {
        let record = store.get(name)?.ok_or_else(|| {
            Failure::new(code::LOCAL, format!("nothing is known of {name}"))
                .hint(format!("lantern trust look {name}"))
        })?;
        records.push((name, record));
    }
    if json {
        let values: Vec<Value> = records.iter().map(|(name, record)| record_json(name, record)).collect();
        return output::print_json(&values);
    }
    if records.is_empty() {
        output::say("None of them has been met.");
    }
    let mut text = Fit::default();
    for (at, (name, record)) in records.iter().enumerate() {
        if at > 0 {
            text.push(Fit::literal("\n\n"));
        }
        text.push(picture(&store, name, record));
    }
    output::print(&text)
}

/// All that is known of a machine.
fn picture(store: &TrustStore, name: &str, record: &TrustRecord) -> Fit {
    let day = |at: jiff::Timestamp| at.strftime("%Y-%m-%d %H:%M UTC").to_string();
    let mut text =
        output::fields(&[("machine", Fit::line(name)), ("met at", record.addresses.join(", ").into())]);
    for known in &record.keys {
        let fingerprint = known.key.fingerprint();
        let refused = store.is_revoked(&fingerprint).map(|revoked| format!("REVOKED: {}", revoked.reason));
        text.end_line();
        text.push(output::fields(&[
            ("host key", format!("{}  {fingerprint}", known.key.describe()).into()),
            ("verified", known.verified.to_string().into()),
            ("by", known.by.map(|by| by.to_string().into()).unwrap_or_default()),
            ("first seen", day(known.first_seen).into()),
            ("last seen", day(known.last_seen).into()),
            ("refused", refused.map(Fit::from).unwrap_or_default()),
        ]));
        text.end_line();
        text.push(flags_view::draw(&fingerprint, output::colorful_stdout()).indented(4));
    }
    for known in &record.certificates {
        text.end_line();
        let fingerprint = known.fingerprint();
        let refused = store.is_revoked(&fingerprint).map(|revoked| format!("REVOKED: {}", revoked.reason));
        let read = TlsCertificate::read(&known.der).ok();
        let of = |what: fn(&TlsCertificate) -> String| {
            read.as_ref().map(|read| what(read).into()).unwrap_or_default()
        };
        let key = read.as_ref().map(TlsCertificate::describe).unwrap_or_default();
        text.push(output::fields(&[
            ("certificate", format!("{key}  {fingerprint}").trim_start().into()),
            ("thumbprint", of(TlsCertificate::thumbprint)),
            ("for", of(certificate::names)),
            ("issued by", of(certificate::issuer)),
            ("valid", of(certificate::validity)),
            ("verified", known.verified.to_string().into()),
            ("first seen", day(known.first_seen).into()),
            ("last seen", day(known.last_seen).into()),
            ("refused", refused.map(Fit::from).unwrap_or_default()),
        ]));
        text.end_line();
        text.push(flags_view::draw(&fingerprint, output::colorful_stdout()).indented(4));
    }
    for known in &record.authorities {
        let subject =
            TlsCertificate::read(&known.der).map(|read| read.subject().to_owned()).unwrap_or_default();
        text.end_line();
        text.push(output::fields(&[
            ("authority", format!("{subject}  {}", known.fingerprint()).trim_start().into()),
            ("verified", known.verified.to_string().into()),
            ("first seen", day(known.first_seen).into()),
        ]));
    }
    text
}
