//! `lantern machine prepare`: a script for a machine's own console.

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use lantern_book::{CertificateStore, Home, KeyRing, MachineBook, Preparations, Protocol, check_name_of};
use lantern_keys::pkcs12::{self, Pkcs12Ciphers};
use lantern_keys::{SystemRandom, public_line};
use lantern_link::KeyChoice;
use lantern_operations::certificates::names_of;
use lantern_operations::prepare::{
    Bundle, Deed, FixedAddress, LeaveProofError, Script, Service, Source, System, leave_proof, random_word,
    seen_from,
};
use lantern_operations::{ReachError, ReachOptions, Target};
use serde_json::json;

use crate::cli::machine::prepare::{OverArg, PrepareArgs};
use crate::cli::open::OpenArgs;
use crate::commands::block_on;
use crate::commands::certificate;
use crate::commands::connecting::{asking, attend, explain, way};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::clipboard;
use crate::terminal::passphrase;

/// What is known of the machine that is to be prepared.
struct Known {
    /// As the book has it; none where it is not there yet.
    target: Option<Target>,
    options: ReachOptions,
    service: Service,
    user: String,
    /// Keys of the ring.
    keys: Vec<String>,
}

pub(super) fn run(args: &PrepareArgs, home: &Home, json: bool) -> Result<(), Failure> {
    check_name_of("machine name", &args.name)?;
    let system = System::from(args.system);
    check_options(args, system)?;
    let known = known(args, home, system)?;
    let lines = key_lines(home, &known.keys)?;
    let from = from(args, &known)?;
    let deed = deed(args, home, &known)?;
    let now = Timestamp::now();
    let secret = random_word(&mut SystemRandom);
    let secret = match deed {
        Deed::Prepare { .. } => Preparations::note(home, &args.name, &known.keys, &secret, now)?,
        _ => secret,
    };
    let day = now.to_zoned(jiff::tz::TimeZone::UTC).date();
    let Known { service, user, keys, .. } = known;
    let script =
        Script { name: args.name.clone(), system, service, user, keys: lines, from, secret, day, deed };
    let text = script.text();
    if json {
        let from: Vec<String> = script.from.iter().map(ToString::to_string).collect();
        return output::print_json(&json!({
            "machine": script.name, "system": system.word(), "user": script.user, "keys": keys,
            "from": from, "script": text.expose_secret(),
        }));
    }
    match args.copy {
        true => clipboard::put(text.expose_secret(), "without `--copy` it is printed")?,
        false => output::print_raw(text.expose_secret().as_bytes())?,
    }
    tell(args, &script, &keys);
    Ok(())
}

/// What is to be done with the script, and what it lets in.
fn tell(args: &PrepareArgs, script: &Script, keys: &[String]) {
    let name = &script.name;
    let prompt = match script.system {
        System::Windows => "in Windows PowerShell, as administrator",
        _ => "as root",
    };
    output::say(format!("Read it, then paste it on the console of {name}, {prompt}."));
    if let Deed::Prepare { .. } = script.deed {
        let from: Vec<String> = script.from.iter().map(ToString::to_string).collect();
        let whose = if args.from.is_empty() { ", the address by which it sees this computer" } else { "" };
        output::say(format!("It lets in from {}{whose}.", from.join(", ")));
        if args.certificate.is_some() {
            output::say("The console asks for the passphrase that you gave just now.");
        }
        if !keys.is_empty() {
            output::say(format!("It lets {} in as {}.", keys.join(", "), script.user));
        }
        output::say(format!(
            "The line that it ends with comes back here: lantern trust accept {name} --paste -"
        ));
    }
}

/// Options that a system cannot have.
fn check_options(args: &PrepareArgs, system: System) -> Result<(), Failure> {
    let usage = |text: &str| Err(Failure::new(code::USAGE, text));
    match system {
        System::Windows if args.passwords_off => usage(
            "`--passwords-off` is for systems with a POSIX shell; WinRM says with `login-by` what it takes",
        ),
        System::Windows if args.address.is_some() => {
            usage("`--address` is for systems with a POSIX shell; Windows keeps one by: New-NetIPAddress")
        }
        System::Debian | System::RedHat | System::Suse if args.certificate.is_some() => {
            usage("`--certificate` is for WinRM; other systems are reached by SSH, which has none")
        }
        System::Windows if args.certificate.is_some() && args.over == Some(OverArg::Ssh) => {
            usage("`--certificate` is for WinRM, and not for SSH")
        }
        System::Debian | System::RedHat | System::Suse if args.over == Some(OverArg::Winrm) => {
            usage("only Windows is reached by WinRM; the others have SSH")
        }
        _ => Ok(()),
    }
}

