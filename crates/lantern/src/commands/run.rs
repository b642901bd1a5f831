//! `lantern run`: a command on a machine, as if it ran here.

use std::io::IsTerminal;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_book::{Home, Protocol};
use lantern_link::{
    ACTING, Answer, Answering, Ask, CommandWords, LinkError, News, Privilege, ProcessEnd, Program, Remote,
    Runs, Start, WinrmFailure,
};
use lantern_operations::display::Windows;
use lantern_operations::{ReachOptions, Target};
use lantern_ssh::Stream;
use tokio::signal::unix::SignalKind;
use tokio::sync::mpsc;
use tokio::time::timeout;
use tracing::debug;

use super::session::{environment, exit_status, next_question, tell_rotations};
use super::{block_on, display, many, second_hop, task, watch};
use crate::cli::global::Global;
use crate::cli::run::RunArgs;
use crate::cli::settings;
use crate::commands::connecting::{asking_as, attend, connect_recalling, forget_if_refused};
use crate::commands::errand::Errand;
use crate::commands::forwarding::{self, Forwards, Granted};
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::pipes::{Pipes, Turn};
use crate::terminal::session_ask::{Asked, Heard, READABLE, given_up};
use crate::terminal::stdio::Input;

/// Exit status of a program whose reader went away: 128 and SIGPIPE, as shells have it.
const READER_GONE: u8 = 128 + 13;
/// How long the end of a command waits for the rest of our own output to be taken, once interrupted.
const GRACE: Duration = Duration::from_secs(2);

pub(crate) fn run(args: &RunArgs, global: &Global) -> Result<u8, Failure> {
    if many::is_wanted(args) {
        return many::run(args, global);
    }
    let said = args.configuration.configuration.is_some() && !args.task.is_some();
    let option = args.task.option_without_text().or(said.then_some("--configuration"));
    if let Some(option) = option {
        return Err(Failure::new(code::USAGE, format!("{option} goes with a text that is to run"))
            .hint("lantern run MACHINE --expression TEXT"));
    }
    if args.task.is_some() && (!args.command_words().is_empty() || args.interpreter) {
        return Err(Failure::new(code::USAGE, "a text that is to run takes no command beside it")
            .hint("values for it: --argument NAME=VALUE"));
    }
    let home = settings::home(global)?;
    let words = if args.task.is_some() { None } else { Some(command(args)?) };
    let machine = args.machine.as_deref().filter(|_| args.one_off.paste.is_none());
    let machine = machine.map(|machine| machine.to_string_lossy().into_owned());
    let errand = Errand::of(&home, machine.as_deref(), &args.one_off, &args.connect)?;
    let acts = args.acting.other.is_some() || errand.target.acts_as.is_some();
    if acts && errand.target.protocol == Protocol::Winrm {
        let machine = errand.target.name.clone();
        return Err((&LinkError::from(WinrmFailure::HasNo { machine, what: ACTING })).into());
    }
    if acts && args.task.is_some() && args.task.script.is_none() {
        return Err(Failure::new(code::USAGE, "--as goes with a command or a script"));
    }
    let Some(words) = words else {
        return match &args.task.script {
            Some(file) if errand.target.protocol == Protocol::Ssh => script(args, &home, &errand, file),
            _ => task::run(args, global, &home, &errand),
        };
    };
    execute(args, &home, &errand, &words, None)
}

/// A script, as the input of the program that reads it.
fn script(args: &RunArgs, home: &Home, errand: &Errand, file: &Path) -> Result<u8, Failure> {
    if args.input || !args.task.arguments.is_empty() || args.task.input_json || args.task.strict {
        return Err(Failure::new(
            code::USAGE,
            "over SSH a script runs as it is: it takes the place of the input",
        )
        .hint("lantern run MACHINE --script FILE"));
    }
    let script = many::read_script(file)?;
    let words = CommandWords::line(script.reader().to_owned());
    execute(args, home, errand, &words, Some(script.text))
}

fn execute(
    args: &RunArgs,
    home: &Home,
    errand: &Errand,
    words: &CommandWords,
    script: Option<Bytes>,
) -> Result<u8, Failure> {
    let (target, options) = (&errand.target, &errand.options);
    let ask = asking_as(&args.connect, &args.acting)?;
    let privilege = args.acting.other.as_deref().or(target.acts_as.as_deref()).map(Privilege::of);
    let around = privilege.as_ref().map(|privilege| privilege.around(words));
    let words = around.as_ref().unwrap_or(words);
    let has_input = if std::io::stdin().is_terminal() { args.input } else { !args.no_input };
    let takes_input = has_input && script.is_none();
    let status = block_on(async {
        let forwards = Forwards::of(&args.forward, home, target).await?;
        let program = Program {
            environment: environment(&target.session),
            ..Program::alone(Runs::Command(words.clone()))
        };
        let (forwards_agent, opens) = (forwards.agent.is_some(), forwards.opens(&program));
        let options = ReachOptions { forwards_agent, opens, ..options.clone() };
        let (remote, recalling) = connect_recalling(home, target, &options, &ask).await?;
        let entering = privilege.as_ref().map(|privilege| (privilege, target));
        let input = Given { typed: takes_input, script, entering };
        let outcome = match Execution::start(&remote, input, program, forwards, ask.clone()).await {
            Ok(execution) => execution.finish().await,
            Err(failure) => Err(failure),
        };
        tell_rotations(&remote);
        remote.close().await;
        match outcome {
            Ok(status) => {
                second_hop::explain(target, words, status);
                Ok(status)
            }
            Err(failure) => Err(forget_if_refused(&recalling, target, failure).await),
        }
    })?;
    errand.keep(home, &ask)?;
    Ok(status)
}

