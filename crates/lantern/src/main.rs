//! `lantern`: reach many machines safely.
//!
//! `main` parses, sets up logging, runs one command and turns its outcome into an exit code. Each command is a file in
//! [`commands`]; [`failure`] is the one place that maps failures to exit codes and hints.

mod agents;
mod ask;
mod cli;
mod commands;
mod completing;
mod confirm;
mod connect_args;
mod failure;
mod flags_view;
mod forward;
mod key_source;
mod logging;
mod output;
mod passphrase;
mod pipes;
mod progress;
mod secret_source;
mod settings;
mod stdio;
mod target;
mod terminal;

use std::process::ExitCode;

use clap::{CommandFactory, Parser};
use clap_complete::CompleteEnv;

use crate::failure::{Failure, code};

fn main() -> ExitCode {
    terminal::raw::restore_on_panic();
    stop_on_purpose();
    CompleteEnv::with_factory(cli::Cli::command).var(commands::completions::VARIABLE).complete();
    let cli = match cli::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            // Help and version are answers, not errors.
            let asked_for = !error.use_stderr();
            let _ = error.print();
            return ExitCode::from(if asked_for { 0 } else { code::USAGE });
        }
    };
    let outcome = logging::start(&cli.global).and_then(|()| commands::run(cli));
    match outcome {
        Ok(status) => ExitCode::from(status),
        Err(failure) => report(&failure),
    }
}

/// For tests, and only in builds with debug assertions: the process ends at the write of a file that the environment
/// counts to, as if it were killed there.
fn stop_on_purpose() {
    if cfg!(debug_assertions)
        && let Some(write) = std::env::var("LANTERN_TEST_STOP_AT").ok().and_then(|text| text.parse().ok())
    {
        lantern_book::fault::stop_at(write);
    }
}

fn report(failure: &Failure) -> ExitCode {
    if !failure.is_quiet() {
        output::complain(failure);
    }
    ExitCode::from(failure.code)
}
