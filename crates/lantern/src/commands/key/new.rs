//! `lantern key new`.

use clap::Args;
use jiff::Timestamp;
use lantern_book::{BookError, KeyNote, KeyRing};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom, public_line};
use serde_json::json;

use super::{default_comment, public_json};
use crate::failure::{Failure, chain, code};
use crate::flags_view;
use crate::output;
use crate::passphrase;

/// Arguments of `key new`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key new harbour                            Ed25519, asks for a passphrase
  lantern key new old-beacon --algorithm rsa-3072    for machines that know nothing newer
  lantern key new robot --passphrase-fd 3 3< FILE    for scripts

The private half stays in the ring with mode 0600; the public half is what machines get.")]
pub(crate) struct NewArgs {
    /// Its name in the ring
    name: String,
    /// Algorithm: ed25519, ecdsa-p256, ecdsa-p384, ecdsa-p521, rsa-2048, rsa-3072, rsa-4096, rsa-8192
    #[arg(long, value_name = "ALGORITHM", default_value = "ed25519", value_parser = algorithm)]
    algorithm: KeyAlgorithm,
    /// Whose it is, in free words [default: user@host of this computer]
    #[arg(long, value_name = "TEXT")]
    comment: Option<String>,
    /// Make it without a passphrase: whoever reads the file can use it
    #[arg(long, conflicts_with = "passphrase_fd")]
    plain: bool,
    /// Read the passphrase from this file descriptor
    #[arg(long, value_name = "N")]
    passphrase_fd: Option<u32>,
}

fn algorithm(name: &str) -> Result<KeyAlgorithm, String> {
    KeyAlgorithm::from_name(name)
        .ok_or_else(|| format!("one of {}", KeyAlgorithm::NAMES.map(|(name, _)| name).join(", ")))
}

pub(super) fn run(args: &NewArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    lantern_book::check_name_of("key name", &args.name)?;
    // Before anyone types a passphrase for nothing.
    if ring.private_path(&args.name).exists() {
        return Err(BookError::Exists { what: "key", name: args.name.clone() }.into());
    }
    let what = format!("the key {}", args.name);
    let passphrase = passphrase::choose_new(&what, args.plain, args.passphrase_fd, "--passphrase-fd")?;
    let comment = args.comment.clone().unwrap_or_else(default_comment);
    if matches!(args.algorithm, KeyAlgorithm::Rsa(_)) {
        output::say("Looking for primes; that can take a few seconds.");
    }
    let key = PrivateKey::generate(args.algorithm, &comment)
        .map_err(|error| Failure::new(code::INTERNAL, chain(&error)))?;
    let note = KeyNote { made: Some(Timestamp::now()), ..KeyNote::default() };
    let path = ring.add(&args.name, &key, Protect::with(passphrase.as_ref()), note, &mut SystemRandom)?;
    let public_path = ring.public_path(&args.name);
    if json {
        let mut value = public_json(key.public(), &comment);
        value["name"] = json!(args.name);
        value["private_file"] = json!(path);
        value["public_file"] = json!(public_path);
        value["passphrase"] = json!(passphrase.is_some());
        return output::print_json(&value);
    }
    let fingerprint = key.public().fingerprint();
    output::print(&output::fields(&[
        ("key", format!("{} ({})", args.name, key.public().describe())),
        (
            "private",
            format!(
                "{} ({})",
                path.display(),
                if passphrase.is_some() { "with a passphrase" } else { "no passphrase" }
            ),
        ),
        ("public", public_path.display().to_string()),
        ("fingerprint", fingerprint.to_string()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("line", public_line::format(key.public(), &comment)),
    ]))
}
