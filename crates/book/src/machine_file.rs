//! Small files that are each about one machine: what they are called.

use std::fs;
use std::io::{ErrorKind, Write};
use std::path::{Path, PathBuf};

use crate::home::create_private_folder;
use crate::{BookError, Home};

/// Longest name of a file, in bytes; most file systems take 255. What is called longer has none.
const MAX_NAME_LEN: usize = 200;

/// The name of a machine's file: as the machine is called, with what may not stand in the name of a file by its number.
pub fn machine_file_name(machine: &str) -> Option<String> {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_@:".contains(&byte);
    let mut name = String::new();
    for (at, byte) in machine.bytes().enumerate() {
        match plain(byte) || (byte == b'.' && at > 0) {
            true => name.push(char::from(byte)),
            false => name.push_str(&format!("%{byte:02x}")),
        }
    }
    (!name.is_empty() && name.len() <= MAX_NAME_LEN).then_some(name)
}

/// The machine that a file is about.
pub(crate) fn machine(name: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(name.len());
    let mut rest = name.as_bytes();
    while let Some((byte, after)) = rest.split_first() {
        let (byte, after) = match byte {
            b'%' => {
                let (digits, after) = after.split_at_checked(2)?;
                (u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?, after)
            }
            plain => (*plain, after),
        };
        bytes.push(byte);
        rest = after;
    }
    String::from_utf8(bytes).ok()
}

/// A folder with a small file for each machine.
#[derive(Debug, Default)]
pub(crate) struct MachineFiles {
    folder: PathBuf,
}

impl MachineFiles {
    /// This folder of a home.
    pub(crate) fn of(home: &Home, folder: &str) -> Self {
        Self { folder: home.file(folder) }
    }

    /// The file of a machine; none when it is called longer than files can be.
    pub(crate) fn path(&self, machine: &str) -> Option<PathBuf> {
        Some(self.folder.join(machine_file_name(machine)?))
    }

    /// The machines that there are files of.
    pub(crate) fn machines(&self) -> impl Iterator<Item = String> {
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        files.filter_map(|file| machine(file.file_name().to_str()?))
    }

    /// Writes one; whoever reads it makes nothing of half of it.
    ///
    /// # Errors
    /// What writing runs into.
    pub(crate) fn write(&self, machine: &str, text: &str) -> Result<(), BookError> {
        let Some(path) = self.path(machine) else { return Ok(()) };
        let written = match over(&path, text) {
            Err(error) if error.kind() == ErrorKind::NotFound => {
                create_private_folder(&self.folder)?;
                fs::write(&path, text)
            }
            written => written,
        };
        written.map_err(BookError::io("write", &path))
    }

    /// Removes one.
    ///
    /// # Errors
    /// What the system says.
    pub(crate) fn forget(&self, machine: &str) -> Result<(), BookError> {
        let Some(path) = self.path(machine) else { return Ok(()) };
        or_nothing_there(fs::remove_file(&path)).map_err(BookError::io("remove", &path))
    }

    /// What is about `old` is about `new` from now on.
    ///
    /// # Errors
    /// What the system says.
    pub(crate) fn rename(&self, old: &str, new: &str) -> Result<(), BookError> {
        match (self.path(old), self.path(new)) {
            (Some(old), Some(new)) => {
                or_nothing_there(fs::rename(&old, new)).map_err(BookError::io("rename", &old))
            }
            _ => self.forget(old),
        }
    }
}

/// Writes over a file that is there. One of the same length keeps its place on the disk, which matters where a date is noted for each of ten thousand
/// machines.
fn over(path: &Path, text: &str) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).open(path)?;
    let is_shorter = file.metadata()?.len() > text.len() as u64;
    file.write_all(text.as_bytes())?;
    if is_shorter { file.set_len(text.len() as u64) } else { Ok(()) }
}

/// A file that is not there is as good as one that was done with.
fn or_nothing_there(done: std::io::Result<()>) -> std::io::Result<()> {
    match done {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        done => done,
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_file_is_called_so_that_its_machine_can_be_told(text in "[ -~é灯]{1,30}") {
            let file = machine_file_name(&text).unwrap_or_default();
            prop_assert!(!file.contains('/') && !file.starts_with('.'));
            prop_assert_eq!(machine(&file), Some(text));
        }

        /// Whatever was there before, in a folder that may be missing.
        #[test]
        fn what_was_written_last_is_there(texts in proptest::collection::vec("[a-z\n]{0,40}", 1..6)) {
            let home = tempfile::tempdir().unwrap();
            let files = MachineFiles::of(&Home::new(home.path().join("home")), "uses");
            for text in texts {
                files.write("lamp-01", &text).unwrap();
                prop_assert_eq!(fs::read_to_string(files.path("lamp-01").unwrap()).unwrap(), text);
            }
        }
    }
}
