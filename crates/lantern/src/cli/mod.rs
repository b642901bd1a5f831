//! The command line as data: what can be typed, with its help.

pub(crate) mod acting;
pub(crate) mod at_once;
pub(crate) mod certificate;
pub(crate) mod check;
pub(crate) mod completing;
pub(crate) mod completions;
pub(crate) mod connect;
pub(crate) mod copy;
pub(crate) mod demo;
pub(crate) mod doctor;
pub(crate) mod edit;
pub(crate) mod files;
pub(crate) mod forward;
pub(crate) mod global;
pub(crate) mod keeper;
pub(crate) mod keeper_unit;
pub(crate) mod key;
pub(crate) mod machine;
pub(crate) mod manual;
pub(crate) mod many;
pub(crate) mod mount;
pub(crate) mod one_off;
pub(crate) mod open;
pub(crate) mod profile;
pub(crate) mod quick;
mod remote_paths;
pub(crate) mod run;
pub(crate) mod secret_source;
pub(crate) mod settings;
pub(crate) mod shell;
pub(crate) mod task;
#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests;
pub(crate) mod trust;
pub(crate) mod tunnel;

use std::ffi::OsString;

use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};

use global::Global;

/// Reach many machines safely: keys, trust, shells and commands over SSH
#[derive(Debug, Parser)]
#[command(
    name = "lantern",
    version,
    propagate_version = true,
    subcommand_required = true,
    arg_required_else_help = true
)]
#[command(after_help = "Examples:
  lantern demo                                try everything on simulated machines
  lantern key new harbour                     make a key pair
  lantern machine add lamp-01 192.0.2.7 --user keeper --key harbour
  lantern shell lamp-01                       an interactive session
  lantern run lamp-01 -- uptime               one command

Exit codes: 0 success; the remote command's own status for `run` and `shell`; 240 to 254 for
failures of ours, listed by `lantern exit-codes`.")]
pub(crate) struct Cli {
    /// What to do
    #[command(subcommand)]
    pub(crate) command: Command,
    /// Options of every command
    #[command(flatten)]
    pub(crate) global: Global,
}

/// All commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Try everything on simulated machines, in a throw-away home
    Demo(demo::DemoArgs),
    /// Make, import, convert, show and check key pairs
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern key new harbour
  lantern key import ~/downloads/lamp.pem
  lantern key install harbour lamp-01       then log in with it")]
    Key(key::KeyCommand),
    /// Hold unlocked keys in the background, so that a passphrase is typed once
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern keeper add harbour --lifetime 8h
  lantern keeper status
  lantern keeper lock")]
    Keeper(keeper::KeeperCommand),
    /// Keep the book of machines
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern machine add lamp-01 192.0.2.7 --user keeper --key harbour
  lantern machine list @coast
  lantern machine set @coast dead-after=30 --plan
  lantern machine show lamp-01")]
    Machine(machine::MachineCommand),
    /// Keep settings that machines share
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern profile add coast user=keeper via=harbour-gate
  lantern profile list")]
    Profile(profile::ProfileCommand),
    /// Look after what each machine proved to be
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern trust list
  lantern trust look @coast
  lantern trust audit")]
    Trust(trust::TrustCommand),
    /// Make, show and look after certificates of TLS
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern certificate new-authority house --for @windows
  lantern certificate issue tide-gauge
  lantern certificate show 192.0.2.9:5986
  lantern certificate audit")]
    Certificate(certificate::CertificateCommand),
    /// Walk to machines step by step: what each step saw, and what to do about the first that fails
    Check(check::CheckArgs),
    /// Look at this computer alone: home, keys, keeper, agent, display, clock, terminal
    Doctor(doctor::DoctorArgs),
    /// Open an interactive session
    Shell(shell::ShellArgs),
    /// Run a command on a machine, or on many at once
    Run(run::RunArgs),
    /// Copy files to machines, from machines, and between them
    Copy(copy::CopyArgs),
    /// Edit a file of a machine in your own editor
    Edit(edit::EditArgs),
    /// See a folder of a machine as one of this computer's, through FUSE
    Mount(mount::MountArgs),
    /// Take such a folder away
    Unmount(mount::UnmountArgs),
    /// Look at files on machines, and move, remove and change them
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern files list lamp-01:/srv
  lantern files show lamp-01:/etc/lamp/lamp.conf
  lantern files remove lamp-01:/srv/old --below")]
    Files(files::FilesCommand),
    /// Open tunnels to what only machines reach, and keep them up
    #[command(subcommand)]
    #[command(after_help = "Examples:
  lantern tunnel open chart-room console --browse
  lantern tunnel open lamp-01 --local 8443 --to 127.0.0.1:443
  lantern tunnel list --watch")]
    Tunnel(tunnel::TunnelCommand),
    /// Print a completion script for a shell
    Completions(completions::CompletionsArgs),
    /// Print or write the manual pages
    Manual(manual::ManualArgs),
    /// List the exit codes
    #[command(after_help = "Examples:
  lantern exit-codes
  lantern exit-codes --json")]
    #[command(name = "exit-codes")]
    ExitCodes,
}

/// How help is laid out: what a command is for, examples, and then the options.
const TEMPLATE: &str = "{about-with-newline}
{usage-heading} {usage}{after-help}

{all-args}";

/// The same with each paragraph of prose on one line: where it is broken, the terminal says. Examples stay as they are.
fn in_paragraphs(text: &str) -> String {
    let paragraph = |text: &str| match text.lines().any(|line| line.starts_with(' ')) {
        true => text.to_owned(),
        false => text.lines().collect::<Vec<_>>().join(" "),
    };
    text.split("\n\n").map(paragraph).collect::<Vec<_>>().join("\n\n")
}

/// The whole command line, with its help laid out: of each command the short help leaves out the options that all have.
pub(crate) fn command() -> clap::Command {
    fn lay_out(command: clap::Command) -> clap::Command {
        let after = command.get_after_help().map(|help| in_paragraphs(&help.to_string()));
        let command = command.after_help(after.unwrap_or_default());
        let command = command.help_template(TEMPLATE).mut_args(|arg| {
            let common = matches!(arg.get_help_heading(), Some(connect::HEADING | global::HEADING));
            arg.hide_short_help(common)
        });
        command.mut_subcommands(lay_out)
    }
    lay_out(Cli::command())
}

/// Reads the command line.
///
/// # Errors
/// What the parser says.
pub(crate) fn parse(words: &[OsString]) -> Result<Cli, clap::Error> {
    let mut command = command();
    let matches = command.try_get_matches_from_mut(words)?;
    Cli::from_arg_matches(&matches).map_err(|error| error.format(&mut command))
}

/// Whether errors are wanted as JSON, by words that may not be understood otherwise: what stands behind `--` is somebody else's.
pub(crate) fn wants_json(words: &[OsString]) -> bool {
    let ours = words.iter().take_while(|word| *word != "--");
    ours.into_iter().any(|word| word == "--json" || word == "-j")
}

/// The command that was typed, without its options and what they are about: a secret may have slipped into those.
pub(crate) fn attempted(words: &[OsString]) -> String {
    let mut name = String::from("lantern");
    let mut command = Cli::command();
    for word in words.iter().skip(1).filter_map(|word| word.to_str()) {
        if let Some(sub) = command.find_subcommand(word) {
            name = format!("{name} {word}");
            command = sub.clone();
        }
    }
    name
}
