//! `lantern key convert`: the same key in another container.

use std::path::Path;

use lantern_book::{KeyRing, check_place, write_new};
use lantern_keys::container::{Found, PrivateContainer, PublicContainer, PublicFile, Sealed};
use lantern_keys::{PrivateKey, PublicKey, SecretString};
use lantern_operations::convert::{
    ConvertError, ProtectOptions, check_container, convert_private, convert_private_to, convert_public,
    protection,
};
use serde_json::json;

use super::public_json;
use crate::cli::key::convert::{Container, ConvertArgs};
use crate::commands::key_source::{KeySource, pick_opened};
use crate::screen::failure::{Failure, chain, code};
use crate::screen::output;
use crate::terminal::passphrase;

pub(super) fn run(args: &ConvertArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    let source = KeySource::resolve(&args.key, ring)?;
    match (args.to, args.public) {
        (Some(Container::Private(_)), true) => Err(Failure::new(
            code::USAGE,
            "that is a container of private keys, and --public wants the public half",
        )
        .hint("of public halves: line, rfc4716, spki-pem, spki-der, pkcs1-public-pem, jwk")),
        (Some(Container::Private(container)), false) => to_private(args, &source, container, json),
        (Some(Container::Public(container)), _) => to_public(args, &source, container, json),
        (None, _) => to_public(args, &source, PublicContainer::Line, json),
    }
}

fn failed(error: ConvertError) -> Failure {
    let words = chain(&error);
    match error {
        ConvertError::Book(error) => error.into(),
        ConvertError::CannotProtect(_) => Failure::new(code::USAGE, words)
            .hint("`--to pkcs8-pem` can, and nearly everything reads it")
            .hint("`--plain` writes it in the open: whoever reads the file can use the key"),
        _ => Failure::new(code::USAGE, words),
    }
}

fn to_public(
    args: &ConvertArgs,
    source: &KeySource,
    container: PublicContainer,
    json: bool,
) -> Result<(), Failure> {
    let Half { public, is_comment_hidden } = public_half(args, source)?;
    let converted = convert_public(&public, container).map_err(failed)?;
    let PublicFile { key, comment, options, .. } = public;
    // Said once it is written: what is refused has lost nothing.
    let say_lost = || {
        if converted.lost_comment {
            say_comment_lost(&comment, container.name());
        }
        if converted.lost_options {
            output::warn(format!(
                "{} has no place for options: `{options}` is not in the new file.",
                container.name()
            ));
        }
        if is_comment_hidden {
            output::say(
                "Its comment is behind the passphrase; with `--passphrase-from SOURCE` it comes along.",
            );
        }
    };
    let out = args.out.as_deref().unwrap_or(Path::new("-"));
    if output::is_stdout(out) {
        check_shows(container == PublicContainer::SpkiDer)?;
        output::print_raw(&converted.content)?;
        say_lost();
        return Ok(());
    }
    write_new(out, &converted.content, 0o644, args.replace)?;
    say_lost();
    tell(args, out, container.name(), &key, &comment, json)
}

/// Bytes that are no text are nothing for a terminal to show.
pub(crate) fn check_shows(is_binary: bool) -> Result<(), Failure> {
    match is_binary && output::stdout_is_terminal() {
        true => Err(Failure::new(code::USAGE, "DER is no text, and standard output is a terminal")
            .hint("`--out PATH` writes it to a file; a form in PEM shows as text")),
        false => Ok(()),
    }
}

/// A public half.
struct Half {
    public: PublicFile,
    /// Whether there may be a comment, behind a passphrase that was not handed over.
    is_comment_hidden: bool,
}

