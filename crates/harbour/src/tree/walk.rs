//! From a path to a file.

use lantern_ssh::sftp::{FileNumber, Refusal, StatusCode, StoreResult};

use super::content::Content;
use super::{Node, Nodes, ROOT, ROOT_USER, refuse};

/// Most links that are followed on one way.
const MAX_LINKS: u32 = 40;
/// What a user wants to do, as in POSIX modes.
pub(super) const READ: u32 = 4;
pub(super) const WRITE: u32 = 2;
pub(super) const ENTER: u32 = 1;

/// Where a path leads: the folder, the name in it, and what has that name.
#[derive(Debug, Clone)]
pub(super) struct Place {
    pub(super) folder: FileNumber,
    pub(super) name: Vec<u8>,
    pub(super) file: Option<FileNumber>,
    /// Absolute, with no links in it but perhaps the last.
    pub(super) path: Vec<u8>,
}

impl Nodes {
    pub(super) fn node(&self, number: FileNumber) -> StoreResult<&Node> {
        self.by_number.get(&number).ok_or_else(|| Refusal::new(StatusCode::NoSuchFile))
    }

    pub(super) fn node_mut(&mut self, number: FileNumber) -> StoreResult<&mut Node> {
        self.by_number.get_mut(&number).ok_or_else(|| Refusal::new(StatusCode::NoSuchFile))
    }

    pub(super) fn names_in(
        &mut self,
        folder: FileNumber,
    ) -> StoreResult<&mut std::collections::BTreeMap<Vec<u8>, FileNumber>> {
        match &mut self.node_mut(folder)?.content {
            Content::Folder(names) => Ok(names),
            _ => refuse(StatusCode::Failure, "not a folder"),
        }
    }

    /// Whether a user may do that with a file.
    pub(super) fn may(&self, user: u32, file: FileNumber, what: u32) -> StoreResult<()> {
        let node = self.node(file)?;
        let shift = match node.owner {
            (owner, _) if owner == user => 6,
            (_, group) if group == user => 3,
            _ => 0,
        };
        match user == ROOT_USER || node.permissions >> shift & what == what {
            true => Ok(()),
            false => Err(Refusal::new(StatusCode::PermissionDenied)),
        }
    }

    /// Walks a path, from a folder where it is relative; the last link only with `follow`.
    pub(super) fn walk(&self, user: u32, home: &[u8], path: &[u8], follow: bool) -> StoreResult<Place> {
        let mut rest: Vec<Vec<u8>> = Vec::new();
        let push = |rest: &mut Vec<Vec<u8>>, path: &[u8]| {
            rest.extend(
                path.split(|byte| *byte == b'/').rev().filter(|part| !part.is_empty()).map(<[u8]>::to_vec),
            );
        };
        push(&mut rest, path);
        if path.first() != Some(&b'/') {
            push(&mut rest, home);
        }
        let mut way: Vec<(FileNumber, Vec<u8>)> = Vec::new();
        let mut links = 0;
        loop {
            let folder = way.last().map_or(ROOT, |(number, _)| *number);
            let Some(name) = rest.pop() else {
                let (file, name) = way.pop().unwrap_or((ROOT, Vec::new()));
                let folder = way.last().map_or(ROOT, |(number, _)| *number);
                return Ok(Place { folder, path: joined(&way, &name), name, file: Some(file) });
            };
            match name.as_slice() {
                b"." => continue,
                b".." => {
                    way.pop();
                    continue;
                }
                _ => {}
            }
            let Content::Folder(names) = &self.node(folder)?.content else {
                return refuse(StatusCode::NoSuchFile, "not a folder");
            };
            self.may(user, folder, ENTER)?;
            let Some(file) = names.get(&name).copied() else {
                return match rest.is_empty() {
                    true => Ok(Place { folder, path: joined(&way, &name), name, file: None }),
                    false => Err(Refusal::new(StatusCode::NoSuchFile)),
                };
            };
            match &self.node(file)?.content {
                Content::Link(target) if follow || !rest.is_empty() => {
                    links += 1;
                    if links > MAX_LINKS {
                        return refuse(StatusCode::Failure, "too many links");
                    }
                    if target.first() == Some(&b'/') {
                        way.clear();
                    }
                    push(&mut rest, target);
                }
                _ => way.push((file, name)),
            }
        }
    }
}

fn joined(way: &[(FileNumber, Vec<u8>)], name: &[u8]) -> Vec<u8> {
    let mut path: Vec<u8> = way.iter().flat_map(|(_, part)| [&b"/"[..], part].concat()).collect();
    path.push(b'/');
    path.extend_from_slice(name);
    path
}
