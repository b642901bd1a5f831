//! `lantern shell`: an interactive session.

use std::io::IsTerminal;
use std::time::Instant;

use bytes::Bytes;
use clap::Args;
use lantern_book::Home;
use lantern_link::{ChannelEnd, LinkError, Reply, Trunk};
use lantern_operations::{AgentForward, SessionSettings, Target};
use lantern_ssh::{PtyRequest, SessionRequest, Stream};
use rustix::process::{Signal, kill_current_process_group};
use tokio::signal::unix::SignalKind;
use tokio::sync::mpsc;
use tokio::time::{sleep, sleep_until};

use super::run::{answer, exit_status, next_question, send_environment, tell_rotations};
use super::{block_on, watch};
use crate::cli::Global;
use crate::confirm;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::forward::{AskInSession, Asked, ForwardArgs};
use crate::output;
use crate::pipes::{Pipes, Turn};
use crate::settings;
use crate::stdio::Input;
use crate::target::connect;
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
    let ask = args.connect.ask()?;
    let trunk = connect(home, target, &args.connect.reach(home), &ask).await?;
    let outcome = match Session::start(&trunk, &target.session, !args.no_escape, forward).await {
        Ok(session) => session.run().await,
        Err(failure) => Err(failure),
    };
    tell_rotations(&trunk);
    trunk.close().await;
    outcome
}

/// An interactive session under way.
struct Session<'a> {
    trunk: &'a Trunk,
    pipes: Pipes,
    raw: Option<RawMode>,
    watch: EscapeWatch,
    /// Answers to the requests that start it: the terminal's and the shell's.
    terminal: Option<Reply>,
    started: Option<Reply>,
    forwarded: Option<Reply>,
    questions: Option<mpsc::Receiver<Asked>>,
    asked: Option<Asked>,
    since: Instant,
}

impl<'a> Session<'a> {
    async fn start(
        trunk: &'a Trunk,
        book: &SessionSettings,
        escape: bool,
        forward: Option<AgentForward>,
    ) -> Result<Self, Failure> {
        let channel = trunk.open_session().await?;
        send_environment(&channel, book);
        for name in
            LANGUAGE.iter().filter(|name| book.send_language && !book.environment.contains_key(**name))
        {
            if let Ok(value) = std::env::var(name) {
                channel.tell(&SessionRequest::Env { name: (*name).into(), value });
            }
        }
        let (mut forwarded, mut questions) = (None, None);
        if let Some(forward) = forward {
            forwarded = Some(channel.ask(&SessionRequest::ForwardAgent));
            let (asking, asked) = AskInSession::new();
            questions = Some(asked);
            forward.serve(trunk, asking);
        }
        let own = || std::env::var("TERM").unwrap_or_else(|_| "xterm".into());
        let terminal = book.terminal_type.clone().unwrap_or_else(own);
        let pty = PtyRequest { terminal, size: modes::size(), modes: modes::local() };
        let terminal = Some(channel.ask(&SessionRequest::Pty(pty)));
        let started = Some(channel.ask(&SessionRequest::Shell));
        let mut pipes = Pipes::new(channel);
        if let Some(command) = &book.first_command {
            pipes.input(format!("{command}\n").into());
        }
        let raw = Some(RawMode::enter()?);
        Ok(Self {
            trunk,
            pipes,
            raw,
            watch: EscapeWatch::new(escape && book.stroke_menu),
            terminal,
            started,
            forwarded,
            questions,
            asked: None,
            since: Instant::now(),
        })
    }

    async fn run(mut self) -> Result<u8, Failure> {
        let mut input = Input::start();
        let mut resizes = watch(SignalKind::window_change())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        let mut input_open = true;
        let mut patience = std::pin::pin!(sleep(self.trunk.answer_limit()));
        while self.pipes.end().is_none() {
            tokio::select! {
                turn = self.pipes.turn() => {
                    // The terminal is gone: so is the session.
                    if let Turn::OutputFailed(..) = turn {
                        return Ok(128 + 1);
                    }
                }
                granted = answer(&mut self.terminal) => {
                    self.terminal = None;
                    self.granted("pty-req", granted?)?;
                }
                granted = answer(&mut self.started) => {
                    self.started = None;
                    self.granted("shell", granted?)?;
                }
                granted = answer(&mut self.forwarded) => {
                    self.forwarded = None;
                    if !granted? {
                        let text = format!("{} does not let agents be forwarded to it", self.trunk.machine());
                        self.tell(&text);
                    }
                }
                () = &mut patience, if self.started.is_some() => {
                    return Err(LinkError::Unanswered {
                        machine: self.trunk.machine().to_owned(),
                        what: "the start of a shell",
                        seconds: self.trunk.answer_limit().as_secs(),
                    }.into());
                }
                asked = next_question(&mut self.questions), if self.asked.is_none() => self.put(asked),
                chunk = input.next(), if input_open && self.pipes.waiting_input() < MAX_UNSENT => match chunk {
                    Some(chunk) => {
                        if let Some(status) = self.read(&chunk)? {
                            return Ok(status);
                        }
                    }
                    None => {
                        input_open = false;
                        self.pipes.end_of_input();
                    }
                },
                () = sleep_until(self.watch.deadline().unwrap_or(self.since).into()), if self.watch.deadline().is_some() => {
                    let strokes = self.watch.flush();
                    self.pipes.input(strokes.into());
                }
                _ = resizes.recv() => self.resize(),
                _ = terminations.recv() => return Ok(128 + 15),
                _ = hangups.recv() => return Ok(128 + 1),
            }
        }
        let end = self.pipes.end().cloned().unwrap_or(ChannelEnd::Closed);
        if let (Some(started), ChannelEnd::Closed) = (self.started.take(), &end) {
            let granted = started.await?;
            self.granted("shell", granted)?;
        }
        if matches!(end, ChannelEnd::Signaled { .. }) {
            // What is said about it now needs a terminal that returns the carriage.
            self.raw = None;
        }
        // A session that ends without a status ended well enough: some servers send none for a shell.
        Ok(exit_status(&end, self.trunk.machine())?.unwrap_or(0))
    }

