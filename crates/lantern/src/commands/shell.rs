//! `lantern shell`: an interactive session.

use std::io::IsTerminal;
use std::time::Instant;

use bytes::{Buf, BytesMut};
use clap::Args;
use lantern_book::Home;
use lantern_link::{Link, LinkError};
use lantern_ssh::{ChannelEvent, ChannelId, PtyRequest, SessionRequest, Stream};
use rustix::process::{Signal, kill_current_process_group};
use tokio::signal::unix::SignalKind;
use tokio::time::sleep_until;

use super::run::{exit_status, send_environment, tell_rotations};
use super::{block_on, watch};
use crate::cli::Global;
use crate::confirm;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::forward::{AgentForward, ForwardArgs};
use crate::output;
use crate::settings;
use crate::stdio::{Input, Output, Written};
use crate::target::{SessionSettings, Target};
use crate::terminal::escape::{EscapeWatch, Typed};
use crate::terminal::modes;
use crate::terminal::raw::RawMode;

/// Most typed input kept for a machine that does not take it, in bytes.
const MAX_UNSENT: usize = 1024 * 1024;
/// Environment that says how text is to be read; servers take it where they are set up to.
const LANGUAGE: [&str; 3] = ["LANG", "LC_ALL", "LC_CTYPE"];

/// Arguments of `shell`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern shell lamp-01
  lantern shell keeper@192.0.2.7:2222
  lantern shell lamp-01 --resume-prompt --keep-alive 5

When a session hangs: Ctrl-^ three times within a second opens a line with three choices: e
ends it, z suspends lantern, s shows the session's state. Fewer strokes go to the machine
like any other key; --no-escape switches it off.

The exit status is that of the remote shell.")]
pub(crate) struct ShellArgs {
    /// A machine: a name in the book, or user@address:port
    #[arg(add = crate::completing::machines())]
    machine: String,
    /// Pass Ctrl-^ on like any other key
    #[arg(long)]
    no_escape: bool,
    /// When the link dies, offer to connect again with the same settings
    #[arg(long)]
    resume_prompt: bool,
    #[command(flatten)]
    connect: ConnectArgs,
    #[command(flatten)]
    forward: ForwardArgs,
}

pub(crate) fn run(args: &ShellArgs, global: &Global) -> Result<u8, Failure> {
    if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
        return Err(Failure::new(code::LOCAL, "a shell needs a terminal for input and output")
            .hint(format!("without one: lantern run {} -- COMMAND", args.machine)));
    }
    let home = settings::home(global)?;
    let target = Target::resolve(&home, &args.machine)?;
    loop {
        let outcome = block_on(attend(args, &home, &target));
        match outcome {
            // What a dead link leaves running on the machine is the machine's: a new session begins anew.
            Err(failure) if args.resume_prompt && failure.code == code::LOST => {
                output::complain(&failure);
                let question = format!("Connect to {} again?", target.name);
                if !confirm::ask(&question, "without a terminal there is nobody to ask")? {
                    return Err(Failure::quiet(code::LOST));
                }
            }
            outcome => return outcome,
        }
    }
}

/// One session, from the connection to its end.
async fn attend(args: &ShellArgs, home: &Home, target: &Target) -> Result<u8, Failure> {
    let forward = args.forward.prepare(home, target).await?;
    let mut link = target.connect(home, &args.connect).await?;
    let outcome = Session::start(&mut link, &target.session, !args.no_escape, forward).await?.run().await;
    tell_rotations(&mut link);
    link.close().await;
    outcome
}

/// An interactive session under way.
struct Session<'a> {
    link: &'a mut Link,
    id: ChannelId,
    raw: Option<RawMode>,
    watch: EscapeWatch,
    unsent: BytesMut,
    output: Output,
    forward: Option<AgentForward>,
    status: Option<u8>,
    closed: bool,
    /// Requests whose refusal ends it.
    started: bool,
    since: Instant,
}

