//! `lantern trust accept`: trust what machines present now.

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;
use lantern_book::{
    CarriedLine, Home, KnownBy, KnownCertificate, MachineBook, Presented, Protocol, TrustStore, Verified,
    select,
};
use lantern_keys::{Fingerprint, TlsCertificate, read_certificates};
use lantern_link::{ConnectRequest, RemoteRequest, Seen};
use lantern_operations::trust::{self, AcceptError, Wanted};
use lantern_operations::{Target, quoted};
use serde_json::{Value, json};

use super::known_json;
use super::look::{look_at, requests};
use crate::cli::connect::ConnectArgs;
use crate::cli::trust::accept::AcceptArgs;
use crate::commands::carried;
use crate::commands::key_source::{read_bytes, read_text};
use crate::commands::pasted_errand::pasted_text;
use crate::screen::certificate;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

/// Largest list of machines and fingerprints, in bytes: a hundred thousand of them take half of it.
const MAX_LIST_LEN: u64 = 16 * 1024 * 1024;
/// Largest certificate that is read, in bytes: they take a few thousand.
const MAX_CERTIFICATE_LEN: u64 = 1024 * 1024;

/// What became of one machine.
struct Accepted {
    machine: String,
    known: Vec<KnownBy>,
}

pub(super) async fn run(home: &Home, args: &AcceptArgs, json: bool) -> Result<u8, Failure> {
    let book = MachineBook::load(home)?;
    let names = select(&book, &args.selection, &args.but.except)?;
    if let Some(file) = &args.certificate {
        return from_file(home, &book, &names, file, json).map(|()| 0);
    }
    if let Some(file) = &args.authority {
        return authority(home, &book, &names, file, json).map(|()| 0);
    }
    if let Some(text) = &args.paste {
        let [machine] = names.as_slice() else {
            return Err(Failure::new(code::USAGE, "a line is of one machine"));
        };
        let (line, _) = carried::prove(home, machine, &pasted_text(text)?)?;
        let target = Target::find(home, &book, machine)?;
        let known = by_line(home, &target, &line, &args.connect).await?;
        return report(&[Accepted { machine: target.name, known }], &[], json);
    }
    let expected = args.expect_file.as_deref().map(read_list).transpose()?;
    let targets =
        names.iter().map(|typed| Target::find(home, &book, typed)).collect::<Result<Vec<_>, _>>()?;
    // What must be compared is compared here: the look itself accepts nothing.
    let look_args = ConnectArgs { expect: None, ..args.connect.clone() };
    let requests = requests(home, &targets, &look_args)?;
    let seen = look_at(requests.clone()).await;
    let ask = TerminalAsk::new(!args.connect.no_questions, None, None);
    let (mut done, mut failed) = (Vec::new(), Vec::new());
    for (request, outcome) in requests.iter().map(RemoteRequest::way).zip(seen) {
        let wanted = match (&args.connect.expect, &expected) {
            (Some(one), _) => Some(vec![*one]),
            (None, Some(list)) => Some(list.get(&request.machine).cloned().unwrap_or_default()),
            (None, None) => None,
        };
        let accepted = match outcome {
            Ok(seen) => {
                let wanted = wanted.as_deref();
                let wanted =
                    wanted.map_or(Wanted::Answer, |wanted| Wanted::Fingerprints(wanted, Verified::Expected));
                accept(request, seen, wanted, &ask).await
            }
            Err(error) => Err(error.into()),
        };
        match accepted {
            Ok(known) => done.push(Accepted { machine: request.machine.clone(), known }),
            // One machine's failure is the command's; of several, the others go on.
            Err(failure) if requests.len() == 1 || failure.code == code::INTERRUPTED => return Err(failure),
            Err(failure) => failed.push((request.machine.clone(), failure)),
        }
    }
    report(&done, &failed, json)
}

