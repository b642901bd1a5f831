//! How a program begins.

use std::future::{pending, poll_fn};
use std::pin::Pin;
use std::task::Poll;
use std::time::Duration;

use lantern_ssh::SessionRequest;
use tokio::time::{Sleep, sleep};

use crate::winrm::WinrmCommand;
use crate::{LinkError, Reply};

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
    /// A command of WinRM, until it is known to run: it has one answer.
    command: Option<WinrmCommand>,
    machine: String,
    limit: Duration,
    patience: Pin<Box<Sleep>>,
    waiting: Vec<(Awaited, Reply)>,
}

impl Start {
    /// Must be called within a runtime.
    pub(super) fn new(machine: &str, limit: Duration) -> Self {
        let patience = Box::pin(sleep(limit));
        Self { command: None, machine: machine.to_owned(), limit, patience, waiting: Vec::new() }
    }

    /// Must be called within a runtime. How long the machine may take is the command's matter.
    pub(super) fn of_command(command: WinrmCommand) -> Self {
        Self { command: Some(command), ..Self::new("", Duration::ZERO) }
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
        self.command.is_some()
            || self.waiting.iter().any(|(awaited, _)| matches!(awaited, Awaited::Program(_)))
    }

    /// The next that is heard; never, once all is. Dropping the future loses nothing.
    ///
    /// # Errors
    /// The program was refused, or not started in time; the connection was lost.
    pub async fn news(&mut self) -> Result<News, LinkError> {
        if let Some(command) = &self.command {
            let started = command.started().await;
            self.command = None;
            return Ok(started.map(|()| News::Started)?);
        }
        if self.waiting.is_empty() {
            return pending().await;
        }
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
