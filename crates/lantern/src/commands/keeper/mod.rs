//! `lantern keeper`: unlock a key once, and have it used for every login.

mod remember;
mod status;
mod unit;

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use lantern_book::{Field, Home, KeyRing, MachineBook};
use lantern_keeper::{
    KeeperError, KeeperOptions, Status, Trouble, keeper_socket, passwords_path, socket_path,
};
use lantern_keys::{PrivateKey, SecretBytes, SecretString};
use lantern_link::Explained;
use lantern_operations::Target;
use lantern_operations::tunnel::is_final;
use lantern_ssh::agent::{AgentRequest, Constraints};
use serde_json::json;
use tokio::signal::unix::SignalKind;

use self::status::in_words;
use super::{block_on, watch};
use crate::cli::connect::ConnectArgs;
use crate::cli::global::Global;
use crate::cli::keeper::{AddArgs, ForgetArgs, KeeperCommand, LockArgs, StartArgs};
use crate::cli::open::OpenArgs;
use crate::cli::settings;
use crate::commands::connecting;
use crate::commands::key_source::{KeySource, pick_opened};
use crate::commands::tunnel::of_opening;
use crate::screen::explain::explained;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::output;
use crate::terminal::passphrase::{self, interrupted};
use crate::terminal::prompt::{Answer, Terminal};

/// How long a connection stays that nobody uses, where nothing says.
const SHARE_IDLE: Duration = Duration::from_secs(600);
/// Longest path of a socket, in bytes (unix(7)).
const MAX_SOCKET_PATH: usize = 107;

pub(crate) fn run(command: KeeperCommand, global: &Global) -> Result<(), Failure> {
    let home = settings::home(global)?;
    match command {
        KeeperCommand::Start(args) if args.foreground => serve(&home, &args, false),
        KeeperCommand::Start(args) => start(&home, &args, global.json, false),
        KeeperCommand::Serve(args) => serve(&home, &args, true),
        KeeperCommand::Status => status::run(&home, global.json),
        KeeperCommand::Add(args) => add(&home, &args, global.json),
        KeeperCommand::Remember(args) => remember::run(&home, &args, global.json),
        KeeperCommand::Forget(args) => forget(&home, &args, global.json),
        KeeperCommand::Lock(args) => lock(&home, &args, true),
        KeeperCommand::Unlock(args) => lock(&home, &args, false),
        KeeperCommand::Stop => stop(&home),
        KeeperCommand::Unit(args) => unit::run(&args, global, &home),
    }
}

/// Starts a copy of this program that goes on by itself, and waits until it says that it is ready.
fn start(home: &Home, args: &StartArgs, json: bool, is_by_the_way: bool) -> Result<(), Failure> {
    let failed = |why: String| Failure::new(code::LOCAL, format!("cannot start the keeper: {why}"));
    let path = keeper_socket(home);
    if path.as_os_str().len() > MAX_SOCKET_PATH {
        return Err(failed(format!(
            "{} is longer than the {MAX_SOCKET_PATH} bytes that a socket's path can have",
            path.display()
        ))
        .hint("`--home` or LANTERN_HOME with a shorter path; a link to the folder will do"));
    }
    if let Some(status) = state(home)? {
        return tell_started(home, status.pid, "runs already", json);
    }
    let program = std::env::current_exe().map_err(|error| failed(error.to_string()))?;
    let mut command = Command::new(program);
    let absolute = std::path::absolute(home.path()).map_err(|error| failed(error.to_string()))?;
    command.args(["keeper", "serve", "--home"]).arg(absolute);
    if let Some(program) = &args.confirm_with {
        command.arg("--confirm-with").arg(checked_program(program)?);
    }
    let mut child = command
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::inherit())
        .spawn()
        .map_err(|error| failed(error.to_string()))?;
    let mut line = String::new();
    if let Some(out) = child.stdout.take() {
        BufReader::new(out).read_line(&mut line).map_err(|error| failed(error.to_string()))?;
    }
    match line.trim() {
        READY if is_by_the_way => {
            output::say(format!("The keeper is started (process {}).", child.id()));
            Ok(())
        }
        READY => tell_started(home, child.id(), "runs", json),
        // Somebody else started it at the same moment.
        RUNS_ALREADY => match state(home)? {
            Some(_) if is_by_the_way => Ok(()),
            Some(status) => tell_started(home, status.pid, "runs already", json),
            None => Err(failed("another one was started, and has ended".into())),
        },
        // It has said why.
        _ => Err(Failure::quiet(code::LOCAL)),
    }
}

fn checked_program(program: &std::path::Path) -> Result<PathBuf, Failure> {
    let failed =
        |why: String| Failure::new(code::LOCAL, format!("cannot ask with {}: {why}", program.display()));
    let path = std::path::absolute(program).map_err(|error| failed(error.to_string()))?;
    match std::fs::metadata(&path) {
        Ok(metadata) if metadata.is_file() => Ok(path),
        Ok(_) => Err(failed("it is no program".into())),
        Err(error) => Err(failed(error.to_string())),
    }
}

