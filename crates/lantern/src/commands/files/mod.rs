//! `lantern files`: looking at files on machines, and moving, removing and changing them.

mod change;
mod list;
mod moving;
mod remove;
mod show;

use lantern_operations::files::{FileFault, Side, expand, is_pattern};

use super::block_on;
use super::places::{Place, places, reach};
use crate::cli::files::{FilesCommand, WhereArgs};
use crate::cli::global::Global;
use crate::cli::settings;
use crate::commands::connecting::{asking_as, attend};
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

pub(crate) fn run(command: &FilesCommand, global: &Global) -> Result<u8, Failure> {
    match command {
        FilesCommand::List(args) => list::run(args, global),
        FilesCommand::Show(args) => show::run(args, global),
        FilesCommand::MakeFolder(args) => change::make_folder(args, global),
        FilesCommand::Move(args) => moving::run(args, global),
        FilesCommand::Remove(args) => remove::run(args, global),
        FilesCommand::Change(args) => change::run(args, global),
    }
}

impl From<FileFault> for Failure {
    fn from(fault: FileFault) -> Self {
        (&fault).into()
    }
}

/// A machine that is reached, with what was named on it.
struct Reached {
    /// The machine, as the user calls it.
    machine: String,
    side: Side,
    /// What the path means there: more than one where it has a pattern.
    paths: Vec<Vec<u8>>,
}

/// Goes to each place in turn and does this there. What fails on one of several does not keep the others from it; the exit status is the first one's that
/// is not zero.
async fn at_each(
    at: &WhereArgs,
    global: &Global,
    mut act: impl AsyncFnMut(Reached) -> Result<u8, Failure>,
) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ask = asking_as(&at.connect, &at.acting)?;
    let all = places(&home, &at.places, &at.but, &at.connect)?;
    let several = all.len() > 1;
    let mut status = 0;
    for place in all {
        let name = place.errand.target.name.clone();
        let done = async {
            let reached = reached(&home, &place, at.acting.other.as_deref(), &ask).await?;
            // Ctrl-C ends what waits for a machine.
            let side = reached.side.clone();
            let done = attend(&place.errand.target, &ask, act(reached)).await;
            side.leave().await;
            done?
        };
        match done.await {
            Ok(code) => {
                if code == 0 && !several {
                    place.errand.keep(&home, &ask)?;
                }
                status = if status == 0 { code } else { status };
            }
            Err(failure) if !several => return Err(failure),
            Err(failure) => {
                output::complain_of(&name, &failure);
                status = if status == 0 { failure.code } else { status };
                if failure.code == code::INTERRUPTED {
                    break;
                }
            }
        }
    }
    Ok(status)
}

async fn reached(
    home: &lantern_book::Home,
    place: &Place,
    acts_as: Option<&str>,
    ask: &TerminalAsk,
) -> Result<Reached, Failure> {
    let side = reach(home, &place.errand, acts_as, ask).await?;
    let paths = expand(&side, &place.path).await?;
    let machine = place.errand.target.name.clone();
    if paths.is_empty() && is_pattern(&place.path) {
        return Err(Failure::new(code::SESSION, format!("nothing on {machine} fits {}", shown(&place.path))));
    }
    Ok(Reached { machine, side, paths })
}

/// Nothing is there by that name.
fn not_there(machine: &str, path: &[u8]) -> Failure {
    Failure::new(code::SESSION, format!("there is no {} on {machine}", shown(path)))
}