/// Trusts one machine with what its own console's line has: that.
///
/// # Errors
/// It is not reached, or presents something else.
pub(crate) async fn by_line(
    home: &Home,
    target: &Target,
    line: &CarriedLine,
    connect: &ConnectArgs,
) -> Result<Vec<KnownBy>, Failure> {
    if target.protocol != line.protocol {
        let text =
            format!("the line is of another service than the one that {} is spoken to by", target.name);
        let word = if line.protocol == Protocol::Winrm { "winrm" } else { "ssh" };
        return Err(Failure::new(code::USAGE, text)
            .hint(format!("lantern machine set {} protocol={word}", target.name)));
    }
    let look_args = ConnectArgs { expect: None, ..connect.clone() };
    let requests = requests(home, std::slice::from_ref(target), &look_args)?;
    let (Some(request), Some(seen)) = (requests.first(), look_at(requests.clone()).await.into_iter().next())
    else {
        return Err(Failure::new(code::INTERNAL, "nothing was looked at"));
    };
    let ask = TerminalAsk::new(false, None, None);
    let again = |failure: Failure| {
        failure.hint(format!("when it is reached: lantern trust accept {} --paste -", target.name))
    };
    let seen = seen.map_err(|error| again(error.into()))?;
    let wanted = Wanted::Fingerprints(&line.prints, Verified::Carried);
    accept(request.way(), seen, wanted, &ask).await.map_err(|failure| {
        failure.detail("the line is what the machine's own console printed: whoever answers there is not that machine, or it was set up anew since")
    })
}

/// What a machine is trusted with from now on.
pub(crate) fn tell_trusted(machine: &str, known: &[KnownBy]) {
    for one in known {
        let (what, verified) = (one.describe(), one.verified());
        output::say(format!("{machine} is trusted with {what} {} ({verified}).", one.fingerprint()));
    }
}

fn report(done: &[Accepted], failed: &[(String, Failure)], json: bool) -> Result<u8, Failure> {
    if json {
        let mut values: Vec<Value> = Vec::new();
        for accepted in done {
            let mut value = accepted.known.first().map(known_json).unwrap_or_default();
            value["machine"] = json!(accepted.machine);
            value["verified"] = json!(accepted.known.first().map(KnownBy::verified));
            value["keys"] = accepted.known.iter().map(known_json).collect();
            values.push(value);
        }
        values.extend(
            failed.iter().map(|(machine, failure)| json!({ "machine": machine, "error": failure.headline })),
        );
        output::print_json(&values)?;
    } else {
        done.iter().for_each(|Accepted { machine, known }| tell_trusted(machine, known));
        failed.iter().for_each(|(machine, failure)| output::complain_of(machine, failure));
    }
    Ok(failed.iter().map(|(_, failure)| failure.code).max().unwrap_or(0))
}

/// Decides about what one machine presents, and remembers the decision.
async fn accept(
    request: &ConnectRequest,
    seen: Seen,
    wanted: Wanted<'_>,
    ask: &TerminalAsk,
) -> Result<Vec<KnownBy>, Failure> {
    let tell = |replaced: &[KnownBy], more: &[Presented]| {
        if !replaced.is_empty() {
            let was: Vec<_> = replaced.iter().map(ToString::to_string).collect();
            let machine = &request.machine;
            output::warn(format!("{machine} was known by {}; that will be replaced.", was.join("; ")));
        }
        for one in more {
            output::warn_block(format!("It also presents {}  {}", one.describe(), one.fingerprint()));
        }
    };
    match trust::accept(request, seen, wanted, ask, tell).await {
        Ok(accepted) => Ok(accepted),
        Err(_) if ask.was_interrupted() => {
            Err(Failure::new(code::INTERRUPTED, "interrupted; nothing was changed"))
        }
        Err(AcceptError::Trust(error)) => Err(error.into()),
        Err(AcceptError::Book(error)) => Err(error.into()),
        Err(error @ AcceptError::NotListed { .. }) => Err(Failure::new(code::TRUST, error.to_string())),
        Err(error @ AcceptError::Meanwhile { .. }) => {
            Err(Failure::new(code::TRUST, error.to_string())
                .hint("do it again: it is shown what is known now"))
        }
        Err(error @ AcceptError::NoKey { .. }) => Err(Failure::new(code::PROTOCOL, error.to_string())),
    }
}

