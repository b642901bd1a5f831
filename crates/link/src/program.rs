//! A program to be started on a machine, and what is asked of a session for it.

use bytes::Bytes;
use lantern_ssh::{DisplayRequest, PtyRequest, SessionRequest};

/// What a program runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Runs {
    /// The user's shell.
    Shell,
    /// A command.
    Command(CommandWords),
}

/// A command, as it was typed. How it is put together is the protocol's matter: a shell of POSIX reads a line, a program of Windows takes one apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommandWords {
    /// Its words.
    pub words: Vec<Bytes>,
    /// Whether each word arrives as it is; else they are joined with spaces, as a line that whoever called us has quoted.
    pub each_as_is: bool,
    /// Whether the machine's command interpreter reads it, as one line.
    pub by_interpreter: bool,
}

impl CommandWords {
    /// A line, as it is.
    pub fn line(line: impl Into<Bytes>) -> Self {
        Self { words: vec![line.into()], each_as_is: false, by_interpreter: false }
    }

    /// What a shell of POSIX is handed. One word is its line as it is. Several that are to arrive as they are, are quoted.
    pub(crate) fn for_posix_shell(&self) -> Vec<u8> {
        let quotes = self.each_as_is && !self.by_interpreter && self.words.len() > 1;
        let word = |word: &Bytes| if quotes { quoted(word) } else { word.to_vec() };
        self.words.iter().map(word).collect::<Vec<_>>().join(&b' ')
    }
}

/// A word that a POSIX shell takes for one word and nothing else (XCU 2.2.2).
pub(crate) fn quoted(word: &[u8]) -> Vec<u8> {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_./,:@%+=".contains(byte);
    // In front of a command, NAME=VALUE is no word.
    if !word.is_empty() && word.iter().all(plain) && !word.contains(&b'=') {
        return word.to_vec();
    }
    let mut out = vec![b'\''];
    for byte in word {
        match byte {
            b'\'' => out.extend(b"'\\''"),
            byte => out.push(*byte),
        }
    }
    out.push(b'\'');
    out
}

/// The words of a line that [`quoted`] made, with spaces between them; nothing where it is another line.
pub(crate) fn unquoted(line: &[u8]) -> Option<Vec<Vec<u8>>> {
    let (mut words, mut word, mut is_quoted, mut escapes) = (Vec::new(), Vec::new(), false, false);
    for byte in line {
        match byte {
            _ if escapes => {
                word.push(*byte);
                escapes = false;
            }
            b'\'' => is_quoted = !is_quoted,
            byte if is_quoted => word.push(*byte),
            b'\\' => escapes = true,
            b' ' => words.push(std::mem::take(&mut word)),
            byte => word.push(*byte),
        }
    }
    words.push(word);
    (!is_quoted && !escapes).then_some(words)
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
    /// One that has nothing but its streams.
    pub fn alone(runs: Runs) -> Self {
        Self { runs, environment: Vec::new(), terminal: None, agent: false, display: None }
    }

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
            Runs::Command(command) => SessionRequest::Exec(command.for_posix_shell()),
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

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn line(words: &[&str], each_as_is: bool) -> String {
        let words = words.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
        String::from_utf8(CommandWords { words, each_as_is, by_interpreter: false }.for_posix_shell())
            .unwrap()
    }

    #[test]
    fn words_arrive_as_they_are_and_lines_as_they_stand() {
        assert_eq!(line(&["echo one; echo two"], true), "echo one; echo two");
        assert_eq!(line(&["sh", "-c", "echo one; echo two"], true), "sh -c 'echo one; echo two'");
        assert_eq!(line(&["ls", "two words", "it's", ""], true), r"ls 'two words' 'it'\''s' ''");
        assert_eq!(line(&["env", "A=1"], true), "env 'A=1'");
        assert_eq!(line(&["upload-pack", r"two\ words"], false), r"upload-pack two\ words");
    }

    proptest! {
        #[test]
        fn what_was_quoted_is_read_back(words in proptest::collection::vec("[ -~\n\té']{0,12}", 1..5)) {
            let line = words.iter().map(|word| quoted(word.as_bytes())).collect::<Vec<_>>().join(&b' ');
            let expected: Vec<_> = words.iter().map(|word| word.as_bytes().to_vec()).collect();
            prop_assert_eq!(unquoted(&line), Some(expected));
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn a_posix_shell_reads_the_words_back(words in proptest::collection::vec("[ -~\n\té]{0,12}", 1..5)) {
            let mut all = vec!["printf", "%s\\0"];
            all.extend(words.iter().map(String::as_str));
            let said = std::process::Command::new("sh").args(["-c", &line(&all, true)]).output().unwrap();
            let read: Vec<&[u8]> = said.stdout.split(|byte| *byte == 0).collect();
            let expected: Vec<&[u8]> = words.iter().map(String::as_bytes).chain([&b""[..]]).collect();
            prop_assert_eq!(read, expected);
        }
    }
}
