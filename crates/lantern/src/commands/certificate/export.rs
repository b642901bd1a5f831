//! `lantern certificate export`: certificates for other programs.

use std::path::Path;

use lantern_book::{CertificateStore, Home, check_place, write_new};
use lantern_keys::pkcs12::{self, Pkcs12Ciphers};
use lantern_keys::{SystemRandom, write_certificates};
use serde_json::json;

use super::{key, wrong};
use crate::cli::certificate::{ExportArgs, ExportForm};
use crate::commands::key::convert::check_shows;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::passphrase;

pub(super) fn run(args: &ExportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    if args.to != ExportForm::Pkcs12 && (args.old_ciphers || args.new_passphrase_from.is_some()) {
        return Err(Failure::new(code::USAGE, "only PKCS#12 has a key in it, and is sealed"));
    }
    let stored = CertificateStore::new(home).get(&args.name)?;
    let out = match (&args.out, args.to) {
        (Some(out), _) => out.as_path(),
        (None, ExportForm::Pem) => Path::new("-"),
        (None, _) => {
            return Err(Failure::new(code::USAGE, "it is no text and goes to a file: say where")
                .hint("`--out PATH`; `--out -` prints it, for a pipe"));
        }
    };
    let to_stdout = output::is_stdout(out);
    if to_stdout {
        check_shows(args.to != ExportForm::Pem)?;
    }
    if !to_stdout {
        // Before a passphrase is asked for.
        check_place(out, args.replace)?;
    }
    let chain = [std::slice::from_ref(&stored.certificate), &stored.above].concat();
    if args.to == ExportForm::Pkcs12 {
        let Some(name) = &stored.note.key else {
            return Err(Failure::new(
                code::USAGE,
                format!("the key of {} is not here: it was made by a request", args.name),
            )
            .hint(format!("lantern certificate export {} --to pem", args.name)));
        };
        let own = key::open(home, name, &args.open)?;
        let source = args.new_passphrase_from.as_ref();
        let secret = passphrase::choose_sealing("the new file", source, "--new-passphrase-from")?;
        let ciphers = if args.old_ciphers { Pkcs12Ciphers::Old } else { Pkcs12Ciphers::Current };
        if args.old_ciphers {
            output::warn(
                "triple DES and SHA-1 are retired: whoever gets the file searches for its passphrase faster. Remove it once it is where it belongs.",
            );
        }
        let bytes = pkcs12::write(&own, &chain, &args.name, &secret, ciphers, &mut SystemRandom)
            .map_err(|error| wrong("PKCS#12", &error))?;
        write(out, bytes.expose_secret(), 0o600, args.replace)?;
    } else {
        let bytes = match args.to {
            ExportForm::Der => stored.certificate.der().to_vec(),
            _ => write_certificates(&chain).into_bytes(),
        };
        write(out, &bytes, 0o644, args.replace)?;
    }
    if to_stdout {
        return Ok(());
    }
    let form = match args.to {
        ExportForm::Pkcs12 => "pkcs12",
        ExportForm::Pem => "pem",
        ExportForm::Der => "der",
    };
    if json {
        let fingerprint = stored.certificate.fingerprint().to_string();
        return output::print_json(
            &json!({ "certificate": args.name, "file": out, "form": form, "fingerprint": fingerprint }),
        );
    }
    let what = if args.to == ExportForm::Pkcs12 {
        "the key, the certificate and those above it"
    } else {
        "what others may see"
    };
    output::say(format!("{} holds {} as {form}: {what}.", out.display(), args.name));
    Ok(())
}

fn write(out: &Path, bytes: &[u8], mode: u32, replace: bool) -> Result<(), Failure> {
    match output::is_stdout(out) {
        true => output::print_raw(bytes),
        false => Ok(write_new(out, bytes, mode, replace)?),
    }
}
