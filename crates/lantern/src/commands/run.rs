//! `lantern run`: a command on a machine, as if it ran here.

use std::io::IsTerminal;
use std::time::Duration;

use bytes::{Buf, Bytes};
use clap::Args;
use lantern_link::{Link, LinkError};
use lantern_ssh::{ChannelEvent, ChannelId, SessionRequest, Stream, signals};
use tokio::signal::unix::SignalKind;

use super::{block_on, watch};
use crate::cli::Global;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::forward::{self, AgentForward, ForwardArgs};
use crate::output;
use crate::settings;
use crate::stdio::{Input, Output, Written};
use crate::target::{SessionSettings, Target};
use crate::terminal::prompt::{Answer, Terminal};

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
        let mut link = target.connect(&home, &args.connect).await?;
        let outcome = Execution::start(&mut link, args, &target.session, forward).await?.finish().await;
        tell_rotations(&mut link);
        link.close().await;
        outcome
    })
}

/// Sends the variables that the book has for the machine; a server takes those that it is set up to take.
pub(super) fn send_environment(
    link: &mut Link,
    id: ChannelId,
    book: &SessionSettings,
) -> Result<(), Failure> {
    for (name, value) in &book.environment {
        let request = SessionRequest::Env { name: name.clone(), value: value.clone() };
        link.request(id, &request, false)?;
    }
    Ok(())
}

/// Tells what the machine's announcement of its host keys has changed.
pub(super) fn tell_rotations(link: &mut Link) {
    for rotation in link.take_rotations() {
        let news = rotation
            .added
            .iter()
            .map(|key| (key, "announced another host key and proved it", "it is trusted too"));
        let old =
            rotation.dropped.iter().map(|key| (key, "has this host key no more", "it is trusted no more"));
        for (key, what, then) in news.chain(old) {
            let (machine, kind) = (link.machine(), key.describe());
            output::say(&format!("note: {machine} {what}: {kind} {}; {then}.", key.fingerprint()));
        }
    }
}

/// Words as bytes, joined with spaces: what people expect of a remote shell.
fn command_line(words: &[std::ffi::OsString]) -> Vec<u8> {
    use std::os::unix::ffi::OsStrExt;
    words.iter().map(|word| word.as_bytes()).collect::<Vec<_>>().join(&b' ')
}

/// The exit status for the way a command ended.
pub(super) fn exit_status(request: &SessionRequest, machine: &str) -> Option<u8> {
    match request {
        // A wider number cannot be an exit status here; its low byte could look like success.
        SessionRequest::ExitStatus(status) => Some(u8::try_from(*status).unwrap_or(255)),
        SessionRequest::ExitSignal { name, core_dumped, message } => {
            let dumped = if *core_dumped { ", memory dumped" } else { "" };
            let words = if message.is_empty() { String::new() } else { format!(": {message}") };
            output::say(&format!(
                "on {machine}, it was ended by SIG{}{dumped}{words}",
                lantern_ssh::neutralize(name, 32)
            ));
            Some(signals::number(name).map_or(code::SIGNAL, |number| 128 + number))
        }
        _ => None,
    }
}

/// A command under way.
struct Execution<'a> {
    link: &'a mut Link,
    id: ChannelId,
    input: Option<Input>,
    /// Input that the channel had no room for yet.
    unsent: Bytes,
    output: Output,
    forward: Option<AgentForward>,
    /// Whether standard input is a terminal: answers to our questions come from there too then.
    typed: bool,
    status: Option<u8>,
    closed: bool,
}

impl<'a> Execution<'a> {
    async fn start(
        link: &'a mut Link,
        args: &RunArgs,
        book: &SessionSettings,
        forward: Option<AgentForward>,
    ) -> Result<Self, Failure> {
        let id = link.open_session().await?;
        send_environment(link, id, book)?;
        if forward.is_some() {
            AgentForward::request(link, id)?;
        }
        link.request(id, &SessionRequest::Exec(command_line(&args.command)), true)?;
        let input = if args.no_input { None } else { Some(Input::start()) };
        if args.no_input {
            link.send_eof(id);
        }
        Ok(Self {
            link,
            id,
            input,
            unsent: Bytes::new(),
            output: Output::start(),
            forward,
            typed: !args.no_input && std::io::stdin().is_terminal(),
            status: None,
            closed: false,
        })
    }

