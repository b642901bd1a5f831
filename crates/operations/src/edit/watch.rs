//! A draft that an editor has: when it was saved. Editors write in place, or another file and rename it; what is half-written is not taken for a save.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// How long a draft must stand still before it is taken.
pub const QUIET: Duration = Duration::from_millis(600);

/// What is seen of a file from outside: which one it is, how long, and when it was changed.
type Look = (u64, u64, i64, i64);

/// A draft that is watched.
#[derive(Debug)]
pub struct DraftWatch {
    path: PathBuf,
    /// How it looked when it was taken last.
    taken: Option<Look>,
    /// How it looked a moment ago, and since when.
    seen: Option<(Look, Instant)>,
}

impl DraftWatch {
    /// Watches a file that is as it was taken.
    pub fn new(path: &Path) -> Self {
        Self { path: path.to_owned(), taken: look(path), seen: None }
    }

    /// Whether it was saved and stands still by now.
    pub fn is_saved(&mut self, now: Instant) -> bool {
        // Between two names of an editor's own, there is nothing to take.
        let Some(is) = look(&self.path) else { return false };
        if Some(is) == self.taken {
            self.seen = None;
            return false;
        }
        match self.seen {
            Some((seen, since)) if seen == is => now.saturating_duration_since(since) >= QUIET,
            _ => {
                self.seen = Some((is, now));
                false
            }
        }
    }

    /// Takes what is in it now.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn take(&mut self) -> io::Result<Vec<u8>> {
        loop {
            let before = look(&self.path);
            let content = std::fs::read(&self.path)?;
            if look(&self.path) == before {
                (self.taken, self.seen) = (before, None);
                return Ok(content);
            }
        }
    }
}

fn look(path: &Path) -> Option<Look> {
    let known = std::fs::metadata(path).ok()?;
    Some((known.ino(), known.len(), known.mtime(), known.mtime_nsec()))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn a_save_counts_once_it_stands_still() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("draft");
        std::fs::write(&path, "one").unwrap();
        let mut watch = DraftWatch::new(&path);
        let start = Instant::now();
        assert!(!watch.is_saved(start));
        // In place, in two steps: half of it is no save.
        std::fs::write(&path, "").unwrap();
        assert!(!watch.is_saved(start));
        std::fs::write(&path, "two and more").unwrap();
        assert!(!watch.is_saved(start + QUIET));
        assert!(watch.is_saved(start + 2 * QUIET));
        assert_eq!(watch.take().unwrap(), b"two and more");
        assert!(!watch.is_saved(start + 9 * QUIET));
        // By another file under its name, and with nothing in between.
        std::fs::remove_file(&path).unwrap();
        assert!(!watch.is_saved(start + 10 * QUIET));
        std::fs::write(folder.path().join("other"), "three").unwrap();
        std::fs::rename(folder.path().join("other"), &path).unwrap();
        assert!(!watch.is_saved(start + 11 * QUIET));
        assert!(watch.is_saved(start + 12 * QUIET));
    }
}
