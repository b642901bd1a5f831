//! `lantern key convert`: the same key in another container.

use std::path::{Path, PathBuf};

use clap::Args;
use lantern_book::{KeyRing, export_private, write_new};
use lantern_keys::container::encrypted_pkcs8::{Cipher, Derivation, Prf};
use lantern_keys::container::work::{MAX_BCRYPT_ROUNDS, MAX_PBKDF2_ITERATIONS};
use lantern_keys::container::{
    Found, OpensshCipher, PrivateContainer, Protect, PublicContainer, PublicFile, Sealed, write_private,
    write_public,
};
use lantern_keys::{PrivateKey, PublicKey, SecretString, SystemRandom};
use serde_json::json;

use super::public_json;
use crate::failure::{Failure, code};
use crate::key_source::{KeySource, pick_opened};
use crate::output;
use crate::passphrase::{self, OpenArgs};

/// Arguments of `key convert`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key convert console.pem --to openssh-key-v1 --out lamp-01.key
  lantern key convert harbour --to pkcs8-pem --out harbour.pem    for a library that wants PKCS#8
  lantern key convert harbour --public --to rfc4716                 the public half, printed
  lantern key convert old.pem --to pkcs8-der --out new.der --new-passphrase

Private containers: openssh-key-v1, pkcs8-pem, pkcs8-der, pkcs1-pem and pkcs1-der (RSA),
sec1-pem and sec1-der (ECDSA). Public ones: line, rfc4716, spki-pem, spki-der, pkcs1-public-
pem (RSA), jwk. The passphrase stays the same unless told otherwise. No file is written over
without --replace.")]
pub(crate) struct ConvertArgs {
    /// A name in the ring, a file in any container, or - for standard input
    key: String,
    /// The container to write [default with --public: line]
    #[arg(long, value_name = "CONTAINER", value_parser = target, required_unless_present = "public")]
    to: Option<Container>,
    /// Where to write it; - for standard output [default for public halves: -]
    #[arg(long, value_name = "PATH")]
    out: Option<PathBuf>,
    /// Write the public half only
    #[arg(long)]
    public: bool,
    /// Write over a file that is there
    #[arg(long)]
    replace: bool,
    /// Of several keys, take this one, counted from 1
    #[arg(long, value_name = "NUMBER")]
    pick: Option<usize>,
    #[command(flatten)]
    open: OpenArgs,
    /// Write it without a passphrase
    #[arg(long)]
    plain: bool,
    /// Ask for another passphrase
    #[arg(long, conflicts_with = "plain")]
    new_passphrase: bool,
    /// Read another passphrase from this file descriptor
    #[arg(long, value_name = "N", conflicts_with_all = ["plain", "new_passphrase"])]
    new_passphrase_fd: Option<u32>,
    /// Cipher: for PKCS#8 aes256-cbc, aes192-cbc, aes128-cbc; for openssh-key-v1 these, -ctr, -gcm, chacha20-poly1305
    #[arg(long, value_name = "NAME")]
    cipher: Option<String>,
    /// Key derivation of PKCS#8: pbkdf2-sha256, pbkdf2-sha384, pbkdf2-sha512, scrypt
    #[arg(long, value_name = "NAME")]
    derivation: Option<String>,
    /// Cost of the derivation: rounds of bcrypt, iterations of PBKDF2, or the power of two of scrypt
    #[arg(long, value_name = "NUMBER")]
    cost: Option<u32>,
}

/// What `--to` names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Container {
    Private(PrivateContainer),
    Public(PublicContainer),
}

fn target(name: &str) -> Result<Container, String> {
    let private = PrivateContainer::NAMES.into_iter().find(|(known, _)| *known == name);
    let public = PublicContainer::NAMES.into_iter().find(|(known, _)| *known == name);
    private
        .map(|(_, container)| Container::Private(container))
        .or(public.map(|(_, container)| Container::Public(container)))
        .ok_or_else(|| {
            let names = PrivateContainer::NAMES.map(|(name, _)| name).into_iter();
            let names: Vec<&str> = names.chain(PublicContainer::NAMES.map(|(name, _)| name)).collect();
            format!("one of {}", names.join(", "))
        })
}

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

fn to_public(
    args: &ConvertArgs,
    source: &KeySource,
    container: PublicContainer,
    json: bool,
) -> Result<(), Failure> {
    let PublicFile { key, comment, options, .. } = public_half(args, source)?;
    let mut content = write_public(&key, &comment, container)
        .map_err(|error| Failure::new(code::USAGE, error.to_string()))?;
    if !comment.is_empty() && !container.keeps_comment() {
        say_comment_lost(&comment, container.name());
    }
    match container {
        _ if options.is_empty() => {}
        PublicContainer::Line => {
            content.splice(0..0, format!("{options} ").into_bytes());
        }
        _ => output::warn(&format!(
            "{} has no place for options: `{options}` is not in the new file.",
            container.name()
        )),
    }
    let out = args.out.as_deref().unwrap_or(Path::new("-"));
    if out == Path::new("-") {
        return output::print_bytes(&content);
    }
    write_new(out, &content, 0o644, args.replace)?;
    tell(args, out, container.name(), &key, &comment, json)
}

