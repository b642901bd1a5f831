//! `hints/`: what was chosen with each machine's server where that is what it lists first, so that the next connection can guess and save a round
//! trip. A small file for each machine, so that one of ten thousand costs what one costs. A cache: a broken or missing file costs time, nothing else.

use std::fs::File;
use std::io::Read;

use crate::machine_file::MachineFiles;
use crate::{BookError, Home};

const FOLDER: &str = "hints";
/// Longest hint, in bytes: two names of algorithms, which have 64 at most (RFC 4251 §6).
const MAX_LEN: u64 = 130;

/// What may be guessed about one server, by wire names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hint {
    /// The key exchange method.
    pub kex: String,
    /// The host key algorithm.
    pub host_key: String,
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

    /// The hint for a machine; what cannot be read is no hint.
    pub fn get(&self, machine: &str) -> Option<Hint> {
        let mut text = String::new();
        File::open(self.files.path(machine)?).ok()?.take(MAX_LEN + 1).read_to_string(&mut text).ok()?;
        let (kex, host_key) = text.strip_suffix('\n')?.split_once(' ')?;
        Some(Hint { kex: kex.to_owned(), host_key: host_key.to_owned() })
    }

    /// Remembers a hint, when it says something new.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn note(&self, machine: &str, hint: &Hint) -> Result<(), BookError> {
        match self.get(machine).as_ref() == Some(hint) {
            true => Ok(()),
            false => self.files.write(machine, &format!("{} {}\n", hint.kex, hint.host_key)),
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
            hints.note(name, &hint("one")).unwrap();
            hints.note(name, &hint("two")).unwrap();
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
        // What is no hint is none.
        for broken in ["", "one\n", "one two", &"x ".repeat(200), "\u{0}\n"] {
            fs::write(hints.files.path("lamp-02").unwrap(), broken).unwrap();
            assert_eq!(hints.get("lamp-02"), None, "{broken:?}");
        }
    }
}
