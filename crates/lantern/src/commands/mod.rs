//! The commands: one file each, of its arguments and a function that carries it out.

pub(crate) mod carried;
pub(crate) mod certificate;
pub(crate) mod check;
pub(crate) mod completions;
mod connecting;
mod console;
pub(crate) mod copy;
pub(crate) mod demo;
mod descriptors;

mod display;
pub(crate) mod doctor;
pub(crate) mod edit;
mod errand;
mod feed;
pub(crate) mod files;
mod for_many;
mod forwarding;
pub(crate) mod keeper;
pub(crate) mod key;
mod key_source;
pub(crate) mod machine;
pub(crate) mod manual;
mod many;
mod mending;
mod mount;
mod pasted_errand;
mod pick;
mod places;
mod power_shell;
pub(crate) mod profile;
pub(crate) mod run;
mod second_hop;
mod session;
mod sharing;
pub(crate) mod shell;
mod task;
pub(crate) mod trust;
pub(crate) mod tunnel;

use std::future::Future;

use tokio::signal::unix::{Signal, SignalKind, signal};

use crate::cli::{Cli, Command};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::signals;

/// Carries out the command; its exit status.
///
/// # Errors
/// What failed.
pub(crate) fn run(cli: Cli) -> Result<u8, Failure> {
    let global = &cli.global;
    match cli.command {
        Command::Demo(args) => demo::run(&args, global),
        Command::Key(command) => key::run(command, global),
        Command::Keeper(command) => keeper::run(command, global).map(|()| 0),
        Command::Machine(command) => machine::run(command, global).map(|()| 0),
        Command::Profile(command) => profile::run(command, global).map(|()| 0),
        Command::Trust(command) => trust::run(command, global),
        Command::Certificate(command) => certificate::run(command, global),
        Command::Check(args) => check::run(&args, global),
        Command::Doctor(args) => doctor::run(&args, global),
        Command::Shell(args) => shell::run(&args, global),
        Command::Run(args) => run::run(&args, global),
        Command::Copy(args) => copy::run(&args, global),
        Command::Edit(args) => edit::run(&args, global),
        Command::Mount(args) => mount::run(&args, global),
        Command::Unmount(args) => mount::unmount(&args, global),
        Command::Files(command) => files::run(&command, global),
        Command::Tunnel(command) => tunnel::run(command, global),
        Command::Completions(args) => completions::run(&args).map(|()| 0),
        Command::Manual(args) => manual::run(&args).map(|()| 0),
        Command::ExitCodes => exit_codes(global.json).map(|()| 0),
    }
}

fn exit_codes(json: bool) -> Result<(), Failure> {
    if json {
        let codes: Vec<_> = code::TABLE
            .map(|(code, meaning)| serde_json::json!({ "code": code, "meaning": meaning }))
            .to_vec();
        return output::print_json(&codes);
    }
    let success = ["0".into(), "success; for `run` and `shell`, the remote status is passed on".into()];
    let found = ["1".into(), "`key audit`, `trust audit`, `check` or `doctor` found something; `copy` or `files` left something out".into()];
    let ours = code::TABLE.map(|(code, meaning)| [code.to_string().into(), meaning.into()]);
    output::print(&output::table(&["CODE", "MEANING"], [success, found].into_iter().chain(ours)))
}

/// Runs a future on this thread.
///
/// # Errors
/// When there is no runtime to be had; else what the future says.
pub(crate) fn block_on<T>(future: impl Future<Output = Result<T, Failure>>) -> Result<T, Failure> {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot start: {error}")))?;
    let outcome = runtime.block_on(future);
    // A thread that waits for input must not hold up the end.
    runtime.shutdown_background();
    outcome
}

/// Signals of this kind as they come, instead of what they would do to us.
///
/// # Errors
/// When the system does not let us watch them.
pub(crate) fn watch(kind: SignalKind) -> Result<Signal, Failure> {
    signals::leave_to_others(kind.as_raw_value());
    signal(kind).map_err(|error| Failure::new(code::INTERNAL, format!("cannot watch signals: {error}")))
}
