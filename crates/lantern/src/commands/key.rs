//! `lantern key`: the key ring.

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use jiff::Timestamp;
use lantern_book::{BookError, KeyRing, MachineBook, RingEntry};
use lantern_keys::container::{MAX_FILE_LEN, Sealed};
use lantern_keys::{KeyAlgorithm, PrivateKey, PublicKey, SecretString, SystemRandom, public_line};
use serde_json::{Value, json};

use crate::cli::Global;
use crate::failure::{Failure, chain, code};
use crate::flags_view;
use crate::output;
use crate::secret_source;
use crate::settings::{self, local_user};
use crate::terminal::prompt::{Answer, Terminal};

/// Commands of the key ring.
#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Make a key pair
    New(NewArgs),
    /// List the key ring
    List,
    /// Show a key of the ring, or a key file, private or public
    Show(ShowArgs),
}

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
    no_passphrase: bool,
    /// Read the passphrase from this file descriptor
    #[arg(long, value_name = "N")]
    passphrase_fd: Option<u32>,
}

/// Arguments of `key show`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern key show harbour
  lantern key show harbour --line                 the public half in one line, to paste into a console
  lantern key show /etc/ssh/ssh_host_ed25519_key.pub    a machine's host key, to compare at first contact")]
pub(crate) struct ShowArgs {
    /// A name in the ring, or a file (a path with a `/` or a `.`)
    key: String,
    /// Print the public half in one line and nothing else
    #[arg(long)]
    line: bool,
}

fn algorithm(name: &str) -> Result<KeyAlgorithm, String> {
    KeyAlgorithm::from_name(name)
        .ok_or_else(|| format!("one of {}", KeyAlgorithm::NAMES.map(|(name, _)| name).join(", ")))
}

pub(crate) fn run(command: KeyCommand, global: &Global) -> Result<(), Failure> {
    let ring = KeyRing::new(&settings::home(global)?);
    match command {
        KeyCommand::New(args) => new(&args, &ring, global.json),
        KeyCommand::List => list(&ring, global),
        KeyCommand::Show(args) => show(&args, &ring, global),
    }
}

