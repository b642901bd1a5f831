//! `lantern certificate new-authority`, `issue` and `renew`.

use std::path::Path;

use jiff::Timestamp;
use lantern_book::{
    CertificateStore, CertificateUse, Home, MachineBook, StoredCertificate, check_name_of, select,
};
use lantern_keys::issuing::CertificateRequest;
use lantern_keys::{CertificateName, SystemRandom};
use lantern_operations::certificates::{
    self, Holder, Issue, NewAuthority, certificate_name, names_of, principal_name,
};
use lantern_operations::{Target, quoted};
use serde_json::json;

use super::{key, stored_json, taken, until, wrong};
use crate::cli::certificate::{IssueArgs, NewAuthorityArgs, RenewArgs};
use crate::cli::open::OpenArgs;
use crate::commands::key_source::read_bytes;
use crate::screen::certificate;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::flags_view;
use crate::screen::output;

/// Largest request that is read, in bytes: they take one or two thousand.
const MAX_REQUEST_LEN: u64 = 1024 * 1024;

pub(super) fn new_authority(args: &NewAuthorityArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = CertificateStore::new(home);
    store.check_free(&args.name).map_err(|error| taken(error, false))?;
    let book = MachineBook::load(home)?;
    let machines = match args.machines.as_slice() {
        [] => Vec::new(),
        words => select(&book, words, &[] as &[&str])?,
    };
    let mut only = Vec::new();
    for name in &machines {
        let target = Target::find(home, &book, name)?;
        if args.constrain {
            only.extend(names_of(&target.name, Some(&target)));
        }
    }
    // Before a key is made.
    check_names(&only)?;
    let name = args.key.key.as_deref().unwrap_or(&args.name);
    let own = match &args.key.key {
        Some(name) => key::open(home, name, &args.open)?,
        None => key::make(home, name, &args.key)?,
    };
    let wanted =
        NewAuthority { name: &args.name, key: name, only, machines: machines.clone(), days: args.days };
    let made = certificates::new_authority(home, &wanted, &own, &mut SystemRandom)?;
    if json {
        let mut value = stored_json(&made);
        value["believed_about"] = json!(machines);
        value["only"] = json!(wanted.only.iter().map(ToString::to_string).collect::<Vec<_>>());
        return output::print_json(&value);
    }
    tell(&made)?;
    match machines.as_slice() {
        [] => {
            output::say("It is believed about nobody yet: about each machine that it signs for, it will be.")
        }
        _ => output::say(format!("It is believed about {}, and about nobody else.", machines.join(", "))),
    }
    if !wanted.only.is_empty() {
        let only: Vec<String> = wanted.only.iter().map(ToString::to_string).collect();
        output::say(format!("It can vouch for {} alone.", only.join(", ")));
    }
    output::say(format!("Next: lantern certificate issue MACHINE --authority {}", args.name));
    Ok(())
}

pub(super) fn issue(args: &IssueArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = CertificateStore::new(home);
    let (holder, usual) = holder(args, home)?;
    let name = args.name.as_deref().unwrap_or(&usual);
    store.check_free(name).map_err(|error| taken(error, true))?;
    let authority = authority(&store, args.authority.as_deref())?;
    let request = args.request.as_deref().map(read_request).transpose()?;
    let usual_key = format!("{name}-tls");
    if request.is_none() && args.key.key.is_none() {
        key::check_free(home, &usual_key)?;
    }
    // The authority first: a key that is made for nothing stays in the ring.
    let signing = open_authority(home, &authority, &args.open)?;
    let (own, info) = match &request {
        Some(request) => (None, request.key_info().to_vec()),
        None => {
            let (own, public) = key::public(home, &usual_key, &args.key)?;
            let info = lantern_keys::container::write_public(
                &public,
                "",
                lantern_keys::container::PublicContainer::SpkiDer,
            );
            (Some(own), info.map_err(|error| wrong("the key has no form in a certificate", &error))?)
        }
    };
    let wanted = Issue {
        name,
        for_whom: holder,
        key: own.as_deref(),
        key_info: &info,
        days: args.days,
        replace: false,
    };
    let (made, is_new) = certificates::issue(home, &wanted, &authority, &signing, &mut SystemRandom)?;
    if json {
        return output::print_json(&stored_json(&made));
    }
    tell(&made)?;
    if let Some(request) = &request {
        output::say(fit!(
            "The request was for a key of {} ({}); its names count for nothing: {} is what the book says.",
            request.subject(),
            request.describe_key(),
            certificate::names(&made.certificate),
        ));
    }
    if let (Some(machine), true) = (&made.note.machine, is_new) {
        output::say(format!(
            "Certificates of {machine} are believed by the word of {} from now on.",
            authority.name
        ));
    }
    next(&made);
    Ok(())
}

pub(super) fn renew(args: &RenewArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let store = CertificateStore::new(home);
    let old = store.get(&args.name)?;
    let Some(signed_by) = &old.note.authority else {
        return Err(Failure::new(
            code::USAGE,
            format!("{} signed itself: what it vouches for would have to be made anew, too", args.name),
        )
        .hint("lantern certificate new-authority NAME"));
    };
    let authority = store.get(signed_by)?;
    let request = args.request.as_deref().map(read_request).transpose()?;
    let wanted = certificates::renew(&old, request.as_ref().map(CertificateRequest::key_info), args.days)?;
    let signing = open_authority(home, &authority, &args.open)?;
    let (made, _) = certificates::issue(home, &wanted, &authority, &signing, &mut SystemRandom)?;
    if json {
        return output::print_json(&stored_json(&made));
    }
    tell(&made)?;
    output::say(format!("The one before ended on {}.", until(&old.certificate)));
    next(&made);
    Ok(())
}