impl<'a> Session<'a> {
    async fn start(
        link: &'a mut Link,
        book: &SessionSettings,
        escape: bool,
        forward: Option<AgentForward>,
    ) -> Result<Self, Failure> {
        let id = link.open_session().await?;
        send_environment(link, id, book)?;
        for name in
            LANGUAGE.iter().filter(|name| book.send_language && !book.environment.contains_key(**name))
        {
            if let Ok(value) = std::env::var(name) {
                link.request(id, &SessionRequest::Env { name: (*name).into(), value }, false)?;
            }
        }
        if forward.is_some() {
            AgentForward::request(link, id)?;
        }
        let own = || std::env::var("TERM").unwrap_or_else(|_| "xterm".into());
        let terminal = book.terminal_type.clone().unwrap_or_else(own);
        let pty = PtyRequest { terminal, size: modes::size(), modes: modes::local() };
        link.request(id, &SessionRequest::Pty(pty), true)?;
        link.request(id, &SessionRequest::Shell, true)?;
        let mut unsent = BytesMut::new();
        if let Some(command) = &book.first_command {
            unsent.extend_from_slice(format!("{command}\n").as_bytes());
        }
        let raw = Some(RawMode::enter()?);
        Ok(Self {
            link,
            id,
            raw,
            watch: EscapeWatch::new(escape && book.stroke_menu),
            unsent,
            output: Output::start(),
            forward,
            status: None,
            closed: false,
            started: false,
            since: Instant::now(),
        })
    }

    async fn run(mut self) -> Result<u8, Failure> {
        let mut input = Input::start();
        let mut resizes = watch(SignalKind::window_change())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        let mut input_open = true;
        let mut lost = None;
        while !(self.closed && self.output.is_drained()) {
            tokio::select! {
                event = self.link.event(), if !self.closed => match event {
                    Ok((id, event)) if id == self.id => self.handle(event)?,
                    Ok((id, event)) => {
                        if let Some(forward) = &mut self.forward
                            && let Some(question) = forward.handle(self.link, id, event).await?
                        {
                            self.put(&question);
                        }
                    }
                    // What came before the end is shown first.
                    Err(error) => {
                        lost = Some(error);
                        self.closed = true;
                    }
                },
                chunk = input.next(), if input_open && self.unsent.len() < MAX_UNSENT => match chunk {
                    // The stroke that answers a question of ours is not the machine's.
                    Some(chunk) if self.forward.as_ref().is_some_and(AgentForward::is_asking) => {
                        self.answer(chunk.starts_with(b"y")).await?;
                    }
                    Some(chunk) => {
                        for typed in self.watch.feed(&chunk, Instant::now()) {
                            if let Some(status) = self.typed(typed)? {
                                return Ok(status);
                            }
                        }
                    }
                    None => {
                        input_open = false;
                        self.link.send_eof(self.id);
                    }
                },
                report = self.output.report() => match report {
                    Written::Bytes(len) => self.link.consumed(self.id, len),
                    // The terminal is gone: so is the session.
                    Written::Failed(..) => return Ok(128 + 1),
                },
                () = sleep_until(self.watch.deadline().unwrap_or(self.since).into()), if self.watch.deadline().is_some() => {
                    let strokes = self.watch.flush();
                    self.unsent.extend_from_slice(&strokes);
                }
                _ = resizes.recv() => self.resize()?,
                _ = terminations.recv() => return Ok(128 + 15),
                _ = hangups.recv() => return Ok(128 + 1),
            }
            if !self.closed && !self.unsent.is_empty() {
                let taken = self.link.send(self.id, &self.unsent)?;
                self.unsent.advance(taken);
            }
        }
        if let Some(error) = lost {
            return Err(error.into());
        }
        // A session that ends without a status ended well enough: some servers send none for a shell.
        Ok(self.status.unwrap_or(0))
    }

    fn handle(&mut self, event: ChannelEvent) -> Result<(), Failure> {
        match event {
            ChannelEvent::Data(stream, data) => self.output.write(stream, data),
            ChannelEvent::Request { request, .. } => {
                let machine = self.link.machine().to_owned();
                if matches!(request, SessionRequest::ExitSignal { .. }) {
                    // What is said about it now needs a terminal that returns the carriage.
                    self.raw = None;
                }
                self.status = exit_status(&request, &machine).or(self.status);
            }
            ChannelEvent::Reply { granted: true, request: "shell" } => self.started = true,
            ChannelEvent::Reply { granted: false, request: "agent forwarding" } => {
                let text = format!("{} does not let agents be forwarded to it", self.link.machine());
                self.tell(&text);
            }
            ChannelEvent::Reply { granted: false, request } if !self.started => {
                let machine = self.link.machine().to_owned();
                return Err(LinkError::RequestRefused { machine, request }.into());
            }
            ChannelEvent::Closed => self.closed = true,
            _ => {}
        }
        Ok(())
    }

