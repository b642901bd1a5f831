//! `lantern run --script` and `--expression`: a text in a session of PowerShell.

use std::io::{IsTerminal, Read};
use std::path::Path;
use std::time::Duration;

use bytes::Bytes;
use lantern_book::{Home, Protocol};
use lantern_link::{RemoteSession, SessionOptions};
use lantern_operations::Target;
use lantern_operations::remoting::{self, Outcome, Task, has_formatter};
use lantern_winrm::remoting::{HostFacts, PipelineEnd};

use super::block_on;
use super::connecting::{connect_recalling, forget_if_refused};
use super::console::{Console, Ended, Shown};
use super::feed::Feed;
use super::session::{patiently, wide};
use crate::cli::forward::ForwardArgs;
use crate::cli::global::Global;
use crate::cli::run::RunArgs;
use crate::commands::connecting::asking;
use crate::commands::errand::Errand;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::output;
use crate::screen::task::ObjectTable;
use crate::terminal::modes;

/// Largest script, in bytes: as much as a machine takes as one object.
const MAX_SCRIPT: u64 = 10 * 1024 * 1024;
/// How wide text is made where there is no terminal, in columns: readers of logs and files see no end of lines in the middle of one.
const WIDE: u16 = 200;
/// How long nothing comes on standard input before that is said.
const QUIET: Duration = Duration::from_secs(5);
/// Exit status of a program whose reader went away: 128 and SIGPIPE, as shells have it.
const READER_GONE: u8 = 128 + 13;

pub(super) fn run(args: &RunArgs, global: &Global, home: &Home, errand: &Errand) -> Result<u8, Failure> {
    let target = &errand.target;
    if target.protocol != Protocol::Winrm {
        return Err(not_winrm(target));
    }
    no_forwards(&args.forward, target)?;
    let endpoint = args.configuration.configuration.clone().or_else(|| target.winrm.configuration.clone());
    let task = Task {
        text: text(args)?,
        arguments: args.task.arguments.clone(),
        is_named_endpoint: endpoint.is_some(),
    };
    let ask = asking(&args.connect)?;
    let status = block_on(async {
        let (remote, recalling) = connect_recalling(home, target, &errand.options, &ask).await?;
        let outcome = async {
            // Only now: who waits for a password has nothing to give yet.
            let feed = feed(args, &task).await?;
            let options = SessionOptions {
                endpoint,
                host: host(!args.connect.no_questions),
                is_lasting: false,
                kept: None,
            };
            let session = remote.session(options).await?;
            carry_out(args, global, &task, feed, session).await
        };
        let outcome = outcome.await;
        remote.close().await;
        match outcome {
            Ok(status) => Ok(status),
            Err(failure) => Err(forget_if_refused(&recalling, target, failure).await),
        }
    })?;
    errand.keep(home, &ask)?;
    Ok(status)
}

/// What the machine is told of our terminal.
pub(super) fn host(can_ask: bool) -> HostFacts {
    let is_terminal = std::io::stdout().is_terminal();
    let size = modes::size();
    let side = |side: u32| u16::try_from(side).unwrap_or(u16::MAX).max(1);
    HostFacts {
        can_ask,
        width: if is_terminal { side(size.columns) } else { WIDE },
        height: side(size.rows),
        title: String::new(),
    }
}

/// What is forwarded is of SSH.
pub(super) fn no_forwards(args: &ForwardArgs, target: &Target) -> Result<(), Failure> {
    let name = &target.name;
    match args.wants_any() {
        true => Err(Failure::new(
            code::USAGE,
            format!("{name} is spoken to by WinRM, which forwards neither agents nor displays"),
        )
        .hint("leave those options away")
        .hint(format!("where it also speaks SSH: lantern machine set {name} protocol=ssh port=22"))),
        false => Ok(()),
    }
}

pub(super) fn not_winrm(target: &Target) -> Failure {
    let name = &target.name;
    Failure::new(code::USAGE, format!("{name} is spoken to by SSH, and sessions of PowerShell go over WinRM"))
        .hint(format!("a command: lantern run {name} -- COMMAND"))
        .hint(format!(
            "where it is a machine of Windows: lantern machine set {name} protocol=winrm port=5986"
        ))
}

/// The text that is to run.
fn text(args: &RunArgs) -> Result<String, Failure> {
    let (name, bytes) = match (&args.task.script, &args.task.expression) {
        (_, Some(text)) => return nonempty("the expression", text.clone()),
        (Some(file), None) if file == Path::new("-") => {
            let mut bytes = Vec::new();
            let read = std::io::stdin().take(MAX_SCRIPT + 1).read_to_end(&mut bytes);
            read.map_err(|error| Failure::new(code::LOCAL, format!("cannot read the script: {error}")))?;
            ("the script on standard input".to_owned(), bytes)
        }
        (Some(file), None) => {
            let name = file.display().to_string();
            let failed = |error: std::io::Error| {
                Failure::new(code::LOCAL, format!("cannot read the script {name}: {error}"))
            };
            let mut bytes = Vec::new();
            let opened = std::fs::File::open(file).map_err(failed)?;
            opened.take(MAX_SCRIPT + 1).read_to_end(&mut bytes).map_err(failed)?;
            (format!("the script {name}"), bytes)
        }
        (None, None) => return nonempty("the expression", String::new()),
    };
    if bytes.len() as u64 > MAX_SCRIPT {
        return Err(Failure::new(
            code::LOCAL,
            format!("{name} is longer than {MAX_SCRIPT} bytes, which is more than a machine takes"),
        ));
    }
    let text = decoded(&bytes).ok_or_else(|| {
        Failure::new(code::LOCAL, format!("{name} is neither UTF-8 nor UTF-16 with a mark at its beginning"))
            .hint("an editor can save it as UTF-8")
    })?;
    nonempty(&name, text)
}

