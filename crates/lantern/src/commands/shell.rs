//! `lantern shell`: an interactive session.

use std::io::IsTerminal;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_book::{Home, Protocol};
use lantern_link::{News, ProcessEnd, Program, Remote, Runs, Start};
use lantern_operations::display::Windows;
use lantern_operations::{ReachOptions, SessionSettings, Target};
use lantern_ssh::{PtyRequest, Stream};
use rustix::process::{Signal, kill_current_process_group};
use tokio::signal::unix::SignalKind;
use tokio::sync::mpsc;
use tokio::time::{sleep_until, timeout};

use super::forwarding::{self, Forwards, Granted};
use super::run::interpreter;
use super::session::{environment, exit_status, next_question, state, tell_rotations};
use super::{block_on, display, power_shell, task, watch};
use crate::cli::global::Global;
use crate::cli::settings;
use crate::cli::shell::ShellArgs;
use crate::commands::connecting::{asking, connect};
use crate::commands::errand::Errand;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::mark::{Mark, OLD_TITLE, has_title};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;
use crate::terminal::escape::{EscapeWatch, Typed};
use crate::terminal::modes;
use crate::terminal::pipes::{Pipes, Turn};
use crate::terminal::raw::RawMode;
use crate::terminal::session_ask::{Asked, Heard, READABLE, given_up};
use crate::terminal::stdio::Input;

/// Most typed input kept for a machine that does not take it, in bytes.
const MAX_UNSENT: usize = 1024 * 1024;
/// How long the terminal may take to be put back.
const TIDY_TIME: Duration = Duration::from_secs(1);
/// Environment that says how text is to be read; servers take it where they are set up to.
const LANGUAGE: [&str; 3] = ["LANG", "LC_ALL", "LC_CTYPE"];

pub(crate) fn run(args: &ShellArgs, global: &Global) -> Result<u8, Failure> {
    if !std::io::stdin().is_terminal() || !std::io::stdout().is_terminal() {
        let machine = args.machine.as_deref().unwrap_or("MACHINE");
        return Err(Failure::new(code::LOCAL, "a shell needs a terminal for input and output")
            .hint(format!("without one: lantern run {machine} -- COMMAND")));
    }
    let home = settings::home(global)?;
    let picked = match (&args.machine, &args.one_off.paste) {
        (None, None) => Some(super::pick::pick(&home)?),
        (machine, _) => machine.clone(),
    };
    let errand = Errand::of(&home, picked.as_deref(), &args.one_off, &args.connect)?;
    let ask = asking(&args.connect)?;
    check_protocol(args, &errand.target)?;
    if args.resume_prompt {
        // What let us in once does so again.
        ask.remember();
    }
    let mut kept = None;
    let status = loop {
        let outcome = match errand.target.protocol {
            Protocol::Winrm if !args.plain => {
                block_on(power_shell::attend(args, &home, &errand, &ask, &mut kept))
            }
            Protocol::Winrm => block_on(interpreter(&home, &errand, &ask)),
            Protocol::Ssh => block_on(attend(args, &home, &errand, &ask)),
        };
        match outcome {
            // What a dead link leaves running on the machine is the machine's: a new session begins anew.
            Err(failure) if args.resume_prompt && failure.code == code::LOST => {
                output::complain(&failure);
                let question = format!("Connect to {} again?", errand.target.name);
                if !confirm::ask(&question, "without a terminal there is nobody to ask")? {
                    return Err(Failure::quiet(code::LOST));
                }
            }
            outcome => break outcome?,
        }
    };
    errand.keep(&home, &ask)?;
    Ok(status)
}

/// Options that only one of the protocols has.
fn check_protocol(args: &ShellArgs, target: &Target) -> Result<(), Failure> {
    let said = args.plain || args.configuration.configuration.is_some();
    match target.protocol {
        Protocol::Ssh if said => Err(task::not_winrm(target)),
        Protocol::Winrm => task::no_forwards(&args.forward, target),
        Protocol::Ssh => Ok(()),
    }
}

