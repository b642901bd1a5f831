//! `lantern copy`: files from here to machines, from machines to here, and between them.

mod jobs;
mod many;
mod work;

use std::sync::Arc;

use lantern_operations::copy::{CopyOptions, Same, Stop};
use tokio::signal::unix::SignalKind;

use self::jobs::Task;
use super::descriptors::allow_many;
use super::{block_on, watch};
use crate::cli::copy::CopyArgs;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::commands::connecting::asking_as;
use crate::screen::copy::board::Board;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

pub(crate) fn run(args: &CopyArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ask = asking_as(&args.connect, &args.acting)?;
    let task = jobs::task(&home, args)?;
    let at_once = task.jobs().len().clamp(1, usize::from(args.at_once));
    let options = CopyOptions { most_open_here: allow_many() / at_once, ..options(args) };
    let board = Board::start(global.json, task.jobs());
    let only = match &task {
        Task::Files { errands, .. } if errands.len() == 1 => errands.first().cloned(),
        _ => None,
    };
    let status = block_on(async {
        let stop = Arc::new(Stop::default());
        let signals = listen(stop.clone())?;
        let worker = Arc::new(work::Worker {
            home: home.clone(),
            args: args.clone(),
            options,
            ask: ask.clone(),
            board: board.clone(),
            stop: stop.clone(),
        });
        let outcome = tokio::select! {
            outcome = worker.work(task) => outcome,
            _ = signals => Err(Failure::new(code::INTERRUPTED, "interrupted")),
        };
        outcome
    });
    board.end();
    let status = status?;
    if status == 0
        && let Some(only) = only
    {
        only.keep(&home, &ask)?;
    }
    Ok(status)
}

fn options(args: &CopyArgs) -> CopyOptions {
    CopyOptions {
        follow_links: args.follow_links,
        keep_times: !args.no_times,
        permissions: args.permissions,
        same: match (args.everything, args.by_content) {
            (true, _) => Same::Never,
            (_, true) => Same::ByContent,
            _ => Same::BySizeAndTime,
        },
        replace_newer: args.replace_newer,
        keep_existing: args.keep_existing,
        resume: !args.no_resume,
        verify: args.verify,
        mirror: args.mirror,
        check_space: !args.no_space_check,
        ..CopyOptions::default()
    }
}

/// The first Ctrl-C, or a request to end, stops the copy in good order; what this returns ends with the second.
fn listen(stop: Arc<Stop>) -> Result<impl Future<Output = ()>, Failure> {
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    Ok(async move {
        let mut next = async || {
            tokio::select! {
                _ = interrupts.recv() => {}
                _ = terminations.recv() => {}
                _ = hangups.recv() => {}
            }
        };
        next().await;
        stop.stop();
        output::say("Stopping; once more ends it at once.");
        next().await;
    })
}