    fn granted(&self, request: &'static str, granted: bool) -> Result<(), Failure> {
        match granted {
            true => Ok(()),
            false => {
                let machine = self.trunk.machine().to_owned();
                Err(LinkError::RequestRefused { machine, request }.into())
            }
        }
    }

    /// What was typed: an answer to a question of ours, strokes for ourselves, or the machine's. An exit status when the session is
    /// to end.
    fn read(&mut self, chunk: &[u8]) -> Result<Option<u8>, Failure> {
        self.asked = self.asked.take().filter(Asked::is_wanted);
        if let Some(asked) = self.asked.take() {
            // The stroke that answers a question of ours is not the machine's.
            let yes = chunk.starts_with(b"y");
            asked.answer(yes);
            self.tell(if yes { "allowed" } else { "refused" });
            return Ok(None);
        }
        for typed in self.watch.feed(chunk, Instant::now()) {
            if let Some(status) = self.typed(typed)? {
                return Ok(Some(status));
            }
        }
        Ok(None)
    }

    /// Acts on what was typed; an exit status when the session is to end.
    fn typed(&mut self, typed: Typed) -> Result<Option<u8>, Failure> {
        match typed {
            Typed::Forward(bytes) => self.pipes.input(Bytes::from(bytes)),
            Typed::Menu => {
                self.tell("e ends the session, z suspends lantern, s shows its state, any other key goes on")
            }
            Typed::End => {
                self.tell("ended");
                self.pipes.channel.close();
                return Ok(Some(code::INTERRUPTED));
            }
            Typed::Suspend => self.suspend()?,
            Typed::State => {
                let state = self.state();
                self.tell(&state);
                self.redraw();
            }
            Typed::Resume => self.redraw(),
        }
        Ok(None)
    }

    fn put(&mut self, asked: Asked) {
        self.tell(&format!("{}\ny allows it this once, any other key refuses", asked.text));
        self.asked = Some(asked);
    }

    /// A line of ours in the middle of the machine's.
    fn tell(&mut self, text: &str) {
        let lines: String = text.lines().map(|line| format!("\r\n\x1b[7m lantern \x1b[0m {line}")).collect();
        // By the same thread as the machine's output, to stay in order. The window is never credited with more than
        // was received, so these few bytes do no harm there.
        self.pipes.output.write(Stream::Main, format!("{lines}\r\n").into());
    }

    fn state(&self) -> String {
        let account = self.trunk.account();
        let statistics = account.statistics;
        let algorithms = match account.algorithms {
            Some(chosen) => format!(
                "{}{}, host key {}, {} to it, {} from it{}",
                chosen.kex.name(),
                if chosen.kex.is_quantum_safe() { " (quantum-safe)" } else { "" },
                chosen.host_key.name(),
                chosen.client_to_server.cipher.name(),
                chosen.server_to_client.cipher.name(),
                if account.is_strict { ", strict" } else { "" },
            ),
            None => "none yet".into(),
        };
        let round_trip = statistics
            .round_trip
            .map_or("unknown".into(), |time| format!("{:.1} ms", time.as_secs_f64() * 1e3));
        format!(
            "{} as {}, {} for {} s\n{algorithms}\n{} bytes sent, {} received, key exchanges: {}\nround trip {round_trip}, silent for {} s",
            self.trunk.machine(),
            self.trunk.user(),
            lantern_ssh::neutralize(&account.identification, 255),
            self.since.elapsed().as_secs(),
            statistics.bytes_sent,
            statistics.bytes_received,
            statistics.key_exchanges,
            account.idle.as_secs(),
        )
    }

    /// Back to the local shell, until it continues us.
    fn suspend(&mut self) -> Result<(), Failure> {
        self.raw = None;
        kill_current_process_group(Signal::TSTP)
            .map_err(|error| Failure::new(code::INTERNAL, format!("cannot suspend: {error}")))?;
        self.raw = Some(RawMode::enter()?);
        let text = format!("back on {}", self.trunk.machine());
        self.tell(&text);
        self.redraw();
        Ok(())
    }

    fn resize(&self) {
        self.pipes.channel.tell(&SessionRequest::WindowChange(modes::size()));
    }

    /// Full-screen programs draw anew when the size changes: change it there and back.
    fn redraw(&self) {
        let mut size = modes::size();
        size.rows = size.rows.saturating_sub(1).max(1);
        self.pipes.channel.tell(&SessionRequest::WindowChange(size));
        self.resize();
    }
}
