//! `lantern certificate show`: what certificates say, and what is wrong with them.

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;
use lantern_book::{BookError, CertificateStore, Home, KnownCertificate, MachineBook, Protocol, TrustStore};
use lantern_keys::pkcs12;
use lantern_keys::{TlsCertificate, read_certificates};
use lantern_link::{KeyChoice, Nobody, RemoteRequest, ShownChain, look_at_chain};
use lantern_operations::Target;
use lantern_operations::certificates::{Judged, judge};
use serde_json::{Value, json};

use super::{certificate_json, wrong};
use crate::cli::certificate::ShowArgs;
use crate::commands::block_on;
use crate::commands::key_source::read_bytes;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::{certificate, flags_view, output};
use crate::terminal::passphrase;

/// Largest file that is read, in bytes: a bundle of all public authorities has a quarter of it.
const MAX_FILE_LEN: u64 = 1024 * 1024;

/// Certificates, and what else there is to say about where they come from.
struct Found {
    judged: Vec<Judged>,
    /// How it came here, in a few words.
    place: String,
    private_keys: usize,
}

pub(super) fn run(args: &ShowArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let found = find(args, home)?;
    if json {
        let values: Vec<Value> = found
            .judged
            .iter()
            .map(|one| {
                let mut value = certificate_json(&one.certificate);
                value["faults"] = one.faults.iter().map(certificate::word).collect();
                value
            })
            .collect();
        return output::print_json(
            &json!({ "from": found.place, "private_keys": found.private_keys, "chain": values }),
        );
    }
    let count = found.judged.len();
    for (at, one) in found.judged.iter().enumerate() {
        if at > 0 {
            output::print(&Fit::literal("\n"))?;
        }
        show(one, at, count)?;
    }
    match found.private_keys {
        0 => {}
        1 => output::say("The file has a private key as well."),
        several => output::say(format!("The file has {several} private keys as well.")),
    }
    Ok(())
}