fn known(args: &PrepareArgs, home: &Home, system: System) -> Result<Known, Failure> {
    let book = MachineBook::load(home)?;
    let options = args.connect.reach(home);
    let target = match book.get(&args.name) {
        Ok(_) => match Target::find(home, &book, &args.name) {
            Ok(target) => Some(target.with_options(home, &options)?),
            // It may get its address from the line.
            Err(ReachError::NoAddress { .. }) => None,
            Err(error) => return Err(error.into()),
        },
        Err(_) => None,
    };
    let by_book = target.as_ref().map(|target| target.protocol);
    let over = match (args.over, system, by_book) {
        (Some(OverArg::Ssh), ..) | (None, System::Windows, Some(Protocol::Ssh)) => Protocol::Ssh,
        (Some(OverArg::Winrm), ..) | (None, System::Windows, _) => Protocol::Winrm,
        _ => Protocol::Ssh,
    };
    if let Some(by_book) = by_book.filter(|by_book| *by_book != over) {
        let word = |protocol| if protocol == Protocol::Winrm { "winrm" } else { "ssh" };
        let text = format!("the book says that {} is spoken to by {}", args.name, word(by_book));
        return Err(Failure::new(code::USAGE, text).hint(format!(
            "lantern machine set {} protocol={}",
            args.name,
            word(over)
        )));
    }
    let service = match over {
        Protocol::Ssh => Service::Ssh,
        Protocol::Winrm => winrm(args, home, target.as_ref())?,
    };
    let user = match &target {
        Some(target) => target.user(&options)?,
        None => options.user.clone().or_else(|| options.local_user.clone()).ok_or(ReachError::NoUser)?,
    };
    let keys = match over {
        Protocol::Ssh if !args.undo && !args.passwords_off => keys(args, home, &options, target.as_ref())?,
        _ => Vec::new(),
    };
    Ok(Known { target, options, service, user, keys })
}

/// WinRM, with a certificate that the machine makes for its names, or one of ours, sealed by a passphrase that its console asks for.
fn winrm(args: &PrepareArgs, home: &Home, target: Option<&Target>) -> Result<Service, Failure> {
    let Some(name) = &args.certificate else {
        let names = names_of(&args.name, target).iter().map(ToString::to_string).collect();
        return Ok(Service::Winrm { names, bundle: None });
    };
    let stored = CertificateStore::new(home).get(name)?;
    if stored.note.machine.as_deref() != Some(&args.name) {
        return Err(Failure::new(
            code::USAGE,
            format!("the certificate {name} is not made for {}", args.name),
        )
        .hint(format!("lantern certificate issue {}", args.name)));
    }
    let Some(key) = &stored.note.key else {
        return Err(Failure::new(
            code::USAGE,
            format!("the key of {name} is not here: it was made by a request, and is on the machine"),
        ));
    };
    let open = OpenArgs { passphrase_from: args.connect.passphrase_from.clone(), patient: false };
    let key = certificate::key::open(home, key, &open)?;
    let secret = passphrase::choose_sealing(
        "the certificate's key on its way",
        args.new_passphrase_from.as_ref(),
        "--new-passphrase-from",
    )?;
    let ciphers = if args.old_ciphers { Pkcs12Ciphers::Old } else { Pkcs12Ciphers::Current };
    let chain = [std::slice::from_ref(&stored.certificate), &stored.above].concat();
    let sealed = pkcs12::write(&key, &chain, name, &secret, ciphers, &mut SystemRandom)
        .map_err(|error| Failure::new(code::LOCAL, error.to_string()))?;
    let base64 = Base64::encode_string(sealed.expose_secret());
    let bundle = Bundle { base64, thumbprint: stored.certificate.thumbprint() };
    let names = stored.certificate.names().iter().map(ToString::to_string).collect();
    Ok(Service::Winrm { names, bundle: Some(bundle) })
}

