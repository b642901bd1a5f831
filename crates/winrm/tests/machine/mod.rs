//! A machine in memory: answers one request after the other, and keeps a question for output until there is some.

#![allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.

use bytes::Bytes;
use lantern_keys::RandomSource;
use lantern_winrm::{
    CommandShell, Fault, Lane, NewCommand, NewShell, Output, Post, Posts, Received, Request, Response, Sent,
    ServicePlace, ShellConfig, ShellEvent, Signal, answer_fault,
};

/// Random bytes for names: they need only differ.
pub(crate) struct Counting(u64);

impl RandomSource for Counting {
    fn fill(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            *byte = (self.0 >> 56) as u8;
        }
    }
}

pub(crate) const SHELL: &str = "A5D7D6B8-5C9C-4E0F-9C3B-0E9B2B7B6A11";
pub(crate) const COMMAND: &str = "0D3C51C8-7C7C-4F0B-AE5D-2E0BB8C0A422";

/// What the machine does, in turn, when it is asked for output.
pub(crate) struct Machine {
    pub(crate) answers: Vec<Result<Received, Fault>>,
    pub(crate) refuses_code_page: bool,
    pub(crate) refuses_input: Option<Fault>,
    pub(crate) input: Vec<u8>,
    pub(crate) input_ended: bool,
    pub(crate) signals: Vec<Signal>,
    pub(crate) asked: Vec<&'static str>,
    pub(crate) shells: usize,
    /// The question for output that it keeps.
    pub(crate) waiting: Option<Post>,
}

impl Machine {
    pub(crate) fn new(answers: Vec<Result<Received, Fault>>) -> Self {
        Self {
            answers,
            refuses_code_page: false,
            refuses_input: None,
            input: Vec::new(),
            input_ended: false,
            signals: Vec::new(),
            asked: Vec::new(),
            shells: 0,
            waiting: None,
        }
    }

    /// The answer to a post; none: it is kept.
    pub(crate) fn answer(&mut self, post: &Post) -> Option<String> {
        let (headers, request) = Request::decode(post.body.as_bytes()).unwrap();
        let headers = headers.unwrap();
        self.asked.push(request.name());
        let answered = match &request {
            Request::Create(shell) if self.refuses_code_page && shell.code_page.is_some() => {
                Err(Fault::new(2_150_859_072, "InternalError", ""))
            }
            Request::Create(_) => {
                self.shells += 1;
                Ok(Response::Created { shell: SHELL.into() })
            }
            _ if headers.shell.as_deref() != Some(SHELL) || self.shells == 0 => {
                Err(Fault::new(2_150_858_843, "InvalidSelectors", "gone"))
            }
            Request::Command(_) => Ok(Response::Started { command: COMMAND.into() }),
            Request::Send(Sent { pieces, end, command, .. }) => {
                assert_eq!(command.as_deref(), Some(COMMAND));
                self.input.extend(pieces.concat());
                self.input_ended |= end;
                self.refuses_input.clone().map_or(Ok(Response::Done), Err)
            }
            Request::Signal { signal, .. } => {
                self.signals.push(*signal);
                Ok(Response::Done)
            }
            Request::Receive { .. } if self.answers.is_empty() => {
                self.waiting = Some(post.clone());
                return None;
            }
            Request::Receive { .. } => self.answers.remove(0).map(Response::Received),
            Request::Delete => {
                self.shells -= 1;
                Ok(Response::Done)
            }
            _ => Ok(Response::Done),
        };
        let id = &headers.message_id;
        Some(match answered {
            Ok(response) => response.encode(&request, id, "5E2F0B1C-0000-4000-8000-000000000001").unwrap(),
            Err(fault) => answer_fault(&fault, id, "5E2F0B1C-0000-4000-8000-000000000002").unwrap(),
        })
    }
}

pub(crate) fn shell() -> CommandShell {
    let config = ShellConfig {
        place: ServicePlace {
            url: "https://chart-room:5986/wsman".into(),
            language: "en-US".into(),
            max_envelope: 153_600,
        },
        shell: NewShell::default(),
        command: NewCommand { line: "tide.exe \"high water\"".into(), by_interpreter: false },
    };
    CommandShell::new(config, Box::new(Counting(7)))
}

pub(crate) fn output(stream: Output, text: &[u8]) -> Received {
    Received { pieces: vec![(stream, Bytes::copy_from_slice(text))], ..Received::default() }
}

pub(crate) fn end(code: u32) -> Received {
    Received { exit: Some(code), is_done: true, ..Received::default() }
}

/// Everything that happens until neither side has anything to say; output is taken at once.
pub(crate) fn run(shell: &mut CommandShell, machine: &mut Machine) -> Vec<ShellEvent> {
    let mut events = Vec::new();
    loop {
        let mut moved = false;
        for lane in [Lane::Main, Lane::Side] {
            if let Some(post) = shell.poll_post(lane).unwrap() {
                moved = true;
                if let Some(answer) = machine.answer(&post) {
                    shell.handle_answer(post.number, answer.as_bytes());
                }
            }
        }
        while let Some(event) = shell.poll_event() {
            if let ShellEvent::Output(_, data) = &event {
                shell.consumed(data.len());
            }
            events.push(event);
        }
        if !moved {
            return events;
        }
    }
}
