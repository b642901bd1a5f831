//! `lantern key rotate`: a new key takes the place of an old one, machine by machine. Every step looks at what is there
//! and does what is missing, so that after a failure at any point the same command goes on where it ended.

use clap::Args;
use jiff::Timestamp;
use lantern_book::{BookError, Home, Installed, KeyNote, KeyRing, MachineBook, RingEntry, check_name_of};
use lantern_keys::container::{Patience, Protect};
use lantern_keys::{KeyAlgorithm, KeyError, RsaBits};
use lantern_keys::{PrivateKey, PublicKey, SecretString, SystemRandom};
use lantern_link::KeyChoice;
use serde_json::{Value, json};

use super::install::not_proven;
use super::placing::{Change, Proof, add_line_like, options_of, prove, remove_line};
use crate::ask::TerminalAsk;
use crate::commands::block_on;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::key_source::pick_opened;
use crate::output;
use crate::passphrase::{self, OpenArgs};
use crate::target::{ConnectFailure, Target};

/// Arguments of `key rotate`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key rotate harbour --plan           says what would be done where
  lantern key rotate harbour                  every machine that has or names it
  lantern key rotate harbour lamp-01 lamp-02  these first, others later

Machine by machine: the new key is installed over a login with the old one, proven by a
login, the machine in the book offers it from then on, and the old one is taken out. The old
key stays in the ring until you remove it. Stopped or failed anywhere, the same command goes
on there. The new key gets the passphrase of the old.")]
pub(crate) struct RotateArgs {
    /// A name in the ring: the key to be replaced
    name: String,
    /// Machines [default: all that lantern installed it on or whose entry names it]
    machines: Vec<String>,
    /// Name of the new key [default: the old name with a number]
    #[arg(long = "to", value_name = "NAME")]
    new_name: Option<String>,
    /// Say what would be done, and do nothing
    #[arg(long)]
    plan: bool,
    #[command(flatten)]
    connect: ConnectArgs,
}

/// What has been done on one machine, for the report.
struct Done {
    machine: String,
    outcome: Result<(), Failure>,
}

pub(super) fn run(args: &RotateArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let old = ring.get(&args.name)?;
    let machines = machines(args, home, &old)?;
    let new_name = new_name(args, &ring, &old)?;
    if args.plan {
        return plan(args, &ring, &new_name, &machines, json);
    }
    if machines.is_empty() {
        return Err(Failure::new(code::USAGE, format!("nobody knows where {} is in use", args.name))
            .hint(format!("lantern key rotate {} MACHINE…", args.name)));
    }
    let ask = args.connect.ask()?;
    let new = make_new(args, &ring, &old, &new_name, &ask)?;
    let mut done = Vec::new();
    for machine in machines {
        let outcome = Target::resolve(home, &machine)
            .and_then(|target| block_on(rotate_on(&target, home, args, &ask, &old, &new)));
        let stop = matches!(&outcome, Err(failure) if failure.code == code::INTERRUPTED);
        match &outcome {
            Ok(()) => output::say(&format!("{machine}: {} is in, {} is out.", new.name, old.name)),
            Err(failure) => output::complain(failure),
        }
        done.push(Done { machine, outcome });
        if stop {
            break;
        }
    }
    report(args, home, &old, &new, &done, json)
}

/// The machines to work on: those named, else those that the ring and the book know of.
fn machines(args: &RotateArgs, home: &Home, old: &RingEntry) -> Result<Vec<String>, Failure> {
    if !args.machines.is_empty() {
        // All names first: a slip of the pen must not show half way.
        args.machines.iter().try_for_each(|machine| Target::resolve(home, machine).map(drop))?;
        return Ok(args.machines.clone());
    }
    let book = MachineBook::load(home)?;
    let mut machines: Vec<String> = book.users_of_key(&old.name).map(str::to_owned).collect();
    // A one-off place is noted by its address; the user it was installed for goes with it.
    let noted = old.note.installed.iter().map(|place| match book.get(&place.machine) {
        Ok(_) => place.machine.clone(),
        Err(_) => format!("{}@{}", place.user, place.machine),
    });
    for machine in noted {
        if !machines.contains(&machine) {
            machines.push(machine);
        }
    }
    Ok(machines)
}

