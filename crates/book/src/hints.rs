//! `hints/`: what was chosen with each machine's server where that is what it lists first, so that the next connection can guess and save a round
//! trip; and whether it takes a session together with the login, which saves two. A small file for each machine, so that one of ten thousand costs what
//! one costs. A cache: a broken or missing file costs time, nothing else.

use std::fs::File;
use std::io::Read;

use lantern_keys::Fingerprint;

use crate::machine_file::MachineFiles;
use crate::{BookError, Home};

const FOLDER: &str = "hints";
/// Longest file, in bytes: two names of algorithms, which have 64 at most (RFC 4251 §6), and an identification, which has 255 (RFC 4253 §4.2), with a
/// fingerprint.
const MAX_LEN: u64 = 512;
/// What stands for a hint that is none.
const NO_GUESS: &str = "- -";
/// What stands in front of a stack's version.
const STACK: &str = "stack ";
/// So many visits are enough to call a number the same at every one.
pub const ENOUGH_VISITS: u32 = 2;

/// What may be guessed about one server, by wire names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hint {
    /// The key exchange method.
    pub kex: String,
    /// The host key algorithm.
    pub host_key: String,
}

/// How a server takes a session that is opened together with the login.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Opening {
    /// Nobody has tried.
    #[default]
    Unknown,
    /// It opens it, and gave it this number at so many visits; more than [`ENOUGH_VISITS`] are not counted.
    Numbered {
        /// The number.
        number: u32,
        /// The visits.
        visits: u32,
    },
    /// It opens it, with a number that is not the same every time.
    Changing,
    /// It does not, or the login with this key was not enough for that.
    Unwelcome {
        /// The key.
        key: Fingerprint,
        /// What the server called itself.
        identification: String,
    },
}

impl Opening {
    /// After a visit at which it gave this number.
    pub fn numbered(self, number: u32) -> Self {
        match self {
            Self::Numbered { number: before, visits } if before == number => {
                Self::Numbered { number, visits: (visits + 1).min(ENOUGH_VISITS) }
            }
            Self::Numbered { .. } | Self::Changing => Self::Changing,
            Self::Unknown | Self::Unwelcome { .. } => Self::Numbered { number, visits: 1 },
        }
    }

    /// The number, where it was the same at every visit and there were enough of them.
    pub fn sure_number(&self) -> Option<u32> {
        match self {
            Self::Numbered { number, visits } if *visits >= ENOUGH_VISITS => Some(*number),
            _ => None,
        }
    }

    fn line(&self) -> Option<String> {
        Some(match self {
            Self::Unknown => return None,
            Self::Numbered { number, visits } => format!("number {number} {visits}"),
            Self::Changing => "changing".to_owned(),
            Self::Unwelcome { key, identification } => format!("unwelcome {key} {identification}"),
        })
    }

    fn parse(line: &str) -> Self {
        let read = || {
            let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
            let (first, second) = rest.split_once(' ').unwrap_or((rest, ""));
            Some(match word {
                "number" => Self::Numbered { number: first.parse().ok()?, visits: second.parse().ok()? },
                "changing" => Self::Changing,
                "unwelcome" => {
                    Self::Unwelcome { key: first.parse().ok()?, identification: second.to_owned() }
                }
                _ => return None,
            })
        };
        read().unwrap_or_default()
    }
}

/// The hints of one home.
#[derive(Debug, Default)]
pub struct Hints {
    files: MachineFiles,
}

impl Hints {
    /// Those of this home.
    pub fn of(home: &Home) -> Self {
        Self { files: MachineFiles::of(home, FOLDER) }
    }

    fn read(&self, machine: &str) -> Option<String> {
        let mut text = String::new();
        File::open(self.files.path(machine)?).ok()?.take(MAX_LEN + 1).read_to_string(&mut text).ok()?;
        (text.ends_with('\n') && text.len() as u64 <= MAX_LEN).then_some(text)
    }

    /// The hint for a machine; what cannot be read is no hint.
    pub fn get(&self, machine: &str) -> Option<Hint> {
        let text = self.read(machine)?;
        let line = text.lines().next().filter(|line| *line != NO_GUESS)?;
        let (kex, host_key) = line.split_once(' ')?;
        Some(Hint { kex: kex.to_owned(), host_key: host_key.to_owned() })
    }

    /// The version of a machine's stack of WS-Management, where it has said it.
    pub fn stack(&self, machine: &str) -> Option<u32> {
        self.read(machine)?.lines().nth(1)?.strip_prefix(STACK)?.parse().ok()
    }