/// The public half: without the passphrase where the container shows it.
fn public_half(args: &ConvertArgs, source: &KeySource) -> Result<PublicFile, Failure> {
    let public = |key: PublicKey, comment: String| PublicFile {
        key,
        comment,
        options: String::new(),
        container: PublicContainer::Line,
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
            .ok_or_else(|| Failure::new(code::USAGE, format!("{} has fewer public keys", file.name())));
    }
    let sealed = file.private(args.pick.filter(|_| file.found.len() > 1))?;
    match sealed.publics() {
        // The comment is within, but that is no reason to ask for a passphrase that was not handed over.
        [one] if sealed.is_protected() && args.open.passphrase_fd.is_none() => {
            output::say("Its comment is behind the passphrase; with `--passphrase-fd N` it comes along.");
            Ok(public(one.clone(), String::new()))
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
    if out.exists() && out != Path::new("-") && !args.replace {
        return Err(lantern_book::BookError::Exists { what: "file", name: out.display().to_string() }.into());
    }
    let sealed = match source {
        KeySource::Ring(entry) => &entry.sealed,
        KeySource::File(file) => file.private(args.pick.filter(|_| file.found.len() > 1))?,
    };
    if sealed.is_protected() && !args.plain && !container.can_protect() {
        return Err(Failure::new(
            code::USAGE,
            format!(
                "{} cannot hold a passphrase in a way that protects: one MD5 would stand before the key",
                container.name()
            ),
        )
        .hint("`--to pkcs8-pem` can, and nearly everything reads it")
        .hint("`--plain` writes it in the open: whoever reads the file can use the key"));
    }
    let (key, old_passphrase) = private_half(args, source, sealed)?;
    let passphrase = match (args.new_passphrase, args.new_passphrase_fd) {
        (false, None) if args.plain => None,
        (false, None) => old_passphrase,
        (_, descriptor) => passphrase::choose_new("the new file", false, descriptor, "--new-passphrase-fd")?,
    };
    let protect = protection(args, container, passphrase.as_ref())?;
    if !key.comment().is_empty() && !container.keeps_comment() {
        say_comment_lost(key.comment(), container.name());
    }
    if passphrase.is_none() {
        output::warn("the new file has no passphrase: whoever reads it can use the key.");
    }
    let usage = |error: lantern_keys::KeyError| Failure::new(code::USAGE, error.to_string());
    if out == Path::new("-") {
        return output::print_bytes(
            &write_private(&key, container, protect, &mut SystemRandom).map_err(usage)?,
        );
    }
    export_private(out, &key, container, protect, args.replace, &mut SystemRandom)?;
    tell(args, out, container.name(), key.public(), key.comment(), json)
}

/// Cipher and derivation by the options.
fn protection<'a>(
    args: &ConvertArgs,
    container: PrivateContainer,
    passphrase: Option<&'a SecretString>,
) -> Result<Protect<'a>, Failure> {
    let mut protect = Protect::with(passphrase);
    let bad = |what: &str, name: &str| {
        Failure::new(code::USAGE, format!("{} has no {what} `{name}`", container.name()))
    };
    let tuned = args.cipher.is_some() || args.derivation.is_some() || args.cost.is_some();
    if tuned && (passphrase.is_none() || !container.can_protect()) {
        return Err(Failure::new(code::USAGE, "cipher and cost make sense with a passphrase only"));
    }
    if container == PrivateContainer::OpensshKeyV1 {
        if let Some(name) = &args.cipher {
            protect.openssh.cipher = OpensshCipher::from_name(name).ok_or_else(|| bad("cipher", name))?;
        }
        if let Some(name) = args.derivation.as_ref().filter(|name| *name != "bcrypt") {
            return Err(bad("derivation", name));
        }
        protect.openssh.rounds = args.cost.unwrap_or(protect.openssh.rounds);
    } else {
        if let Some(name) = &args.cipher {
            protect.pkcs8.cipher = match name.as_str() {
                "aes256-cbc" => Cipher::Aes256,
                "aes192-cbc" => Cipher::Aes192,
                "aes128-cbc" => Cipher::Aes128,
                _ => return Err(bad("cipher", name)),
            };
        }
        let pbkdf2 = |prf| Derivation::Pbkdf2(prf, args.cost.unwrap_or(600_000));
        protect.pkcs8.derivation = match args.derivation.as_deref() {
            None | Some("pbkdf2-sha256") => pbkdf2(Prf::Sha256),
            Some("pbkdf2-sha384") => pbkdf2(Prf::Sha384),
            Some("pbkdf2-sha512") => pbkdf2(Prf::Sha512),
            // More than that would need more memory than other readers allow.
            Some("scrypt") => match args.cost.unwrap_or(14) {
                power @ 10..=20 => Derivation::Scrypt(power as u8),
                _ => {
                    return Err(Failure::new(
                        code::USAGE,
                        "the cost of scrypt is a power of two from 10 to 20",
                    ));
                }
            },
            Some(name) => return Err(bad("derivation", name)),
        };
    }
    // Minutes to open is more than anybody means; a slip of the keyboard would compute for years.
    let most = match (container, protect.pkcs8.derivation) {
        (PrivateContainer::OpensshKeyV1, _) => 10 * MAX_BCRYPT_ROUNDS,
        (_, Derivation::Pbkdf2(..)) => 10 * MAX_PBKDF2_ITERATIONS,
        (_, Derivation::Scrypt(_)) => u32::MAX,
    };
    match args.cost {
        Some(cost) if cost > most => Err(Failure::new(
            code::USAGE,
            format!("a cost of {cost} is above {most}, which takes minutes already"),
        )),
        Some(0) => Err(Failure::new(code::USAGE, "the cost must be at least 1")),
        _ => Ok(protect),
    }
}

fn say_comment_lost(comment: &str, container: &str) {
    output::warn(&format!("{container} has no place for a comment: `{comment}` is not in the new file."));
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
    output::say(&format!(
        "{} holds {} as {container}: {} {}.",
        out.display(),
        args.key,
        key.describe(),
        key.fingerprint()
    ));
    Ok(())
}
