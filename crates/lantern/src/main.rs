//! `lantern`: reach many machines safely.
//!
//! `main` parses, sets up logging, runs one command and turns its outcome into an exit code. Each command is a file in
//! [`commands`], and takes its arguments from [`cli`]; [`screen`] is all that is printed, [`terminal`] all that is asked and typed.

mod cli;
mod commands;
mod logging;
mod screen;
mod terminal;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::error::ContextKind;

use clap_complete::CompleteEnv;

use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::output;

fn main() -> ExitCode {
    keep_out_of_core_files();
    terminal::raw::restore_on_panic();
    stop_on_purpose();
    lantern_book::tell_waits(tell_wait);
    CompleteEnv::with_factory(cli::command).var(commands::completions::VARIABLE).complete();
    let words: Vec<_> = std::env::args_os().collect();
    let parsed = cli::quick::parse(&words).map_or_else(|| cli::parse(&words), Ok);
    let cli = match parsed {
        Ok(mut cli) => {
            match &mut cli.command {
                cli::Command::Run(args) => args.look_at_words(&words),
                cli::Command::Shell(args) => args.look_at_words(),
                _ => {}
            }
            cli
        }
        Err(error) => {
            // Help and version are answers, not errors.
            let asked_for = !error.use_stderr();
            match asked_for || !cli::wants_json(&words) {
                true => print_usage(&error, &words),
                false => {
                    output::complain_as_json(cli::attempted(&words));
                    output::complain(&usage_failure(&error));
                }
            }
            return ExitCode::from(if asked_for { 0 } else { code::USAGE });
        }
    };
    if cli.global.json {
        output::complain_as_json(cli::attempted(&words));
    }
    let outcome = logging::start(&cli.global).and_then(|()| commands::run(cli));
    match outcome {
        Ok(status) => ExitCode::from(status),
        Err(failure) => report(&failure),
    }
}

/// Whatever this process knows (passphrases, keys, what is typed in a shell) is written to no core file when it dies, and other processes of the
/// same user cannot look into it. Programs that it starts are not bound by this.
fn keep_out_of_core_files() {
    // There is no system on which it could be refused; if there were, that would be no reason not to work.
    let _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}

/// What the parser says before it tells how to go on, in one line; it names what was typed, which JSON writes so that it steers nothing.
fn usage_failure(error: &clap::Error) -> Failure {
    let text = error.to_string();
    let said = text.split("\n\n").next().unwrap_or_default().trim_start_matches("error: ");
    let said = said.lines().map(str::trim).collect::<Vec<_>>().join(" ");
    Failure::new(code::USAGE, said).hint("--help says what can be typed")
}

/// Says what the parser says. It repeats what was typed; where that is not fit to be printed, it is asked what it says of words that are.
fn print_usage(error: &clap::Error, words: &[OsString]) {
    let fit: Vec<String> = words.iter().map(|word| Fit::line(&word.to_string_lossy()).to_string()).collect();
    let are_fit = words.iter().zip(&fit).all(|(word, fit)| word == fit.as_str());
    // Where nobody listens, nobody misses it.
    let _ = match cli::parse(&words_of(&fit)) {
        Err(of_fit) if !are_fit => of_fit.print(),
        Ok(_) if !are_fit => {
            let option = error.get(ContextKind::InvalidArg).map(ToString::to_string);
            let why = std::error::Error::source(error).map(ToString::to_string);
            let why = why.unwrap_or_else(|| "there are control characters in it".into());
            let text = format!("{}: {why}", option.unwrap_or_else(|| "the command line".into()));
            output::complain(&Failure::new(code::USAGE, text));
            Ok(())
        }
        _ => error.print(),
    };
}

fn words_of(texts: &[String]) -> Vec<OsString> {
    texts.iter().map(OsString::from).collect()
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

/// Another program changes the home's files, and takes its time.
fn tell_wait(lock: &std::path::Path, holder: Option<u32>) {
    let who = holder.map_or("another program".into(), |process| format!("process {process}"));
    output::say(format!("waiting for {who}, which holds {} ...", lock.display()));
}

fn report(failure: &Failure) -> ExitCode {
    if !failure.is_quiet() {
        output::complain(failure);
    }
    ExitCode::from(failure.code)
}
