//! What is below a folder.

use std::collections::HashSet;

use lantern_ssh::sftp::{Attributes, FileKind};
use tokio::task::JoinSet;

use super::paths::join;
use super::{Entry, FileFault, Side};

/// Folders that are listed at once.
const AT_ONCE: usize = 32;
/// Most files and folders of one tree: what is known of each takes a few hundred bytes.
pub const MOST_ITEMS: usize = 5_000_000;
/// Bytes that their paths may take together: where each folder is in another, paths grow with each.
const MOST_BYTES: usize = 512 * 1024 * 1024;
/// Deepest folder below the first: what systems take as one path is 4096 bytes.
const DEEPEST: usize = 1024;

/// A file or a folder of a tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TreeItem {
    /// Its path below the first folder, which is empty for that itself.
    pub below: Vec<u8>,
    /// What is known of it; of a link itself.
    pub attributes: Attributes,
}

impl TreeItem {
    /// What kind of file it is.
    pub fn kind(&self) -> FileKind {
        self.attributes.kind()
    }
}

/// Why a tree cannot be walked.
#[derive(Debug, Clone, thiserror::Error)]
pub enum TreeError {
    /// The machine, or the disk.
    #[error(transparent)]
    Fault(#[from] FileFault),
    /// It has more than anybody meant.
    #[error("there are more than {MOST_ITEMS} files below it, or their paths are too long to be kept")]
    TooMany,
}

/// Everything below a folder, folders before what is in them. Folders that cannot be listed are told to `on_fault`, and the rest goes on. A name that
/// a folder says it has twice counts once: nobody knows which of the two a path would lead to. `on_found` hears how many there are so far.
///
/// # Errors
/// Nothing more can be asked; there are too many.
pub async fn walk(
    side: &Side,
    root: &[u8],
    mut on_fault: impl FnMut(&[u8], FileFault),
    mut on_found: impl FnMut(usize),
) -> Result<Vec<TreeItem>, TreeError> {
    let mut items: Vec<TreeItem> = Vec::new();
    let mut bytes = 0_usize;
    let mut waiting: Vec<(Vec<u8>, usize)> = vec![(Vec::new(), 0)];
    let mut listing = JoinSet::new();
    loop {
        while listing.len() < AT_ONCE
            && let Some((below, depth)) = waiting.pop()
        {
            let (side, path) = (side.clone(), join(root, &below));
            listing.spawn(async move {
                let path = if path.is_empty() { b".".to_vec() } else { path };
                let listed = side.list(&path).await;
                (below, depth, listed)
            });
        }
        let Some(listed) = listing.join_next().await else { break };
        let Ok((below, depth, listed)) = listed else { continue };
        let entries = match listed {
            Ok(entries) => entries,
            Err(fault) if fault.is_end() => return Err(fault.into()),
            Err(fault) => {
                on_fault(&below, fault);
                continue;
            }
        };
        for entry in sorted(entries) {
            let path = join(&below, &entry.name);
            if entry.kind() == FileKind::Folder && depth < DEEPEST {
                waiting.push((path.clone(), depth + 1));
            }
            bytes += path.len();
            items.push(TreeItem { below: path, attributes: entry.attributes });
        }
        if items.len() > MOST_ITEMS || bytes > MOST_BYTES {
            return Err(TreeError::TooMany);
        }
        on_found(items.len());
    }
    items.sort_by(|one, other| one.below.cmp(&other.below));
    Ok(items)
}

fn sorted(mut entries: Vec<Entry>) -> Vec<Entry> {
    let mut seen = HashSet::new();
    entries.retain(|entry| seen.insert(entry.name.clone()));
    entries
}
