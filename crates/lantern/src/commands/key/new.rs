//! `lantern key new`.

use jiff::Timestamp;
use lantern_book::{BookError, KeyNote, KeyRing};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom, public_line};
use serde_json::json;

use super::{default_comment, public_json};
use crate::cli::key::new::NewArgs;
use crate::screen::failure::{Failure, chain, code};
use crate::screen::fit::fit;
use crate::screen::flags_view;
use crate::screen::output;
use crate::terminal::passphrase;

pub(super) fn run(args: &NewArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    lantern_book::check_name_of("key name", &args.name)?;
    // Before anyone types a passphrase for nothing.
    if ring.private_path(&args.name).exists() {
        return Err(BookError::Exists { what: "key", name: args.name.clone() }.into());
    }
    let what = format!("the key {}", args.name);
    let passphrase =
        passphrase::choose_new(&what, args.plain, args.passphrase_from.as_ref(), "--passphrase-from")?;
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
        ("key", fit!("{} ({})", args.name, key.public().describe())),
        (
            "private",
            fit!(
                "{} ({})",
                path.display(),
                if passphrase.is_some() { "with a passphrase" } else { "no passphrase" }
            ),
        ),
        ("public", public_path.display().to_string().into()),
        ("fingerprint", fingerprint.to_string().into()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("line", public_line::format(key.public(), &comment).into()),
    ]))
}
