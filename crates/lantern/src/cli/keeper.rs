//! The commands of `lantern keeper` and their arguments.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::cli::secret_source::SecretSource;
use jiff::SignedDuration;

use crate::cli::keeper_unit::UnitArgs;
use crate::cli::open::OpenArgs;

/// Longest lifetime: what fits the protocol's seconds.
const MAX_LIFETIME: i64 = 10 * 365 * 24 * 3600;

/// Commands of the keeper.
#[derive(Debug, Subcommand)]
pub(crate) enum KeeperCommand {
    /// Start the background process
    Start(StartArgs),
    /// Show whether it runs and what it holds
    #[command(after_help = "Examples:
  lantern keeper status")]
    Status,
    /// Unlock keys and have them held
    Add(AddArgs),
    /// Have the password of a user of a machine held, once it has let us in
    Remember(RememberArgs),
    /// Forget keys and passwords
    Forget(ForgetArgs),
    /// Lock everything with a passphrase: nothing is shown or used
    Lock(LockArgs),
    /// Unlock everything again
    Unlock(LockArgs),
    /// End it; everything is forgotten
    #[command(after_help = "Examples:
  lantern keeper stop")]
    Stop,
    /// Print or install a unit that starts it at login
    Unit(UnitArgs),
    #[command(hide = true)]
    Serve(StartArgs),
}

/// Arguments of `keeper start`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper start
  lantern keeper start --confirm-with /usr/local/bin/ask-yes
  lantern keeper start --foreground            for a service manager

It holds keys in memory that is not swapped out, in a process that leaves no core file and
that others cannot look into, and listens on keeper.sock in the home, which only you can
open. Every login asks it first. Other programs find it with SSH_AUTH_SOCK set to that path.")]
pub(crate) struct StartArgs {
    /// Ask with this program, not on a terminal: it gets the question as its argument and says yes with exit
    /// status 0
    #[arg(long, value_name = "PROGRAM")]
    pub(crate) confirm_with: Option<PathBuf>,
    /// Stay in the foreground
    #[arg(long)]
    pub(crate) foreground: bool,
}

/// Arguments of `keeper add`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper add harbour
  lantern keeper add harbour --lifetime 8h
  lantern keeper add pier --confirm        each use wants a yes

A keeper that does not run is started. Where a use wants a yes, the question comes to the
terminal of whoever wants to use the key, else to the one that was last used; a program of
yours asks instead where `lantern keeper start --confirm-with PROGRAM` says so.")]
pub(crate) struct AddArgs {
    /// Names in the ring, or key files
    #[arg(required = true, value_name = "KEY", add = crate::cli::completing::keys())]
    pub(crate) keys: Vec<String>,
    /// Forget them after this time: 8h, 30m, 2d
    #[arg(long, value_name = "TIME", value_parser = lifetime)]
    pub(crate) lifetime: Option<u32>,
    /// Ask for a yes before each use
    #[arg(long)]
    pub(crate) confirm: bool,
    #[command(flatten)]
    pub(crate) open: OpenArgs,
}

/// Arguments of `keeper remember`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper remember chart-room
  lantern keeper remember chart-room --lifetime 8h
  lantern keeper remember chart-room --password-from command:'pass show chart-room'

A keeper that does not run is started. A machine of Windows is logged in to first, so that a
wrong password is never held; one that is refused later is forgotten at once, since accounts
lock. It is never on disk, and gone when the keeper is locked away or stops.")]
pub(crate) struct RememberArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::cli::completing::machines())]
    pub(crate) machine: String,
    /// The user, where it is not the one in the book
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Option<String>,
    /// Forget it after this time: 8h, 30m, 2d
    #[arg(long, value_name = "TIME", value_parser = lifetime)]
    pub(crate) lifetime: Option<u32>,
    /// Read the password from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) password_from: Option<SecretSource>,
}

/// Arguments of `keeper forget`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper forget harbour
  lantern keeper forget --passwords-of chart-room
  lantern keeper forget --all")]
pub(crate) struct ForgetArgs {
    /// Names in the ring, or key files
    #[arg(required_unless_present_any = ["all", "passwords_of"], value_name = "KEY", add = crate::cli::completing::keys())]
    pub(crate) keys: Vec<String>,
    /// Forget the passwords for this machine; may be said several times
    #[arg(long, value_name = "MACHINE", add = crate::cli::completing::machines())]
    pub(crate) passwords_of: Vec<String>,
    /// Forget all keys and passwords
    #[arg(long, conflicts_with_all = ["keys", "passwords_of"])]
    pub(crate) all: bool,
}

/// Arguments of `keeper lock` and `keeper unlock`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern keeper lock
  lantern keeper unlock")]
pub(crate) struct LockArgs {
    /// Read the passphrase from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) passphrase_from: Option<SecretSource>,
}

/// A time in seconds, as people type it.
pub(crate) fn lifetime(text: &str) -> Result<u32, String> {
    let wrong = || "a time such as 8h, 30m or 2d, up to ten years".to_owned();
    let days = text.strip_suffix('d').and_then(|days| days.trim().parse::<i64>().ok());
    let seconds = match days {
        Some(days) => days.checked_mul(24 * 3600).ok_or_else(wrong)?,
        None => text.parse::<SignedDuration>().map_err(|_| wrong())?.as_secs(),
    };
    match (1..=MAX_LIFETIME).contains(&seconds) {
        true => u32::try_from(seconds).map_err(|_| wrong()),
        false => Err(wrong()),
    }
}