fn tell_started(home: &Home, pid: u32, verb: &str, json: bool) -> Result<(), Failure> {
    let socket = socket_path(home);
    if json {
        return output::print_json(&json!({ "running": true, "pid": pid, "socket": socket }));
    }
    output::say(format!("The keeper {verb} (process {pid}). `lantern keeper add NAME` has it hold a key."));
    Ok(())
}

/// What a detached keeper says to the one who started it.
const READY: &str = "ready";
const RUNS_ALREADY: &str = "runs already";

/// The process itself. Detached, it says "ready" to the one who started it and leaves terminal and folder behind.
fn serve(home: &Home, args: &StartArgs, detach: bool) -> Result<(), Failure> {
    let failed = |why: String| Failure::new(code::LOCAL, format!("cannot start the keeper: {why}"));
    let confirm_with = args.confirm_with.as_deref().map(checked_program).transpose()?;
    lantern_keeper::close_process().map_err(|error| failed(error.to_string()))?;
    let path = socket_path(home);
    let options = options(home, confirm_with);
    block_on(async {
        let lock = home.lock()?;
        if lantern_keeper::find(home).await?.is_some() {
            return match detach {
                true => output::print(&fit!("{}\n", RUNS_ALREADY)),
                false => Err(failed("it runs already".into())),
            };
        }
        // Left behind by one that was killed: nobody answers there.
        let _ = std::fs::remove_file(&path);
        let sockets = lantern_keeper::listen(home)
            .await
            .map_err(|error| failed(format!("{}: {error}", path.display())))?;
        drop(lock);
        if detach {
            output::print(&fit!("{}\n", READY))?;
            leave_terminal().map_err(|error| failed(error.to_string()))?;
        }
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        tokio::select! {
            () = lantern_keeper::serve(sockets, options) => {}
            _ = interrupts.recv(), if !detach => {}
            _ = terminations.recv() => {}
        }
        let _ = std::fs::remove_file(&path);
        let _ = std::fs::remove_file(passwords_path(home));
        Ok(())
    })
}

/// What it is to be.
fn options(home: &Home, confirm_with: Option<PathBuf>) -> KeeperOptions {
    let defaults = MachineBook::load(home).ok();
    let idle = defaults.as_ref().and_then(|book| book.effective_defaults().number(Field::ShareIdle));
    let its_home = home.clone();
    KeeperOptions {
        home: home.clone(),
        confirm_with,
        explain: Arc::new(move |trouble| explain_trouble(&its_home, trouble)),
        idle: idle.map_or(SHARE_IDLE, Duration::from_secs),
        reach: ConnectArgs::default().reach(home),
    }
}

/// Says to a program what went wrong for it.
fn explain_trouble(home: &Home, trouble: Trouble) -> Explained {
    match trouble {
        Trouble::Reaching(typed, error) => {
            let is_final = is_final(&error);
            let failure = match Target::resolve(home, &typed) {
                Ok(target) => connecting::explain(home, &target, error),
                Err(_) => error.into(),
            };
            explained(failure, is_final)
        }
        Trouble::Opening(typed, failed, plans) => explained(of_opening(&failed, &plans, &typed), true),
    }
}

/// A session of its own, without the terminal, the folder and the streams of the one who started us.
fn leave_terminal() -> rustix::io::Result<()> {
    rustix::process::setsid()?;
    rustix::process::chdir("/")?;
    let null = rustix::fs::open("/dev/null", rustix::fs::OFlags::RDWR, rustix::fs::Mode::empty())?;
    rustix::stdio::dup2_stdin(&null)?;
    rustix::stdio::dup2_stdout(&null)?;
    rustix::stdio::dup2_stderr(&null)
}

fn add(home: &Home, args: &AddArgs, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    // Before anybody types a passphrase for nothing, the keys are there.
    for typed in &args.keys {
        KeySource::resolve(typed, &ring)?;
    }
    let state = match state(home)? {
        Some(state) => state,
        None => {
            start(home, &StartArgs { confirm_with: None, foreground: false }, json, true)?;
            state(home)?.ok_or_else(not_running)?
        }
    };
    if state.locked {
        return Err(Failure::new(code::LOCAL, "the keeper is locked").hint("lantern keeper unlock"));
    }
    let mut held = Vec::new();
    for typed in &args.keys {
        let key = open(typed, &ring, &args.open)?;
        let fingerprint = key.public().fingerprint();
        let constraints = Constraints { lifetime: args.lifetime, confirm: args.confirm };
        let request = AgentRequest::Add { key: Box::new(key), constraints };
        must(home, &request, "hold another key")?;
        held.push(json!({ "name": typed, "fingerprint": fingerprint.to_string() }));
        if !json {
            let time = args.lifetime.map_or(String::new(), |seconds| format!(" for {}", in_words(seconds)));
            let asks = if args.confirm { ", and asks before each use" } else { "" };
            output::say(format!("The keeper holds {typed}{time}{asks}."));
        }
    }
    if json { output::print_json(&held) } else { Ok(()) }
}

