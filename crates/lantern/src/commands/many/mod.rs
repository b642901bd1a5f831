//! `lantern run` on many machines.

mod history;
mod plan;
mod watcher;

use std::io::IsTerminal;
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;

use bytes::Bytes;
use jiff::Timestamp;
use lantern_book::{Home, MachineBook, select};
use lantern_keeper::Recalling;
use lantern_link::CommandWords;
use lantern_operations::counted;
use lantern_operations::many::{
    Ended, Ending, Halt, MachineNote, ManyOptions, ManyRun, RunNote, RunNotes, Script, ScriptError, Work,
    run_many,
};

use self::watcher::{Form, Watcher};
use super::block_on;
use super::for_many::{ForMany, at_once, interruptible};
use super::sharing::sharing_gateways;
use crate::cli::global::Global;
use crate::cli::many::Again;
use crate::cli::run::RunArgs;
use crate::cli::settings;
use crate::commands::connecting::asking_as;
use crate::screen::failure::{Failure, code};
use crate::screen::many::{self as view, Summary};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;
use crate::terminal::prompt::{Answer, Terminal};

/// Whether these arguments are about many machines.
pub(super) fn is_wanted(args: &RunArgs) -> bool {
    let named = args.machine.as_deref().map(|machine| machine.to_string_lossy());
    let is_selection = named.is_some_and(|name| {
        !name.contains("://") && (name.starts_with('@') || name.contains(['*', '?', ',']))
    });
    args.many.history || args.many.again.is_some() || args.many.is_some() || is_selection
}

/// What is to run where.
struct Order {
    names: Vec<String>,
    selection: Vec<String>,
    work: Work,
    command: Vec<String>,
    script: Option<String>,
    /// Whom it is to run as, in place of what the book says.
    acts_as: Option<String>,
}

pub(super) fn run(args: &RunArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    if args.many.history {
        return history::print(&home, global.json);
    }
    if args.forward.wants_any() {
        return Err(Failure::new(code::USAGE, "agents and displays are forwarded to one machine at a time"));
    }
    if args.one_off.paste.is_some() || args.one_off.save.is_some() {
        return Err(Failure::new(code::USAGE, "--paste and --save are for one machine"));
    }
    if args.task.expression.is_some() || !args.task.arguments.is_empty() || args.task.input_json {
        return Err(Failure::new(code::USAGE, "on many machines a script runs as it is: --script FILE"));
    }
    let Some(order) = order(args, &home)? else {
        output::say("Nothing failed in the last run.");
        return Ok(0);
    };
    if args.many.plan {
        return plan::print(&home, &order, &args.connect.reach(&home), global.json);
    }
    let asks = args.many.first.is_some_and(|first| (first as usize) < order.names.len()) && !args.many.yes;
    if asks && (args.connect.no_questions || !std::io::stdin().is_terminal()) {
        return Err(Failure::new(code::USAGE, "--first asks before the rest, and there is nobody to ask")
            .hint("--yes goes on where the first ones all succeeded"));
    }
    carry_out(args, global, &home, &order, asks)
}

