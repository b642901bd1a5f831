//! What is kept of runs on many machines: what ran where, and how each ended, so that those that failed can be gone to again. Not what they wrote.

use std::fs;

use jiff::Timestamp;
use lantern_book::{BookError, Home, write_new};
use serde::{Deserialize, Serialize};

/// The folder in the home.
const FOLDER: &str = "runs";
/// Runs that are kept.
const MOST: usize = 50;
/// Largest file that is read, in bytes: ten thousand machines take one megabyte.
const MAX_LEN: u64 = 32 * 1024 * 1024;

/// One machine of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachineNote {
    /// Its name.
    pub name: String,
    /// The status; none where there is none.
    pub status: Option<u32>,
    /// What kept it from one: "not reached", "lost", "ended by a signal", "not begun", "halted".
    pub met: Option<String>,
}

impl MachineNote {
    /// Whether it did what was asked, with success.
    pub fn is_good(&self) -> bool {
        self.status == Some(0)
    }
}

/// One run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunNote {
    /// When it began.
    pub at: Timestamp,
    /// What machines were named.
    pub selection: Vec<String>,
    /// The words of the command; none for a script.
    pub command: Vec<String>,
    /// Whether each word was to arrive as it was.
    pub each_as_is: bool,
    /// Whether the machine's command interpreter read it.
    pub by_interpreter: bool,
    /// Whom it ran as, where that was said.
    #[serde(default)]
    pub acts_as: Option<String>,
    /// The file of the script.
    pub script: Option<String>,
    /// Each machine.
    pub machines: Vec<MachineNote>,
}

/// The runs of a home.
#[derive(Debug)]
pub struct RunNotes<'a>(&'a Home);

impl<'a> RunNotes<'a> {
    /// Those of this home.
    pub fn of(home: &'a Home) -> Self {
        Self(home)
    }

    /// Names of their files, the latest first.
    fn names(&self) -> Vec<String> {
        let entries = fs::read_dir(self.0.file(FOLDER)).into_iter().flatten().flatten();
        let names = entries.filter_map(|entry| entry.file_name().into_string().ok());
        let mut names: Vec<String> = names.filter(|name| name.ends_with(".json")).collect();
        names.sort_unstable_by(|one, other| other.cmp(one));
        names
    }

    fn read(&self, name: &str) -> Option<RunNote> {
        let path = self.0.file(FOLDER).join(name);
        (fs::metadata(&path).ok()?.len() <= MAX_LEN).then_some(())?;
        serde_json::from_slice(&fs::read(path).ok()?).ok()
    }

    /// All of them, the latest first; what cannot be read is none.
    pub fn all(&self) -> Vec<RunNote> {
        self.names().iter().filter_map(|name| self.read(name)).collect()
    }

    /// The latest.
    pub fn latest(&self) -> Option<RunNote> {
        self.names().iter().find_map(|name| self.read(name))
    }

    /// Keeps a run, and forgets the oldest.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn keep(&self, note: &RunNote) -> Result<(), BookError> {
        let folder = self.0.folder(FOLDER)?;
        // Names sort as times do; two of one moment are told apart by the process.
        let name = format!("{}-{}.json", note.at.strftime("%Y%m%dT%H%M%S%.6f"), std::process::id());
        let text = serde_json::to_vec(note).unwrap_or_default();
        write_new(&folder.join(name), &text, 0o600, true)?;
        for old in self.names().into_iter().skip(MOST) {
            let _ = fs::remove_file(folder.join(old));
        }
        Ok(())
    }
}
