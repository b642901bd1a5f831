//! The files of a machine as one of its users sees them.

use bytes::Bytes;
use lantern_ssh::sftp::{
    Attributes, FileKind, FileNumber, FileStore, OpenFlags, Refusal, Space, StatusCode, StoreResult,
};

use super::content::Content;
use super::walk::{Place, READ, WRITE};
use super::{Node, Nodes, ROOT_USER, Tree, now, refuse};

/// What the room of a machine is counted in, in bytes.
const UNIT: u64 = 4096;
/// Longest name, in bytes.
const LONGEST_NAME: usize = 255;
/// Largest file, in bytes: memory is what they are made of.
const LARGEST: u64 = 4 << 30;

/// The files, for a user.
#[derive(Debug, Clone, Default)]
pub(crate) struct FilesOfUser {
    tree: Tree,
    user: u32,
    home: Vec<u8>,
}

impl Nodes {
    fn may_be_written(&self) -> StoreResult<()> {
        if self.read_only {
            return refuse(StatusCode::Failure, "read-only file system");
        }
        Ok(())
    }

    fn resize(&mut self, file: FileNumber, len: u64) -> StoreResult<()> {
        let (used, room) = (self.used, self.room);
        let Content::Bytes(bytes) = &mut self.node_mut(file)?.content else {
            return refuse(StatusCode::Failure, "not a file");
        };
        let after = used.saturating_sub(bytes.len() as u64).saturating_add(len);
        if len > bytes.len() as u64 && (after > room || len > LARGEST) {
            return refuse(StatusCode::Failure, "no space left on device");
        }
        bytes.resize(usize::try_from(len).unwrap_or(usize::MAX), 0);
        self.used = after;
        Ok(())
    }

    fn add(
        &mut self,
        user: u32,
        place: &Place,
        content: Content,
        permissions: u32,
    ) -> StoreResult<FileNumber> {
        self.may_be_written()?;
        self.may(user, place.folder, WRITE)?;
        self.may_be_called(&place.name)?;
        if place.name.len() > LONGEST_NAME || place.name.contains(&0) {
            return refuse(StatusCode::Failure, "file name too long");
        }
        let number = self.next;
        self.next += 1;
        let node =
            Node { content, permissions, owner: (user, user), times: (now(), now()), names: 1, open: 0 };
        self.by_number.insert(number, node);
        self.names_in(place.folder)?.insert(place.name.clone(), number);
        Ok(number)
    }

    /// A name goes; the file goes with its last name and its last handle.
    fn unlink(&mut self, place: &Place, file: FileNumber) -> StoreResult<()> {
        self.names_in(place.folder)?.remove(&place.name);
        self.node_mut(file)?.names -= 1;
        self.drop_if_unused(file);
        Ok(())
    }

    fn drop_if_unused(&mut self, file: FileNumber) {
        if let Some(node) = self.by_number.get(&file)
            && node.names == 0
            && node.open == 0
        {
            if let Content::Bytes(bytes) = &node.content {
                self.used -= bytes.len() as u64;
            }
            self.by_number.remove(&file);
        }
    }

    fn change(&mut self, user: u32, file: FileNumber, attributes: Attributes) -> StoreResult<()> {
        self.may_be_written()?;
        let owner = self.node(file)?.owner.0;
        let is_owner = user == ROOT_USER || user == owner;
        let has_drives = self.has_drives;
        if let Some(size) = attributes.size {
            self.may(user, file, WRITE)?;
            self.resize(file, size)?;
        }
        let node = self.node_mut(file)?;
        if (attributes.mode.is_some() || attributes.times.is_some()) && !is_owner
            || attributes.owner.is_some_and(|new| new != node.owner) && user != ROOT_USER
        {
            return Err(Refusal::new(StatusCode::PermissionDenied));
        }
        if !has_drives {
            node.permissions = attributes.permissions().unwrap_or(node.permissions);
        }
        node.times = attributes.times.unwrap_or(node.times);
        node.owner = attributes.owner.unwrap_or(node.owner);
        Ok(())
    }
}

