//! What a file is called while it is written: beside its place, so that it can be renamed there, and by a name that nobody else has.

use lantern_keys::{RandomSource, SystemRandom};
use lantern_ssh::sftp::{Attributes, FileKind};

use crate::files::{FileFault, Side, join, name_of, parent_of};

/// Longest name of common systems, in bytes.
const LONGEST_NAME: usize = 255;
/// The end of such a name.
const ENDING: &[u8] = b".lantern-part";
/// Digits that nobody else has.
const DIGITS: usize = 8;

/// What all such names of one file begin with.
fn beginning(name: &[u8]) -> Vec<u8> {
    let room = LONGEST_NAME - ENDING.len() - DIGITS - 2 - b"-was".len();
    [b".", name.get(..room).unwrap_or(name), b"."].concat()
}

/// A new name for a file while it is written, by its path.
pub(crate) fn new_part(path: &[u8]) -> Vec<u8> {
    let mut bytes = [0; DIGITS / 2];
    SystemRandom.fill(&mut bytes);
    let digits: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    join(parent_of(path), &[&beginning(name_of(path))[..], digits.as_bytes(), ENDING].concat())
}

/// Whether this is a name of that kind, of this file.
fn is_part_of(name: &[u8], part: &[u8]) -> bool {
    let digits = part.strip_prefix(&beginning(name)[..]).and_then(|rest| rest.strip_suffix(ENDING));
    digits.is_some_and(|digits| digits.len() == DIGITS && digits.iter().all(u8::is_ascii_hexdigit))
}

/// The longest part of a file that is there from before, with what is known of it.
///
/// # Errors
/// Nothing more can be asked.
pub(super) async fn find_part(
    side: &Side,
    path: &[u8],
    at_most: u64,
) -> Result<Option<(Vec<u8>, Attributes)>, FileFault> {
    let folder = parent_of(path);
    let entries = match side.list(if folder.is_empty() { b"." } else { folder }).await {
        Ok(entries) => entries,
        Err(fault) if fault.is_end() => return Err(fault),
        Err(_) => return Ok(None),
    };
    let size = |attributes: &Attributes| attributes.size.unwrap_or(0);
    let parts = entries.into_iter().filter(|entry| {
        entry.kind() == FileKind::Regular
            && is_part_of(name_of(path), &entry.name)
            && (1..=at_most).contains(&size(&entry.attributes))
    });
    let longest = parts.max_by_key(|entry| size(&entry.attributes));
    Ok(longest.map(|entry| (join(folder, &entry.name), entry.attributes)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_stands_beside_its_file_and_is_known_as_its() {
        for path in [&b"/srv/chart.svg"[..], b"x", &[b"/srv/", &[b'n'; 255][..]].concat()] {
            let part = new_part(path);
            assert_eq!(parent_of(&part), parent_of(path));
            assert!(name_of(&part).len() + 4 <= LONGEST_NAME);
            assert!(is_part_of(name_of(path), name_of(&part)));
            assert_ne!(new_part(path), part);
            assert!(!is_part_of(b"other", name_of(&part)));
        }
        assert!(!is_part_of(b"x", b".x.zzzzzzzz.lantern-part"));
    }
}
