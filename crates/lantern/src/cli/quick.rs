//! The commands that scripts run a thousand times, parsed without building the whole command line: that costs as much as the cryptography of a
//! login. Whatever is not understood here, and every question for help, goes to the whole.

use std::ffi::OsString;

use clap::{Parser, Subcommand};

use super::check::CheckArgs;
use super::global::Global;
use super::run::RunArgs;
use super::shell::ShellArgs;
use super::{Cli, Command};

#[derive(Debug, Parser)]
#[command(name = "lantern", disable_help_flag = true, disable_help_subcommand = true)]
struct Quick {
    #[command(subcommand)]
    command: QuickCommand,
    #[command(flatten)]
    global: Global,
}

#[derive(Debug, Subcommand)]
#[command(disable_help_flag = true)]
enum QuickCommand {
    Run(Box<RunArgs>),
    Shell(ShellArgs),
    Check(CheckArgs),
}

/// The same as [`Cli::try_parse_from`], for what it understands.
pub(crate) fn parse(words: &[OsString]) -> Option<Cli> {
    let is_quick = |word: &OsString| ["run", "shell", "check"].iter().any(|quick| word == quick);
    if !words.iter().any(is_quick) {
        return None;
    }
    let Quick { command, global } = Quick::try_parse_from(words).ok()?;
    let command = match command {
        QuickCommand::Run(args) => Command::Run(*args),
        QuickCommand::Shell(args) => Command::Shell(args),
        QuickCommand::Check(args) => Command::Check(args),
    };
    Some(Cli { command, global })
}