/// Reads a list of machines with fingerprints.
fn read_list(path: &Path) -> Result<BTreeMap<String, Vec<Fingerprint>>, Failure> {
    let text = read_text(path, MAX_LIST_LEN)?;
    let mut list: BTreeMap<String, Vec<Fingerprint>> = BTreeMap::new();
    for (index, line) in text.lines().enumerate() {
        let mut words = line.split_whitespace();
        let Some(machine) = words.next().filter(|word| !word.starts_with('#')) else { continue };
        let bad =
            |why: &str| Failure::new(code::LOCAL, format!("{}, line {}: {why}", path.display(), index + 1));
        let prints =
            words.map(|word| word.parse::<Fingerprint>().map_err(|error| bad(&format!("`{word}`: {error}"))));
        let prints = prints.collect::<Result<Vec<_>, _>>()?;
        if prints.is_empty() {
            return Err(bad("a machine's name and one or more fingerprints are wanted"));
        }
        list.entry(machine.to_owned()).or_default().extend(prints);
    }
    Ok(list)
}

/// Trusts a TLS certificate that came in a file.
fn from_file(
    home: &Home,
    book: &MachineBook,
    names: &[String],
    file: &Path,
    json: bool,
) -> Result<(), Failure> {
    let [typed] = names else {
        return Err(Failure::new(code::USAGE, "a certificate belongs to one machine"));
    };
    let target = Target::find(home, book, typed)?;
    let read = read_certificate(file)?;
    let seen = format!("{}, until {}", certificate::names(&read), certificate::day(read.validity().1));
    let known = KnownCertificate::new(&read, Verified::Expected, Timestamp::now());
    let fingerprint = known.fingerprint();
    if TrustStore::load(home)?.is_revoked(&fingerprint).is_some() {
        return Err(Failure::new(code::TRUST, format!("the certificate {fingerprint} was revoked")));
    }
    TrustStore::accept_certificate(home, &target.name, None, known)?;
    if json {
        return output::print_json(
            &json!({ "machine": target.name, "certificate": fingerprint.to_string(), "subject": seen }),
        );
    }
    output::say(format!("{} is trusted with the TLS certificate {fingerprint} ({seen}).", target.name));
    Ok(())
}

/// Believes an authority for some machines.
fn authority(
    home: &Home,
    book: &MachineBook,
    names: &[String],
    file: &Path,
    json: bool,
) -> Result<(), Failure> {
    let read = read_certificate(file)?;
    let fingerprint = read.fingerprint();
    if !read.is_authority() {
        return Err(Failure::new(code::TRUST, format!("{} is no authority's certificate", file.display()))
            .detail("it is not made to sign others (RFC 5280, basic constraints)")
            .hint(format!(
                "one of a machine's own: lantern trust accept MACHINE --certificate {}",
                quoted(file)
            )));
    }
    if TrustStore::load(home)?.is_revoked(&fingerprint).is_some() {
        return Err(Failure::new(code::TRUST, format!("the certificate {fingerprint} was revoked")));
    }
    let targets = names.iter().map(|typed| Target::find(home, book, typed)).collect::<Result<Vec<_>, _>>()?;
    let mut values = Vec::new();
    for target in targets {
        let known = KnownCertificate::new(&read, Verified::Expected, Timestamp::now());
        let is_new = TrustStore::accept_authority(home, &target.name, known)?;
        values.push(json!({ "machine": target.name, "authority": fingerprint.to_string(), "new": is_new }));
        if !json {
            let (name, subject) = (&target.name, read.subject());
            let already = if is_new { "" } else { ", as before" };
            output::say(format!(
                "Certificates of {name} are believed by the word of {subject} {fingerprint}{already}."
            ));
        }
    }
    if json { output::print_json(&values) } else { Ok(()) }
}

/// A certificate in PEM or DER; of several, the first.
fn read_certificate(file: &Path) -> Result<TlsCertificate, Failure> {
    let bytes = read_bytes(file, MAX_CERTIFICATE_LEN)?;
    let read = read_certificates(&bytes).ok().and_then(|all| all.into_iter().next());
    read.ok_or_else(|| Failure::new(code::LOCAL, format!("{} is no X.509 certificate", file.display())))
}