/// One session, from the connection to its end.
async fn attend(args: &ShellArgs, home: &Home, errand: &Errand, ask: &TerminalAsk) -> Result<u8, Failure> {
    let target = &errand.target;
    let forwards = Forwards::of(&args.forward, home, target).await?;
    let program = program(&target.session);
    let (forwards_agent, opens) = (forwards.agent.is_some(), forwards.opens(&program));
    let options = ReachOptions { forwards_agent, opens, ..errand.options.clone() };
    let remote = connect(home, target, &options, ask).await?;
    let outcome = match Session::start(&remote, target, !args.no_escape, program, forwards).await {
        Ok(session) => session.run().await,
        Err(failure) => Err(failure),
    };
    tell_rotations(&remote);
    remote.close().await;
    outcome
}

/// A shell in this terminal.
fn program(book: &SessionSettings) -> Program {
    let mut environment = environment(book);
    for name in LANGUAGE.iter().filter(|name| book.send_language && !book.environment.contains_key(**name)) {
        if let Ok(value) = std::env::var(name) {
            environment.push(((*name).to_owned(), value));
        }
    }
    let own = || std::env::var("TERM").unwrap_or_else(|_| "xterm".into());
    let terminal = book.terminal_type.clone().unwrap_or_else(own);
    let terminal = PtyRequest { terminal, size: modes::size(), modes: modes::local() };
    Program { runs: Runs::Shell, environment, terminal: Some(terminal), agent: false, display: None }
}

/// How a session came to its end.
enum Over {
    /// By our own doing, with this exit status.
    Ours(u8),
    /// By the machine's, or the connection's.
    Theirs(ProcessEnd),
}

/// An interactive session under way.
struct Session<'a> {
    remote: &'a Remote,
    pipes: Pipes,
    start: Start,
    raw: Option<RawMode>,
    watch: EscapeWatch,
    mark: Mark,
    has_title: bool,
    questions: Option<mpsc::Receiver<Asked>>,
    asked: Option<Asked>,
    windows: Option<Arc<Windows>>,
    since: Instant,
}

impl<'a> Session<'a> {
    async fn start(
        remote: &'a Remote,
        target: &Target,
        escape: bool,
        mut program: Program,
        forwards: Forwards,
    ) -> Result<Self, Failure> {
        let book = &target.session;
        let Granted { questions, windows } = forwards.grant(remote, &mut program)?;
        let (process, start) = remote.start(program).await?;
        let mut pipes = Pipes::new(process);
        if let Some(command) = &book.first_command {
            pipes.input(format!("{command}\n").into());
        }
        let raw = Some(RawMode::enter()?);
        let watch = EscapeWatch::new(escape && book.stroke_menu);
        let mark = Mark::of(target);
        let has_title = has_title(&std::env::var("TERM").unwrap_or_default());
        let mut session = Self {
            remote,
            pipes,
            start,
            raw,
            watch,
            mark,
            has_title,
            questions,
            asked: None,
            windows,
            since: Instant::now(),
        };
        session.show_mark();
        Ok(session)
    }

    /// Where we are: in the window's title, and in a line where it matters more than elsewhere.
    fn show_mark(&mut self) {
        if self.has_title {
            self.pipes.output.write(Stream::Main, self.mark.set_title().into());
        }
        if self.mark.is_marked() {
            let text = format!("this is {}", self.remote.machine());
            self.tell(&text);
        }
    }

    async fn run(mut self) -> Result<u8, Failure> {
        let over = self.serve().await;
        // What is said now needs a terminal that returns the carriage.
        self.leave().await;
        match over? {
            Over::Ours(status) => Ok(status),
            // A session that ends without a status ended well enough: some servers send none for a shell.
            Over::Theirs(end) => {
                let status = exit_status(end, self.remote.machine())?.unwrap_or(0);
                display::wait_for_windows(self.windows.as_ref(), self.remote.machine()).await?;
                Ok(status)
            }
        }
    }