impl FilesOfUser {
    pub(super) fn new(tree: Tree, user: u32, home: Vec<u8>) -> Self {
        Self { tree, user, home }
    }

    /// The same files, as another user sees them.
    pub(crate) fn of_other(&self, user: &str) -> Self {
        self.tree.of_user(user, &[])
    }

    pub(super) fn number(&self) -> u32 {
        self.user
    }

    /// A file with this content, in a tree that is being made.
    pub(crate) fn put_file(&mut self, path: &[u8], content: &[u8], permissions: u32) {
        let flags = OpenFlags { create: true, truncate: true, ..OpenFlags::WRITE };
        if let Ok(file) = self.open(path, flags, Attributes::with_mode(permissions)) {
            let _ = self.write(file, 0, content);
            self.closed(file);
        }
    }

    pub(super) fn put_folder(&mut self, path: &[u8], permissions: u32) {
        let _ = self.make_folder(path, Attributes::with_mode(permissions));
    }

    pub(super) fn give(&mut self, path: &[u8], user: u32) {
        let _ = self.change(path, true, Attributes { owner: Some((user, user)), ..Attributes::default() });
    }

    /// The names in a folder.
    pub(crate) fn names(&mut self, path: &[u8]) -> Vec<String> {
        let names = self.list(path).unwrap_or_default();
        names.into_iter().map(|(name, _)| String::from_utf8_lossy(&name).into_owned()).collect()
    }

    /// The whole of a file, for programs.
    pub(crate) fn whole(&mut self, path: &[u8]) -> Option<Vec<u8>> {
        let file = self.open(path, OpenFlags::READ, Attributes::default()).ok()?;
        let content = self.read(file, 0, usize::MAX).ok();
        self.closed(file);
        content.map(|bytes| bytes.to_vec())
    }

    fn walk(&self, nodes: &Nodes, path: &[u8], follow: bool) -> StoreResult<Place> {
        match nodes.has_drives && path.get(1) == Some(&b':') {
            // A drive is at the top, with a slash in front and without.
            true => nodes.walk(self.user, &self.home, &[b"/", path].concat(), follow),
            false => nodes.walk(self.user, &self.home, path, follow),
        }
    }

    fn find(&self, nodes: &Nodes, path: &[u8], follow: bool) -> StoreResult<FileNumber> {
        self.walk(nodes, path, follow)?.file.ok_or_else(|| Refusal::new(StatusCode::NoSuchFile))
    }
}

impl FileStore for FilesOfUser {
    fn open(&mut self, path: &[u8], flags: OpenFlags, attributes: Attributes) -> StoreResult<FileNumber> {
        let tree = self.tree.clone();
        let mut nodes = tree.lock();
        let place = self.walk(&nodes, path, !flags.exclusive)?;
        let file = match place.file {
            Some(_) if flags.create && flags.exclusive => return refuse(StatusCode::Failure, "it exists"),
            Some(file) => {
                if nodes.node(file)?.kind() == FileKind::Folder {
                    return refuse(StatusCode::Failure, "is a folder");
                }
                if flags.read {
                    nodes.may(self.user, file, READ)?;
                }
                if flags.write || flags.truncate {
                    nodes.may_be_written()?;
                    nodes.may(self.user, file, WRITE)?;
                }
                if flags.truncate {
                    nodes.resize(file, 0)?;
                }
                file
            }
            None if flags.create => {
                let permissions = attributes.permissions().unwrap_or(0o666) & 0o777;
                let permissions = if attributes.mode.is_some() { permissions } else { permissions & !0o022 };
                nodes.add(self.user, &place, Content::Bytes(Vec::new()), permissions)?
            }
            None => return Err(Refusal::new(StatusCode::NoSuchFile)),
        };
        nodes.node_mut(file)?.open += 1;
        Ok(file)
    }