fn carry_out(args: &RunArgs, global: &Global, home: &Home, order: &Order, asks: bool) -> Result<u8, Failure> {
    let form = Form::of(global.json);
    let ask = asking_as(&args.connect, &args.acting)?;
    if let Some(other) = &order.acts_as {
        ask_once(&ask, other, order.names.len(), args)?;
    }
    let at = Timestamp::now();
    let outcomes = block_on(async {
        let halt = Arc::new(Halt::default());
        let watcher = Watcher::start(&order.names, form, args.many.to.as_deref())?;
        let mut reach = args.connect.reach(home);
        reach.shares = Some(sharing_gateways(home, &args.connect));
        let recalling = Recalling::new(home, ForMany::of(home, &ask, &order.names)?)
            .without_keeper(reach.agents.is_empty());
        let run = |names: Vec<String>, from: usize| {
            let run = ManyRun {
                work: Arc::new(order.work.clone()),
                reach: reach.clone(),
                acts_as: order.acts_as.clone(),
                options: ManyOptions {
                    at_once: at_once(args.many.at_once),
                    stop_after: args.many.stop_after.map(|most| most as usize),
                },
                ask: Arc::new(recalling.clone()),
                watch: watcher.behind(from),
                halt: halt.clone(),
            };
            let halt = halt.clone();
            async move { interruptible(run_many(home, &names, run), &halt).await }
        };
        let first =
            args.many.first.map_or(order.names.len(), |first| (first as usize).min(order.names.len()));
        let (first, rest) = order.names.split_at(first);
        let mut outcomes = run(first.to_vec(), 0).await?;
        if !rest.is_empty() {
            let is_good =
                outcomes.iter().all(|ended| ended.as_ref().is_some_and(|ended| ended.ending.is_good()));
            let goes_on = !halt.is_wanted()
                && match asks {
                    true => {
                        watcher.pause();
                        Summary::of(first, &outcomes).print(form == Form::Json)?;
                        go_on(rest.len()).await?
                    }
                    false => is_good,
                };
            match goes_on {
                true => outcomes.extend(run(rest.to_vec(), first.len()).await?),
                false => outcomes.resize_with(order.names.len(), || None),
            }
        }
        watcher.end()?;
        Ok(outcomes)
    })?;
    keep(home, order, at, &outcomes)?;
    let summary = Summary::of(&order.names, &outcomes);
    match form {
        Form::Live => summary.print(false)?,
        Form::Json => summary.print(true)?,
        Form::Lines => summary.say(),
    }
    Ok(summary.status())
}

/// The password that lets a user act as another, where nobody handed it over: asked for all machines at once, before the first is reached.
fn ask_once(ask: &TerminalAsk, other: &str, machines: usize, args: &RunArgs) -> Result<(), Failure> {
    if ask.has_privilege_password() || args.connect.no_questions {
        return Ok(());
    }
    let Some(mut terminal) = Terminal::open() else { return Ok(()) };
    let machines = counted(machines, "machine");
    let question = format!("Password to act as {other} on {machines} (Enter: none is wanted): ");
    match terminal.ask_secret(question) {
        Answer::Given(password) if !password.is_empty() => ask.know_privilege_password(password),
        Answer::Given(_) | Answer::Ended => {}
        Answer::Interrupted => return Err(Failure::new(code::INTERRUPTED, "interrupted")),
    }
    Ok(())
}

async fn go_on(others: usize) -> Result<bool, Failure> {
    let question = format!("Go on with {}?", view::others(others));
    let asked = tokio::task::spawn_blocking(move || confirm::ask(&question, "--yes")).await;
    asked.map_err(|_| Failure::new(code::INTERNAL, "the question broke off"))?
}

/// What is to run where; none where it would be nowhere.
fn order(args: &RunArgs, home: &Home) -> Result<Option<Order>, Failure> {
    if let Some(which) = args.many.again {
        let order = again(home, which)?;
        // What is said now counts.
        return Ok(order.map(|order| Order { acts_as: args.acting.other.clone().or(order.acts_as), ..order }));
    }
    let machine = args.machine.as_deref().map(|machine| machine.to_string_lossy().into_owned());
    let selection: Vec<String> = machine.into_iter().collect();
    let names = select(&MachineBook::load(home)?, &selection, &args.many.but.except)?;
    let words: Vec<Bytes> =
        args.command_words().iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
    let command = words.iter().map(|word| String::from_utf8_lossy(word).into_owned()).collect();
    let script = args.task.script.as_ref().map(|file| file.display().to_string());
    let work = match &args.task.script {
        Some(_) if !words.is_empty() => {
            return Err(Failure::new(code::USAGE, "a script that is to run takes no command beside it"));
        }
        Some(file) => Work::Script(read_script(file)?),
        None if words.is_empty() => {
            return Err(
                Failure::new(code::USAGE, "a command is wanted").hint("lantern run @coast -- COMMAND")
            );
        }
        None => Work::Command(CommandWords {
            words,
            each_as_is: args.is_behind_dashes,
            by_interpreter: args.interpreter,
        }),
    };
    let acts_as = args.acting.other.clone();
    Ok(Some(Order { names, selection, work, command, script, acts_as }))
}