/// The keys of the ring that are let in: the option's, the book's, or the only one.
fn keys(
    args: &PrepareArgs,
    home: &Home,
    options: &ReachOptions,
    target: Option<&Target>,
) -> Result<Vec<String>, Failure> {
    let said = options.keys.clone().or_else(|| {
        let keys = target.map(|target| target.keys.clone()).filter(|keys| !keys.is_empty());
        keys.map(KeyChoice::Named)
    });
    match said {
        Some(KeyChoice::Named(names)) => Ok(names),
        Some(KeyChoice::File(path)) => {
            Err(Failure::new(code::USAGE, "the key that a machine lets in is one of the ring")
                .hint(format!("lantern key import {}", lantern_operations::quoted(&path))))
        }
        _ => {
            // Those that were made for certificates log in nowhere.
            let keys = KeyRing::new(home).summaries()?.into_iter();
            let names: Vec<String> = keys
                .filter(|(_, key)| key.as_ref().is_ok_and(|key| !key.note.for_certificates))
                .map(|(name, _)| name)
                .collect();
            match names.as_slice() {
                [only] => Ok(vec![only.clone()]),
                [] => Err(Failure::new(code::USAGE, "the ring has no key that could be let in")
                    .hint(format!("lantern key new {}", args.name))),
                several => Err(Failure::new(
                    code::USAGE,
                    format!("nothing says which key {} is to let in", args.name),
                )
                .detail(format!("the ring has {}", several.join(", ")))
                .hint("`--key NAME`")),
            }
        }
    }
}

/// The lines of these keys.
fn key_lines(home: &Home, keys: &[String]) -> Result<Vec<String>, Failure> {
    let ring = KeyRing::new(home);
    let line = |name: &String| {
        let entry = ring.get(name)?;
        Ok(public_line::format(&entry.public, &entry.comment))
    };
    keys.iter().map(line).collect()
}

/// From where the machine is to be reached.
fn from(args: &PrepareArgs, known: &Known) -> Result<Vec<Source>, Failure> {
    if !args.from.is_empty() || args.undo {
        return Ok(args.from.clone());
    }
    let seen = match &known.target {
        Some(target) => block_on(async { Ok(seen_from(target).await) })?,
        None => Vec::new(),
    };
    match seen.is_empty() {
        false => Ok(seen),
        true => Err(Failure::new(
            code::USAGE,
            format!("by which address {} sees this computer cannot be known from here", args.name),
        )
        .detail("it is not in the book, it is on a port of this computer, or a router on the way gives this computer another address")
        .hint("`--from ADDRESS`, or the network that you come from: `--from 192.0.2.0/24`")),
    }
}

fn deed(args: &PrepareArgs, home: &Home, known: &Known) -> Result<Deed, Failure> {
    if args.undo {
        return Ok(Deed::Undo);
    }
    if !args.passwords_off {
        let (router, resolvers) = (args.router, args.resolvers.clone());
        let address =
            args.address.map(|(address, length)| FixedAddress { address, length, router, resolvers });
        return Ok(Deed::Prepare { address });
    }
    let Some(target) = &known.target else {
        return Err(Failure::new(
            code::USAGE,
            format!("{} is not in the book, so no key can be proven there", args.name),
        )
        .hint(format!("lantern machine add {} --paste -", args.name)));
    };
    let ask = asking(&args.connect)?;
    let way = way(home, target, &known.options, &ask);
    let proof = block_on(async {
        attend(target, &ask, leave_proof(way, &mut SystemRandom)).await?.map_err(|error| match error {
            LeaveProofError::Operation(error) => explain(home, target, error),
            error => Failure::new(code::SESSION, error.to_string()),
        })
    })
    .map_err(|failure| failure.detail("passwords stay on until a login by key alone has worked"))?;
    output::say(format!("A login by key works on {}: its proof is left there for the script.", target.name));
    Ok(Deed::PasswordsOff { proof })
}
