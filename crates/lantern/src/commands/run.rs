//! `lantern run`: a command on a machine, as if it ran here.

use std::io::IsTerminal;
use std::time::Duration;

use bytes::Bytes;
use clap::Args;
use lantern_link::{Channel, ChannelEnd, LinkError, Reply, Trunk};
use lantern_operations::{AgentForward, SessionSettings, Target};
use lantern_ssh::{SessionRequest, Stream, signals};
use tokio::signal::unix::SignalKind;
use tokio::sync::mpsc;
use tokio::time::timeout;
use tracing::debug;

use super::{block_on, watch};
use crate::ask::TerminalAsk;
use crate::cli::Global;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::forward::{self, AskInSession, Asked, ForwardArgs};
use crate::output;
use crate::pipes::{Pipes, Turn};
use crate::settings;
use crate::stdio::Input;
use crate::target::connect;

/// Exit status of a program whose reader went away: 128 and SIGPIPE, as shells have it.
const READER_GONE: u8 = 128 + 13;
/// How long the end of a command waits for the rest of our own output to be taken, once interrupted.
const GRACE: Duration = Duration::from_secs(2);

/// Arguments of `run`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern run lamp-01 -- uptime
  lantern run keeper@192.0.2.7:2222 -- tar -cf - /var/log > logs.tar
  tar -cf - site | lantern run lamp-01 -- tar -xf -

The words after -- are joined with spaces and handed to the shell of the user on the
machine. Its exit status is passed on; a signal that ended it becomes 128 and its number.
Ctrl-C sends it the signal INT; a second one ends lantern (exit code 252).")]
pub(crate) struct RunArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::completing::machines())]
    machine: String,
    /// The command and its words
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<std::ffi::OsString>,
    /// Don't pass on standard input
    #[arg(long)]
    no_input: bool,
    #[command(flatten)]
    connect: ConnectArgs,
    #[command(flatten)]
    forward: ForwardArgs,
}

pub(crate) fn run(args: &RunArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let target = Target::resolve(&home, &args.machine)?;
    block_on(async {
        let forward = args.forward.prepare(&home, &target).await?;
        let ask = args.connect.ask()?;
        let trunk = connect(&home, &target, &args.connect.reach(&home), &ask).await?;
        let outcome = match Execution::start(&trunk, args, &target.session, forward, ask).await {
            Ok(execution) => execution.finish().await,
            Err(failure) => Err(failure),
        };
        tell_rotations(&trunk);
        trunk.close().await;
        outcome
    })
}

/// Sends the variables that the book has for the machine; a server takes those that it is set up to take.
pub(super) fn send_environment(channel: &Channel, book: &SessionSettings) {
    for (name, value) in &book.environment {
        channel.tell(&SessionRequest::Env { name: name.clone(), value: value.clone() });
    }
}

/// Tells what the machine's announcement of its host keys has changed.
pub(super) fn tell_rotations(trunk: &Trunk) {
    for rotation in trunk.take_rotations() {
        let news = rotation
            .added
            .iter()
            .map(|key| (key, "announced another host key and proved it", "it is trusted too"));
        let old =
            rotation.dropped.iter().map(|key| (key, "has this host key no more", "it is trusted no more"));
        for (key, what, then) in news.chain(old) {
            let (machine, kind) = (trunk.machine(), key.describe());
            output::say(&format!("note: {machine} {what}: {kind} {}; {then}.", key.fingerprint()));
        }
    }
}

/// Words as bytes, joined with spaces: what people expect of a remote shell.
fn command_line(words: &[std::ffi::OsString]) -> Vec<u8> {
    use std::os::unix::ffi::OsStrExt;
    words.iter().map(|word| word.as_bytes()).collect::<Vec<_>>().join(&b' ')
}

/// The exit status for the way a session ended; none when it ended without a word.
///
/// # Errors
/// The connection was lost.
pub(super) fn exit_status(end: &ChannelEnd, machine: &str) -> Result<Option<u8>, Failure> {
    match end {
        // A wider number cannot be an exit status here; its low byte could look like success.
        ChannelEnd::Exited(status) => Ok(Some(u8::try_from(*status).unwrap_or(255))),
        ChannelEnd::Signaled { name, core_dumped, message } => {
            let dumped = if *core_dumped { ", memory dumped" } else { "" };
            let words = if message.is_empty() { String::new() } else { format!(": {message}") };
            output::say(&format!(
                "on {machine}, it was ended by SIG{}{dumped}{words}",
                lantern_ssh::neutralize(name, 32)
            ));
            Ok(Some(signals::number(name).map_or(code::SIGNAL, |number| 128 + number)))
        }
        ChannelEnd::Closed => Ok(None),
        ChannelEnd::Lost(source) => {
            Err(LinkError::Lost { machine: machine.to_owned(), source: source.clone() }.into())
        }
    }
}

/// A command under way.
struct Execution<'a> {
    trunk: &'a Trunk,
    pipes: Pipes,
    input: Option<Input>,
    /// The answer to the request that starts it.
    started: Option<Reply>,
    /// The answer to the request that forwards the agent.
    forwarded: Option<Reply>,
    /// Questions about signatures, where what is typed on standard input answers them.
    questions: Option<mpsc::Receiver<Asked>>,
    asked: Option<Asked>,
}

