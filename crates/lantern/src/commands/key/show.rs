//! `lantern key show`: all about a key of the ring, or about what is in a file.

use jiff::Timestamp;
use lantern_book::{Home, KeyRing, MachineBook, RingEntry};
use lantern_keys::container::{Found, PublicFile, Sealed};
use lantern_keys::{KeyError, PublicKey, fingerprint, public_line, sshfp};
use serde_json::{Value, json};

use super::{certificate, public_json, summary_json};
use crate::cli::key::show::ShowArgs;
use crate::commands::key_source::{KeyFile, KeySource};
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::flags_view;
use crate::screen::{output, qr};
use crate::terminal::clipboard;

pub(super) fn run(args: &ShowArgs, home: &Home, json: bool) -> Result<(), Failure> {
    match KeySource::resolve(&args.key, &KeyRing::new(home))? {
        KeySource::Ring(entry) => match short_form(args, &entry.public, &entry.comment)? {
            Some(text) => output::print(&text),
            None => show_entry(&entry, home, json),
        },
        KeySource::File(file) => show_file(args, &file, json),
    }
}

/// The one line asked for, when one was.
fn short_form(args: &ShowArgs, key: &PublicKey, comment: &str) -> Result<Option<Fit>, Failure> {
    if let Some(host) = &args.sshfp {
        let plain = |c: char| c.is_ascii_alphanumeric() || "-_.".contains(c);
        if host.is_empty() || host.len() > 255 || !host.chars().all(plain) {
            return Err(Failure::new(code::USAGE, format!("`{host}` is no host name for a zone file")));
        }
        return Ok(Some(fit!("{}\n", sshfp::record(host, key))));
    }
    let line = public_line::format(key, comment);
    if args.qr {
        return Ok(Some(qr::draw(&line)?));
    }
    if args.copy {
        clipboard::put(&line, "`--line` prints it")?;
        return Ok(Some(Fit::default()));
    }
    Ok(args.line.then(|| fit!("{}\n", line)))
}

fn show_entry(entry: &RingEntry, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let users: Vec<&str> = book.users_of_key(&entry.name).collect();
    if json {
        let mut value = summary_json(&entry.summary(), &KeyRing::new(home));
        value["machines"] = json!(users);
        return output::print_json(&[value]);
    }
    let mut pairs = vec![
        ("key", Fit::line(&entry.name)),
        ("private", fit!("{} ({})", entry.path.display(), mode_in_words(entry.mode))),
    ];
    pairs.extend(container_fields(&entry.sealed));
    if let Some(made) = entry.note.made {
        let days = Timestamp::now().duration_since(made).as_hours() / 24;
        let age = match days {
            0 => "today".to_owned(),
            1 => "1 day ago".into(),
            days => format!("{days} days ago"),
        };
        let word = if entry.note.imported_from.is_some() { "imported" } else { "made" };
        pairs.push((word, format!("{}, {age}", made.strftime("%Y-%m-%d %H:%M UTC")).into()));
    }
    if let Some(from) = &entry.note.imported_from {
        pairs.push(("from", from.into()));
    }
    if let Some(next) = &entry.note.replaced_by {
        pairs.push(("replaced by", next.into()));
    }
    let installed = entry.note.installed.iter().map(|place| {
        let limits =
            if place.limits.is_empty() { String::new() } else { format!(", limited: {}", place.limits) };
        format!("{} as {} since {}{limits}", place.machine, place.user, place.at.strftime("%Y-%m-%d"))
    });
    let installed: Vec<String> = installed.collect();
    pairs.push((
        "installed",
        if installed.is_empty() { "nowhere by lantern".into() } else { Fit::stacked(&installed) },
    ));
    pairs.push((
        "machines",
        if users.is_empty() { "none in the book names it".into() } else { users.join(", ").into() },
    ));
    pairs.extend(public_fields(&entry.public, &entry.comment));
    output::print(&output::fields(&pairs))
}

fn mode_in_words(mode: u32) -> String {
    match mode & 0o077 {
        0 => format!("mode {mode:04o}: only you can read it"),
        _ => format!("mode {mode:04o}: OTHERS can read it; chmod 600 mends that"),
    }
}

fn container_fields(sealed: &Sealed) -> Vec<(&'static str, Fit)> {
    let protection = match sealed.describe_protection() {
        None => "no passphrase: whoever reads the file can use it".into(),
        Some(protection) if sealed.is_weakly_protected() => fit!("{} (weak: quickly searched)", protection),
        Some(protection) => protection.into(),
    };
    vec![("container", sealed.container().name().into()), ("protection", protection)]
}