    /// Remembers that version, in place of what is known of another protocol, when it says something new.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn note_stack(&self, machine: &str, stack: u32) -> Result<(), BookError> {
        match self.stack(machine) == Some(stack) {
            true => Ok(()),
            false => self.files.write(machine, &format!("{NO_GUESS}\n{STACK}{stack}\n")),
        }
    }

    /// How a machine's server takes a session with the login.
    pub fn opening(&self, machine: &str) -> Opening {
        let text = self.read(machine).unwrap_or_default();
        text.lines().nth(1).map(Opening::parse).unwrap_or_default()
    }

    /// Remembers what there is to guess, if anything, and how a session is opened, when it says something new.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn note(&self, machine: &str, hint: Option<&Hint>, opening: &Opening) -> Result<(), BookError> {
        let first =
            hint.map_or_else(|| NO_GUESS.to_owned(), |hint| format!("{} {}", hint.kex, hint.host_key));
        let text = match (hint, opening.line()) {
            (None, None) => return self.forget(machine),
            (_, None) => format!("{first}\n"),
            (_, Some(second)) => format!("{first}\n{second}\n"),
        };
        match self.read(machine).as_deref() == Some(text.as_str()) {
            true => Ok(()),
            false => self.files.write(machine, &text),
        }
    }

    /// Forgets what there is for a machine.
    ///
    /// # Errors
    /// What the system says.
    pub fn forget(&self, machine: &str) -> Result<(), BookError> {
        self.files.forget(machine)
    }

    /// What is known of `old` is known of `new` from now on.
    ///
    /// # Errors
    /// What the system says.
    pub fn rename(&self, old: &str, new: &str) -> Result<(), BookError> {
        self.files.rename(old, new)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::fs;

    use super::*;

    fn hint(kex: &str) -> Hint {
        Hint { kex: kex.to_owned(), host_key: "ssh-ed25519".to_owned() }
    }

    #[test]
    fn a_stack_is_remembered_in_place_of_guesses() {
        let folder = tempfile::tempdir().unwrap();
        let hints = Hints::of(&Home::new(folder.path().to_path_buf()));
        assert_eq!(hints.stack("chart-room"), None);
        hints.note_stack("chart-room", 3).unwrap();
        hints.note_stack("chart-room", 3).unwrap();
        assert_eq!((hints.stack("chart-room"), hints.opening("chart-room")), (Some(3), Opening::Unknown));
        assert_eq!(hints.get("chart-room"), None);
        // Spoken to by SSH from now on, it has guesses again.
        hints.note("chart-room", Some(&hint("one")), &Opening::Changing).unwrap();
        assert_eq!(hints.stack("chart-room"), None);
    }

    #[test]
    fn hints_are_kept_by_machine_whatever_it_is_called() {
        let folder = tempfile::tempdir().unwrap();
        let hints = Hints::of(&Home::new(folder.path().to_owned()));
        let long = "x".repeat(300);
        let names = [
            "lamp-01",
            "10.77.0.22:22 via harbour-gate",
            "[2001:db8::7]:22",
            "../lamp-01",
            "..",
            "a/b",
            "灯台",
            ".lock",
        ];
        for name in names.into_iter().chain([long.as_str(), ""]) {
            assert_eq!(hints.get(name), None, "{name}");
            hints.note(name, Some(&hint("one")), &Opening::Unknown).unwrap();
            hints.note(name, Some(&hint("two")), &Opening::Changing).unwrap();
            let is_kept = names.contains(&name);
            assert_eq!(hints.get(name), is_kept.then(|| hint("two")), "{name}");
        }
        // All of them in the folder, and nothing anywhere else.
        assert_eq!(fs::read_dir(folder.path().join(FOLDER)).unwrap().count(), names.len());
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
        hints.rename("lamp-01", "lamp-02").unwrap();
        hints.rename("nobody", "lamp-03").unwrap();
        hints.forget("灯台").unwrap();
        hints.forget("灯台").unwrap();
        assert_eq!((hints.get("lamp-01"), hints.get("lamp-02")), (None, Some(hint("two"))));
        assert_eq!((hints.get("lamp-03"), hints.get("灯台")), (None, None));
        assert_eq!(hints.opening("lamp-02"), Opening::Changing);
        // What is no hint is none.
        for broken in ["", "one\n", "one two", &"x ".repeat(200), "\u{0}\n"] {
            fs::write(hints.files.path("lamp-02").unwrap(), broken).unwrap();
            assert_eq!(hints.get("lamp-02"), None, "{broken:?}");
            assert_eq!(hints.opening("lamp-02"), Opening::Unknown, "{broken:?}");
        }
    }

    #[test]
    fn a_number_is_sure_once_it_was_the_same_at_every_visit() {
        let folder = tempfile::tempdir().unwrap();
        let hints = Hints::of(&Home::new(folder.path().to_owned()));
        let mut sure = Vec::new();
        for number in [0, 0, 0, 4, 4, 4] {
            let opening = hints.opening("lamp-01").numbered(number);
            hints.note("lamp-01", None, &opening).unwrap();
            assert_eq!(hints.opening("lamp-01"), opening);
            sure.push(opening.sure_number());
        }
        assert_eq!(sure, [None, Some(0), Some(0), None, None, None]);
        let key = "SHA256:2hHyClpboe1m+NmA1DSUv4fcBgd7289iOKiHGTu2AYY".parse().unwrap();
        let unwelcome = Opening::Unwelcome { key, identification: "SSH-2.0-another lamp".into() };
        hints.note("lamp-01", Some(&hint("one")), &unwelcome).unwrap();
        assert_eq!((hints.get("lamp-01"), hints.opening("lamp-01")), (Some(hint("one")), unwelcome));
        hints.note("lamp-01", None, &Opening::Unknown).unwrap();
        assert_eq!(fs::read_dir(folder.path().join(FOLDER)).unwrap().count(), 0);
        for line in ["number", "number x 1", "number 0", "unwelcome", "unwelcome x y", "open"] {
            assert_eq!(Opening::parse(line), Opening::Unknown, "{line}");
        }
    }
}
