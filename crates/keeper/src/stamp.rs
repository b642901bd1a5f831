//! Whether a file is still the one that was looked at.

use std::fs::metadata;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::SystemTime;

/// When a file or folder was changed last, and its number: files that are replaced within a tick of the clock differ by that.
pub(crate) type Stamp = Option<(SystemTime, u64)>;

/// That of a file; none, where there is no such.
pub(crate) fn stamp(path: &Path) -> Stamp {
    let metadata = metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.ino()))
}
