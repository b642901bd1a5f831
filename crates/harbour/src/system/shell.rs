//! The shell of the made-up system: a prompt, a line, a program.

use std::time::Instant;

use super::{Exit, Program, ProgramIo, Progress, start};

/// Reads lines and runs them, with echo and a prompt when there is a terminal.
pub(crate) struct Shell {
    line: Vec<u8>,
    greeted: bool,
    running: Option<Box<dyn Program>>,
    last_status: u32,
}

impl Shell {
    pub(crate) fn new() -> Self {
        Self { line: Vec::new(), greeted: false, running: None, last_status: 0 }
    }

    fn prompt(io: &mut ProgramIo) {
        if io.surroundings.terminal.is_some() {
            let text = format!("{}@{} ~ % ", io.surroundings.user, io.surroundings.host);
            io.out.extend_from_slice(text.as_bytes());
        }
    }

    /// Takes one byte of input while no program runs; the line, once it is complete.
    fn take_byte(&mut self, byte: u8, io: &mut ProgramIo) -> Option<String> {
        let echo = io.surroundings.terminal.is_some();
        match byte {
            b'\r' | b'\n' => {
                if echo {
                    io.out.push(b'\n');
                }
                return Some(String::from_utf8_lossy(&std::mem::take(&mut self.line)).into_owned());
            }
            // Ctrl-C: the line is dropped.
            3 => {
                self.line.clear();
                io.out.extend_from_slice(b"^C\n");
                Self::prompt(io);
            }
            // Ctrl-D on an empty line: the end.
            4 if self.line.is_empty() => return Some("exit".into()),
            8 | 127 => {
                // A character of UTF-8 goes as a whole.
                while self.line.pop().is_some_and(|byte| byte & 0xc0 == 0x80) {}
                if echo {
                    io.out.extend_from_slice(b"\x08 \x08");
                }
            }
            _ => {
                self.line.push(byte);
                if echo {
                    io.out.push(byte);
                }
            }
        }
        None
    }
}

impl Program for Shell {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress {
        if !self.greeted {
            self.greeted = true;
            Self::prompt(io);
        }
        loop {
            if let Some(program) = &mut self.running {
                // On a terminal, Ctrl-C is a signal to the program, unless the program reads keys itself.
                let status = match program.advance(io, now) {
                    Progress::Waiting(until) => {
                        if io.surroundings.terminal.is_some() && io.input.contains(&3) {
                            io.input.clear();
                            io.signals.push("INT".into());
                            continue;
                        }
                        return Progress::Waiting(until);
                    }
                    Progress::Ended(Exit::Status(status)) => status,
                    Progress::Ended(Exit::Signal(name)) => {
                        io.out.extend_from_slice(format!("ended by {name}\n").as_bytes());
                        130
                    }
                };
                io.signals.clear();
                self.last_status = status;
                self.running = None;
                Self::prompt(io);
            }
            if let Some(name) = io.signals.first().cloned() {
                io.signals.clear();
                if name == "HUP" || name == "TERM" || name == "KILL" {
                    return Progress::Ended(Exit::Signal(if name == "HUP" { "HUP" } else { "TERM" }));
                }
            }
            if io.input.is_empty() {
                return match io.input_ended {
                    true => Progress::Ended(Exit::Status(self.last_status)),
                    false => Progress::Waiting(None),
                };
            }
            let byte = io.input.remove(0);
            let Some(line) = self.take_byte(byte, io) else { continue };
            let mut words = line.split_whitespace();
            match words.next() {
                None => Self::prompt(io),
                // A remark.
                Some(word) if word.starts_with('#') => Self::prompt(io),
                Some("exit") => {
                    let status = words.next().and_then(|word| word.parse().ok()).unwrap_or(self.last_status);
                    return Progress::Ended(Exit::Status(status));
                }
                Some(_) => self.running = Some(start(&line, now)),
            }
        }
    }
}
