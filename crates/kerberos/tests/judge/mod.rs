//! Another program that is the other side of a login: messages go to it and come from it as lines of hexadecimal digits.

#![allow(unreachable_pub, clippy::unwrap_used)] // It says by panicking that it cannot go on.

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdout, Command, Stdio};

/// The judge, under way.
pub struct Judge {
    child: Child,
    said: BufReader<ChildStdout>,
}

impl Judge {
    pub fn start(command: &mut Command) -> Self {
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let said = BufReader::new(child.stdout.take().unwrap());
        Self { child, said }
    }

    pub fn line(&mut self) -> String {
        let mut line = String::new();
        self.said.read_line(&mut line).unwrap();
        assert!(!line.is_empty(), "the judge said nothing");
        line.trim_end().to_owned()
    }

    pub fn hear(&mut self) -> Vec<u8> {
        let line = self.line();
        (0..line.len() / 2).map(|at| u8::from_str_radix(&line[2 * at..2 * at + 2], 16).unwrap()).collect()
    }

    pub fn tell(&mut self, message: &[u8]) {
        writeln!(self.child.stdin.as_mut().unwrap(), "{}", hex(message)).unwrap();
    }

    /// It has nothing against what it heard.
    pub fn ends_well(mut self) {
        assert!(self.child.wait().unwrap().success());
    }
}

pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
