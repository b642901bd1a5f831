//! What is copied, and to where: each path that was named, with the path that it gets.

use std::collections::HashSet;

use lantern_ssh::sftp::{Attributes, FileKind};

use crate::files::{FileFault, Side, expand, is_pattern, join, name_of, parent_of};

/// One file or folder that was named, with its place at the destination.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Root {
    /// Its path at the source.
    pub from: Vec<u8>,
    /// What it gets at the destination.
    pub to: Vec<u8>,
    /// What is known of it, behind links.
    pub attributes: Attributes,
}

/// All of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Roots {
    /// Each.
    pub roots: Vec<Root>,
    /// Folders that are to be made for them, those above first.
    pub folders: Vec<Vec<u8>>,
}

/// A destination as it was named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Destination {
    /// The path; empty is the user's home, or the current folder.
    pub path: Vec<u8>,
    /// Whether it is a folder to put things into, even if there is none yet.
    pub is_folder: bool,
}

impl Destination {
    /// What was typed: a slash at its end makes it a folder.
    pub fn of(path: &[u8]) -> Self {
        Self { path: path.to_vec(), is_folder: path.is_empty() || path.ends_with(b"/") }
    }
}

/// Why it cannot be said what is copied to where.
#[derive(Debug, Clone, thiserror::Error)]
pub enum RootsError {
    /// A side.
    #[error(transparent)]
    Fault(#[from] FileFault),
    /// There is no such file.
    #[error("there is no {} on {side}", String::from_utf8_lossy(path))]
    NotFound {
        /// Where it was looked for.
        side: String,
        /// What was named.
        path: Vec<u8>,
    },
    /// A pattern means nothing.
    #[error("nothing on {side} fits {}", String::from_utf8_lossy(path))]
    NothingFits {
        /// Where it was looked for.
        side: String,
        /// What was named.
        path: Vec<u8>,
    },
    /// Several are to become one.
    #[error("several files cannot all become {}, which is no folder", String::from_utf8_lossy(path))]
    NoFolder {
        /// The destination.
        path: Vec<u8>,
    },
    /// A folder is to take the place of a file.
    #[error("{} is a folder, and {} is a file", String::from_utf8_lossy(from), String::from_utf8_lossy(to))]
    FolderOverFile {
        /// The folder.
        from: Vec<u8>,
        /// The file.
        to: Vec<u8>,
    },
    /// Two would have one name.
    #[error("two of what is to be copied would become {}", String::from_utf8_lossy(to))]
    Twice {
        /// The name.
        to: Vec<u8>,
    },
    /// The folder that it would be in is not there.
    #[error("on {side} there is no folder {}", String::from_utf8_lossy(path))]
    NoParent {
        /// Where.
        side: String,
        /// The folder.
        path: Vec<u8>,
    },
    /// It is what it would become.
    #[error("{} on {side} would be copied over itself", String::from_utf8_lossy(path))]
    OverItself {
        /// Where.
        side: String,
        /// The file.
        path: Vec<u8>,
    },
    /// It would be copied into itself, again and again.
    #[error("{} on {side} would be copied into itself", String::from_utf8_lossy(path))]
    IntoItself {
        /// Where.
        side: String,
        /// The folder.
        path: Vec<u8>,
    },
}

/// Finds out what paths mean at the source, and what each becomes at the destination.
///
/// # Errors
/// [`RootsError`].
pub async fn roots(
    from: &Side,
    paths: &[Vec<u8>],
    to: &Side,
    destination: &Destination,
) -> Result<Roots, RootsError> {
    let mut named = Vec::new();
    for path in paths {
        let found = expand(from, path).await?;
        if found.is_empty() {
            return Err(RootsError::NothingFits { side: from.name().to_owned(), path: path.clone() });
        }
        named.extend(found);
    }
    let many = named.len() > 1 || paths.iter().any(|path| is_pattern(path)) && destination.is_folder;
    let there = to.look(&destination.path, true).await?;
    let is_folder = there.is_some_and(|there| there.kind() == FileKind::Folder);
    if many && !is_folder && !destination.is_folder {
        return Err(RootsError::NoFolder { path: destination.path.clone() });
    }
    let into = is_folder || destination.is_folder;
    let mut roots = Vec::new();
    let mut taken = HashSet::new();
    for path in named {
        let Some(attributes) = from.look(&path, true).await? else {
            return Err(RootsError::NotFound { side: from.name().to_owned(), path });
        };
        let mut name = name_of(&path).to_vec();
        if into && name.is_empty() {
            // A root, a home, or the folder above: by the name that it has.
            name = name_of(&from.real_path(&path).await?).to_vec();
        }
        // The same command twice is the same thing: a folder that has its own name at the destination is that one, and not another within it.
        let is_it = !many
            && !destination.is_folder
            && attributes.kind() == FileKind::Folder
            && name == name_of(&destination.path);
        let target = match into && !is_it {
            true => join(&destination.path, &name),
            false => destination.path.clone(),
        };
        if !taken.insert(target.clone()) {
            return Err(RootsError::Twice { to: target });
        }
        let over = if target != destination.path { to.look(&target, true).await? } else { there };
        if attributes.kind() == FileKind::Folder && over.is_some_and(|over| over.kind() != FileKind::Folder) {
            return Err(RootsError::FolderOverFile { from: path, to: target });
        }
        roots.push(Root { from: path, to: target, attributes });
    }
    apart(from, to, &roots).await?;
    let folders = missing_folders(to, destination, is_folder).await?;
    Ok(Roots { roots, folders })
}

/// The folders that are missing on the way to a destination: one that is to be a folder is made, with those above it; one that is to be a file must
/// have its folder.
async fn missing_folders(
    to: &Side,
    destination: &Destination,
    is_there: bool,
) -> Result<Vec<Vec<u8>>, RootsError> {
    let mut missing = Vec::new();
    let trimmed = join(parent_of(&destination.path), name_of(&destination.path));
    let mut path = if destination.is_folder { &trimmed[..] } else { parent_of(&trimmed) };
    while !is_there && !path.is_empty() && path != b"/" && to.look(path, true).await?.is_none() {
        if !destination.is_folder {
            return Err(RootsError::NoParent { side: to.name().to_owned(), path: path.to_vec() });
        }
        missing.push(path.to_vec());
        path = parent_of(path);
    }
    missing.reverse();
    Ok(missing)
}

/// That nothing is copied over itself or into itself.
async fn apart(from: &Side, to: &Side, roots: &[Root]) -> Result<(), RootsError> {
    if from.name() != to.name() {
        return Ok(());
    }
    for root in roots {
        let source = from.real_path(&root.from).await?;
        let mut above = root.to.clone();
        // What is not there yet is in a folder that is.
        let target = loop {
            match to.real_path(&above).await {
                Ok(real) if to.look(&real, true).await?.is_some() => break real,
                Err(fault) if fault.is_end() => return Err(fault.into()),
                _ if above.is_empty() || above == b"/" => break Vec::new(),
                _ => above = parent_of(&above).to_vec(),
            }
        };
        let (side, path) = (from.name().to_owned(), root.from.clone());
        let is_there = above == root.to;
        if source == target && is_there {
            return Err(RootsError::OverItself { side, path });
        }
        let is_folder = root.attributes.kind() == FileKind::Folder;
        if is_folder && (source == target || target.starts_with(&[&source[..], b"/"].concat())) {
            return Err(RootsError::IntoItself { side, path });
        }
    }
    Ok(())
}
