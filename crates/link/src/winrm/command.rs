//! A command on a machine that is spoken to by WinRM, as whoever started it holds it. A task owns its connections, and shares its state machine with this.

use std::collections::VecDeque;
use std::sync::Arc;

use bytes::Bytes;
use lantern_ssh::Stream;
use lantern_winrm::{CommandShell, Output, Posts, ShellEvent, Signal};

use super::driver::{Done, Driver};
use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::Session;
use super::shared::{Carried, Handle, Shared, failure};

/// How a command ended.
#[derive(Debug, Clone)]
pub(crate) enum CommandEnd {
    /// By itself, with this code.
    Exited(u32),
    /// The machine does not know its code.
    Unknown,
    /// It cannot be told.
    Failed(WinrmFailure),
}

/// A command as it is.
struct Command {
    shell: CommandShell,
    /// What it wrote, on its two streams.
    out: [VecDeque<Bytes>; 2],
    started: bool,
    end: Option<CommandEnd>,
    is_dropped: bool,
}

impl Carried for Command {
    fn posts(&mut self) -> &mut dyn Posts {
        &mut self.shell
    }

    fn settle(&mut self, machine: &str) {
        while let Some(event) = self.shell.poll_event() {
            match event {
                ShellEvent::Started => self.started = true,
                ShellEvent::Output(output, piece) => {
                    let index = usize::from(output == Output::Error);
                    match self.is_dropped {
                        true => self.shell.consumed(piece.len()),
                        false => self.out[index].push_back(piece),
                    }
                }
                ShellEvent::Ended { exit, may_miss: false } => {
                    self.end.get_or_insert(exit.map_or(CommandEnd::Unknown, CommandEnd::Exited));
                }
                ShellEvent::Ended { exit, may_miss: true } => {
                    let code =
                        exit.map_or_else(String::new, |code| format!("; the command ended with {code}"));
                    let why = format!("output may be missing since then{code}");
                    self.fail(WinrmFailure::Lost { machine: machine.to_owned(), why });
                }
                ShellEvent::Failed(error) => self.fail(failure(machine, error)),
                ShellEvent::Gone => {
                    self.end.get_or_insert(CommandEnd::Unknown);
                }
            }
        }
    }

    fn fail(&mut self, failure: WinrmFailure) {
        self.end.get_or_insert(CommandEnd::Failed(failure));
    }

    fn has_ended(&self) -> bool {
        self.end.is_some()
    }

    fn is_dropped(&self) -> bool {
        self.is_dropped
    }

    fn drop_it(&mut self) {
        self.is_dropped = true;
    }
}

/// A command under way. Clones are the same one; when the last goes, it is given up.
#[derive(Clone)]
pub(crate) struct WinrmCommand {
    handle: Arc<Handle<Command>>,
}

impl WinrmCommand {
    /// Starts a task for it, which begins on this connection. `done` hears of its end.
    pub(super) fn start(opener: Arc<Opener>, session: Session, shell: CommandShell, done: Done) -> Self {
        let command =
            Command { shell, out: Default::default(), started: false, end: None, is_dropped: false };
        let shared = Arc::new(Shared::new(opener.request.way.machine.clone(), command));
        tokio::spawn(Driver::new(shared.clone(), opener, done).run(session));
        Self { handle: Arc::new(Handle(shared)) }
    }

    fn shared(&self) -> &Shared<Command> {
        &self.handle.0
    }

    pub(crate) async fn next(&self, stream: Stream) -> Option<Bytes> {
        let index = usize::from(stream == Stream::Stderr);
        let next = |state: &mut Command| match state.out[index].pop_front() {
            Some(piece) => Some(Some(piece)),
            None if state.end.is_some() => Some(None),
            None => None,
        };
        self.shared().until(next).await
    }

    pub(crate) fn consumed(&self, bytes: usize) {
        self.shared().change(|state| state.shell.consumed(bytes));
    }

    /// Hands input over as far as there is room; whether anybody takes input.
    pub(crate) async fn send(&self, data: &mut Bytes) -> bool {
        while !data.is_empty() {
            let room = |state: &mut Command| {
                if !state.shell.takes_input() {
                    return Some(None);
                }
                let room = state.shell.input_room().min(data.len());
                (room > 0).then_some(Some(room))
            };
            let Some(room) = self.shared().until(room).await else { return false };
            self.shared().change(|state| state.shell.send(data.split_to(room)));
        }
        true
    }

    pub(crate) fn send_eof(&self) {
        self.shared().change(|state| state.shell.end_input());
    }

    pub(crate) fn signal(&self, name: &str) {
        let signal = match name {
            "INT" => Signal::Interrupt,
            _ => Signal::Terminate,
        };
        self.shared().change(|state| state.shell.signal(signal));
    }

    pub(crate) fn close(&self) {
        self.shared().change(|state| state.shell.close());
    }

    pub(crate) fn is_over(&self) -> bool {
        self.shared().lock().end.is_some()
    }

    pub(crate) async fn ended(&self) -> CommandEnd {
        self.shared().until(|state| state.end.clone()).await
    }

    /// Waits until the program runs, or is known not to.
    pub(crate) async fn started(&self) -> Result<(), WinrmFailure> {
        let started = |state: &mut Command| match &state.end {
            _ if state.started => Some(Ok(())),
            Some(CommandEnd::Failed(failure)) => Some(Err(failure.clone())),
            Some(_) => Some(Ok(())),
            None => None,
        };
        self.shared().until(started).await
    }
}
