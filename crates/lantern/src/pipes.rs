//! A channel joined with our own standard input and output: what `run` and `shell` have in common.

use bytes::Bytes;
use lantern_link::{Channel, ChannelEnd};
use lantern_ssh::Stream;

use crate::stdio::{Output, Written};

/// The bytes of a session under way.
pub(crate) struct Pipes {
    pub(crate) channel: Channel,
    pub(crate) output: Output,
    /// Input that the channel had no room for yet.
    unsent: Bytes,
    /// Whether more can come on standard output and on standard error.
    open: [bool; 2],
    end: Option<ChannelEnd>,
    takes_input: bool,
}

/// What one turn came to.
pub(crate) enum Turn {
    /// Something moved.
    Progress,
    /// A stream of ours cannot be written.
    OutputFailed(Stream, std::io::Error),
}

impl Pipes {
    pub(crate) fn new(channel: Channel) -> Self {
        Self {
            channel,
            output: Output::start(),
            unsent: Bytes::new(),
            open: [true; 2],
            end: None,
            takes_input: true,
        }
    }

    /// Whether input that is read now would be taken soon.
    pub(crate) fn wants_input(&self) -> bool {
        self.takes_input && self.unsent.is_empty()
    }

    /// Hands over input; what waits already stays in front of it.
    pub(crate) fn input(&mut self, chunk: Bytes) {
        if !self.takes_input {
            return;
        }
        self.unsent = match self.unsent.is_empty() {
            true => chunk,
            false => [self.unsent.as_ref(), chunk.as_ref()].concat().into(),
        };
    }

    /// Input that waits, in bytes.
    pub(crate) fn waiting_input(&self) -> usize {
        self.unsent.len()
    }

    /// Input has ended: the machine is told behind what waits.
    pub(crate) fn end_of_input(&mut self) {
        self.takes_input = false;
        if self.unsent.is_empty() {
            self.channel.send_eof();
        }
    }

    /// How it ended, once it has, and everything that came is written.
    pub(crate) fn end(&self) -> Option<&ChannelEnd> {
        self.end.as_ref().filter(|_| self.output.is_drained())
    }

    /// Whether the session has ended, written or not.
    pub(crate) fn is_over(&self) -> bool {
        self.end.is_some()
    }

    /// Moves something. Dropping the future loses nothing.
    pub(crate) async fn turn(&mut self) -> Turn {
        let [main, error] = self.open;
        let over = self.end.is_some();
        tokio::select! {
            piece = self.channel.next(Stream::Main), if main => self.received(Stream::Main, piece),
            piece = self.channel.next(Stream::Stderr), if error => self.received(Stream::Stderr, piece),
            end = self.channel.ended(), if !main && !error && !over => self.end = Some(end),
            sent = self.channel.send(&mut self.unsent), if !self.unsent.is_empty() => match sent {
                Ok(()) if self.takes_input => {}
                Ok(()) => self.channel.send_eof(),
                // What ended needs no more input; how it ended is told by its end.
                Err(_) => {
                    self.unsent.clear();
                    self.takes_input = false;
                }
            },
            report = self.output.report() => match report {
                Written::Bytes(len) => self.channel.consumed(len),
                Written::Failed(stream, error) => return Turn::OutputFailed(stream, error),
            },
        }
        Turn::Progress
    }

    fn received(&mut self, stream: Stream, piece: Option<Bytes>) {
        match piece {
            Some(piece) => self.output.write(stream, piece),
            None => self.open[usize::from(stream == Stream::Stderr)] = false,
        }
    }
}
