//! A program joined with our own standard input and output: what `run` and `shell` have in common.

use bytes::Bytes;
use lantern_link::{Process, ProcessEnd};
use lantern_ssh::Stream;

use crate::terminal::left_on::LeftOn;
use crate::terminal::stdio::{Output, Written};

/// The bytes of a session under way.
pub(crate) struct Pipes {
    pub(crate) process: Process,
    pub(crate) output: Output,
    /// Input that the channel had no room for yet.
    unsent: Bytes,
    /// Whether more can come on standard output and on standard error.
    open: [bool; 2],
    end: Option<ProcessEnd>,
    takes_input: bool,
    /// Whether what the machine writes waits there.
    is_held: bool,
    /// What it has done to the terminal, where it writes to one.
    left_on: LeftOn,
}

/// What one turn came to.
pub(crate) enum Turn {
    /// Something moved.
    Progress,
    /// A stream of ours cannot be written.
    OutputFailed(Stream, std::io::Error),
}

impl Pipes {
    pub(crate) fn new(process: Process) -> Self {
        Self {
            process,
            output: Output::new(),
            unsent: Bytes::new(),
            open: [true; 2],
            end: None,
            takes_input: true,
            is_held: false,
            left_on: LeftOn::default(),
        }
    }

    /// Has what the machine writes wait where it is, while a person is asked something; it comes when that is over.
    pub(crate) fn hold(&mut self, is_held: bool) {
        self.is_held = is_held;
    }

    /// What puts the terminal back as a shell has it, after what the machine wrote to it.
    pub(crate) fn undo(&self) -> String {
        self.left_on.undo()
    }

    /// Waits until everything that was handed over is written.
    pub(crate) async fn drain(&mut self) {
        while !self.output.is_drained() {
            if let Written::Failed(..) = self.output.report().await {
                return;
            }
        }
    }

    /// Whether everything that was taken of the machine has been written.
    pub(crate) fn is_drained(&self) -> bool {
        self.output.is_drained()
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
            self.process.send_eof();
        }
    }

    /// Whether it has ended, and everything that came is written.
    pub(crate) fn has_ended(&self) -> bool {
        self.end.is_some() && self.output.is_drained()
    }

    /// How it ended, once it has: told once.
    pub(crate) fn take_end(&mut self) -> ProcessEnd {
        self.end.replace(ProcessEnd::Closed).unwrap_or(ProcessEnd::Closed)
    }

    /// Whether the session has ended, written or not.
    pub(crate) fn is_over(&self) -> bool {
        self.end.is_some()
    }

    /// Moves something. Dropping the future loses nothing.
    pub(crate) async fn turn(&mut self) -> Turn {
        let [main, error] = self.open;
        let (over, held) = (self.end.is_some(), self.is_held);
        tokio::select! {
            // What has ended asks for nothing any more.
            _ = self.process.ended(), if held => self.is_held = false,
            piece = self.process.next(Stream::Main), if main && !held => self.received(Stream::Main, piece),
            piece = self.process.next(Stream::Stderr), if error && !held => self.received(Stream::Stderr, piece),
            end = self.process.ended(), if !main && !error && !over => self.end = Some(end),
            sent = self.process.send(&mut self.unsent), if !self.unsent.is_empty() => match sent {
                Ok(()) if self.takes_input => {}
                Ok(()) => self.process.send_eof(),
                // What ended needs no more input; how it ended is told by its end.
                Err(_) => {
                    self.unsent.clear();
                    self.takes_input = false;
                }
            },
            report = self.output.report() => match report {
                Written::Bytes(len) => self.process.consumed(len),
                Written::Failed(stream, error) => return Turn::OutputFailed(stream, error),
            },
        }
        Turn::Progress
    }

    fn received(&mut self, stream: Stream, piece: Option<Bytes>) {
        match piece {
            Some(piece) => {
                self.left_on.watch(&piece);
                self.output.write(stream, piece);
            }
            None => self.open[usize::from(stream == Stream::Stderr)] = false,
        }
    }
}
