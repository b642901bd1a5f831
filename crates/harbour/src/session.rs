//! A session channel of a simulated machine: requests set it up, a program runs in it.

use std::time::Instant;

use bytes::Bytes;
use lantern_link::Line;
use lantern_ssh::limits::MAX_ENVIRONMENT;
use lantern_ssh::sftp::{SUBSYSTEM, SftpServer};
use lantern_ssh::{ChannelId, Server, SessionRequest, SshError, Stream};

use crate::holdings::Holdings;
use crate::system::{Exit, Program, ProgramIo, Progress, Sftp, Shell, Surroundings, start};
use crate::{FilesSpec, MachineSpec};

/// The command that has the shell read a script from its input.
const SCRIPT_READER: &[u8] = b"exec /bin/sh -s";
/// Input kept for a program that does not read, in bytes; beyond it the window does not open again.
const INPUT_HIGH_WATER: usize = 256 * 1024;

pub(crate) struct Session {
    id: ChannelId,
    io: ProgramIo,
    program: Option<Box<dyn Program>>,
    pub(crate) wake: Option<Instant>,
    exit: Option<Exit>,
    /// Output that the channel had no room for yet.
    unsent: [Bytes; 2],
    /// Received bytes whose window has not been given back.
    unconsumed: usize,
    pub(crate) finished: bool,
    serves: FilesSpec,
}

impl Session {
    pub(crate) fn new(id: ChannelId, user: &str, spec: &MachineSpec, holdings: &Holdings) -> Self {
        let surroundings = Surroundings {
            user: user.into(),
            host: spec.name.clone(),
            may_draw: spec.displays && !spec.forbids_forwarding,
            logins: holdings.logins.clone(),
            files: holdings.files_of(spec, user),
            acting: spec.acting.clone(),
            ..Default::default()
        };
        Self {
            id,
            io: ProgramIo { surroundings, ..Default::default() },
            program: None,
            wake: None,
            exit: None,
            unsent: Default::default(),
            unconsumed: 0,
            finished: false,
            serves: spec.files.clone(),
        }
    }

    /// A channel request; whether it is granted.
    pub(crate) fn request(&mut self, request: SessionRequest, now: Instant) -> bool {
        let surroundings = &mut self.io.surroundings;
        match request {
            SessionRequest::Env { name, value } if surroundings.environment.len() < MAX_ENVIRONMENT => {
                surroundings.environment.push((name, value));
                true
            }
            SessionRequest::Pty(pty) => {
                surroundings.terminal = Some((pty.size.columns, pty.size.rows));
                surroundings.environment.push(("TERM".into(), pty.terminal));
                true
            }
            SessionRequest::Shell if self.program.is_none() => {
                self.program = Some(Box::new(Shell::new()));
                true
            }
            SessionRequest::Exec(command) if self.program.is_none() && command == SCRIPT_READER => {
                self.program = Some(Box::new(Shell::new()));
                true
            }
            SessionRequest::Exec(command) if self.program.is_none() => {
                self.program = Some(start(&String::from_utf8_lossy(&command), now));
                true
            }
            SessionRequest::Subsystem(name)
                if name == SUBSYSTEM && self.program.is_none() && self.serves.served =>
            {
                let server = SftpServer::new(self.serves.extensions, self.serves.flaws);
                self.program = Some(Box::new(Sftp::new(server, surroundings.files.clone())));
                true
            }
            SessionRequest::WindowChange(size) => {
                if let Some(terminal) = &mut surroundings.terminal {
                    *terminal = (size.columns, size.rows);
                }
                true
            }
            SessionRequest::Display(request) if surroundings.may_draw => {
                surroundings.display = Some(request);
                true
            }
            SessionRequest::Signal(name) => {
                self.io.signals.push(name);
                true
            }
            _ => false,
        }
    }

    pub(crate) fn input(&mut self, data: &[u8]) {
        self.io.input.extend_from_slice(data);
        self.unconsumed += data.len();
    }

    /// Lines of its programs that are to lead to the visitor's display.
    pub(crate) fn take_dials(&mut self) -> Vec<Line> {
        std::mem::take(&mut self.io.dials)
    }

    pub(crate) fn end_of_input(&mut self) {
        self.io.input_ended = true;
    }

    /// Lets the program run and sends what it wrote.
    pub(crate) fn work(&mut self, server: &mut Server, now: Instant) -> Result<(), SshError> {
        loop {
            let advanced = self.advance(now);
            if self.io.input.len() < INPUT_HIGH_WATER && self.unconsumed > 0 {
                server.channel_consumed(self.id, std::mem::take(&mut self.unconsumed), now);
            }
            let [out, err] = &mut self.unsent;
            let sent = send(server, self.id, Stream::Main, out, &mut self.io.out)
                + send(server, self.id, Stream::Stderr, err, &mut self.io.err);
            // Room was made: the program may have more.
            if sent == 0 || !advanced {
                break;
            }
        }
        if self.io.out.is_empty()
            && self.io.err.is_empty()
            && self.unsent.iter().all(Bytes::is_empty)
            && !self.finished
            && let Some(exit) = self.exit.take()
        {
            self.finished = true;
            let request = match exit {
                Exit::Status(status) => SessionRequest::ExitStatus(status),
                Exit::Signal(name) => SessionRequest::ExitSignal {
                    name: name.into(),
                    core_dumped: false,
                    message: String::new(),
                },
            };
            // A client that has closed the channel meanwhile does not want to know.
            let _ = server.channel_request(self.id, &request);
            server.channel_eof(self.id);
            server.channel_close(self.id);
        }
        Ok(())
    }

    /// Runs the program once; whether there is one.
    fn advance(&mut self, now: Instant) -> bool {
        let Some(program) = &mut self.program else { return false };
        if self.exit.is_some() || self.finished {
            return false;
        }
        let (out_before, err_before) = (self.io.out.len(), self.io.err.len());
        match program.advance(&mut self.io, now) {
            Progress::Waiting(until) => self.wake = until,
            Progress::Ended(exit) => {
                self.wake = None;
                self.exit = Some(exit);
            }
        }
        if self.io.surroundings.terminal.is_some() {
            to_terminal(&mut self.io.out, out_before);
            // A terminal has one screen for both.
            let mut err = self.io.err.split_off(err_before);
            to_terminal(&mut err, 0);
            self.io.out.append(&mut err);
        }
        true
    }
}

/// What a terminal driver does on output: a line feed also returns the carriage.
fn to_terminal(out: &mut Vec<u8>, from: usize) {
    let new = out.split_off(from);
    for byte in new {
        if byte == b'\n' {
            out.push(b'\r');
        }
        out.push(byte);
    }
}

/// Hands over what the program wrote, behind what is left from before; how much was taken. A channel that has ended takes
/// nothing, and nobody misses it.
fn send(
    server: &mut Server,
    id: ChannelId,
    stream: Stream,
    unsent: &mut Bytes,
    wrote: &mut Vec<u8>,
) -> usize {
    let mut sent = 0;
    loop {
        if unsent.is_empty() {
            *unsent = std::mem::take(wrote).into();
        }
        match server.channel_send(id, stream, unsent) {
            Ok(taken) => sent += taken,
            Err(_) => unsent.clear(),
        }
        if !unsent.is_empty() || wrote.is_empty() {
            return sent;
        }
    }
}