/// The name of the new key: the one of a rotation that has begun, the one asked for, or the next number.
fn new_name(args: &RotateArgs, ring: &KeyRing, old: &RingEntry) -> Result<String, Failure> {
    if let Some(begun) = &old.note.replaced_by {
        return match &args.new_name {
            Some(wanted) if wanted != begun => {
                Err(Failure::new(code::USAGE, format!("{} is being replaced by {begun} already", old.name))
                    .hint(format!("lantern key rotate {}", old.name)))
            }
            _ => Ok(begun.clone()),
        };
    }
    if let Some(wanted) = &args.new_name {
        check_name_of("key name", wanted)?;
        return match ring.private_path(wanted).exists() {
            true => Err(BookError::Exists { what: "key", name: wanted.clone() }.into()),
            false => Ok(wanted.clone()),
        };
    }
    let (stem, number) = match old.name.rsplit_once('-') {
        Some((stem, number)) if number.len() < 5 => (stem, number.parse::<u32>().ok()),
        _ => (old.name.as_str(), None),
    };
    // `lamp-01` is a name and no second key of `lamp`: a number that we gave has no leading zero.
    let (stem, number) = match number {
        Some(number) if old.name.ends_with(&format!("-{number}")) => (stem, number),
        _ => (old.name.as_str(), 1),
    };
    let free = |name: &String| !ring.private_path(name).exists();
    let name = (number + 1..).map(|number| format!("{stem}-{number}")).find(free).unwrap_or_default();
    check_name_of("key name", &name)?;
    Ok(name)
}

fn plan(
    args: &RotateArgs,
    ring: &KeyRing,
    new: &str,
    machines: &[String],
    json: bool,
) -> Result<(), Failure> {
    let exists = ring.private_path(new).exists();
    if json {
        return output::print_json(&json!({
            "old": args.name, "new": new, "new_exists": exists, "machines": machines,
        }));
    }
    let mut text = match exists {
        true => format!("{new} has been made already to take the place of {}.\n", args.name),
        false => {
            format!("A new key {new} would be made, of the kind and with the passphrase of {}.\n", args.name)
        }
    };
    for machine in machines {
        text.push_str(&format!(
            "{machine}: install {new} if it is missing, log in with it, take {} out.\n",
            args.name
        ));
    }
    if machines.is_empty() {
        text.push_str(&format!("No machine is known to have {}; name some.\n", args.name));
    }
    output::print(&text)
}

/// The new key: made unless an interrupted rotation has made it already. Its name is noted before it exists, so that it
/// is never made twice.
fn make_new(
    args: &RotateArgs,
    ring: &KeyRing,
    old: &RingEntry,
    name: &str,
    ask: &TerminalAsk,
) -> Result<RingEntry, Failure> {
    ring.change_note(&old.name, |note| note.replaced_by = Some(name.to_owned()))?;
    let missing = !ring.private_path(name).exists();
    if missing || old.sealed.is_protected() {
        // Both have one passphrase; asked for once, it serves for every login of this run.
        let (key, secret) = open_old(args, old, ask)?;
        let comment = key.comment().to_owned();
        if missing {
            let key = PrivateKey::generate(same_algorithm(&old.public), &comment)
                .map_err(|error| Failure::new(code::INTERNAL, error.to_string()))?;
            let note = KeyNote { made: Some(Timestamp::now()), ..KeyNote::default() };
            ring.add(name, &key, Protect::with(secret.as_ref()), note, &mut SystemRandom)?;
            output::say(&format!(
                "{name} is made: {} {}.",
                key.public().describe(),
                key.public().fingerprint()
            ));
        }
        if let Some(secret) = secret {
            ask.know_passphrase(&old.name, secret.clone());
            ask.know_passphrase(name, secret);
        }
    }
    Ok(ring.get(name)?)
}

/// The old key, opened with the passphrase that was handed over, or with one that is asked for.
fn open_old(
    args: &RotateArgs,
    old: &RingEntry,
    ask: &TerminalAsk,
) -> Result<(PrivateKey, Option<SecretString>), Failure> {
    let failed = |error| Failure::new(code::LOCAL, format!("cannot open {}: {error}", old.name));
    let given = ask.take_given_passphrase();
    if given.is_none() && args.connect.no_questions && old.sealed.is_protected() {
        return Err(
            failed(KeyError::PassphraseNeeded).hint("`--passphrase-fd N` reads it from a file descriptor")
        );
    }
    let (keys, passphrase) = match given {
        Some(given) => (old.sealed.open_all(Some(&given), Patience::Short).map_err(failed)?, Some(given)),
        None => {
            let nothing_given = OpenArgs { passphrase_fd: None, patient: false };
            let opened = passphrase::open(&old.sealed, &old.name, &nothing_given)?;
            (opened.keys, opened.passphrase)
        }
    };
    Ok((pick_opened(keys, None, &old.name)?, passphrase))
}