/// One certificate.
fn show(one: &Judged, at: usize, count: usize) -> Result<(), Failure> {
    let own = &one.certificate;
    let fingerprint = own.fingerprint();
    let days = match own.days_left(Timestamp::now().as_second()) {
        left if left < 0 => "it has ended".to_owned(),
        left => format!("{left} days left"),
    };
    let what = if own.is_authority() { "an authority" } else { "no authority" };
    let place = if count > 1 { format!("{} of {count}, {what}", at + 1) } else { what.to_owned() };
    let mut pairs: Vec<(&str, Fit)> = vec![
        ("certificate", fit!("{} ({place})", own.subject())),
        ("for", certificate::holder(own).into()),
        ("issued by", certificate::issuer(own).into()),
        ("valid", fit!("{}, {days}", certificate::validity(own))),
        ("use", certificate::uses(own).into()),
        ("key", own.describe().into()),
        ("fingerprint", fingerprint.to_string().into()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("thumbprint", fit!("{} (SHA-1, for recognising it only)", own.thumbprint())),
    ];
    for (at, fault) in one.faults.iter().enumerate() {
        pairs.push((if at == 0 { "wrong" } else { "" }, certificate::words(fault).into()));
    }
    if one.faults.is_empty() {
        let good = match one.is_verified {
            true => "nothing found: signature, dates, strength",
            false => "nothing found: dates, strength; its signature is of a kind that is not verified here",
        };
        pairs.push(("wrong", good.into()));
    }
    output::print(&output::fields(&pairs))
}

/// A certificate made here comes first, then a file, then a machine.
fn find(args: &ShowArgs, home: &Home) -> Result<Found, Failure> {
    let what = args.what.as_str();
    let known = known(home)?;
    let wanted = args.for_name.as_deref().map(|name| [name]);
    let judged = |chain: &[TlsCertificate]| {
        judge(chain, &known, wanted.as_ref().map(<[&str; 1]>::as_slice), Timestamp::now().as_second())
    };
    let is_path = what == "-" || what.contains('/');
    if !is_path {
        match CertificateStore::new(home).get(what) {
            Ok(stored) => {
                let chain = [std::slice::from_ref(&stored.certificate), &stored.above].concat();
                let place = stored.path.display().to_string();
                return Ok(Found { judged: judged(&chain), place, private_keys: 0 });
            }
            Err(BookError::Unknown { .. } | BookError::BadValue { .. }) => {}
            Err(error) => return Err(error.into()),
        }
        let book = MachineBook::load(home)?;
        let in_book = book.get(what).is_ok();
        if in_book || !Path::new(what).exists() && what.contains(':') {
            return live(args, home, &book, in_book);
        }
    }
    if !is_path && !Path::new(what).exists() {
        let text = format!("{what} is no certificate made here, no file and no machine of the book");
        return Err(Failure::new(code::LOCAL, text)
            .hint("lantern certificate audit lists what was made here; a live service is `address:port`"));
    }
    let bytes = read_bytes(Path::new(what), MAX_FILE_LEN)?;
    let (chain, private_keys) = read_file(what, &bytes, args)?;
    Ok(Found { judged: judged(&chain), place: what.to_owned(), private_keys })
}

/// Those that were made here or are believed.
fn known(home: &Home) -> Result<Vec<TlsCertificate>, Failure> {
    // Thousands of machines may have the same authority.
    let mut known: BTreeMap<[u8; 32], TlsCertificate> = BTreeMap::new();
    let mut add = |one: TlsCertificate| drop(known.insert(*one.fingerprint().as_bytes(), one));
    for stored in CertificateStore::new(home).all()?.into_iter().flatten() {
        add(stored.certificate);
    }
    let trust = TrustStore::load(home)?;
    for machine in trust.machines() {
        let authorities = trust.get(machine)?.map(|record| record.authorities).unwrap_or_default();
        let read = |one: &KnownCertificate| TlsCertificate::read(&one.der).ok();
        authorities.iter().filter_map(read).for_each(&mut add);
    }
    Ok(known.into_values().collect())
}

fn read_file(what: &str, bytes: &[u8], args: &ShowArgs) -> Result<(Vec<TlsCertificate>, usize), Failure> {
    if !pkcs12::is_pkcs12(bytes) {
        return read_certificates(bytes).map(|chain| (chain, 0)).map_err(|error| wrong(what, &error));
    }
    let opened = passphrase::open_by(what, args.connect.passphrase_from.as_ref(), |secret| {
        pkcs12::read(bytes, secret)
    });
    let opened = opened?.map_err(|error| wrong(what, &error))?;
    match opened.certificates.is_empty() {
        true => Err(Failure::new(code::LOCAL, format!("{what}: there is no certificate in it"))),
        false => Ok((opened.certificates, opened.keys)),
    }
}

/// What a service shows.
fn live(args: &ShowArgs, home: &Home, book: &MachineBook, in_book: bool) -> Result<Found, Failure> {
    let typed = if in_book { args.what.clone() } else { format!("winrm://{}", args.what) };
    let target = Target::find(home, book, &typed)?;
    if target.protocol == Protocol::Ssh {
        let address = target.addresses.first().map_or("ADDRESS", String::as_str);
        return Err(Failure::new(
            code::USAGE,
            format!("{} is spoken to by SSH, which has no certificates of TLS", target.name),
        )
        .hint(format!("a service of it that speaks TLS: lantern certificate show {address}:443")));
    }
    let mut options = args.connect.reach(home);
    // Whoever only looks logs in as nobody.
    options.user.get_or_insert_with(|| "nobody".into());
    options.keys = Some(KeyChoice::Nothing);
    let RemoteRequest::Winrm(mut request) = target.remote_request(home, &options)? else {
        return Err(Failure::new(code::INTERNAL, "it has no certificate"));
    };
    if let Some(name) = &args.for_name {
        request.certificate_names = vec![name.clone()];
    }
    let looked: Result<ShownChain, Failure> =
        block_on(async { look_at_chain(&request, &Nobody).await.map_err(Failure::from) });
    let ShownChain { certificate, above, faults } = looked?;
    let chain = [std::slice::from_ref(&certificate), &above].concat();
    let mut judged = judge(&chain, &known(home)?, None, Timestamp::now().as_second());
    if let Some(first) = judged.first_mut() {
        // The way there knows who vouches for it; what else is found is told once.
        let own = std::mem::replace(&mut first.faults, faults);
        for fault in own.into_iter().filter(|fault| !fault.is_about_authority()) {
            if !first.faults.contains(&fault) {
                first.faults.push(fault);
            }
        }
    }
    Ok(Found { judged, place: target.place(), private_keys: 0 })
}
