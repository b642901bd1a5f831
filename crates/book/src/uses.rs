//! `uses/`: when each machine was used and seen last, and which places nobody wants kept. A small file for each, beside the book and not in it:
//! a book under version control changes when somebody changes it. Losing a file loses a date.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;

use jiff::Timestamp;
use lantern_keys::Fingerprint;

use crate::machine_file::MachineFiles;
use crate::{BookError, Home};

const FOLDER: &str = "uses";
/// Longest file that is read, in bytes: four short lines.
const MAX_LEN: u64 = 256;

/// What is noted of one machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Use {
    /// When somebody logged in to it last.
    pub used: Option<Timestamp>,
    /// When it answered last, as itself.
    pub seen: Option<Timestamp>,
    /// The key that it took last.
    pub took: Option<Fingerprint>,
    /// Whether somebody was asked to keep it in the book, and did not want to.
    pub declined: bool,
}

/// The notes of one home.
#[derive(Debug)]
pub struct Uses {
    files: MachineFiles,
}

impl Uses {
    /// Those of this home.
    pub fn of(home: &Home) -> Self {
        Self { files: MachineFiles::of(home, FOLDER) }
    }

    /// What is noted of a machine; what cannot be read is nothing.
    pub fn get(&self, machine: &str) -> Use {
        let read = || {
            let mut text = String::new();
            File::open(self.files.path(machine)?).ok()?.take(MAX_LEN).read_to_string(&mut text).ok()?;
            Some(parse(&text))
        };
        read().unwrap_or_default()
    }

    /// What is noted of all machines.
    pub fn all(&self) -> BTreeMap<String, Use> {
        self.files.machines().map(|name| (name.clone(), self.get(&name))).collect()
    }

    /// Notes something new. Of two who do so at once, one is lost: it is a date.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn note(&self, machine: &str, change: impl FnOnce(&mut Use)) -> Result<(), BookError> {
        let mut noted = self.get(machine);
        change(&mut noted);
        self.files.write(machine, &text(&noted))
    }

    /// Forgets what there is for a machine.
    ///
    /// # Errors
    /// What the system says.
    pub fn forget(&self, machine: &str) -> Result<(), BookError> {
        self.files.forget(machine)
    }

    /// What is noted of `old` is noted of `new` from now on.
    ///
    /// # Errors
    /// What the system says.
    pub fn rename(&self, old: &str, new: &str) -> Result<(), BookError> {
        self.files.rename(old, new)
    }
}

fn parse(text: &str) -> Use {
    let mut noted = Use::default();
    for line in text.lines() {
        match line.split_once(' ').unwrap_or((line, "")) {
            ("used", time) => noted.used = time.parse().ok(),
            ("seen", time) => noted.seen = time.parse().ok(),
            ("took", fingerprint) => noted.took = fingerprint.parse().ok(),
            ("declined", _) => noted.declined = true,
            _ => {}
        }
    }
    noted
}

fn text(noted: &Use) -> String {
    let line = |word: &str, time: Option<Timestamp>| {
        // A second is as exact as anybody needs it.
        let time = time.and_then(|time| Timestamp::from_second(time.as_second()).ok());
        time.map(|time| format!("{word} {time}\n")).unwrap_or_default()
    };
    let took = noted.took.map(|took| format!("took {took}\n")).unwrap_or_default();
    let declined = if noted.declined { "declined\n" } else { "" };
    format!("{}{}{took}{declined}", line("used", noted.used), line("seen", noted.seen))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn what_was_noted_is_there_again_and_what_is_broken_is_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let uses = Uses::of(&Home::new(folder.path().join("home")));
        let time = |second| Some(Timestamp::from_second(second).unwrap());
        assert_eq!((uses.get("lamp-01"), uses.all().len()), (Use::default(), 0));
        uses.forget("lamp-01").unwrap();
        uses.note("lamp-01", |noted| noted.used = time(1000)).unwrap();
        uses.note("lamp-01", |noted| noted.seen = time(2000)).unwrap();
        uses.note("192.0.2.7:22 via gate", |noted| noted.declined = true).unwrap();
        let lamp = Use { used: time(1000), seen: time(2000), ..Use::default() };
        assert_eq!(uses.get("lamp-01"), lamp);
        assert!(uses.all()["192.0.2.7:22 via gate"].declined);
        uses.rename("lamp-01", "lamp-02").unwrap();
        assert_eq!((uses.get("lamp-01"), uses.get("lamp-02")), (Use::default(), lamp));
        std::fs::write(uses.files.path("lamp-02").unwrap(), b"used yesterday\n\xff").unwrap();
        assert_eq!(uses.get("lamp-02"), Use::default());
        std::fs::write(uses.files.path("lamp-02").unwrap(), b"used yesterday\nseen 1970-01-01T00:00:05Z\n")
            .unwrap();
        assert_eq!(uses.get("lamp-02").seen, time(5));
        uses.forget("lamp-02").unwrap();
        assert_eq!(uses.all().len(), 1);
    }
}