/// The public half: without the passphrase where the container shows it.
fn public_half(args: &ConvertArgs, source: &KeySource) -> Result<Half, Failure> {
    let public = |key: PublicKey, comment: String| {
        let (options, container) = (String::new(), PublicContainer::Line);
        Half { public: PublicFile { key, comment, options, container }, is_comment_hidden: false }
    };
    let file = match source {
        KeySource::Ring(entry) => return Ok(public(entry.public.clone(), entry.comment.clone())),
        KeySource::File(file) => file,
    };
    let mut publics = file.found.iter().filter_map(|found| match found {
        Ok(Found::Public(public)) => Some(public.clone()),
        _ => None,
    });
    let has_private = file.found.iter().any(|found| matches!(found, Ok(Found::Private(_))));
    if !has_private && publics.clone().next().is_some() {
        return publics
            .nth(args.pick.unwrap_or(1).saturating_sub(1))
            .map(|public| Half { public, is_comment_hidden: false })
            .ok_or_else(|| Failure::new(code::USAGE, format!("{} has fewer public keys", file.name())));
    }
    let sealed = file.private(args.pick.filter(|_| file.found.len() > 1))?;
    match sealed.publics() {
        // The comment is within, but that is no reason to ask for a passphrase that was not handed over.
        [one] if sealed.is_protected() && args.open.passphrase_from.is_none() => {
            Ok(Half { is_comment_hidden: true, ..public(one.clone(), String::new()) })
        }
        [one] if !sealed.is_protected() => {
            Ok(public(one.clone(), sealed.comment(0).unwrap_or_default().to_owned()))
        }
        _ => {
            let (key, _) = private_half(args, source, sealed)?;
            Ok(public(key.public().clone(), key.comment().to_owned()))
        }
    }
}

/// The private half and the passphrase that opened it.
fn private_half(
    args: &ConvertArgs,
    source: &KeySource,
    sealed: &Sealed,
) -> Result<(PrivateKey, Option<SecretString>), Failure> {
    let name = match source {
        KeySource::Ring(entry) => entry.name.clone(),
        KeySource::File(file) => file.name(),
    };
    let opened = passphrase::open(sealed, &name, &args.open)?;
    let pick = match source {
        KeySource::File(file) if file.found.len() > 1 => None,
        _ => args.pick,
    };
    Ok((pick_opened(opened.keys, pick, &name)?, opened.passphrase))
}

fn to_private(
    args: &ConvertArgs,
    source: &KeySource,
    container: PrivateContainer,
    json: bool,
) -> Result<(), Failure> {
    let out = args.out.as_deref().ok_or_else(|| {
        Failure::new(code::USAGE, "a private key is written to a file, for you alone: say where")
            .hint("`--out PATH`; `--out -` prints it, for a pipe")
    })?;
    let to_stdout = output::is_stdout(out);
    if to_stdout {
        check_shows(matches!(
            container,
            PrivateContainer::Pkcs8Der | PrivateContainer::Pkcs1Der | PrivateContainer::Sec1Der
        ))?;
    } else {
        // Before a passphrase is asked for.
        check_place(out, args.replace)?;
    }
    let sealed = match source {
        KeySource::Ring(entry) => &entry.sealed,
        KeySource::File(file) => file.private(args.pick.filter(|_| file.found.len() > 1))?,
    };
    if !args.plain {
        check_container(sealed, container).map_err(failed)?;
    }
    let (key, old_passphrase) = private_half(args, source, sealed)?;
    let passphrase = match (args.new_passphrase, args.new_passphrase_from.as_ref()) {
        (false, None) if args.plain => None,
        (false, None) => old_passphrase,
        (_, source) => passphrase::choose_new("the new file", false, source, "--new-passphrase-from")?,
    };
    let options =
        ProtectOptions { cipher: args.cipher.clone(), derivation: args.derivation.clone(), cost: args.cost };
    let protect = protection(container, passphrase.as_ref(), &options).map_err(failed)?;
    if to_stdout {
        output::print_raw(&convert_private(&key, container, protect).map_err(failed)?)?;
    } else {
        convert_private_to(out, &key, container, protect, args.replace).map_err(failed)?;
    }
    if !key.comment().is_empty() && !container.keeps_comment() {
        say_comment_lost(key.comment(), container.name());
    }
    if passphrase.is_none() {
        output::warn("what was written has no passphrase: whoever reads it can use the key.");
    }
    if to_stdout {
        return Ok(());
    }
    tell(args, out, container.name(), key.public(), key.comment(), json)
}

fn say_comment_lost(comment: &str, container: &str) {
    output::warn(format!("{container} has no place for a comment: `{comment}` is not in the new file."));
}

fn tell(
    args: &ConvertArgs,
    out: &Path,
    container: &str,
    key: &PublicKey,
    comment: &str,
    json: bool,
) -> Result<(), Failure> {
    if json {
        let mut value = public_json(key, comment);
        value["file"] = json!(out);
        value["container"] = json!(container);
        return output::print_json(&value);
    }
    output::say(format!(
        "{} holds {} as {container}: {} {}.",
        out.display(),
        args.key,
        key.describe(),
        key.fingerprint()
    ));
    Ok(())
}
