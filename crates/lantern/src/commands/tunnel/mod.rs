//! `lantern tunnel`: what only a machine reaches, at hand here.

mod browse;
mod change;
mod child;
mod close;
mod failures;
mod keep;
mod list;
mod open;
mod probe;

pub(crate) use failures::of_opening;

use crate::cli::global::Global;
use crate::cli::settings;
use crate::cli::tunnel::TunnelCommand;
use crate::screen::failure::Failure;

pub(crate) fn run(command: TunnelCommand, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let json = global.json;
    match command {
        TunnelCommand::Open(args) => open::run(&args, &home, json),
        TunnelCommand::List(args) => list::run(&args, &home, json).map(|()| 0),
        TunnelCommand::Close(args) => close::run(&args, &home, json).map(|()| 0),
        TunnelCommand::Probe(args) => probe::run(&args, &home, json),
        TunnelCommand::Add(args) => change::add(&args, &home, json).map(|()| 0),
        TunnelCommand::Set(args) => change::set(&args, &home, json).map(|()| 0),
        TunnelCommand::Remove(args) => change::remove(&args, &home, json).map(|()| 0),
    }
}
