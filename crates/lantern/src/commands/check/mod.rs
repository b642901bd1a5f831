//! `lantern check`: every step of a connection in order, what it saw, and what to do about the first that fails.
//!
//! `walk` takes the steps to one machine, `inside` those behind the login, `advice` knows what a failure means and how to mend it, `local` looks at this computer,
//! `account` is what was found, `report` prints it, `live` shows many at once.

mod account;
mod advice;
mod inside;
mod live;
mod local;
mod report;
mod walk;

use std::sync::Arc;

use clap::Args;
use lantern_book::{Home, MachineBook, select};
use tokio::sync::{Semaphore, mpsc};
use tokio::task::JoinSet;

use super::block_on;
use crate::cli::Global;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::settings;
use account::Account;

/// Most machines that are walked to at once: each has a key exchange or two to compute.
const AT_ONCE: usize = 48;

/// Arguments of `check`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern check lamp-01                walks every step and says what it saw
  lantern check @coast                 a table of many, the worst first
  lantern check lamp-01 --user admin   would that user be let in?
  lantern check lamp-01 --fix          mends what is ours to mend, after asking

Nothing is trusted, installed or changed on the machine, and no password is asked for. The exit
code is that of the worst step (`lantern exit-codes` lists them), or 1 when all steps worked and
something is questionable.")]
pub(crate) struct CheckArgs {
    /// Machines: names, globs, @tags, comma-separated; or user@address:port
    #[arg(required = true, value_name = "SELECTION", add = crate::completing::selection())]
    selection: Vec<String>,
    /// Mend permissions and stale sockets on this computer, after a yes
    #[arg(long)]
    fix: bool,
    /// With --fix: don't ask
    #[arg(long, requires = "fix")]
    yes: bool,
    #[command(flatten)]
    connect: ConnectArgs,
}

pub(crate) fn run(args: &CheckArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let book = MachineBook::load(&home)?;
    let names = select(&book, &args.selection)?;
    let accounts = match names.as_slice() {
        [only] => vec![block_on(one(&home, only, args, global.json))?],
        _ => block_on(many(&home, &names, args, global.json))?,
    };
    if global.json {
        report::print_json(&accounts)?;
    } else if let [only] = accounts.as_slice() {
        report::print_end(only)?;
    } else {
        report::print_table(&accounts)?;
    }
    let mends: Vec<local::Mend> = accounts.iter().flat_map(|account| account.mends.clone()).collect();
    local::settle(mends, args.fix, args.yes)?;
    Ok(accounts.iter().map(Account::rank).max().map_or(0, |(_, code)| code))
}

/// One machine: its steps are printed as they are taken.
async fn one(home: &Home, typed: &str, args: &CheckArgs, quiet: bool) -> Result<Account, Failure> {
    let ask = args.connect.ask()?;
    let mut interrupts = super::watch(tokio::signal::unix::SignalKind::interrupt())?;
    let print = move |account: &Account| {
        if !quiet {
            report::print_new_lines(account);
        }
    };
    let options = args.connect.reach(home);
    tokio::select! {
        account = walk::walk(home, typed, &options, ask, Box::new(print)) => Ok(account),
        _ = interrupts.recv() => Err(Failure::new(code::INTERRUPTED, "interrupted")),
    }
}

/// Many at once, without questions; a table of them lives on the terminal meanwhile.
async fn many(home: &Home, names: &[String], args: &CheckArgs, quiet: bool) -> Result<Vec<Account>, Failure> {
    let gate = Arc::new(Semaphore::new(AT_ONCE));
    let (sender, mut changes) = mpsc::unbounded_channel();
    let mut walks = JoinSet::new();
    for (index, name) in names.iter().enumerate() {
        let (home, name, options, gate) =
            (home.clone(), name.clone(), args.connect.reach(home), gate.clone());
        let sender = sender.clone();
        walks.spawn(async move {
            let _turn = gate.acquire().await;
            let ask = crate::ask::TerminalAsk::new(false, None, None);
            let tell = move |account: &Account| {
                let state = (index, account.latest_step(), account.is_over());
                let _ = sender.send(state);
            };
            (index, walk::walk(&home, &name, &options, ask, Box::new(tell)).await)
        });
    }
    drop(sender);
    let mut live = live::Table::start(names, quiet);
    let mut accounts: Vec<Option<Account>> = names.iter().map(|_| None).collect();
    let mut interrupts = super::watch(tokio::signal::unix::SignalKind::interrupt())?;
    loop {
        tokio::select! {
            done = walks.join_next() => match done {
                None => break,
                Some(Ok((index, account))) => {
                    live.done(index, &account);
                    if let Some(place) = accounts.get_mut(index) {
                        *place = Some(account);
                    }
                }
                Some(Err(error)) => return Err(Failure::new(code::INTERNAL, error.to_string())),
            },
            Some((index, step, _)) = changes.recv() => live.step(index, step),
            // What came in quick succession is drawn when it has come to rest.
            () = tokio::time::sleep(live::PACE) => live.draw(),
            _ = interrupts.recv() => {
                live.end();
                return Err(Failure::new(code::INTERRUPTED, "interrupted"));
            }
        }
    }
    live.end();
    Ok(accounts.into_iter().flatten().collect())
}