fn public_fields(key: &PublicKey, comment: &str) -> Vec<(&'static str, Fit)> {
    let fingerprint = key.fingerprint();
    vec![
        ("algorithm", key.describe().into()),
        ("comment", comment.into()),
        ("fingerprint", fingerprint.to_string().into()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("old form", fit!("{} (to recognise, not to verify)", fingerprint::md5_of_blob(&key.encode()))),
        ("line", public_line::format(key, comment).into()),
    ]
}

/// Everything in a file that need not be in the ring.
fn show_file(args: &ShowArgs, file: &KeyFile, json: bool) -> Result<(), Failure> {
    if args.line || args.qr || args.copy || args.sshfp.is_some() {
        let mut text = Fit::default();
        for (key, comment) in file.found.iter().flat_map(publics) {
            text.push(short_form(args, &key, &comment)?.unwrap_or_default());
        }
        if text.as_str().is_empty() {
            return Err(nothing_to_show(file));
        }
        return output::print(&text);
    }
    // A file with one thing in it that is wrong has no more to show than that.
    if let [Err(error)] = file.found.as_slice() {
        return Err(Failure::new(code::LOCAL, format!("{}: {error}", file.name())));
    }
    if json {
        let values: Vec<Value> = file.found.iter().map(|found| found_json(found, file)).collect();
        return output::print_json(&values);
    }
    let several = file.found.len() > 1;
    let mut text = Fit::default();
    for (at, found) in file.found.iter().enumerate() {
        let number = if several { format!(", {} of {}", at + 1, file.found.len()) } else { String::new() };
        let mut pairs = vec![("file", fit!("{}{}", file.name(), number))];
        pairs.extend(found_fields(found, file));
        if at > 0 {
            text.end_line();
        }
        text.push(output::fields(&pairs));
    }
    output::print(&text)
}

/// The public halves that a thing shows, with comments.
fn publics(found: &Result<Found, KeyError>) -> Vec<(PublicKey, String)> {
    match found {
        Ok(Found::Private(sealed)) => {
            let comment = |at| sealed.comment(at).unwrap_or_default().to_owned();
            sealed.publics().iter().enumerate().map(|(at, key)| (key.clone(), comment(at))).collect()
        }
        Ok(Found::Public(PublicFile { key, comment, .. })) => vec![(key.clone(), comment.clone())],
        _ => Vec::new(),
    }
}

fn nothing_to_show(file: &KeyFile) -> Failure {
    let closed = file.found.iter().any(|found| matches!(found, Ok(Found::Private(_))));
    let failure = Failure::new(code::LOCAL, format!("{} does not show a public half", file.name()));
    match closed {
        true => failure
            .detail("its container hides it behind the passphrase")
            .hint(format!("lantern key convert {} --public", file.name())),
        false => failure.hint(format!("`lantern key show {}` says what is in it", file.name())),
    }
}

fn found_fields(found: &Result<Found, KeyError>, file: &KeyFile) -> Vec<(&'static str, Fit)> {
    match found {
        Err(error) => vec![("broken", error.to_string().into())],
        Ok(Found::Other(other)) => {
            let mut pairs = vec![("holds", Fit::line(&other.what))];
            if !other.why.is_empty() {
                pairs.push(("but", other.why.into()));
            }
            if let Some(fingerprint) = other.fingerprint {
                pairs.push(("comment", Fit::line(&other.comment)));
                pairs.push(("fingerprint", fingerprint.to_string().into()));
                pairs.push(("", flags_view::draw(&fingerprint, output::colorful_stdout())));
            }
            pairs
        }
        Ok(Found::Certificate { certificate, comment }) => {
            let mut pairs = certificate::fields(certificate, comment, Timestamp::now());
            let picture = flags_view::draw(&certificate.key_fingerprint, output::colorful_stdout());
            pairs.push(("", picture));
            pairs
        }
        Ok(Found::Public(public)) => {
            let mut pairs = vec![("container", fit!("{} (public)", public.container.name()))];
            if !public.options.is_empty() {
                pairs.push(("options", Fit::line(&public.options)));
            }
            pairs.extend(public_fields(&public.key, &public.comment));
            pairs
        }
        Ok(Found::Private(sealed)) => {
            let mut pairs: Vec<_> =
                file.mode.map(|mode| ("private", mode_in_words(mode).into())).into_iter().collect();
            pairs.extend(container_fields(sealed));
            match sealed.publics() {
                [] => pairs.push(("public", "hidden behind the passphrase".into())),
                publics => publics.iter().enumerate().for_each(|(at, key)| {
                    pairs.extend(public_fields(key, sealed.comment(at).unwrap_or_default()));
                }),
            }
            pairs
        }
    }
}

fn found_json(found: &Result<Found, KeyError>, file: &KeyFile) -> Value {
    let mut value = match found {
        Err(error) => json!({ "kind": "broken", "error": error.to_string() }),
        Ok(Found::Other(other)) => json!({
            "kind": "other",
            "what": other.what,
            "why": other.why,
            "fingerprint": other.fingerprint.map(|fingerprint| fingerprint.to_string()),
            "comment": other.comment,
        }),
        Ok(Found::Certificate { certificate, comment }) => certificate::to_json(certificate, comment),
        Ok(Found::Public(public)) => {
            let mut value = public_json(&public.key, &public.comment);
            value["kind"] = json!("public");
            value["container"] = json!(public.container.name());
            value["options"] = json!(public.options);
            value
        }
        Ok(Found::Private(sealed)) => {
            let comment = sealed.comment(0).unwrap_or_default();
            let mut value = sealed.public().map_or(json!({}), |key| public_json(key, comment));
            value["kind"] = json!("private");
            value["container"] = json!(sealed.container().name());
            value["passphrase"] = json!(sealed.is_protected());
            value["protection"] = json!(sealed.describe_protection());
            value["keys"] = json!(sealed.publics().len().max(1));
            value["mode"] = json!(file.mode.map(|mode| format!("{mode:04o}")));
            value
        }
    };
    value["file"] = json!(file.path);
    value
}