    /// Acts on what was typed; an exit status when the session is to end.
    fn typed(&mut self, typed: Typed) -> Result<Option<u8>, Failure> {
        match typed {
            Typed::Forward(bytes) => self.unsent.extend_from_slice(&bytes),
            Typed::Menu => {
                self.tell("e ends the session, z suspends lantern, s shows its state, any other key goes on")
            }
            Typed::End => {
                self.tell("ended");
                self.link.close_channel(self.id);
                return Ok(Some(code::INTERRUPTED));
            }
            Typed::Suspend => self.suspend()?,
            Typed::State => {
                let state = self.state();
                self.tell(&state);
                self.redraw()?;
            }
            Typed::Resume => self.redraw()?,
        }
        Ok(None)
    }

    fn put(&mut self, question: &str) {
        self.tell(&format!("{question}\ny allows it this once, any other key refuses"));
    }

    async fn answer(&mut self, yes: bool) -> Result<(), Failure> {
        let Some(forward) = &mut self.forward else { return Ok(()) };
        let next = forward.answer(self.link, yes).await?;
        self.tell(if yes { "allowed" } else { "refused" });
        if let Some(question) = next {
            self.put(&question);
        }
        Ok(())
    }

    /// A line of ours in the middle of the machine's.
    fn tell(&mut self, text: &str) {
        let lines: String = text.lines().map(|line| format!("\r\n\x1b[7m lantern \x1b[0m {line}")).collect();
        // By the same thread as the machine's output, to stay in order. The window is never credited with more than
        // was received, so these few bytes do no harm there.
        self.output.write(Stream::Main, format!("{lines}\r\n").into());
    }

    fn state(&self) -> String {
        let client = self.link.client();
        let statistics = client.statistics();
        let algorithms = match client.algorithms() {
            Some(chosen) => format!(
                "{}{}, host key {}, {} to it, {} from it{}",
                chosen.kex.name(),
                if chosen.kex.is_quantum_safe() { " (quantum-safe)" } else { "" },
                chosen.host_key.name(),
                chosen.client_to_server.cipher.name(),
                chosen.server_to_client.cipher.name(),
                if client.is_strict() { ", strict" } else { "" },
            ),
            None => "none yet".into(),
        };
        let round_trip = statistics
            .round_trip
            .map_or("unknown".into(), |time| format!("{:.1} ms", time.as_secs_f64() * 1e3));
        format!(
            "{} as {}, {} for {} s\n{algorithms}\n{} bytes sent, {} received, key exchanges: {}\nround trip {round_trip}, silent for {} s",
            self.link.machine(),
            self.link.user(),
            client.peer_identification(),
            self.since.elapsed().as_secs(),
            statistics.bytes_sent,
            statistics.bytes_received,
            statistics.key_exchanges,
            client.idle(Instant::now()).as_secs(),
        )
    }

    /// Back to the local shell, until it continues us.
    fn suspend(&mut self) -> Result<(), Failure> {
        self.raw = None;
        kill_current_process_group(Signal::TSTP)
            .map_err(|error| Failure::new(code::INTERNAL, format!("cannot suspend: {error}")))?;
        self.raw = Some(RawMode::enter()?);
        self.resize()?;
        self.redraw()
    }

    fn resize(&mut self) -> Result<(), Failure> {
        if self.closed {
            return Ok(());
        }
        Ok(self.link.request(self.id, &SessionRequest::WindowChange(modes::size()), false)?)
    }

    /// Full-screen programs draw anew when the size changes: change it there and back.
    fn redraw(&mut self) -> Result<(), Failure> {
        if self.closed {
            return Ok(());
        }
        let mut size = modes::size();
        size.rows = size.rows.saturating_sub(1).max(1);
        self.link.request(self.id, &SessionRequest::WindowChange(size), false)?;
        self.resize()
    }
}
