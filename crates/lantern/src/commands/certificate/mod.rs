//! `lantern certificate`: certificates of TLS.

mod audit;
mod export;
pub(crate) mod key;
mod make;
mod show;

use lantern_book::{BookError, StoredCertificate};
use lantern_keys::{KeyError, TlsCertificate};
use lantern_operations::certificates::MakeError;
use serde_json::{Value, json};

use crate::cli::certificate::CertificateCommand;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::screen::failure::{Failure, code};
use crate::screen::{certificate, flags_view};

pub(crate) fn run(command: CertificateCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        CertificateCommand::Show(args) => show::run(&args, &home, json).map(|()| 0),
        CertificateCommand::NewAuthority(args) => make::new_authority(&args, &home, json).map(|()| 0),
        CertificateCommand::Issue(args) => make::issue(&args, &home, json).map(|()| 0),
        CertificateCommand::Renew(args) => make::renew(&args, &home, json).map(|()| 0),
        CertificateCommand::Export(args) => export::run(&args, &home, json).map(|()| 0),
        CertificateCommand::Audit(_) => audit::run(&home, json),
    }
}

/// What a certificate says, as JSON.
fn certificate_json(one: &TlsCertificate) -> Value {
    let mut value = crate::commands::trust::certificate_json(one);
    value["uses"] = json!(one.uses());
    value["principal"] = json!(one.principal());
    value["authority"] = json!(one.is_authority());
    value["flags"] = json!(flags_view::words(&one.fingerprint()));
    value
}

/// A certificate of the store, as JSON.
fn stored_json(stored: &StoredCertificate) -> Value {
    let mut value = certificate_json(&stored.certificate);
    let note = &stored.note;
    value["name"] = json!(stored.name);
    value["use"] = json!(note.used_as.word());
    value["machine"] = json!(note.machine);
    value["user"] = json!(note.user);
    value["key"] = json!(note.key);
    value["signed_by"] = json!(note.authority);
    value["file"] = json!(stored.path);
    value
}

/// In a word, until when.
fn until(one: &TlsCertificate) -> String {
    certificate::day(one.validity().1)
}

/// What is wrong with something that is no key.
fn wrong(what: &str, error: &KeyError) -> Failure {
    let why = match error {
        KeyError::Malformed(why) => (*why).to_owned(),
        KeyError::WrongPassphrase => "the passphrase does not open it".to_owned(),
        error => error.to_string(),
    };
    Failure::new(code::LOCAL, format!("{what}: {why}"))
}

impl From<MakeError> for Failure {
    fn from(error: MakeError) -> Self {
        let words = error.to_string();
        match error {
            MakeError::Book(error) => error.into(),
            MakeError::Key(error) => wrong("no certificate was made", &error),
            MakeError::AuthorityEnds { days_left, authority, .. } if days_left > 0 => Self::new(code::USAGE, words)
                .hint(format!("`--days {days_left}`, or another authority instead of {authority}: lantern certificate new-authority NAME")),
            MakeError::AuthorityEnds { .. } => {
                Self::new(code::USAGE, words).hint("lantern certificate new-authority NAME")
            }
            MakeError::OutsideConstraints { .. } => Self::new(code::USAGE, words)
                .hint("another authority, for these too: lantern certificate new-authority NAME --for SELECTION --constrain"),
            MakeError::KeyElsewhere { name } => Self::new(code::USAGE, words)
                .hint(format!("lantern certificate renew {name} --request FILE")),
        }
    }
}

/// The certificate's name is taken.
fn taken(error: BookError, renewable: bool) -> Failure {
    match &error {
        BookError::Exists { name, .. } if renewable => {
            let hint = format!("in its place: lantern certificate renew {name}; beside it: `--name NAME`");
            Failure::from(error).hint(hint)
        }
        _ => error.into(),
    }
}