/// Whom a certificate is for, and what it is usually called.
fn holder(args: &IssueArgs, home: &Home) -> Result<(Holder, String), Failure> {
    if let Some(user) = &args.for_user {
        let plain: String = user
            .chars()
            .map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' })
            .collect();
        return Ok((Holder::User(user.clone()), plain.trim_matches('-').to_owned()));
    }
    let machine = args.machine.as_deref().unwrap_or_default();
    let target = Target::find(home, &MachineBook::load(home)?, machine)?;
    let mut names = match target.is_one_off() {
        true => target.addresses.iter().map(|address| certificate_name(address)).collect(),
        false => names_of(&target.name, Some(&target)),
    };
    names.extend(args.also.iter().map(|name| certificate_name(name)));
    check_names(&names)?;
    if target.is_one_off() && args.name.is_none() {
        check_name_of("certificate name", &target.name)
            .map_err(|error| Failure::from(error).hint("`--name NAME` says what to call it"))?;
    }
    Ok((Holder::Machine { name: target.name.clone(), names }, target.name))
}

/// What stands in a certificate is compared letter by letter.
fn check_names(names: &[CertificateName]) -> Result<(), Failure> {
    let plain = |name: &str| {
        let name = name.strip_prefix("*.").unwrap_or(name);
        !name.is_empty()
            && name.len() <= 253
            && name.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c))
    };
    match names.iter().find(|name| matches!(name, CertificateName::Dns(name) if !plain(name))) {
        Some(name) => {
            Err(Failure::new(code::USAGE, format!("{name} is no name that a certificate can have")))
        }
        None => Ok(()),
    }
}

/// The authority that is named, or the only one.
fn authority(store: &CertificateStore, named: Option<&str>) -> Result<StoredCertificate, Failure> {
    if let Some(name) = named {
        let stored = store.get(name)?;
        return match stored.note.used_as {
            CertificateUse::Authority => Ok(stored),
            _ => Err(Failure::new(code::USAGE, format!("{name} is no authority's certificate"))),
        };
    }
    let mut all = Vec::new();
    for stored in store.all()? {
        match stored {
            Ok(stored) if stored.note.used_as == CertificateUse::Authority => all.push(stored),
            Ok(_) => {}
            Err(error) => output::warn(error.to_string()),
        }
    }
    match all.len() {
        1 => Ok(all.swap_remove(0)),
        0 => Err(Failure::new(code::USAGE, "there is no authority yet that could sign it")
            .hint("lantern certificate new-authority NAME")),
        _ => {
            let names: Vec<&str> = all.iter().map(|stored| stored.name.as_str()).collect();
            Err(Failure::new(code::USAGE, format!("which authority is to sign it: {}?", names.join(", ")))
                .hint("`--authority NAME`"))
        }
    }
}

fn open_authority(
    home: &Home,
    authority: &StoredCertificate,
    args: &OpenArgs,
) -> Result<lantern_keys::PrivateKey, Failure> {
    let Some(name) = &authority.note.key else {
        return Err(Failure::new(
            code::LOCAL,
            format!("the key of the authority {} is not here", authority.name),
        ));
    };
    key::open(home, name, args)
}

fn read_request(file: &Path) -> Result<CertificateRequest, Failure> {
    let bytes = read_bytes(file, MAX_REQUEST_LEN)?;
    CertificateRequest::read(&bytes).map_err(|error| wrong(&file.display().to_string(), &error))
}

/// What was made.
fn tell(made: &StoredCertificate) -> Result<(), Failure> {
    let (certificate, note) = (&made.certificate, &made.note);
    let fingerprint = certificate.fingerprint();
    let whom = match (&note.machine, &note.user) {
        (Some(machine), _) => fit!("{} ({})", certificate::names(certificate), machine),
        (None, Some(user)) => principal_name(user).into(),
        (None, None) => "others, which it signs".into(),
    };
    let days = certificate.days_left(Timestamp::now().as_second());
    output::print(&output::fields(&[
        ("certificate", fit!("{} ({}, {})", made.name, note.used_as.word(), certificate.describe())),
        ("for", whom),
        ("signed by", note.authority.as_deref().unwrap_or("itself").into()),
        ("valid", fit!("{} ({days} days)", certificate::validity(certificate))),
        ("key", note.key.as_deref().unwrap_or("where the request was made").into()),
        ("file", made.path.display().to_string().into()),
        ("fingerprint", fingerprint.to_string().into()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
    ]))
}

/// What to do with it.
fn next(made: &StoredCertificate) {
    let (name, path) = (&made.name, quoted(&made.path));
    match (&made.note.machine, &made.note.key) {
        (Some(machine), Some(_)) => output::say(format!(
            "Next: lantern machine prepare {machine} --system windows --certificate {name}, or for another program: lantern certificate export {name} --to pkcs12 --out {name}.p12"
        )),
        (Some(machine), None) => output::say(format!(
            "Next: {path} goes to {machine}, where its key is: lantern certificate export {name} --to pem"
        )),
        (None, Some(key)) => output::say(format!(
            "Next: lantern machine set MACHINE certificate={path} key={key} login-by=certificate"
        )),
        (None, None) => {}
    }
}
