//! What stands between a user and commands that run as another: a program of the simulated machine, as the visitor's side expects one.

use std::time::Instant;

use lantern_link::Entering;
use lantern_ssh::sftp::{Extensions, Flaws, SftpServer};

use crate::acting::Acting;

use super::{Exit, Program, ProgramIo, Progress, Sftp};

/// How often a password may be wrong.
const TRIES: u32 = 3;

/// A command that is to run as another user.
pub(crate) struct ActingProgram {
    entering: Entering,
    /// What starts the program that a line names.
    start: fn(&str, Instant) -> Box<dyn Program>,
    tries: u32,
    begun: bool,
    inner: Option<Box<dyn Program>>,
}

impl ActingProgram {
    pub(crate) fn new(entering: Entering, start: fn(&str, Instant) -> Box<dyn Program>) -> Self {
        Self { entering, start, tries: 0, begun: false, inner: None }
    }

    fn enter(&mut self, io: &mut ProgramIo, now: Instant) {
        io.err.extend_from_slice(self.entering.mark().as_bytes());
        let other = &self.entering.other;
        io.surroundings.files = io.surroundings.files.of_other(other);
        io.surroundings.user.clone_from(other);
        let words: Vec<_> = self.entering.words.iter().map(|word| String::from_utf8_lossy(word)).collect();
        self.inner = Some(match words.as_slice() {
            [shell, option, line] if shell == "/bin/sh" && option == "-c" => {
                match line == lantern_link::FILE_SERVER {
                    true => {
                        let server = SftpServer::new(Extensions::all(), Flaws::default());
                        Box::new(Sftp::new(server, io.surroundings.files.clone()))
                    }
                    false => (self.start)(line, now),
                }
            }
            words => (self.start)(&words.join(" "), now),
        });
    }

    fn prompt(&self, io: &mut ProgramIo) {
        io.err.extend_from_slice(self.entering.prompt().as_bytes());
    }
}

impl Program for ActingProgram {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress {
        if let Some(inner) = &mut self.inner {
            return inner.advance(io, now);
        }
        let password = match io.surroundings.acting.clone() {
            Acting::Missing => return Progress::Ended(Exit::Status(95)),
            Acting::Nobody => {
                let user = &io.surroundings.user;
                let text = format!("{user} is not among those who may. This will be written down.\n");
                io.err.extend_from_slice(text.as_bytes());
                return Progress::Ended(Exit::Status(1));
            }
            Acting::Freely => {
                self.enter(io, now);
                return self.advance(io, now);
            }
            Acting::ByPassword(password) => Some(password),
            Acting::ByCode => None,
        };
        if !std::mem::replace(&mut self.begun, true) {
            match &password {
                Some(_) => {
                    io.err.extend_from_slice(b"Act with care, and write down what you do.\n");
                    self.prompt(io);
                }
                None => io.err.extend_from_slice(b"The code of today: "),
            }
        }
        let Some(end) = io.input.iter().position(|byte| *byte == b'\n') else {
            return match io.input_ended {
                true => Progress::Ended(Exit::Status(1)),
                false => Progress::Waiting(None),
            };
        };
        let line: Vec<u8> = io.input.drain(..=end).collect();
        let said = line.strip_suffix(b"\n").unwrap_or(&line);
        if password.is_some_and(|password| password.as_bytes() == said) {
            self.enter(io, now);
            return self.advance(io, now);
        }
        io.err.extend_from_slice(b"That was not it.\n");
        self.tries += 1;
        if self.tries == TRIES {
            io.err.extend_from_slice(b"Three times wrong.\n");
            return Progress::Ended(Exit::Status(1));
        }
        self.prompt(io);
        self.advance(io, now)
    }
}
