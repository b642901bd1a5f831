//! A program on a machine: its streams and how it ends.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use lantern_ssh::{SessionRequest, Stream, TerminalSize};

use crate::winrm::{CommandEnd, WinrmCommand};
use crate::{Channel, ChannelEnd, LinkError};

/// A program takes no more input: how it ended is told by its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct InputEnded;

/// How a program ended.
#[derive(Debug)]
pub enum ProcessEnd {
    /// By itself, with this status.
    Exited(u32),
    /// By a signal.
    Signaled {
        /// The name without SIG, as the peer sent it.
        name: String,
        /// Whether memory was dumped.
        core_dumped: bool,
        /// The peer's words, made harmless.
        message: String,
    },
    /// Without a word about it.
    Closed,
    /// It cannot be told: the connection was lost, or the machine failed.
    Failed(LinkError),
}

/// A program under way. Clones are the same one; dropped, it is given up.
#[derive(Clone)]
pub struct Process {
    by: By,
    /// What was taken of each stream and is to be taken again.
    unread: Arc<Mutex<[Option<Bytes>; 2]>>,
}

#[derive(Clone)]
enum By {
    Ssh { channel: Channel, machine: String },
    Winrm(WinrmCommand),
}

impl Process {
    pub(crate) fn of_channel(channel: Channel, machine: &str) -> Self {
        Self { by: By::Ssh { channel, machine: machine.to_owned() }, unread: Arc::default() }
    }

    pub(crate) fn of_command(command: WinrmCommand) -> Self {
        Self { by: By::Winrm(command), unread: Arc::default() }
    }

    /// The next piece of what it writes; none at the end of the stream. What was taken is to be credited with [`Self::consumed`].
    pub async fn next(&self, stream: Stream) -> Option<Bytes> {
        if let Some(piece) = self.unread()[usize::from(stream == Stream::Stderr)].take() {
            return Some(piece);
        }
        match &self.by {
            By::Ssh { channel, .. } => channel.next(stream).await,
            By::Winrm(command) => command.next(stream).await,
        }
    }

    fn unread(&self) -> MutexGuard<'_, [Option<Bytes>; 2]> {
        self.unread.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Gives back what was taken last of a stream and not used, not even by [`Self::consumed`]: it comes next.
    pub(crate) fn unread_piece(&self, stream: Stream, piece: Bytes) {
        if !piece.is_empty() {
            self.unread()[usize::from(stream == Stream::Stderr)] = Some(piece);
        }
    }

    /// Notes that so many bytes of what it wrote have been used: this lets it write more.
    pub fn consumed(&self, bytes: usize) {
        match &self.by {
            By::Ssh { channel, .. } => channel.consumed(bytes),
            By::Winrm(command) => command.consumed(bytes),
        }
    }

    /// Hands input over; what was taken is gone from `data`. Dropping the future loses nothing.
    ///
    /// # Errors
    /// It takes no more.
    pub async fn send(&self, data: &mut Bytes) -> Result<(), InputEnded> {
        match &self.by {
            By::Ssh { channel, .. } => channel.send(data).await.map_err(|_| InputEnded),
            By::Winrm(command) => match command.send(data).await {
                true => Ok(()),
                false => Err(InputEnded),
            },
        }
    }

    /// Its input has ended.
    pub fn send_eof(&self) {
        match &self.by {
            By::Ssh { channel, .. } => channel.send_eof(),
            By::Winrm(command) => command.send_eof(),
        }
    }

    /// Sends it a signal, by its name without SIG. Where there are but two, an interruption and the end, INT is the former and all others the latter.
    pub fn signal(&self, name: &str) {
        match &self.by {
            By::Ssh { channel, .. } => channel.tell(&SessionRequest::Signal(name.to_owned())),
            By::Winrm(command) => command.signal(name),
        }
    }

    /// Its terminal, where it has one, has another size.
    pub fn resize(&self, size: TerminalSize) {
        if let By::Ssh { channel, .. } = &self.by {
            channel.tell(&SessionRequest::WindowChange(size));
        }
    }

    /// Gives it up; what it writes until it hears of that is lost.
    pub fn close(&self) {
        match &self.by {
            By::Ssh { channel, .. } => channel.close(),
            By::Winrm(command) => command.close(),
        }
    }

    /// Whether nothing more comes of it, and nothing more is taken.
    pub fn is_over(&self) -> bool {
        match &self.by {
            By::Ssh { channel, .. } => channel.is_over(),
            By::Winrm(command) => command.is_over(),
        }
    }

    /// How it ended.
    pub async fn ended(&self) -> ProcessEnd {
        match &self.by {
            By::Ssh { channel, machine } => match channel.ended().await {
                ChannelEnd::Exited(status) => ProcessEnd::Exited(status),
                ChannelEnd::Signaled { name, core_dumped, message } => {
                    ProcessEnd::Signaled { name, core_dumped, message }
                }
                ChannelEnd::Closed => ProcessEnd::Closed,
                ChannelEnd::Lost(source) => {
                    ProcessEnd::Failed(LinkError::Lost { machine: machine.clone(), source })
                }
            },
            By::Winrm(command) => match command.ended().await {
                CommandEnd::Exited(code) => ProcessEnd::Exited(code),
                CommandEnd::Unknown => ProcessEnd::Closed,
                CommandEnd::Failed(failure) => ProcessEnd::Failed(failure.into()),
            },
        }
    }
}
