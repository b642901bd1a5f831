//! Arguments of `lantern files`.

use std::ffi::OsString;

use clap::{Args, Subcommand, ValueEnum};
use lantern_operations::files::Owner;

use crate::cli::acting::ActingArgs;
use crate::cli::at_once::AtOnceArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::copy::permissions;
use crate::cli::machine::selection::ExceptArgs;

/// What is done with files on machines.
#[derive(Debug, Subcommand)]
pub(crate) enum FilesCommand {
    /// List files with their sizes, times and permissions
    List(ListArgs),
    /// Print a file: in a pager on a terminal, as it is elsewhere
    Show(ShowArgs),
    /// Make a folder
    MakeFolder(MakeFolderArgs),
    /// Give a file another name or place on its machine
    Move(MoveArgs),
    /// Remove files, after a yes
    Remove(RemoveArgs),
    /// Change permissions, owner or time
    Change(ChangeArgs),
}

/// How a listing is sorted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Sort {
    /// By name
    Name,
    /// The largest first
    Size,
    /// The latest first
    Time,
}

/// What all of them have.
#[derive(Debug, Clone, Args)]
pub(crate) struct WhereArgs {
    /// Files: MACHINE:PATH, or ssh://USER@ADDRESS:PORT/PATH; patterns mean files there
    #[arg(required = true, value_name = "MACHINE:PATH", add = crate::cli::completing::places())]
    pub(crate) places: Vec<OsString>,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    #[command(flatten)]
    pub(crate) at_once: AtOnceArgs,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// Arguments of `files list`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern files list lamp-01:                     the home of the user there
  lantern files list lamp-01:/var/log --sort time
  lantern files list 'lamp-01:/var/log/*.log'
  lantern files list lamp-01:/srv --tree
  lantern files list @coast:/etc/lamp/lamp.conf   the same file on many machines
  lantern files list lamp-01:/srv --names         names alone, for scripts

A name ends in / where it is a folder, and a link shows where it leads.")]
pub(crate) struct ListArgs {
    #[command(flatten)]
    pub(crate) at: WhereArgs,
    /// Everything below as well, as a tree
    #[arg(long)]
    pub(crate) tree: bool,
    /// Names alone, one a line, as they are
    #[arg(long, conflicts_with = "tree")]
    pub(crate) names: bool,
    /// What comes first
    #[arg(long, value_enum, default_value = "name", value_name = "ORDER")]
    pub(crate) sort: Sort,
    /// The other way round
    #[arg(long)]
    pub(crate) reverse: bool,
}

/// Arguments of `files show`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern files show lamp-01:/etc/lamp/lamp.conf
  lantern files show lamp-01:/var/log/lamp.log | grep fog
  lantern files show lamp-01:/srv/chart.png       says what it is

On a terminal a text is shown in the pager that PAGER names, or less, with what would steer the
terminal made visible; what is no text is not shown there. Elsewhere the bytes go out as they are.")]
pub(crate) struct ShowArgs {
    #[command(flatten)]
    pub(crate) at: WhereArgs,
    /// Print it without a pager
    #[arg(long)]
    pub(crate) no_pager: bool,
}

/// Arguments of `files make-folder`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern files make-folder lamp-01:/srv/charts
  lantern files make-folder lamp-01:/srv/charts/2026/old --above
  lantern files make-folder @coast:/srv/charts --permissions 750")]
pub(crate) struct MakeFolderArgs {
    #[command(flatten)]
    pub(crate) at: WhereArgs,
    /// Make the folders above it as well, and take one that is there for made
    #[arg(long)]
    pub(crate) above: bool,
    /// Its permissions, in octal: 750
    #[arg(long, value_name = "MODE", value_parser = permissions)]
    pub(crate) permissions: Option<u32>,
}

/// Arguments of `files move`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern files move lamp-01:/srv/chart.svg /srv/old/        into that folder
  lantern files move lamp-01:/srv/a.svg /srv/b.svg --replace
  lantern files move lamp-01:notes.txt notes.old

It stays on its machine: from one to another, `lantern copy` takes it.")]
pub(crate) struct MoveArgs {
    /// The file or folder: MACHINE:PATH
    #[arg(value_name = "MACHINE:PATH", add = crate::cli::completing::places())]
    pub(crate) from: OsString,
    /// Its new path on that machine; a folder, or with a slash at its end, to put it in there
    #[arg(value_name = "PATH")]
    pub(crate) to: OsString,
    /// In the place of a file that has that name
    #[arg(long)]
    pub(crate) replace: bool,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// Arguments of `files remove`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern files remove lamp-01:/srv/chart.svg
  lantern files remove 'lamp-01:/srv/*.tmp' --plan
  lantern files remove lamp-01:/srv/old --below       a folder, and all that is in it

Links are removed, and not what they lead to.")]
pub(crate) struct RemoveArgs {
    #[command(flatten)]
    pub(crate) at: WhereArgs,
    /// Folders with everything below them
    #[arg(long)]
    pub(crate) below: bool,
    /// Say what would be removed, and remove nothing
    #[arg(long)]
    pub(crate) plan: bool,
    /// Don't ask
    #[arg(long, conflicts_with = "plan")]
    pub(crate) yes: bool,
}

/// Arguments of `files change`.
#[derive(Debug, Clone, Args)]
#[command(group = clap::ArgGroup::new("what").required(true).multiple(true).args(["permissions", "owner", "time"]))]
#[command(after_help = "Examples:
  lantern files change lamp-01:/srv/chart.svg --permissions 640
  lantern files change lamp-01:/srv/site --owner keeper:lamps --below
  lantern files change lamp-01:/srv/stamp --time now")]
pub(crate) struct ChangeArgs {
    #[command(flatten)]
    pub(crate) at: WhereArgs,
    /// The permissions, in octal: 640
    #[arg(long, value_name = "MODE", value_parser = permissions)]
    pub(crate) permissions: Option<u32>,
    /// Its user, its group, or both, by the names or numbers of the machine
    #[arg(long, value_name = "USER:GROUP")]
    pub(crate) owner: Option<Owner>,
    /// When it was changed: a time as 2026-11-27T08:00:00Z, or now
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) time: Option<u32>,
    /// Folders with everything below them; links are left as they are
    #[arg(long)]
    pub(crate) below: bool,
}

fn time(text: &str) -> Result<u32, String> {
    let time = match text {
        "now" => Some(jiff::Timestamp::now()),
        _ => text.parse().ok(),
    };
    time.and_then(|time| u32::try_from(time.as_second()).ok())
        .ok_or_else(|| "a time from 1970 to 2106 is wanted, as 2026-11-27T08:00:00Z, or now".to_owned())
}
