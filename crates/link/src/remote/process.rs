//! A program on a machine: its streams, how it starts, and how it ends.

use std::future::poll_fn;
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use bytes::Bytes;
use lantern_ssh::{ChannelEnded, SessionRequest, Stream, TerminalSize};
use tokio::time::{Sleep, sleep};

use crate::{Channel, ChannelEnd, LinkError, Reply};

/// A program under way. Clones are the same one; dropped, it is given up.
#[derive(Clone)]
pub struct Process {
    channel: Channel,
}

impl Process {
    pub(super) fn new(channel: Channel) -> Self {
        Self { channel }
    }

    /// The next piece of what it writes; none at the end of the stream. What was taken is to be credited with [`Self::consumed`].
    pub async fn next(&self, stream: Stream) -> Option<Bytes> {
        self.channel.next(stream).await
    }

    /// Notes that so many bytes of what it wrote have been used: this lets it write more.
    pub fn consumed(&self, bytes: usize) {
        self.channel.consumed(bytes);
    }

    /// Hands input over; what was taken is gone from `data`. Dropping the future loses nothing.
    ///
    /// # Errors
    /// It takes no more: how it ended is told by its end.
    pub async fn send(&self, data: &mut Bytes) -> Result<(), ChannelEnded> {
        self.channel.send(data).await
    }

    /// Its input has ended.
    pub fn send_eof(&self) {
        self.channel.send_eof();
    }

    /// Sends it a signal, by its name without SIG.
    pub fn signal(&self, name: &str) {
        self.channel.tell(&SessionRequest::Signal(name.to_owned()));
    }

    /// Its terminal has another size.
    pub fn resize(&self, size: TerminalSize) {
        self.channel.tell(&SessionRequest::WindowChange(size));
    }

    /// Gives it up; what it writes until it hears of that is lost.
    pub fn close(&self) {
        self.channel.close();
    }

    /// How it ended.
    pub async fn ended(&self) -> ChannelEnd {
        self.channel.ended().await
    }
}

/// What becomes of the start of a program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum News {
    /// It runs.
    Started,
    /// The machine lets no agent be forwarded to it; the program runs without.
    AgentRefused,
    /// The machine's programs cannot draw here; the program runs without.
    DisplayRefused,
}

/// An answer that is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Awaited {
    /// Whether the agent may be forwarded: the program runs with it or without.
    Agent,
    /// Whether programs may draw here: the same.
    Display,
    /// What comes before the program, by its name on the wire: refused, there is no program either.
    Part(&'static str),
    /// The program.
    Program(&'static str),
}

/// Answers that are waited for.
pub struct Start {
    machine: String,
    limit: Duration,
    patience: Pin<Box<Sleep>>,
    waiting: Vec<(Awaited, Reply)>,
}

impl Start {
    /// Must be called within a runtime.
    pub(super) fn new(machine: &str, limit: Duration) -> Self {
        let patience = Box::pin(sleep(limit));
        Self { machine: machine.to_owned(), limit, patience, waiting: Vec::new() }
    }

    pub(super) fn await_answer(&mut self, request: &SessionRequest, reply: Reply) {
        let awaited = match request {
            SessionRequest::ForwardAgent => Awaited::Agent,
            SessionRequest::Display(_) => Awaited::Display,
            SessionRequest::Shell => Awaited::Program("shell"),
            SessionRequest::Exec(_) => Awaited::Program("exec"),
            _ => Awaited::Part("pty-req"),
        };
        self.waiting.push((awaited, reply));
    }

    fn awaits_program(&self) -> bool {
        self.waiting.iter().any(|(awaited, _)| matches!(awaited, Awaited::Program(_)))
    }

    /// The next that is heard; never, once all is. Dropping the future loses nothing.
    ///
    /// # Errors
    /// The program was refused, or not started in time; the connection was lost.
    pub async fn news(&mut self) -> Result<News, LinkError> {
        loop {
            let awaits_program = self.awaits_program();
            let (awaited, granted) = tokio::select! {
                answered = next_answer(&mut self.waiting) => answered,
                () = &mut self.patience, if awaits_program => {
                    self.waiting.clear();
                    return Err(LinkError::Unanswered {
                        machine: self.machine.clone(),
                        what: "the start of a program",
                        seconds: self.limit.as_secs(),
                    });
                }
            };
            match (awaited, granted?) {
                (Awaited::Agent | Awaited::Display | Awaited::Part(_), true) => {}
                (Awaited::Agent, false) => return Ok(News::AgentRefused),
                (Awaited::Display, false) => return Ok(News::DisplayRefused),
                (Awaited::Program(_), true) => return Ok(News::Started),
                (Awaited::Part(request) | Awaited::Program(request), false) => {
                    let machine = self.machine.clone();
                    return Err(LinkError::RequestRefused { machine, request });
                }
            }
        }
    }

    /// After the program has ended without a word: whether that was its refusal.
    ///
    /// # Errors
    /// As [`Self::news`].
    pub async fn settle(&mut self) -> Result<(), LinkError> {
        while self.awaits_program() {
            self.news().await?;
        }
        Ok(())
    }
}

/// The first of these answers that comes, taken out of the list; never, when there are none.
async fn next_answer(waiting: &mut Vec<(Awaited, Reply)>) -> (Awaited, Result<bool, LinkError>) {
    poll_fn(|cx| {
        let answered =
            waiting.iter_mut().enumerate().find_map(|(index, (_, reply))| match Pin::new(reply).poll(cx) {
                Poll::Ready(granted) => Some((index, granted)),
                Poll::Pending => None,
            });
        match answered {
            Some((index, granted)) => Poll::Ready((waiting.remove(index).0, granted)),
            None => Poll::Pending,
        }
    })
    .await
}
