//! Questions at the controlling terminal, so that standard input and output stay free for data.

use std::fs::File;
use std::io::{PipeReader, Read, Write};

use lantern_keys::SecretString;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::termios::{LocalModes, OptionalActions, SpecialCodeIndex, Termios, tcgetattr, tcsetattr};
use zeroize::Zeroizing;

use crate::screen::fit::Fit;

use super::signals::{Held, Wanted, stop_by_key};

/// Longest answer, in bytes.
const MAX_ANSWER_LEN: usize = 4096;

const CTRL_C: u8 = 3;
const CTRL_D: u8 = 4;
const CTRL_U: u8 = 21;
const CTRL_Z: u8 = 26;

/// What came of a question.
#[derive(Debug)]
pub(crate) enum Answer<T> {
    /// An answer.
    Given(T),
    /// Ctrl-C.
    Interrupted,
    /// The terminal went away, or Ctrl-D.
    Ended,
}

/// What a question was woken by.
enum Woken {
    Key,
    GivenUp,
    Signal,
}

/// The controlling terminal.
#[derive(Debug)]
pub(crate) struct Terminal {
    device: File,
    /// When the other end of this closes, nobody needs the answer any more.
    given_up: Option<PipeReader>,
}

/// Puts the terminal's modes back.
struct Restore<'a> {
    device: &'a File,
    saved: Termios,
}

impl Drop for Restore<'_> {
    fn drop(&mut self) {
        let _ = tcsetattr(self.device, OptionalActions::Flush, &self.saved);
    }
}

impl Terminal {
    /// The controlling terminal, when there is one.
    pub(crate) fn open() -> Option<Self> {
        let device = File::options().read(true).write(true).open("/dev/tty").ok()?;
        tcgetattr(&device).ok()?;
        Some(Self { device, given_up: None })
    }

    /// From now on a question ends when the other end of the pipe closes.
    pub(crate) fn end_with(&mut self, given_up: PipeReader) {
        self.given_up = Some(given_up);
    }

    /// Waits until a key can be read, or something else has happened.
    fn wait(&self, held: Option<&Held>) -> Woken {
        let mut watched = vec![PollFd::new(&self.device, PollFlags::IN)];
        watched.extend(self.given_up.as_ref().map(|given_up| PollFd::new(given_up, PollFlags::IN)));
        let others = watched.len();
        watched.extend(held.map(|held| PollFd::new(&held.wakes, PollFlags::IN)));
        loop {
            match poll(&mut watched, None) {
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => return Woken::Key,
                Ok(_) => {
                    let has_come =
                        |at: usize| watched.get(at).is_some_and(|watched| !watched.revents().is_empty());
                    return match (has_come(others), others > 1 && has_come(1)) {
                        (true, _) => Woken::Signal,
                        (_, true) => Woken::GivenUp,
                        _ => Woken::Key,
                    };
                }
            }
        }
    }

    /// Asks for a secret: nothing of it is shown.
    pub(crate) fn ask_secret(&mut self, question: impl Into<Fit>) -> Answer<SecretString> {
        self.ask(&question.into(), false).map(|text| SecretString::new(String::clone(&text)))
    }

    /// Asks for a line that is shown as it is typed.
    pub(crate) fn ask_line(&mut self, question: impl Into<Fit>) -> Answer<String> {
        self.ask(&question.into(), true).map(|text| String::clone(&text))
    }

    /// Reads keys one by one: so Ctrl-C is ours to see, and the modes are always put back.
    fn ask(&mut self, question: &Fit, echo: bool) -> Answer<Zeroizing<String>> {
        let Ok(saved) = tcgetattr(&self.device) else { return Answer::Ended };
        // What ends us must not leave a terminal behind that shows nothing of what is typed.
        let mut held = Held::begin();
        let mut modes = saved.clone();
        modes.local_modes.remove(LocalModes::ECHO | LocalModes::ICANON | LocalModes::ISIG);
        modes.special_codes[SpecialCodeIndex::VMIN] = 1;
        modes.special_codes[SpecialCodeIndex::VTIME] = 0;
        let restore = Restore { device: &self.device, saved };
        if tcsetattr(&self.device, OptionalActions::Flush, &modes).is_err() {
            return Answer::Ended;
        }
        let mut terminal = &self.device;
        let _ = terminal.write_all(question.as_str().as_bytes());
        let mut line = Zeroizing::new(Vec::with_capacity(MAX_ANSWER_LEN));
        let outcome = loop {
            let mut key = [0; 1];
            match self.wait(held.as_ref()) {
                Woken::Key => {}
                Woken::GivenUp => break Answer::Ended,
                Woken::Signal => match held.as_mut().map_or(Wanted::End, Held::wanted) {
                    Wanted::End => break Answer::Interrupted,
                    Wanted::Nothing => continue,
                    Wanted::Stop => {
                        let _ = terminal.write_all(b"\n");
                        let _ = tcsetattr(&self.device, OptionalActions::Flush, &restore.saved);
                        held.iter().for_each(Held::stop);
                        // Back again: the question, and what was typed where that is shown.
                        if tcsetattr(&self.device, OptionalActions::Flush, &modes).is_err() {
                            break Answer::Ended;
                        }
                        let _ = terminal.write_all(question.as_str().as_bytes());
                        if echo {
                            let _ = terminal.write_all(&line);
                        }
                        continue;
                    }
                },
            }
            match terminal.read(&mut key) {
                Ok(1) => {}
                _ => break Answer::Ended,
            }
            match key[0] {
                b'\n' | b'\r' => break Answer::Given(()),
                CTRL_C => break Answer::Interrupted,
                CTRL_Z => stop_by_key(),
                CTRL_D if line.is_empty() => break Answer::Ended,
                8 | 127 => {
                    let before = line.len();
                    while line.pop().is_some_and(|byte| byte & 0xc0 == 0x80) {}
                    if echo && before > 0 {
                        let _ = terminal.write_all(b"\x08 \x08");
                    }
                }
                CTRL_U => {
                    if echo {
                        let shown = String::from_utf8_lossy(&line).chars().count();
                        let _ = terminal.write_all("\x08 \x08".repeat(shown).as_bytes());
                    }
                    line.clear();
                }
                byte if byte >= 32 && line.len() < MAX_ANSWER_LEN => {
                    line.push(byte);
                    if echo {
                        let _ = terminal.write_all(&key);
                    }
                }
                _ => {}
            }
        };
        let _ = terminal.write_all(b"\n");
        drop(restore);
        held.into_iter().for_each(Held::let_go);
        match outcome {
            Answer::Given(()) => match std::str::from_utf8(&line) {
                Ok(text) => Answer::Given(Zeroizing::new(text.to_owned())),
                Err(_) => Answer::Ended,
            },
            Answer::Interrupted => Answer::Interrupted,
            Answer::Ended => Answer::Ended,
        }
    }
}

impl<T> Answer<T> {
    fn map<U>(self, change: impl FnOnce(T) -> U) -> Answer<U> {
        match self {
            Self::Given(answer) => Answer::Given(change(answer)),
            Self::Interrupted => Answer::Interrupted,
            Self::Ended => Answer::Ended,
        }
    }
}