/// Reads a script from a file, or from standard input.
///
/// # Errors
/// It cannot be read, or is none.
pub(super) fn read_script(file: &std::path::Path) -> Result<Script, Failure> {
    let is_stdin = file == std::path::Path::new("-");
    let read = match is_stdin {
        true => Script::read(std::io::stdin().lock()),
        false => std::fs::File::open(file).and_then(Script::read),
    };
    let name = if is_stdin { "the script on standard input".to_owned() } else { file.display().to_string() };
    let text = read.map_err(|error| Failure::new(code::LOCAL, format!("cannot read {name}: {error}")))?;
    Script::new(&name, text).map_err(|error| {
        let failure = Failure::new(code::USAGE, error.to_string());
        match error {
            ScriptError::Interpreter { .. } => {
                failure.hint("shells, python, perl, ruby and node do: `#!/bin/sh`, `#!/usr/bin/env python3`")
            }
            _ => failure,
        }
    })
}

/// The last run, once more.
fn again(home: &Home, which: Again) -> Result<Option<Order>, Failure> {
    let Some(note) = RunNotes::of(home).latest() else {
        return Err(Failure::new(code::LOCAL, "nothing has run on many machines yet"));
    };
    let wanted = |machine: &&MachineNote| which == Again::All || !machine.is_good();
    let names: Vec<String> =
        note.machines.iter().filter(wanted).map(|machine| machine.name.clone()).collect();
    if names.is_empty() {
        return Ok(None);
    }
    let work = match &note.script {
        Some(file) if file.starts_with("the script on") => {
            return Err(Failure::new(
                code::USAGE,
                "the script came from standard input, and is not there any more",
            ));
        }
        Some(file) => Work::Script(read_script(std::path::Path::new(file))?),
        None => Work::Command(CommandWords {
            words: note.command.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect(),
            each_as_is: note.each_as_is,
            by_interpreter: note.by_interpreter,
        }),
    };
    Ok(Some(Order {
        names,
        selection: note.selection,
        work,
        command: note.command,
        script: note.script,
        acts_as: note.acts_as,
    }))
}

/// Keeps what ran where, and how it ended.
fn keep(home: &Home, order: &Order, at: Timestamp, outcomes: &[Option<Ended>]) -> Result<(), Failure> {
    let machine = |(name, ended): (&String, &Option<Ended>)| {
        let (status, met) = match ended.as_ref().map(|ended| &ended.ending) {
            None => (None, Some("not begun".to_owned())),
            Some(Ending::Status(status)) => (Some(*status), None),
            Some(Ending::Signal(name)) => (None, Some(format!("ended by {name}"))),
            Some(Ending::NotReached(_)) => (None, Some("not reached".to_owned())),
            Some(Ending::Lost(_)) => (None, Some("lost".to_owned())),
            Some(Ending::Halted) => (None, Some("halted".to_owned())),
        };
        MachineNote { name: name.clone(), status, met }
    };
    let (each_as_is, by_interpreter) = match &order.work {
        Work::Command(words) => (words.each_as_is, words.by_interpreter),
        Work::Script(_) => (false, false),
    };
    let note = RunNote {
        at,
        selection: order.selection.clone(),
        command: order.command.clone(),
        each_as_is,
        by_interpreter,
        acts_as: order.acts_as.clone(),
        script: order.script.clone(),
        machines: order.names.iter().zip(outcomes).map(machine).collect(),
    };
    Ok(RunNotes::of(home).keep(&note)?)
}