/// The command interpreter of a machine of Windows, as a process with what is typed as its standard input.
pub(super) async fn interpreter(home: &Home, errand: &Errand, ask: &TerminalAsk) -> Result<u8, Failure> {
    let target = &errand.target;
    let words = CommandWords { words: vec!["cmd.exe".into()], each_as_is: true, by_interpreter: false };
    let environment = environment(&target.session);
    let program =
        Program { runs: Runs::Command(words), environment, terminal: None, agent: false, display: None };
    let (remote, recalling) = connect_recalling(home, target, &errand.options, ask).await?;
    let forwards = Forwards::default();
    let input = Given { typed: true, script: None, entering: None };
    let outcome = match Execution::start(&remote, input, program, forwards, ask.clone()).await {
        Ok(execution) => execution.finish().await,
        Err(failure) => Err(failure),
    };
    remote.close().await;
    match outcome {
        Ok(status) => Ok(status),
        Err(failure) => Err(forget_if_refused(&recalling, target, failure).await),
    }
}

/// What is to be run. One word is a line for a shell, as it is. Several behind `--` arrive as those words; else they are joined with spaces: programs that
/// call a remote shell by themselves have quoted what needs it.
fn command(args: &RunArgs) -> Result<CommandWords, Failure> {
    let words = args.command_words();
    if words.is_empty() {
        return Err(Failure::new(code::USAGE, "a command is wanted")
            .hint("lantern run MACHINE -- COMMAND")
            .hint("an interactive session: lantern shell MACHINE"));
    }
    if args.interpreter && words.len() > 1 {
        return Err(Failure::new(
            code::USAGE,
            "--interpreter takes the command as one string, and passes it on as it is",
        )
        .hint("put it in quotation marks: lantern run MACHINE --interpreter -- 'dir C:\\logs'"));
    }
    let words = words.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
    Ok(CommandWords { words, each_as_is: args.is_behind_dashes, by_interpreter: args.interpreter })
}

/// What a command is given.
struct Given<'a> {
    /// Whom it becomes before anything else, and what is known of the machine.
    entering: Option<(&'a Privilege, &'a Target)>,
    /// What comes on our standard input.
    typed: bool,
    /// A script, in place of that.
    script: Option<Bytes>,
}

/// A command under way.
struct Execution<'a> {
    remote: &'a Remote,
    pipes: Pipes,
    start: Start,
    input: Option<Input>,
    /// Questions about signatures.
    questions: Option<mpsc::Receiver<Asked>>,
    windows: Option<Arc<Windows>>,
    asked: Option<Asked>,
    /// Whether what is typed on standard input answers them; else whoever answers the rest.
    typed_here: bool,
    /// Whether the question is on the screen.
    is_shown: bool,
    ask: TerminalAsk,
    /// An answer that somebody else is asked for.
    answering: Option<Answering>,
}

impl<'a> Execution<'a> {
    async fn start(
        remote: &'a Remote,
        given: Given<'_>,
        mut program: Program,
        forwards: Forwards,
        ask: TerminalAsk,
    ) -> Result<Self, Failure> {
        let Granted { questions, windows } = forwards.grant(remote, &mut program)?;
        let is_terminal = std::io::stdin().is_terminal();
        // Where standard input is the terminal, two would read from it.
        let typed_here = given.typed && is_terminal;
        let (process, mut start) = remote.start(program).await?;
        if let Some((privilege, target)) = given.entering {
            start.settle().await?;
            let trunk = remote.trunk_for(ACTING)?;
            attend(target, &ask, privilege.enter(&process, trunk, &ask)).await??;
        }
        let mut pipes = Pipes::new(process);
        let input = given.typed.then(Input::start);
        if let Some(script) = given.script {
            pipes.input(script);
        }
        if !given.typed {
            pipes.end_of_input();
        }
        Ok(Self {
            remote,
            pipes,
            start,
            input,
            questions,
            windows,
            asked: None,
            typed_here,
            is_shown: false,
            ask,
            answering: None,
        })
    }

