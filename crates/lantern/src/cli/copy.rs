//! Arguments of `lantern copy`.

use std::ffi::OsString;

use clap::Args;

use crate::cli::acting::ActingArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::ExceptArgs;

/// Arguments of `copy`.
#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  lantern copy chart.svg lamp-01:/srv/charts/        into that folder, which is made if need be
  lantern copy lamp-01:/var/log/lamp.log .           from there to here
  lantern copy 'lamp-01:/var/log/*.log' logs/        patterns mean files there; quote them
  lantern copy site lamp-01:/srv/                    a folder with all below: /srv/site
  lantern copy lamp-01:/srv/site chart-room:/srv/    between machines, through here, never to disk
  lantern copy motd @coast:/etc/motd                 to many machines
  lantern copy @coast:/var/log/lamp.log logs/        from many: logs/lamp-01/lamp.log and so on
  lantern copy site lamp-01:/srv/site --mirror --plan    what would make it equal
  lantern copy lamp-01:dump.sql - | wc -l            a stream; and - as FROM reads one

A place on a machine is MACHINE:PATH, or ssh://USER@ADDRESS:PORT/PATH; a path without a slash in
front begins in the user's home there. A file here whose name has a colon is ./NAME.

Each file is written beside its place under another name, brought to disk, and renamed: nobody
meets half of one. It keeps its time, and its permissions unless it replaces a file, which keeps
those that it had. What is there already with the same size and time is left; so is what was
changed there later than here. Links are copied as links. A large file that was cut goes on where
it was, once what is there has proven equal.")]
pub(crate) struct CopyArgs {
    /// What is copied, and last where to: paths here, MACHINE:PATH, or - for a stream
    #[arg(required = true, num_args = 2.., value_name = "FROM... TO", add = crate::cli::completing::places())]
    pub(crate) places: Vec<OsString>,
    /// Copy what links lead to, not the links; those that lead out of a folder are left out
    #[arg(long)]
    pub(crate) follow_links: bool,
    /// Give files the time of now, not the one that they have
    #[arg(long)]
    pub(crate) no_times: bool,
    /// Give every file these permissions, in octal: 640
    #[arg(long, value_name = "MODE", value_parser = permissions)]
    pub(crate) permissions: Option<u32>,
    /// Replace files also where the one there was changed later
    #[arg(long, conflicts_with = "keep_existing")]
    pub(crate) replace_newer: bool,
    /// Touch nothing that is there already
    #[arg(long)]
    pub(crate) keep_existing: bool,
    /// Tell what is the same by its content, not by size and time
    #[arg(long, conflicts_with = "everything")]
    pub(crate) by_content: bool,
    /// Copy everything, also what is there already
    #[arg(long)]
    pub(crate) everything: bool,
    /// Compare each file once it is there, before it gets its name
    #[arg(long)]
    pub(crate) verify: bool,
    /// Begin files from the start, whatever is there of them
    #[arg(long)]
    pub(crate) no_resume: bool,
    /// Make folders equal: what is not in FROM is removed from TO, after a yes
    #[arg(long, conflicts_with = "keep_existing")]
    pub(crate) mirror: bool,
    /// Say what would be copied and removed, and do nothing
    #[arg(long)]
    pub(crate) plan: bool,
    /// With --mirror: don't ask before something is removed
    #[arg(long, requires = "mirror", conflicts_with = "plan")]
    pub(crate) yes: bool,
    /// Don't ask beforehand whether there is room
    #[arg(long)]
    pub(crate) no_space_check: bool,
    /// Machines at once
    #[arg(long, value_name = "N", default_value_t = 16, value_parser = clap::value_parser!(u16).range(1..=512))]
    pub(crate) at_once: u16,
    #[command(flatten)]
    pub(crate) but: ExceptArgs,
    #[command(flatten)]
    pub(crate) acting: ActingArgs,
    #[command(flatten)]
    pub(crate) connect: ConnectArgs,
}

/// Permissions as people write them.
pub(crate) fn permissions(text: &str) -> Result<u32, String> {
    match u32::from_str_radix(text, 8) {
        Ok(mode) if mode <= 0o777 && text.len() <= 4 => Ok(mode),
        _ => Err("three digits from 0 to 7 are wanted: for the owner, the group, and all others".to_owned()),
    }
}