    async fn serve(&mut self) -> Result<Over, Failure> {
        let mut input = Input::start();
        let mut resizes = watch(SignalKind::window_change())?;
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        let mut input_open = true;
        while !self.pipes.has_ended() {
            tokio::select! {
                turn = self.pipes.turn() => {
                    // The terminal is gone: so is the session.
                    if let Turn::OutputFailed(..) = turn {
                        return Ok(Over::Ours(128 + 1));
                    }
                }
                news = self.start.news() => match news? {
                    News::AgentRefused => self.tell(&forwarding::refused(self.remote.machine())),
                    News::DisplayRefused => self.tell(&display::refused(self.remote.machine())),
                    News::Started => {}
                },
                asked = next_question(&mut self.questions), if self.asked.is_none() => {
                    input.discard();
                    self.put(asked);
                }
                () = given_up(&mut self.asked), if self.asked.is_some() => self.settle(None),
                chunk = input.next(), if input_open && self.pipes.waiting_input() < MAX_UNSENT => match chunk {
                    Some(chunk) => {
                        if let Some(status) = self.read(&chunk)? {
                            return Ok(Over::Ours(status));
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
                _ = terminations.recv() => return Ok(Over::Ours(128 + 15)),
                _ = hangups.recv() => return Ok(Over::Ours(128 + 1)),
            }
        }
        let end = self.pipes.take_end();
        if matches!(end, ProcessEnd::Closed) {
            self.start.settle().await?;
        }
        Ok(Over::Theirs(end))
    }

    /// Leaves the terminal as a shell has it: also when a program on the machine had no time to.
    async fn leave(&mut self) {
        let mut undo = self.pipes.undo();
        if self.has_title {
            undo.push_str(OLD_TITLE);
        }
        if !undo.is_empty() {
            self.pipes.output.write(Stream::Main, undo.into());
            let _ = timeout(TIDY_TIME, self.pipes.drain()).await;
        }
        self.raw = None;
    }

    /// What was typed: an answer to a question of ours, strokes for ourselves, or the machine's. An exit status when the session is
    /// to end.
    fn read(&mut self, chunk: &[u8]) -> Result<Option<u8>, Failure> {
        // The strokes that answer a question of ours are not the machine's.
        if let Some(asked) = &mut self.asked {
            match asked.feed(chunk) {
                Heard::More(shown) => self.pipes.output.write(Stream::Main, shown.into()),
                Heard::Said(yes) => self.settle(Some(yes)),
            }
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
                self.pipes.process.close();
                return Ok(Some(code::INTERRUPTED));
            }
            Typed::Suspend => self.suspend()?,
            Typed::State => {
                let state = state(self.remote, self.since.elapsed(), self.windows.as_deref());
                self.tell(&state);
                self.redraw();
            }
            Typed::Resume => self.redraw(),
        }
        Ok(None)
    }

    /// Asks, where the machine cannot write meanwhile.
    fn put(&mut self, asked: Asked) {
        self.pipes.hold(true);
        self.pipes.output.write(Stream::Main, READABLE.into());
        self.tell(&asked.words());
        self.asked = Some(asked);
    }

    /// The question is over, with an answer or without.
    fn settle(&mut self, answer: Option<bool>) {
        if let (Some(asked), Some(yes)) = (self.asked.take(), answer) {
            asked.answer(yes);
        }
        self.tell(match answer {
            Some(true) => "allowed",
            Some(false) => "refused",
            None => "not needed any more",
        });
        self.pipes.hold(false);
    }

    /// A line of ours in the middle of the machine's.
    fn tell(&mut self, text: &str) {
        // Names and addresses come from files and machines, and this screen is in raw mode.
        let label = self.mark.label(output::colorful_stdout());
        let ours = |line: &str| format!("\r\n{label} {}", Fit::line(line));
        let lines: String = text.lines().map(ours).collect();
        // By the same thread as the machine's output, to stay in order. The window is never credited with more than
        // was received, so these few bytes do no harm there.
        self.pipes.output.write(Stream::Main, format!("{lines}\r\n").into());
    }

    /// Back to the local shell, until it continues us.
    fn suspend(&mut self) -> Result<(), Failure> {
        self.raw = None;
        if self.has_title {
            output::ask_aloud(&Fit::literal(OLD_TITLE));
        }
        kill_current_process_group(Signal::TSTP)
            .map_err(|error| Failure::new(code::INTERNAL, format!("cannot suspend: {error}")))?;
        self.raw = Some(RawMode::enter()?);
        if self.has_title {
            self.pipes.output.write(Stream::Main, self.mark.set_title().into());
        }
        let text = format!("back on {}", self.remote.machine());
        self.tell(&text);
        self.redraw();
        Ok(())
    }

    fn resize(&self) {
        self.pipes.process.resize(modes::size());
    }

    /// Full-screen programs draw anew when the size changes: change it there and back.
    fn redraw(&self) {
        let mut size = modes::size();
        size.rows = size.rows.saturating_sub(1).max(1);
        self.pipes.process.resize(size);
        self.resize();
    }
}
