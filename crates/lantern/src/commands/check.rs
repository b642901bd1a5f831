//! `lantern check`: every step of a connection in order, what it saw, and what to do about the first that fails.

use std::sync::Arc;

use lantern_book::{Home, MachineBook, select};
use lantern_keeper::Recalling;
use lantern_link::{Ask, LinkError};
use lantern_operations::Target;
use lantern_operations::check::{Account, CheckError, CheckOptions, Mend, Progress, check_many, check_one};
use tokio::signal::unix::{Signal, SignalKind};
use tokio::sync::mpsc;

use super::connecting::asking;
use super::errand::Errand;
use super::for_many::ForMany;
use super::sharing::sharing_among_many;
use super::{block_on, mending, watch};
use crate::cli::check::CheckArgs;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::screen::check::report;
use crate::screen::failure::{Failure, code};
use crate::screen::machine_lines::{PACE, State, Table};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::modes;

pub(crate) fn run(args: &CheckArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home_as_it_is(global)?;
    let one_off = args.one_off.paste.as_ref().or(args.one_off.save.as_ref());
    let errand = match (args.selection.as_slice(), one_off) {
        (_, None) => None,
        ([] | [_], Some(_)) => {
            let machine = args.selection.first().map(String::as_str);
            Some(Errand::of(&home, machine, &args.one_off, &args.connect)?)
        }
        _ => return Err(Failure::new(code::USAGE, "--paste and --save are for one machine")),
    };
    let names = match &errand {
        Some(errand) => vec![errand.typed.clone()],
        None => select(&MachineBook::load(&home)?, &args.selection, &args.but.except)?,
    };
    let mut reach =
        errand.as_ref().map_or_else(|| args.connect.reach(&home), |errand| errand.options.clone());
    reach.shares = Some(sharing_among_many(&home, &args.connect));
    let options = CheckOptions {
        reach,
        display: settings::display(),
        keeper: Some(lantern_keeper::socket_path(&home)),
    };
    let ask = asking(&args.connect)?;
    let walk = || -> Result<Vec<Account>, Failure> {
        let accounts = match names.as_slice() {
            [only] => vec![block_on(one(&home, only, &options, ask.clone(), global.json))?],
            _ => block_on(many(&home, &names, &options, ask.clone(), global.json))?,
        };
        Ok(accounts)
    };
    let mut accounts = walk()?;
    if args.fix {
        // What is printed as the result is how it is in the end.
        let mends: Vec<&Mend> = accounts.iter().flat_map(Account::mends).collect();
        if mending::settle(&mends, args.yes)? {
            output::say("Looking again:");
            accounts = walk()?;
        }
    }
    if global.json {
        report::print_json(&accounts)?;
    } else if let [only] = accounts.as_slice() {
        report::print_end(only)?;
    } else {
        report::print_table(&accounts)?;
    }
    if !args.fix && accounts.iter().any(|account| account.mends().next().is_some()) {
        output::say("`--fix` mends what is amiss on this computer.");
    }
    if let ([only], [name]) = (accounts.as_slice(), names.as_slice())
        && only.failed.is_none()
        && only.target.as_ref().is_some_and(Target::is_one_off)
    {
        let errand = match errand {
            Some(errand) => errand,
            None => Errand::of(&home, Some(name), &args.one_off, &args.connect)?,
        };
        errand.keep(&home, &ask)?;
    }
    Ok(accounts.iter().map(report::rank).max().map_or(0, |(_, code)| code))
}

/// Has the keeper forget passwords that machines refused: tried again and again, they lock accounts.
async fn forget_refused<A: Ask + Clone + 'static>(recalling: &Recalling<A>, accounts: &[Account]) {
    for account in accounts {
        let Some(failed) = &account.failed else { continue };
        if matches!(&failed.error, CheckError::Way(LinkError::Winrm(failure)) if failure.is_refusal())
            && recalling.was_refused(&account.machine).await
        {
            output::warn(format!(
                "{} did not take the password that the keeper held: it has forgotten it.",
                account.machine
            ));
        }
    }
}

fn interruptions() -> Result<Signal, Failure> {
    watch(SignalKind::interrupt())
}

fn interrupted() -> Failure {
    Failure::new(code::INTERRUPTED, "interrupted")
}

/// One machine: its steps are printed as they are taken.
async fn one(
    home: &Home,
    typed: &str,
    options: &CheckOptions,
    ask: TerminalAsk,
    quiet: bool,
) -> Result<Account, Failure> {
    let recalling = Recalling::new(home, ask).without_keeper(options.reach.agents.is_empty());
    let ask = Arc::new(recalling.clone());
    let mut interrupts = interruptions()?;
    let lines = report::Lines::default();
    let print = move |account: &Account| {
        if !quiet {
            lines.print_new(account);
        }
    };
    tokio::select! {
        account = check_one(home, typed, options, ask, Box::new(print)) => {
            forget_refused(&recalling, std::slice::from_ref(&account)).await;
            Ok(account)
        }
        _ = interrupts.recv() => Err(interrupted()),
    }
}

/// What has become of a machine.
fn state_of(progress: &Progress<'_>) -> State {
    match progress {
        Progress::At(stage) => State::At(stage.name().to_owned()),
        Progress::Done(account) => State::Done(account.severity(), report::state(account).0),
    }
}

/// Many at once, without questions; a table of them lives on the terminal meanwhile.
async fn many(
    home: &Home,
    names: &[String],
    options: &CheckOptions,
    ask: TerminalAsk,
    quiet: bool,
) -> Result<Vec<Account>, Failure> {
    let ask = ForMany::of(home, &ask, names)?;
    let recalling = Recalling::new(home, ask).without_keeper(options.reach.agents.is_empty());
    let (sender, mut changes) = mpsc::unbounded_channel();
    let on_progress = move |index: usize, progress: Progress<'_>| {
        let _ = sender.send((index, state_of(&progress)));
    };
    let mut walks =
        std::pin::pin!(check_many(home, names, options, Arc::new(recalling.clone()), on_progress));
    let mut table = Table::start("checked", names, quiet, modes::size);
    let mut interrupts = interruptions()?;
    loop {
        tokio::select! {
            biased;
            _ = interrupts.recv() => {
                table.end();
                return Err(interrupted());
            }
            Some((index, state)) = changes.recv() => table.put(index, state),
            accounts = &mut walks => {
                table.end();
                forget_refused(&recalling, &accounts).await;
                return Ok(accounts);
            }
            // What came in quick succession is drawn when it has come to rest.
            () = tokio::time::sleep(PACE) => table.draw(),
        }
    }
}