/// The kind of the old key, at a size that is made today.
fn same_algorithm(key: &PublicKey) -> KeyAlgorithm {
    match key {
        PublicKey::Ed25519(_) => KeyAlgorithm::Ed25519,
        PublicKey::Ecdsa { curve, .. } => KeyAlgorithm::Ecdsa(*curve),
        PublicKey::Rsa { n, .. } => KeyAlgorithm::Rsa(match n.len() * 8 {
            0..=3072 => RsaBits::B3072,
            3073..=4096 => RsaBits::B4096,
            _ => RsaBits::B8192,
        }),
    }
}

/// Everything on one machine. Each step begins with a look, so that done twice it does nothing twice.
async fn rotate_on(
    target: &Target,
    home: &Home,
    args: &RotateArgs,
    ask: &TerminalAsk,
    old: &RingEntry,
    new: &RingEntry,
) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    let user = target.user(&args.connect)?;
    let trunk = match prove(target, home, &args.connect, ask, &new.name).await? {
        Proof::LoggedIn(trunk) => trunk,
        _ => {
            let keys = match args.connect.key {
                Some(_) => target.keys(&args.connect),
                None => KeyChoice::Named(vec![old.name.clone()]),
            };
            let login = target.try_connect(home, &args.connect, ask, keys, false).await;
            let trunk = login.map_err(ConnectFailure::into_failure)?;
            add_line_like(&trunk, new, &old.public).await?;
            trunk.close().await;
            match prove(target, home, &args.connect, ask, &new.name).await? {
                Proof::LoggedIn(trunk) => trunk,
                Proof::Accepted => {
                    return Err(Failure::new(
                        code::LOGIN,
                        format!(
                            "{} wants more than a key, so nobody can prove that {} opens it alone",
                            target.name, new.name
                        ),
                    )
                    .hint(format!(
                        "`lantern key install {} {}` and `lantern key withdraw {} {}` do it by hand",
                        new.name, target.name, old.name, target.name
                    )));
                }
                Proof::Refused(error) => return Err(not_proven(&new.name, &target.name, error)),
            }
        }
    };
    // The key that was named for it goes on with the list: the new one may be limited to a command.
    let trunk = match args.connect.key {
        Some(_) => {
            trunk.close().await;
            let keys = target.keys(&args.connect);
            let login = target.try_connect(home, &args.connect, ask, keys, false).await;
            login.map_err(ConnectFailure::into_failure)?
        }
        None => trunk,
    };
    let options = options_of(&trunk, &new.public).await?;
    let place =
        Installed { machine: target.name.clone(), user: user.clone(), at: Timestamp::now(), limits: options };
    ring.change_note(&new.name, |note| note.note_installed(place))?;
    // The book first: should anything stop us now, the machine is reached with the key that works.
    MachineBook::replace_key(home, &target.name, &old.name, &new.name)?;
    let change = remove_line(&trunk, &old.public).await?;
    trunk.close().await;
    if change == Change::None {
        tracing::debug!(machine = target.name, key = old.name, "was out already");
    }
    ring.change_note(&old.name, |note| note.note_withdrawn(&target.name, &user))?;
    Ok(())
}

fn report(
    args: &RotateArgs,
    home: &Home,
    old: &RingEntry,
    new: &RingEntry,
    done: &[Done],
    json: bool,
) -> Result<(), Failure> {
    let failed: Vec<&Done> = done.iter().filter(|done| done.outcome.is_err()).collect();
    let installed = KeyRing::new(home).get(&old.name)?.note.installed;
    let named = MachineBook::load(home)?.users_of_key(&old.name).count();
    if json {
        let values: Vec<Value> = done
            .iter()
            .map(|done| {
                json!({
                    "machine": done.machine,
                    "done": done.outcome.is_ok(),
                    "error": done.outcome.as_ref().err().map(|failure| failure.headline.clone()),
                })
            })
            .collect();
        output::print_json(&json!({ "old": old.name, "new": new.name, "machines": values }))?;
    }
    if let Some(first) = failed.first().and_then(|done| done.outcome.as_ref().err()) {
        let mut failure = Failure::new(
            first.code,
            format!("{} of {} machines still have {}", failed.len(), done.len(), old.name),
        );
        failure.hints.push(format!("the same command goes on: lantern key rotate {}", args.name));
        return Err(failure);
    }
    if !json && installed.is_empty() && named == 0 {
        output::say(&format!(
            "{} has taken the place of {} everywhere that is known. `lantern key remove {}` ends it.",
            new.name, old.name, old.name
        ));
    }
    Ok(())
}
