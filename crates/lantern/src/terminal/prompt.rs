//! Questions at the controlling terminal, so that standard input and output stay free for data.

use std::fs::File;
use std::io::{PipeReader, Read, Write};
use std::time::Duration;

use lantern_keys::SecretString;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
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
    Nothing,
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
    fn wait(&self, held: Option<&Held>, patience: Option<Duration>) -> Woken {
        let mut watched = vec![PollFd::new(&self.device, PollFlags::IN)];
        watched.extend(self.given_up.as_ref().map(|given_up| PollFd::new(given_up, PollFlags::IN)));
        let others = watched.len();
        watched.extend(held.map(|held| PollFd::new(&held.wakes, PollFlags::IN)));
        loop {
            let patience = patience.and_then(|time| Timespec::try_from(time).ok());
            match poll(&mut watched, patience.as_ref()) {
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => return Woken::Key,
                Ok(0) => return Woken::Nothing,
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

    /// Says something before a question.
    pub(crate) fn tell(&mut self, text: &Fit) {
        let mut terminal = &self.device;
        let _ = terminal.write_all(format!("{text}\n").as_bytes());
    }

    /// Asks for a secret: nothing of it is shown.
    pub(crate) fn ask_secret(&mut self, question: impl Into<Fit>) -> Answer<SecretString> {
        self.ask(&question.into(), false).map(|text| SecretString::new(String::clone(&text)))
    }

    /// Asks for a line that is shown as it is typed.
    pub(crate) fn ask_line(&mut self, question: impl Into<Fit>) -> Answer<String> {
        self.ask(&question.into(), true).map(|text| String::clone(&text))
    }

    fn ask(&mut self, question: &Fit, echo: bool) -> Answer<Zeroizing<String>> {
        let mut line = Line { question, echo, typed: Zeroizing::new(Vec::with_capacity(MAX_ANSWER_LEN)) };
        match self.converse(&mut line) {
            Answer::Given(()) => match std::str::from_utf8(&line.typed) {
                Ok(text) => Answer::Given(Zeroizing::new(text.to_owned())),
                Err(_) => Answer::Ended,
            },
            Answer::Interrupted => Answer::Interrupted,
            Answer::Ended => Answer::Ended,
        }
    }

    /// Reads keys one by one: so Ctrl-C is ours to see, and the modes are always put back.
    pub(crate) fn converse(&mut self, dialog: &mut dyn Dialog) -> Answer<()> {
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
        let _ = terminal.write_all(&dialog.shown());
        let outcome = loop {
            let mut key = [0; 1];
            let turn = match self.wait(held.as_ref(), dialog.patience()) {
                Woken::Key => match terminal.read(&mut key) {
                    Ok(1) if key[0] == CTRL_C => break Answer::Interrupted,
                    Ok(1) if key[0] == CTRL_Z => {
                        stop_by_key();
                        continue;
                    }
                    Ok(1) => dialog.key(key[0]),
                    _ => break Answer::Ended,
                },
                Woken::Nothing => dialog.nothing_came(),
                Woken::GivenUp => break Answer::Ended,
                Woken::Signal => match held.as_mut().map_or(Wanted::End, Held::wanted) {
                    Wanted::End => break Answer::Interrupted,
                    Wanted::Nothing => continue,
                    Wanted::Stop => {
                        let _ = terminal.write_all(&dialog.end());
                        let _ = tcsetattr(&self.device, OptionalActions::Flush, &restore.saved);
                        held.iter().for_each(Held::stop);
                        // Back again: the question, and what was typed where that is shown.
                        if tcsetattr(&self.device, OptionalActions::Flush, &modes).is_err() {
                            break Answer::Ended;
                        }
                        Turn::Show(dialog.shown())
                    }
                },
            };
            match turn {
                Turn::Show(bytes) => drop(terminal.write_all(&bytes)),
                Turn::Over(answer) => break answer,
            }
        };
        let _ = terminal.write_all(&dialog.end());
        drop(restore);
        held.into_iter().for_each(Held::let_go);
        outcome
    }
}

/// What is read key by key.
pub(crate) trait Dialog {
    /// What is on the screen: at the beginning, and when lantern comes back from having been stopped.
    fn shown(&self) -> Vec<u8>;
    /// A key was typed.
    fn key(&mut self, key: u8) -> Turn;
    /// How long the next key may take before [`Self::nothing_came`].
    fn patience(&self) -> Option<Duration> {
        None
    }
    /// No key came in that time.
    fn nothing_came(&mut self) -> Turn {
        Turn::Show(Vec::new())
    }
    /// What leaves the screen fit for whatever is printed next.
    fn end(&self) -> Vec<u8>;
}

/// What comes of a key.
pub(crate) enum Turn {
    /// This is shown.
    Show(Vec<u8>),
    /// It is over.
    Over(Answer<()>),
}

/// A question that a line answers.
struct Line<'a> {
    question: &'a Fit,
    echo: bool,
    typed: Zeroizing<Vec<u8>>,
}

impl Dialog for Line<'_> {
    fn shown(&self) -> Vec<u8> {
        let mut bytes = self.question.as_str().as_bytes().to_vec();
        if self.echo {
            bytes.extend_from_slice(&self.typed);
        }
        bytes
    }

    fn key(&mut self, key: u8) -> Turn {
        let line = &mut self.typed;
        let shown = match key {
            b'\n' | b'\r' => return Turn::Over(Answer::Given(())),
            CTRL_D if line.is_empty() => return Turn::Over(Answer::Ended),
            8 | 127 => {
                let before = line.len();
                while line.pop().is_some_and(|byte| byte & 0xc0 == 0x80) {}
                if before > 0 { b"\x08 \x08".to_vec() } else { Vec::new() }
            }
            CTRL_U => {
                let shown = String::from_utf8_lossy(line).chars().count();
                line.clear();
                "\x08 \x08".repeat(shown).into_bytes()
            }
            byte if byte >= 32 && line.len() < MAX_ANSWER_LEN => {
                line.push(byte);
                vec![byte]
            }
            _ => Vec::new(),
        };
        Turn::Show(if self.echo { shown } else { Vec::new() })
    }

    fn end(&self) -> Vec<u8> {
        b"\n".to_vec()
    }
}

impl<T> Answer<T> {
    pub(crate) fn map<U>(self, change: impl FnOnce(T) -> U) -> Answer<U> {
        match self {
            Self::Given(answer) => Answer::Given(change(answer)),
            Self::Interrupted => Answer::Interrupted,
            Self::Ended => Answer::Ended,
        }
    }
}