    async fn finish(mut self) -> Result<u8, Failure> {
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        let mut interrupted = false;
        let mut lost = None;
        while !(self.closed && self.output.is_drained()) {
            tokio::select! {
                event = self.link.event(), if !self.closed => match event {
                    Ok((id, event)) if id == self.id => self.handle(event)?,
                    Ok((id, event)) => self.handle_forward(id, event).await?,
                    // What came before the end is written first.
                    Err(error) => {
                        lost = Some(error);
                        self.closed = true;
                    }
                },
                chunk = next_chunk(&mut self.input), if self.unsent.is_empty() && self.input.is_some() => {
                    match chunk {
                        Some(chunk) if self.is_asking() => self.answer(chunk.starts_with(b"y")).await?,
                        Some(chunk) => self.unsent = chunk,
                        None => {
                            self.input = None;
                            self.link.send_eof(self.id);
                        }
                    }
                }
                report = self.output.report() => match report {
                    Written::Bytes(len) => self.link.consumed(self.id, len),
                    Written::Failed(stream, error) => return self.output_failed(stream, &error),
                },
                _ = interrupts.recv() => {
                    if std::mem::replace(&mut interrupted, true) || self.closed {
                        return Err(Failure::new(code::INTERRUPTED, "interrupted"));
                    }
                    self.signal("INT")?;
                }
                _ = terminations.recv() => return self.end_by("TERM", 15).await,
                _ = hangups.recv() => return self.end_by("HUP", 1).await,
            }
            self.send_input()?;
        }
        if let Some(error) = lost {
            return Err(error.into());
        }
        match self.status {
            Some(status) => Ok(status),
            None => Err(Failure::new(
                code::SESSION,
                format!("{} ended the command without saying how", self.link.machine()),
            )),
        }
    }

    fn handle(&mut self, event: ChannelEvent) -> Result<(), Failure> {
        match event {
            ChannelEvent::Data(stream, data) => self.output.write(stream, data),
            ChannelEvent::Request { request, .. } => {
                let machine = self.link.machine().to_owned();
                self.status = exit_status(&request, &machine).or(self.status);
            }
            ChannelEvent::Reply { request: "agent forwarding", granted: false } => {
                forward::tell_refused(self.link.machine());
            }
            ChannelEvent::Reply { request, granted: false } => {
                let machine = self.link.machine().to_owned();
                return Err(LinkError::RequestRefused { machine, request }.into());
            }
            ChannelEvent::Closed => self.closed = true,
            _ => {}
        }
        Ok(())
    }

    fn is_asking(&self) -> bool {
        self.forward.as_ref().is_some_and(AgentForward::is_asking)
    }

    async fn handle_forward(&mut self, id: ChannelId, event: ChannelEvent) -> Result<(), Failure> {
        let Some(forward) = &mut self.forward else { return Ok(()) };
        match forward.handle(self.link, id, event).await? {
            Some(question) => self.put(question).await,
            None => Ok(()),
        }
    }

    /// Puts questions until none waits, or until one waits for what is typed on standard input.
    async fn put(&mut self, question: String) -> Result<(), Failure> {
        let mut question = Some(question);
        while let Some(text) = question.take() {
            let text = format!("{text} Allow it this once? Type y or n: ");
            if self.typed {
                output::ask_aloud(&text);
                return Ok(());
            }
            let yes = match Terminal::open() {
                Some(mut terminal) => {
                    matches!(terminal.ask_line(&text), Answer::Given(answer) if answer.starts_with('y'))
                }
                None => {
                    output::warn(&format!("{text}no, since there is no terminal to ask at."));
                    false
                }
            };
            let Some(forward) = &mut self.forward else { return Ok(()) };
            question = forward.answer(self.link, yes).await?;
        }
        Ok(())
    }

    async fn answer(&mut self, yes: bool) -> Result<(), Failure> {
        let Some(forward) = &mut self.forward else { return Ok(()) };
        match forward.answer(self.link, yes).await? {
            Some(question) => Box::pin(self.put(question)).await,
            None => Ok(()),
        }
    }

    fn send_input(&mut self) -> Result<(), Failure> {
        if self.closed || self.unsent.is_empty() {
            self.unsent.clear();
            return Ok(());
        }
        let taken = self.link.send(self.id, &self.unsent)?;
        self.unsent.advance(taken);
        Ok(())
    }

    fn signal(&mut self, name: &str) -> Result<(), Failure> {
        output::say(&format!("SIG{name} sent to {}; once more ends lantern", self.link.machine()));
        Ok(self.link.request(self.id, &SessionRequest::Signal(name.to_owned()), false)?)
    }

    /// We are told to end: the command is told too, and the channel closed.
    async fn end_by(&mut self, name: &str, number: u8) -> Result<u8, Failure> {
        let _ = self.link.request(self.id, &SessionRequest::Signal(name.to_owned()), false);
        self.link.close_channel(self.id);
        let _ = tokio::time::timeout(GRACE, self.link.event()).await;
        Ok(128 + number)
    }

    fn output_failed(&mut self, stream: Stream, error: &std::io::Error) -> Result<u8, Failure> {
        self.link.close_channel(self.id);
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            return Ok(READER_GONE);
        }
        let name = if stream == Stream::Main { "standard output" } else { "standard error" };
        Err(Failure::new(code::LOCAL, format!("cannot write {name}: {error}")))
    }
}

async fn next_chunk(input: &mut Option<Input>) -> Option<Bytes> {
    match input {
        Some(input) => input.next().await,
        None => std::future::pending().await,
    }
}