fn new(args: &NewArgs, ring: &KeyRing, json: bool) -> Result<(), Failure> {
    lantern_book::check_name("key name", &args.name)?;
    // Before anyone types a passphrase for nothing.
    if ring.private_path(&args.name).exists() {
        return Err(BookError::Exists { what: "key", name: args.name.clone() }.into());
    }
    let passphrase = match args.passphrase_fd {
        Some(descriptor) => Some(secret_source::from_descriptor(descriptor)?),
        None if args.no_passphrase => None,
        None => ask_new_passphrase(&args.name)?,
    };
    let comment = args.comment.clone().unwrap_or_else(default_comment);
    if matches!(args.algorithm, KeyAlgorithm::Rsa(_)) {
        output::say("Looking for primes; that can take a few seconds.");
    }
    let key = PrivateKey::generate(args.algorithm, &comment)
        .map_err(|error| Failure::new(code::INTERNAL, chain(&error)))?;
    let path = ring.add(&args.name, &key, passphrase.as_ref(), Timestamp::now(), &mut SystemRandom)?;
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

/// Asks twice; an empty answer is not taken for "none", which has an option of its own.
fn ask_new_passphrase(name: &str) -> Result<Option<SecretString>, Failure> {
    let nobody = || {
        Failure::new(code::LOCAL, "a new key wants a passphrase, and there is no terminal to ask at")
            .hint("`--passphrase-fd N` reads it from a file descriptor")
            .hint("`--no-passphrase` makes a key that whoever reads the file can use")
    };
    let mut terminal = Terminal::open().ok_or_else(nobody)?;
    let mut ask = |question: &str| match terminal.ask_secret(question) {
        Answer::Given(secret) => Ok(secret),
        Answer::Interrupted => Err(Failure::new(code::INTERRUPTED, "interrupted; no key was made")),
        Answer::Ended => Err(nobody()),
    };
    loop {
        let first = ask(&format!("Passphrase for the new key {name}: "))?;
        if first.is_empty() {
            output::say("An empty one protects nothing; `--no-passphrase` is there for keys without.");
            continue;
        }
        if ask("The same again: ")? == first {
            return Ok(Some(first));
        }
        output::say("They differ; once more.");
    }
}

fn default_comment() -> String {
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    format!("{}@{host}", local_user().unwrap_or_else(|| "someone".into()))
}

fn public_json(key: &PublicKey, comment: &str) -> Value {
    let fingerprint = key.fingerprint();
    json!({
        "algorithm": key.describe(),
        "key_type": key.key_type(),
        "fingerprint": fingerprint.to_string(),
        "flags": flags_view::words(&fingerprint),
        "comment": comment,
        "line": public_line::format(key, comment),
    })
}

fn entry_json(entry: &RingEntry) -> Value {
    let mut value = public_json(entry.public(), &entry.comment);
    value["name"] = json!(entry.name);
    value["private_file"] = json!(entry.path);
    value["passphrase"] = json!(entry.sealed.is_protected());
    value["container"] = json!(entry.sealed.describe());
    value["made"] = json!(entry.made);
    value["mode"] = json!(format!("{:04o}", entry.mode));
    value["exposed"] = json!(entry.is_exposed());
    value
}

fn list(ring: &KeyRing, global: &Global) -> Result<(), Failure> {
    let mut entries = Vec::new();
    for entry in ring.all()? {
        match entry {
            Ok(entry) => entries.push(entry),
            // One broken file is told and does not hide the others.
            Err(error) => output::warn(&chain(&error)),
        }
    }
    if global.json {
        return output::print_json(&entries.iter().map(entry_json).collect::<Vec<_>>());
    }
    if entries.is_empty() {
        output::say("The ring is empty. `lantern key new NAME` makes a key.");
        return Ok(());
    }
    let row = |entry: &RingEntry| {
        let state = match (entry.is_exposed(), entry.sealed.is_protected()) {
            (true, _) => format!("! others can read it (mode {:04o})", entry.mode),
            (false, false) => "no passphrase".into(),
            (false, true) => "passphrase".into(),
        };
        let made = entry.made.map(|made| made.strftime("%Y-%m-%d").to_string()).unwrap_or_default();
        let fingerprint = entry.public().fingerprint().to_string();
        [entry.name.clone(), entry.public().describe(), fingerprint, made, state, entry.comment.clone()]
            .map(Into::into)
    };
    let heading = ["NAME", "ALGORITHM", "FINGERPRINT", "MADE", "STATE", "COMMENT"];
    output::print(&output::table(heading, entries.iter().map(row)))
}

fn show(args: &ShowArgs, ring: &KeyRing, global: &Global) -> Result<(), Failure> {
    if args.key.contains('/') || (args.key.contains('.') && !ring.private_path(&args.key).exists()) {
        return show_file(Path::new(&args.key), args.line, global.json);
    }
    let entry = ring.get(&args.key)?;
    if args.line {
        return output::print(&format!("{}\n", public_line::format(entry.public(), &entry.comment)));
    }
    let book = MachineBook::load(&settings::home(global)?)?;
    let users: Vec<&str> = book
        .iter()
        .filter(|(_, machine)| machine.key.as_deref() == Some(&entry.name))
        .map(|(name, _)| name)
        .collect();
    if global.json {
        let mut value = entry_json(&entry);
        value["machines"] = json!(users);
        return output::print_json(&value);
    }
    let mode =
        if entry.is_exposed() { "others can read it; chmod 600 mends that" } else { "only you can read it" };
    let mut pairs = vec![
        ("key", entry.name.clone()),
        ("private", format!("{} (mode {:04o}: {mode})", entry.path.display(), entry.mode)),
        ("container", entry.sealed.describe()),
    ];
    if let Some(made) = entry.made {
        pairs.push(("made", made.strftime("%Y-%m-%d %H:%M UTC").to_string()));
    }
    pairs.push(("machines", if users.is_empty() { "none in the book".into() } else { users.join(", ") }));
    pairs.extend(public_fields(entry.public(), &entry.comment));
    output::print(&output::fields(&pairs))
}

fn public_fields(key: &PublicKey, comment: &str) -> Vec<(&'static str, String)> {
    let fingerprint = key.fingerprint();
    vec![
        ("algorithm", key.describe()),
        ("comment", comment.to_owned()),
        ("fingerprint", fingerprint.to_string()),
        ("", flags_view::draw(&fingerprint, output::colorful_stdout())),
        ("line", public_line::format(key, comment)),
    ]
}

/// A file that need not be in the ring: a private container or a public line.
fn show_file(path: &Path, line: bool, json: bool) -> Result<(), Failure> {
    let (key, comment, container) = read_key_file(path)?;
    if line {
        return output::print(&format!("{}\n", public_line::format(&key, &comment)));
    }
    if json {
        let mut value = public_json(&key, &comment);
        value["file"] = json!(path);
        value["container"] = json!(container);
        return output::print_json(&value);
    }
    let mut pairs = vec![("file", path.display().to_string()), ("container", container)];
    pairs.extend(public_fields(&key, &comment));
    output::print(&output::fields(&pairs))
}

fn read_key_file(path: &Path) -> Result<(PublicKey, String, String), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot read {}: {error}", path.display()));
    let length = std::fs::metadata(path).map_err(failed)?.len();
    if length <= MAX_FILE_LEN as u64 {
        let text = std::fs::read(path).map_err(failed)?;
        if let Some(Ok((key, comment))) =
            std::str::from_utf8(&text).ok().map(|text| public_line::parse(text.trim()))
        {
            return Ok((key, comment, "one-line public key".into()));
        }
    }
    let sealed: Sealed = KeyRing::read_file(&PathBuf::from(path)).map_err(Failure::from)?;
    let container = sealed.describe();
    Ok((sealed.public().clone(), String::new(), container))
}