    fn closed(&mut self, file: FileNumber) {
        let mut nodes = self.tree.lock();
        if let Ok(node) = nodes.node_mut(file) {
            node.open = node.open.saturating_sub(1);
        }
        nodes.drop_if_unused(file);
    }

    fn read(&mut self, file: FileNumber, offset: u64, len: usize) -> StoreResult<Bytes> {
        let nodes = self.tree.lock();
        let Content::Bytes(bytes) = &nodes.node(file)?.content else {
            return refuse(StatusCode::Failure, "not a file");
        };
        let from = usize::try_from(offset).unwrap_or(usize::MAX).min(bytes.len());
        let rest = bytes.get(from..).unwrap_or_default();
        Ok(Bytes::copy_from_slice(rest.get(..len).unwrap_or(rest)))
    }

    fn write(&mut self, file: FileNumber, offset: u64, data: &[u8]) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        nodes.may_be_written()?;
        let end = offset.saturating_add(data.len() as u64);
        if end > nodes.node(file)?.content.len() {
            nodes.resize(file, end)?;
        }
        let node = nodes.node_mut(file)?;
        node.times.1 = now();
        let Content::Bytes(bytes) = &mut node.content else {
            return refuse(StatusCode::Failure, "not a file");
        };
        let from = usize::try_from(offset).unwrap_or(usize::MAX);
        if let Some(place) = bytes.get_mut(from..from.saturating_add(data.len())) {
            place.copy_from_slice(data);
        }
        Ok(())
    }

    fn len(&mut self, file: FileNumber) -> StoreResult<u64> {
        Ok(self.tree.lock().node(file)?.content.len())
    }

    fn look_at(&mut self, file: FileNumber) -> StoreResult<Attributes> {
        self.tree.lock().known(file)
    }

    fn change_open(&mut self, file: FileNumber, attributes: Attributes) -> StoreResult<()> {
        self.tree.lock().change(self.user, file, attributes)
    }

    fn look(&mut self, path: &[u8], follow: bool) -> StoreResult<Attributes> {
        let nodes = self.tree.lock();
        nodes.known(self.find(&nodes, path, follow)?)
    }

    fn change(&mut self, path: &[u8], follow: bool, attributes: Attributes) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        let file = self.find(&nodes, path, follow)?;
        nodes.change(self.user, file, attributes)
    }

    fn list(&mut self, path: &[u8]) -> StoreResult<Vec<(Vec<u8>, Attributes)>> {
        let nodes = self.tree.lock();
        let folder = self.find(&nodes, path, true)?;
        let Content::Folder(names) = &nodes.node(folder)?.content else {
            return refuse(StatusCode::Failure, "not a folder");
        };
        nodes.may(self.user, folder, READ)?;
        names.iter().map(|(name, file)| Ok((name.clone(), nodes.known(*file)?))).collect()
    }

    fn remove(&mut self, path: &[u8], folder: bool) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        let place = self.walk(&nodes, path, false)?;
        let Some(file) = place.file else { return Err(Refusal::new(StatusCode::NoSuchFile)) };
        nodes.may_be_written()?;
        nodes.may(self.user, place.folder, WRITE)?;
        match &nodes.node(file)?.content {
            Content::Folder(names) if folder && !names.is_empty() => {
                return refuse(StatusCode::Failure, "folder not empty");
            }
            Content::Folder(_) if !folder => return refuse(StatusCode::Failure, "is a folder"),
            Content::Bytes(_) | Content::Link(_) if folder => {
                return refuse(StatusCode::Failure, "not a folder");
            }
            _ => {}
        }
        nodes.unlink(&place, file)
    }

    fn make_folder(&mut self, path: &[u8], attributes: Attributes) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        let place = self.walk(&nodes, path, false)?;
        if place.file.is_some() {
            return refuse(StatusCode::Failure, "it exists");
        }
        let permissions = attributes.permissions().unwrap_or(0o755);
        nodes.add(self.user, &place, Content::Folder(Default::default()), permissions).map(drop)
    }

    fn rename(&mut self, old: &[u8], new: &[u8], over: bool) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        let (from, to) = (self.walk(&nodes, old, false)?, self.walk(&nodes, new, false)?);
        let Some(file) = from.file else { return Err(Refusal::new(StatusCode::NoSuchFile)) };
        nodes.may_be_called(&to.name)?;
        nodes.may_be_written()?;
        nodes.may(self.user, from.folder, WRITE)?;
        nodes.may(self.user, to.folder, WRITE)?;
        if [&from.path[..], b"/"].concat().len() <= to.path.len()
            && to.path.starts_with(&[&from.path[..], b"/"].concat())
        {
            return refuse(StatusCode::Failure, "it would be within itself");
        }
        match to.file {
            Some(there) if there == file => return Ok(()),
            Some(_) if !over => return refuse(StatusCode::Failure, "it exists"),
            Some(there) => {
                if nodes.node(there)?.kind() == FileKind::Folder {
                    return refuse(StatusCode::Failure, "is a folder");
                }
                nodes.unlink(&to, there)?;
            }
            None => {}
        }
        nodes.names_in(from.folder)?.remove(&from.name);
        nodes.names_in(to.folder)?.insert(to.name.clone(), file);
        Ok(())
    }

    fn read_link(&mut self, path: &[u8]) -> StoreResult<Vec<u8>> {
        let nodes = self.tree.lock();
        match &nodes.node(self.find(&nodes, path, false)?)?.content {
            Content::Link(target) => Ok(target.clone()),
            _ => refuse(StatusCode::Failure, "not a link"),
        }
    }

    fn make_link(&mut self, link: &[u8], target: &[u8]) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        if nodes.has_drives {
            return Err(Refusal::new(StatusCode::Unsupported));
        }
        let place = self.walk(&nodes, link, false)?;
        if place.file.is_some() {
            return refuse(StatusCode::Failure, "it exists");
        }
        nodes.add(self.user, &place, Content::Link(target.to_vec()), 0o777).map(drop)
    }

    fn hard_link(&mut self, old: &[u8], new: &[u8]) -> StoreResult<()> {
        let mut nodes = self.tree.lock();
        let file = self.find(&nodes, old, false)?;
        let place = self.walk(&nodes, new, false)?;
        if place.file.is_some() || nodes.node(file)?.kind() == FileKind::Folder {
            return refuse(StatusCode::Failure, "it exists, or is a folder");
        }
        nodes.may_be_written()?;
        nodes.may(self.user, place.folder, WRITE)?;
        nodes.names_in(place.folder)?.insert(place.name, file);
        nodes.node_mut(file)?.names += 1;
        Ok(())
    }

    fn real_path(&mut self, path: &[u8], expand: bool) -> StoreResult<Vec<u8>> {
        let path = match path.strip_prefix(b"~") {
            Some(rest) if expand => [&self.home[..], rest].concat(),
            _ => path.to_vec(),
        };
        let nodes = self.tree.lock();
        Ok(self.walk(&nodes, &path, true)?.path)
    }

    fn space(&mut self, path: &[u8]) -> StoreResult<Space> {
        let nodes = self.tree.lock();
        self.find(&nodes, path, true)?;
        let free = nodes.room.saturating_sub(nodes.used) / UNIT;
        Ok(Space {
            unit: UNIT,
            units: nodes.room / UNIT,
            free,
            available: free,
            files: u64::from(u32::MAX),
            files_free: u64::from(u32::MAX) - nodes.by_number.len() as u64,
            read_only: nodes.read_only,
            longest_name: LONGEST_NAME as u64,
        })
    }

    fn sync(&mut self, file: FileNumber) -> StoreResult<()> {
        self.tree.lock().node(file).map(drop)
    }
}
