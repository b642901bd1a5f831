//! A script that goes to a machine as the input of the program that reads it, so that nothing of it is left there.

use std::io::{self, Read};

use bytes::Bytes;

/// Largest script, in bytes: it is held whole.
const MOST: usize = 10 * 1024 * 1024;

/// A script.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Script {
    /// What it is called here.
    pub name: String,
    /// Its text.
    pub text: Bytes,
    /// The line for a shell of POSIX that starts the program which reads it.
    reader: String,
}

/// Why a text is no script.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ScriptError {
    /// There is nothing in it.
    #[error("{0} is empty")]
    Empty(String),
    /// It is larger than any script.
    #[error("{0} has more than {MOST} bytes")]
    TooLarge(String),
    /// Its first line names a program, and not how that reads a script from its input.
    #[error("{name} is for {program}, and how that reads a script from its input is not known")]
    Interpreter {
        /// The script.
        name: String,
        /// The program.
        program: String,
    },
}

/// Shells, which read a script from their input with `-s` (XCU sh).
const SHELLS: [&str; 7] = ["sh", "bash", "dash", "ash", "ksh", "mksh", "zsh"];
/// Programs that take `-` for that.
const OTHERS: [&str; 4] = ["python", "perl", "ruby", "node"];

impl Script {
    /// Reads a script, and no more of it than one can have.
    ///
    /// # Errors
    /// It cannot be read. What is too large is read as far as [`Script::new`] needs to tell.
    pub fn read(from: impl Read) -> io::Result<Bytes> {
        let mut text = Vec::new();
        from.take(MOST as u64 + 1).read_to_end(&mut text)?;
        Ok(text.into())
    }

    /// A script by its text. Its first line may name the program that reads it, as the system reads such lines; else it is the shell of POSIX.
    ///
    /// # Errors
    /// [`ScriptError`].
    pub fn new(name: &str, text: Bytes) -> Result<Self, ScriptError> {
        let name = name.to_owned();
        if text.is_empty() {
            return Err(ScriptError::Empty(name));
        }
        if text.len() > MOST {
            return Err(ScriptError::TooLarge(name));
        }
        let first = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
        let reader = match first.strip_prefix(b"#!") {
            None => "exec /bin/sh -s".to_owned(),
            Some(line) => {
                let line = String::from_utf8_lossy(line).into_owned();
                reader(&line)
                    .ok_or(ScriptError::Interpreter { name: name.clone(), program: line.trim().to_owned() })?
            }
        };
        Ok(Self { name, text, reader })
    }

    /// The line that starts the program which reads it.
    pub fn reader(&self) -> &str {
        &self.reader
    }
}

/// The line for a shell, from what stands behind `#!`.
fn reader(line: &str) -> Option<String> {
    let mut words: Vec<&str> = line.split_ascii_whitespace().collect();
    let is_plain = |word: &&str| word.chars().all(|c| c.is_ascii_alphanumeric() || "/._-+=".contains(c));
    if words.is_empty() || !words.iter().all(is_plain) {
        return None;
    }
    let base = |word: &str| word.rsplit('/').next().unwrap_or_default().to_owned();
    let at = usize::from(words.first().is_some_and(|word| base(word) == "env"));
    let program = base(words.get(at)?);
    let is_other = OTHERS.iter().any(|other| {
        // python3, python3.11
        program.strip_prefix(other).is_some_and(|rest| rest.chars().all(|c| c.is_ascii_digit() || c == '.'))
    });
    let last = match () {
        () if SHELLS.contains(&program.as_str()) => "-s",
        () if is_other => "-",
        () => return None,
    };
    words.push(last);
    Some(format!("exec {}", words.join(" ")))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn the_first_line_says_who_reads_it() {
        for (first, line) in [
            ("echo lit", Some("exec /bin/sh -s")),
            ("#!/bin/bash -e", Some("exec /bin/bash -e -s")),
            ("#!/usr/bin/env python3", Some("exec /usr/bin/env python3 -")),
            ("#! /usr/bin/perl -w", Some("exec /usr/bin/perl -w -")),
            ("#!/bin/sh; reboot", None),
            ("#!/usr/bin/lamp-script", None),
            ("#!", None),
        ] {
            let script = Script::new("x", Bytes::from(format!("{first}\necho lit\n")));
            assert_eq!(script.as_ref().ok().map(Script::reader), line, "{first}");
        }
        assert_eq!(Script::new("x", Bytes::new()), Err(ScriptError::Empty("x".into())));
        // One that never ends is not read to its end.
        let endless = Script::read(io::repeat(b'#')).unwrap();
        assert_eq!(Script::new("x", endless), Err(ScriptError::TooLarge("x".into())));
    }
}
