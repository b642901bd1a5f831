//! Places of files as they are typed: which machines they are on, and how those are reached.

use std::ffi::OsStr;

use lantern_book::{Home, MachineBook, select};
use lantern_link::Remote;
use lantern_operations::files::{FileFault, Location, LocationError, Machine, Side, as_served};
use lantern_operations::{Target, quoted};

use crate::cli::connect::ConnectArgs;
use crate::cli::machine::selection::ExceptArgs;
use crate::cli::one_off::OneOffArgs;
use crate::commands::connecting::{attend, connect};
use crate::commands::errand::Errand;
use crate::commands::sharing::sharing_gateways;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::terminal::ask::TerminalAsk;

/// Where a text says that a file is.
///
/// # Errors
/// It makes no sense.
pub(super) fn location(text: &OsStr) -> Result<Location, Failure> {
    Location::parse(text).map_err(|error| {
        let failure = Failure::new(code::USAGE, format!("{}: {error}", text.to_string_lossy()));
        match error {
            LocationError::Empty => failure,
            _ => failure.hint("a file here whose name has a colon: ./NAME"),
        }
    })
}

/// The machines that a word means, each with a way to it; whether they are several by nature.
///
/// # Errors
/// There are none.
pub(super) fn machines(
    home: &Home,
    word: &str,
    but: &ExceptArgs,
    connect: &ConnectArgs,
) -> Result<(Vec<Errand>, bool), Failure> {
    let is_selection = !word.contains("://") && (word.starts_with('@') || word.contains(['*', '?', ',']));
    if !is_selection {
        return Ok((vec![Errand::of(home, Some(word), &OneOffArgs::default(), connect)?], false));
    }
    let book = MachineBook::load(home)?;
    let names = select(&book, &[word.to_owned()], &but.except)?;
    let mut options = connect.reach_many(home);
    options.shares = Some(sharing_gateways(home, connect));
    let errands = names.iter().map(|name| Errand::one_of(home, &book, name, &options));
    Ok((errands.collect::<Result<_, _>>()?, true))
}

/// A path on a machine, and the way to that.
pub(super) struct Place {
    pub(super) errand: Errand,
    pub(super) path: Vec<u8>,
}

/// The places on machines that texts mean, in their order.
///
/// # Errors
/// One is none, or is on this computer.
pub(super) fn places<T: AsRef<OsStr>>(
    home: &Home,
    texts: &[T],
    but: &ExceptArgs,
    connect: &ConnectArgs,
) -> Result<Vec<Place>, Failure> {
    let mut all = Vec::new();
    for text in texts {
        let text = text.as_ref();
        let Location::There { machine, path } = location(text)? else {
            let shown = text.to_string_lossy();
            return Err(Failure::new(code::USAGE, format!("{shown} is on no machine"))
                .hint("a place on a machine is MACHINE:PATH, as lamp-01:/srv/"));
        };
        let (errands, _) = machines(home, &machine, but, connect)?;
        all.extend(errands.into_iter().map(|errand| {
            let path = as_served(path.clone(), errand.target.protocol);
            Place { errand, path }
        }));
    }
    Ok(all)
}

/// A place on a machine as somebody types it.
pub(super) fn typed(machine: &str, path: &[u8]) -> String {
    quoted(std::path::Path::new(&format!("{machine}:{}", shown(path))))
}

/// Permissions and owners can be given to files there.
///
/// # Errors
/// They have none.
pub(super) fn check_modes(side: &Side) -> Result<(), Failure> {
    if side.has_modes() {
        return Ok(());
    }
    let name = side.name();
    let words =
        format!("files on {name} have no permissions and owners of this kind: it is a machine of Windows");
    Err(Failure::new(code::USAGE, words)
        .hint(format!("who may do what there: lantern run {name} -- icacls PATH")))
}

/// Reaches a machine, and begins to talk about files.
///
/// # Errors
/// The step that failed.
pub(super) async fn reach(
    home: &Home,
    errand: &Errand,
    acts_as: Option<&str>,
    ask: &TerminalAsk,
) -> Result<Side, Failure> {
    let remote = connect(home, &errand.target, &errand.options, ask).await?;
    files_of(remote, &errand.target, acts_as, ask).await?.map_err(|fault| Failure::from(&fault))
}

/// Begins to talk about files, as whoever is logged in or as another user.
///
/// # Errors
/// It was interrupted.
pub(super) async fn files_of(
    remote: Remote,
    target: &Target,
    acts_as: Option<&str>,
    ask: &TerminalAsk,
) -> Result<Result<Side, FileFault>, Failure> {
    let machine = match acts_as {
        Some(other) => attend(target, ask, Machine::acting_as(remote, other, ask)).await?,
        None => Machine::of(remote).await,
    };
    Ok(machine.map(Side::There))
}