fn nonempty(name: &str, text: String) -> Result<String, Failure> {
    match text.trim().is_empty() {
        true => Err(Failure::new(code::USAGE, format!("{name} is empty"))),
        false => Ok(text),
    }
}

/// A text file as Windows writes it: UTF-8, or UTF-16 with a mark.
fn decoded(bytes: &[u8]) -> Option<String> {
    let units = |rest: &[u8], read: fn([u8; 2]) -> u16| {
        let (pairs, []) = rest.as_chunks::<2>() else { return None };
        String::from_utf16(&pairs.iter().map(|pair| read(*pair)).collect::<Vec<_>>()).ok()
    };
    match bytes {
        [0xff, 0xfe, rest @ ..] => units(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => units(rest, u16::from_be_bytes),
        [0xef, 0xbb, 0xbf, rest @ ..] | rest => String::from_utf8(rest.to_vec()).ok(),
    }
}

/// What the pipeline is given: nothing, where the text has no use for it, or where nothing comes.
async fn feed(args: &RunArgs, task: &Task) -> Result<Option<Feed>, Failure> {
    let is_script = args.task.script.as_deref() == Some(Path::new("-"));
    let is_terminal = std::io::stdin().is_terminal();
    let is_wanted = if is_terminal { args.input } else { !args.no_input };
    if is_script || !is_wanted || !(task.uses_input() || args.task.input_json || args.input) {
        return Ok(None);
    }
    let mut feed = Feed::start(args.task.input_json);
    // What takes input and gets none does nothing, so whether there is any is known before it begins.
    let first: Option<Bytes> = match tokio::time::timeout(QUIET, feed.next()).await {
        Ok(first) => first,
        Err(_) => {
            output::say("waiting for standard input; --no-input runs it without");
            feed.next().await
        }
    };
    let Some(first) = first else { return Ok(None) };
    feed.take(Some(&first))?;
    Ok(Some(feed))
}

async fn carry_out(
    args: &RunArgs,
    global: &Global,
    task: &Task,
    mut feed: Option<Feed>,
    session: RemoteSession,
) -> Result<u8, Failure> {
    let formats =
        !task.is_named_endpoint || global.json || patiently(&session, has_formatter(&session)).await??;
    let (shown, as_objects) = match (global.json, formats) {
        (true, _) => (Shown::Json(args.task.depth.into()), true),
        (false, true) => (Shown::Lines, false),
        (false, false) => (Shown::Table(ObjectTable::default()), true),
    };
    let pipeline = match as_objects {
        true => task.pipeline(remoting::Shown::Objects, feed.is_some()),
        false => task.pipeline(remoting::Shown::Text { width: host(false).width }, feed.is_some()),
    };
    let scripted = pipeline.commands.iter().any(|command| command.is_script);
    let mut console = Console::new(session.clone(), shown, None, !args.connect.no_questions)?;
    session.begin(&pipeline, true);
    let mut outcome = Outcome::default();
    let ended = console.follow(&mut outcome, &mut feed).await?;
    let end = match ended {
        Ended::Pipeline(end) => match console.drain().await? {
            true => end,
            false => return Ok(READER_GONE),
        },
        Ended::Told(number) => return Ok(128 + number),
        Ended::ReaderGone => return Ok(READER_GONE),
    };
    if let PipelineEnd::Failed(error) = &end {
        explain(session.machine(), &error.id, scripted, task);
    }
    let status = outcome.status(&end, args.task.strict);
    if outcome.may_miss {
        return Err(Failure::new(
            code::LOST,
            format!("something of what {} said may be missing", session.machine()),
        )
        .detail(format!("the pipeline ended with {status}")));
    }
    Ok(u8::try_from(status)
        .unwrap_or_else(|_| wide(status.try_into().unwrap_or(u32::MAX), session.machine())))
}

/// What may be done about an error that ended it, where that lies with how it was sent.
fn explain(machine: &str, id: &str, scripted: bool, task: &Task) {
    if id == "ScriptsNotAllowed" && scripted {
        let why = remoting::plain_commands(&task.text).err().map(|why| why.to_string()).unwrap_or_default();
        output::say(fit!(
            "note: that endpoint of {} takes commands with plain values, and this is more than that: {}",
            machine,
            why
        ));
    }
}