    async fn finish(mut self) -> Result<u8, Failure> {
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        debug!("signals are passed on");
        let mut interrupted = false;
        while !self.pipes.has_ended() {
            // A typed answer is read even while the command takes no input; while another is asked, nobody else reads the terminal.
            let wants_input = self.pipes.wants_input() || self.is_shown && self.typed_here;
            self.show_question();
            tokio::select! {
                turn = self.pipes.turn() => if let Turn::OutputFailed(stream, error) = turn {
                    return output_failed(stream, &error);
                },
                news = self.start.news() => match news? {
                    News::AgentRefused => output::warn(forwarding::refused(self.remote.machine())),
                    News::DisplayRefused => output::warn(display::refused(self.remote.machine())),
                    News::Started => {}
                },
                chunk = next_chunk(&mut self.input), if wants_input && self.input.is_some() => self.read(chunk),
                asked = next_question(&mut self.questions), if self.asked.is_none() => {
                    // What the machine writes from now on comes after the answer.
                    self.pipes.hold(true);
                    self.asked = Some(asked);
                }
                () = given_up(&mut self.asked), if self.asked.is_some() => self.settle(false),
                answer = answered(&mut self.answering), if self.answering.is_some() => {
                    self.settle(matches!(answer, Answer::Yes));
                }
                _ = interrupts.recv() => {
                    if std::mem::replace(&mut interrupted, true) || self.pipes.is_over() {
                        return Err(Failure::new(code::INTERRUPTED, "interrupted"));
                    }
                    let machine = self.remote.machine();
                    output::say(format!("SIGINT sent to {machine}; once more ends lantern"));
                    self.pipes.process.signal("INT");
                }
                _ = terminations.recv() => return Ok(self.end_by("TERM", 15).await),
                _ = hangups.recv() => return Ok(self.end_by("HUP", 1).await),
            }
        }
        let machine = self.remote.machine();
        let end = self.pipes.take_end();
        if matches!(end, ProcessEnd::Closed) {
            // A channel that was closed in answer to the request has refused it.
            self.start.settle().await?;
        }
        let status = exit_status(end, machine)?.ok_or_else(|| {
            Failure::new(code::SESSION, format!("{machine} ended the command without saying how"))
        })?;
        display::wait_for_windows(self.windows.as_ref(), machine).await?;
        Ok(status)
    }

    /// Asks what is to be asked, once everything that came before it has been written.
    fn show_question(&mut self) {
        let Some(asked) = self.asked.as_ref().filter(|_| !self.is_shown && self.pipes.is_drained()) else {
            return;
        };
        self.is_shown = true;
        match (&mut self.input, self.typed_here) {
            (Some(input), true) => {
                input.discard();
                output::ask_aloud(&fit!(
                    "{}\r\n{} ",
                    Fit::literal(READABLE),
                    Fit::stacked(asked.words().lines())
                ));
            }
            _ => self.answering = Some(self.ask.ask(asked.question.clone())),
        }
    }

    /// The question is over.
    fn settle(&mut self, yes: bool) {
        if let Some(asked) = self.asked.take() {
            asked.answer(yes);
        }
        (self.is_shown, self.answering) = (false, None);
        self.pipes.hold(false);
    }

    fn read(&mut self, chunk: Option<Bytes>) {
        let is_answer = self.is_shown && self.typed_here;
        match (chunk, self.asked.as_mut().filter(|_| is_answer)) {
            (Some(chunk), Some(asked)) => {
                if let Heard::Said(yes) = asked.feed(&chunk) {
                    self.settle(yes);
                }
            }
            (Some(chunk), None) => self.pipes.input(chunk),
            (None, _) => {
                self.settle(false);
                self.input = None;
                self.pipes.end_of_input();
            }
        }
    }

    /// We are told to end: the command is told too, and the channel closed.
    async fn end_by(&self, name: &str, number: u8) -> u8 {
        self.pipes.process.signal(name);
        self.pipes.process.close();
        let _ = timeout(GRACE, self.pipes.process.ended()).await;
        128 + number
    }
}

fn output_failed(stream: Stream, error: &std::io::Error) -> Result<u8, Failure> {
    if error.kind() == std::io::ErrorKind::BrokenPipe {
        return Ok(READER_GONE);
    }
    let name = if stream == Stream::Main { "standard output" } else { "standard error" };
    Err(Failure::new(code::LOCAL, format!("cannot write {name}: {error}")))
}

/// The answer that is waited for; never, where none is.
async fn answered(answering: &mut Option<Answering>) -> Answer {
    match answering {
        Some(answering) => answering.await,
        None => std::future::pending().await,
    }
}

async fn next_chunk(input: &mut Option<Input>) -> Option<Bytes> {
    match input {
        Some(input) => input.next().await,
        None => std::future::pending().await,
    }
}