impl<'a> Execution<'a> {
    async fn start(
        trunk: &'a Trunk,
        args: &RunArgs,
        book: &SessionSettings,
        forward: Option<AgentForward>,
        ask: TerminalAsk,
    ) -> Result<Self, Failure> {
        let channel = trunk.open_session().await?;
        send_environment(&channel, book);
        let (mut forwarded, mut questions) = (None, None);
        if let Some(forward) = forward {
            forwarded = Some(channel.ask(&SessionRequest::ForwardAgent));
            // Where standard input is the terminal, two would read from it.
            if !args.no_input && std::io::stdin().is_terminal() {
                let (asking, asked) = AskInSession::new();
                questions = Some(asked);
                forward.serve(trunk, asking);
            } else {
                forward.serve(trunk, std::sync::Arc::new(ask));
            }
        }
        let started = Some(channel.ask(&SessionRequest::Exec(command_line(&args.command))));
        let mut pipes = Pipes::new(channel);
        let input = if args.no_input { None } else { Some(Input::start()) };
        if args.no_input {
            pipes.end_of_input();
        }
        Ok(Self { trunk, pipes, input, started, forwarded, questions, asked: None })
    }

    async fn finish(mut self) -> Result<u8, Failure> {
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        debug!("signals are passed on");
        let mut interrupted = false;
        let mut patience = std::pin::pin!(tokio::time::sleep(self.trunk.answer_limit()));
        while self.pipes.end().is_none() {
            // A typed answer is read even while the command takes no input.
            let wants_input = self.pipes.wants_input() || self.asked.is_some();
            tokio::select! {
                turn = self.pipes.turn() => if let Turn::OutputFailed(stream, error) = turn {
                    return output_failed(stream, &error);
                },
                granted = answer(&mut self.started) => self.answered("exec", granted?)?,
                granted = answer(&mut self.forwarded) => {
                    self.forwarded = None;
                    if !granted? {
                        forward::tell_refused(self.trunk.machine());
                    }
                }
                () = &mut patience, if self.started.is_some() => {
                    return Err(LinkError::Unanswered {
                        machine: self.trunk.machine().to_owned(),
                        what: "the start of a command",
                        seconds: self.trunk.answer_limit().as_secs(),
                    }.into());
                }
                chunk = next_chunk(&mut self.input), if wants_input && self.input.is_some() => self.read(chunk),
                asked = next_question(&mut self.questions), if self.asked.is_none() => {
                    output::ask_aloud(&format!("{} Allow it this once? Type y or n: ", asked.text));
                    self.asked = Some(asked);
                }
                _ = interrupts.recv() => {
                    if std::mem::replace(&mut interrupted, true) || self.pipes.is_over() {
                        return Err(Failure::new(code::INTERRUPTED, "interrupted"));
                    }
                    let machine = self.trunk.machine();
                    output::say(&format!("SIGINT sent to {machine}; once more ends lantern"));
                    self.signal("INT");
                }
                _ = terminations.recv() => return Ok(self.end_by("TERM", 15).await),
                _ = hangups.recv() => return Ok(self.end_by("HUP", 1).await),
            }
        }
        let machine = self.trunk.machine();
        let end = self.pipes.end().cloned().unwrap_or(ChannelEnd::Closed);
        if let (Some(started), ChannelEnd::Closed) = (self.started.take(), &end) {
            // A channel that was closed in answer to the request has refused it.
            self.answered("exec", started.await?)?;
        }
        exit_status(&end, machine)?.ok_or_else(|| {
            Failure::new(code::SESSION, format!("{machine} ended the command without saying how"))
        })
    }

    fn answered(&mut self, request: &'static str, granted: bool) -> Result<(), Failure> {
        self.started = None;
        match granted {
            true => Ok(()),
            false => {
                let machine = self.trunk.machine().to_owned();
                Err(LinkError::RequestRefused { machine, request }.into())
            }
        }
    }

    fn read(&mut self, chunk: Option<Bytes>) {
        // A question that nobody waits for any more is no question.
        self.asked = self.asked.take().filter(Asked::is_wanted);
        match (chunk, self.asked.take()) {
            (Some(chunk), Some(asked)) => asked.answer(chunk.starts_with(b"y")),
            (Some(chunk), None) => self.pipes.input(chunk),
            (None, asked) => {
                if let Some(asked) = asked {
                    asked.answer(false);
                }
                self.input = None;
                self.pipes.end_of_input();
            }
        }
    }

    fn signal(&self, name: &str) {
        self.pipes.channel.tell(&SessionRequest::Signal(name.to_owned()));
    }

    /// We are told to end: the command is told too, and the channel closed.
    async fn end_by(&self, name: &str, number: u8) -> u8 {
        self.signal(name);
        self.pipes.channel.close();
        let _ = timeout(GRACE, self.pipes.channel.ended()).await;
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

async fn next_chunk(input: &mut Option<Input>) -> Option<Bytes> {
    match input {
        Some(input) => input.next().await,
        None => std::future::pending().await,
    }
}

/// The answer to a request that was made; never, where none was.
pub(super) async fn answer(reply: &mut Option<Reply>) -> Result<bool, LinkError> {
    match reply {
        Some(reply) => reply.await,
        None => std::future::pending().await,
    }
}

/// The next question of a session; never, where none can come.
pub(super) async fn next_question(questions: &mut Option<mpsc::Receiver<Asked>>) -> Asked {
    let next = match questions {
        Some(questions) => questions.recv().await,
        None => None,
    };
    match next {
        Some(asked) => asked,
        None => std::future::pending().await,
    }
}
