//! A program to be started on a machine, and what is asked of a session for it.

use bytes::Bytes;
use lantern_ssh::{DisplayRequest, PtyRequest, SessionRequest};

/// What a program runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Runs {
    /// The user's shell.
    Shell,
    /// A command, which the user's shell reads.
    Command(Bytes),
}

/// A program to be started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    /// What it runs.
    pub runs: Runs,
    /// Variables; the machine takes those that it is set up to take.
    pub environment: Vec<(String, String)>,
    /// The terminal that it has, if any.
    pub terminal: Option<PtyRequest>,
    /// Whether it may ask the agent, which has been granted.
    pub agent: bool,
    /// What it is told of a display, which has been granted.
    pub display: Option<DisplayRequest>,
}

impl Program {
    /// What is asked of a session, in order, each with whether an answer is wanted; the program itself comes last.
    pub(crate) fn requests(&self) -> Vec<(SessionRequest, bool)> {
        let variable = |(name, value): &(String, String)| SessionRequest::Env {
            name: name.clone(),
            value: value.clone(),
        };
        let mut requests: Vec<_> = self.environment.iter().map(|pair| (variable(pair), false)).collect();
        requests.extend(self.agent.then_some((SessionRequest::ForwardAgent, true)));
        requests.extend(self.display.clone().map(|display| (SessionRequest::Display(display), true)));
        requests.extend(self.terminal.clone().map(|terminal| (SessionRequest::Pty(terminal), true)));
        let program = match &self.runs {
            Runs::Shell => SessionRequest::Shell,
            Runs::Command(command) => SessionRequest::Exec(command.to_vec()),
        };
        requests.push((program, true));
        requests
    }
}

/// What is opened on a connection as soon as there is one: what is known beforehand can leave with the login.
#[derive(Debug, Clone, Default)]
pub enum Opens {
    /// Nothing that is known.
    #[default]
    Nothing,
    /// A session; what for is said later.
    Session,
    /// A session for this program. [`crate::Remote::start`] is called with it.
    Program(Program),
}