/// Has the keeper hold a key of the ring with a passphrase that is known; one that does not run is started.
///
/// # Errors
/// The keeper cannot be started, or does not take it.
pub(crate) fn hold(home: &Home, name: &str, passphrase: Option<&SecretString>) -> Result<(), Failure> {
    let entry = KeyRing::new(home).get(name)?;
    let opened = passphrase::open_with(&entry.sealed, name, &OpenArgs::default(), passphrase.cloned())?;
    let key = pick_opened(opened.keys, None, name)?;
    if state(home)?.is_none() {
        start_by_the_way(home)?;
    }
    let constraints = Constraints { lifetime: None, confirm: false };
    must(home, &AgentRequest::Add { key: Box::new(key), constraints }, "hold another key")?;
    output::say(format!("The keeper holds {name}."));
    Ok(())
}

/// Starts the keeper because a command has use for it.
///
/// # Errors
/// It cannot be started.
pub(crate) fn start_by_the_way(home: &Home) -> Result<(), Failure> {
    start(home, &StartArgs { confirm_with: None, foreground: false }, false, true)
}

fn not_running() -> Failure {
    KeeperError::NotRunning.into()
}

/// The keeper's state; none when it does not run.
///
/// # Errors
/// What the keeper says.
pub(crate) fn state(home: &Home) -> Result<Option<Status>, Failure> {
    block_on(async { Ok(lantern_keeper::status(home).await?) })
}

fn must(home: &Home, request: &AgentRequest, what: &str) -> Result<(), Failure> {
    block_on(async { Ok(lantern_keeper::must(home, request, what).await?) })
}

fn open(typed: &str, ring: &KeyRing, args: &OpenArgs) -> Result<PrivateKey, Failure> {
    match KeySource::resolve(typed, ring)? {
        KeySource::Ring(entry) => {
            let key = pick_opened(passphrase::open(&entry.sealed, typed, args)?.keys, None, typed)?;
            Ok(key)
        }
        KeySource::File(file) => {
            pick_opened(passphrase::open(file.private(None)?, typed, args)?.keys, None, typed)
        }
    }
}

fn forget(home: &Home, args: &ForgetArgs, json: bool) -> Result<(), Failure> {
    let ring = KeyRing::new(home);
    if args.all {
        must(home, &AgentRequest::RemoveAll, "forget while it is locked")?;
        output::say("The keeper holds nothing any more.");
    }
    for machine in &args.passwords_of {
        match block_on(async { Ok(lantern_keeper::disown(home, machine).await?) })? {
            true => output::say(format!("The keeper has forgotten the password for {machine}.")),
            false => {
                let words =
                    format!("the keeper holds no password for {machine}, or is locked, or does not run");
                return Err(Failure::new(code::LOCAL, words).hint("lantern keeper status"));
            }
        }
    }
    for typed in &args.keys {
        let key = match KeySource::resolve(typed, &ring)? {
            KeySource::Ring(entry) => entry.public,
            KeySource::File(file) => file.private(None)?.public().cloned().ok_or_else(|| {
                Failure::new(
                    code::LOCAL,
                    format!(
                        "{typed} hides its public half; `lantern keeper forget --all` forgets everything"
                    ),
                )
            })?,
        };
        let request = AgentRequest::Remove(key.encode());
        must(home, &request, &format!("forget {typed}: it does not hold it, or it is locked"))?;
        output::say(format!("The keeper has forgotten {typed}."));
    }
    if json {
        output::print_json(
            &json!({ "forgotten": args.keys, "passwords_of": args.passwords_of, "all": args.all }),
        )
    } else {
        Ok(())
    }
}

fn lock(home: &Home, args: &LockArgs, lock: bool) -> Result<(), Failure> {
    state(home)?.ok_or_else(not_running)?;
    let secret = match &args.passphrase_from {
        Some(source) => source.read()?,
        None if lock => passphrase::ask_new("the lock", "--passphrase-from", false)?,
        None => {
            let mut terminal = Terminal::open().ok_or_else(|| {
                Failure::new(code::LOCAL, "there is no terminal to ask at")
                    .hint("`--passphrase-from SOURCE` reads it: fd:N, file:PATH or command:LINE")
            })?;
            match terminal.ask_secret("Passphrase of the lock: ") {
                Answer::Given(secret) => secret,
                Answer::Interrupted | Answer::Ended => return Err(interrupted()),
            }
        }
    };
    let bytes = SecretBytes::new(secret.expose_secret().as_bytes().to_vec());
    let (request, what) = match lock {
        true => (AgentRequest::Lock(bytes), "lock: it is locked already"),
        false => (AgentRequest::Unlock(bytes), "unlock: it is not locked, or that is not its passphrase"),
    };
    must(home, &request, what)?;
    output::say(if lock { "The keeper is locked." } else { "The keeper is open." });
    Ok(())
}

fn stop(home: &Home) -> Result<(), Failure> {
    match state(home)? {
        Some(_) => {
            must(home, &lantern_keeper::stop_request(), "stop")?;
            output::say("The keeper has forgotten everything and ended.");
        }
        None => output::say("The keeper does not run."),
    }
    Ok(())
}
