//! `lantern key new`.

use std::path::PathBuf;

use jiff::Timestamp;
use lantern_book::{BookError, KeyNote, KeyRing};
use lantern_keys::container::Protect;
use lantern_keys::{KeyAlgorithm, PrivateKey, SystemRandom, public_line};
use serde_json::json;

use super::{default_comment, public_json};
use crate::cli::key::new::NewArgs;
use crate::cli::secret_source::SecretSource;
use crate::screen::failure::{Failure, chain, code};
use crate::screen::fit::fit;
use crate::screen::flags_view;
use crate::screen::output;
use crate::terminal::passphrase;

/// A key that is to be made.
pub(crate) struct NewKey<'a> {
    /// Its name in the ring.
    pub(crate) name: &'a str,
    /// Its algorithm.
    pub(crate) algorithm: KeyAlgorithm,
    /// Whose it is.
    pub(crate) comment: String,
    /// Whether it has no passphrase.
    pub(crate) plain: bool,
    /// Where its passphrase comes from; else it is asked for.
    pub(crate) passphrase_from: Option<&'a SecretSource>,
    /// The option that says that.
    pub(crate) option: &'static str,
    /// Whether it is made for certificates.
    pub(crate) for_certificates: bool,
}

/// Makes a key in the ring: itself, its private file, and whether it has a passphrase.
///
/// # Errors
/// The name is taken, or nobody to ask for a passphrase.
pub(crate) fn make(ring: &KeyRing, new: NewKey<'_>) -> Result<(PrivateKey, PathBuf, bool), Failure> {
    let name = new.name;
    lantern_book::check_name_of("key name", name)?;
    // Before anyone types a passphrase for nothing.
    if ring.private_path(name).exists() {
        return Err(BookError::Exists { what: "key", name: name.to_owned() }.into());
    }
    let what = format!("the key {name}");
    let passphrase = passphrase::choose_new(&what, new.plain, new.passphrase_from, new.option)?;
    if matches!(new.algorithm, KeyAlgorithm::Rsa(_)) {
        output::say("Looking for primes; that can take a few seconds.");
    }
    let key = PrivateKey::generate(new.algorithm, &new.comment)
        .map_err(|error| Failure::new(code::INTERNAL, chain(&error)))?;
    let note = KeyNote {
        made: Some(Timestamp::now()),
        for_certificates: new.for_certificates,
        ..KeyNote::default()
    };
    let path = ring.add(name, &key, Protect::with(passphrase.as_ref()), note, &mut SystemRandom)?;
    Ok((key, path, passphrase.is_some()))
}

pub(super) fn run(args: &NewArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    let comment = args.comment.clone().unwrap_or_else(default_comment);
    let new = NewKey {
        name: &args.name,
        algorithm: args.algorithm,
        comment: comment.clone(),
        plain: args.plain,
        passphrase_from: args.passphrase_from.as_ref(),
        option: "--passphrase-from",
        for_certificates: false,
    };
    let (key, path, has_passphrase) = make(ring, new)?;
    let public_path = ring.public_path(&args.name);
    if json {
        let mut value = public_json(key.public(), &comment);
        value["name"] = json!(args.name);
        value["private_file"] = json!(path);
        value["public_file"] = json!(public_path);
        value["passphrase"] = json!(has_passphrase);
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
                if has_passphrase { "with a passphrase" } else { "no passphrase" }
            ),
        ),
        ("public", public_path.display().to_string().into()),
        ("fingerprint", fingerprint.to_string().into()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("line", public_line::format(key.public(), &comment).into()),
    ]))
}
