//! The kernel's questions, each answered by a task of its own.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Instant, SystemTime};

use bytes::Bytes;
use fuser::{
    BsdFileFlags, Errno, FileHandle, Filesystem, FopenFlags, Generation, INodeNo, InitFlags, KernelConfig,
    LockOwner, OpenFlags as KernelFlags, RenameFlags, ReplyAttr, ReplyCreate, ReplyData, ReplyDirectory,
    ReplyDirectoryPlus, ReplyEmpty, ReplyEntry, ReplyOpen, ReplyStatfs, ReplyWrite, Request, TimeOrNow,
    WriteFlags,
};
use lantern_ssh::sftp::{Attributes, FileKind, OpenFlags};
use tokio::runtime::Handle;

use super::kernel_forms::{BLOCK, attr, done, flags, kind, name, seconds};
use super::tree::RemoteTree;
use super::trouble::Trouble;

/// Bytes that the kernel writes, and reads ahead, at most at once.
const LARGEST: u32 = 1024 * 1024;

/// What is in a folder, as it was when it was opened, since when, and at what moment it was asked for.
type Snapshot = Arc<((Instant, u64), Vec<(Vec<u8>, Attributes)>)>;

/// Answers the kernel.
pub(super) struct RemoteFilesystem {
    tree: Arc<RemoteTree>,
    runtime: Handle,
    owner: (u32, u32),
    folders: Arc<Mutex<HashMap<u64, Snapshot>>>,
    next: AtomicU64,
}

impl RemoteFilesystem {
    /// What is asked is done within that runtime; all files belong to this user and group.
    pub(super) fn new(tree: Arc<RemoteTree>, runtime: Handle, owner: (u32, u32)) -> Self {
        Self { tree, runtime, owner, folders: Arc::default(), next: AtomicU64::new(1) }
    }

    fn answer<F: Future<Output = ()> + Send + 'static>(&self, answer: impl FnOnce(Arc<RemoteTree>) -> F) {
        self.runtime.spawn(answer(self.tree.clone()));
    }
}

/// Answers with a file, or says why not.
fn entry(reply: ReplyEntry, found: Result<(u64, Attributes), Trouble>, tree: &RemoteTree, owner: (u32, u32)) {
    match found {
        Ok((number, attributes)) => {
            reply.entry(&tree.left(number), &attr(number, &attributes, owner), Generation(0));
        }
        Err(trouble) => reply.error(trouble.number()),
    }
}

impl Filesystem for RemoteFilesystem {
    fn init(&mut self, _: &Request, config: &mut KernelConfig) -> std::io::Result<()> {
        // What a kernel does not have, it goes without.
        for wanted in [
            InitFlags::FUSE_ASYNC_READ,
            InitFlags::FUSE_DO_READDIRPLUS,
            InitFlags::FUSE_READDIRPLUS_AUTO,
            InitFlags::FUSE_PARALLEL_DIROPS,
            InitFlags::FUSE_ATOMIC_O_TRUNC,
        ] {
            let _ = config.add_capabilities(wanted);
        }
        let _ = config.set_max_write(LARGEST);
        let _ = config.set_max_readahead(LARGEST);
        Ok(())
    }

    fn lookup(&self, _: &Request, parent: INodeNo, wanted: &OsStr, reply: ReplyEntry) {
        let (wanted, owner) = (name(wanted), self.owner);
        self.answer(async move |tree| entry(reply, tree.find(parent.0, &wanted).await, &tree, owner));
    }

    fn forget(&self, _: &Request, ino: INodeNo, times: u64) {
        self.tree.forget(ino.0, times);
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        let owner = self.owner;
        self.answer(async move |tree| match tree.look(ino.0).await {
            Ok(attributes) => reply.attr(&tree.left(ino.0), &attr(ino.0, &attributes, owner)),
            Err(trouble) => reply.error(trouble.number()),
        });
    }

    fn setattr(
        &self,
        _: &Request,
        ino: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        size: Option<u64>,
        read: Option<TimeOrNow>,
        changed: Option<TimeOrNow>,
        _: Option<SystemTime>,
        _: Option<FileHandle>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<SystemTime>,
        _: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let owner = self.owner;
        // Users of this computer are nobody there.
        if uid.is_some_and(|uid| uid != owner.0) || gid.is_some_and(|gid| gid != owner.1) {
            return reply.error(Errno::EPERM);
        }
        self.answer(async move |tree| {
            let times = match (read, changed) {
                (None, None) => None,
                // The protocol has both or none.
                (read, changed) => {
                    let known = tree.look(ino.0).await.ok().and_then(|known| known.times).unwrap_or_default();
                    Some((read.map_or(known.0, seconds), changed.map_or(known.1, seconds)))
                }
            };
            let attributes = Attributes { size, owner: None, mode: mode.map(|mode| mode & 0o7777), times };
            match tree.change(ino.0, attributes).await {
                Ok(attributes) => reply.attr(&tree.left(ino.0), &attr(ino.0, &attributes, owner)),
                Err(trouble) => reply.error(trouble.number()),
            }
        });
    }

    fn readlink(&self, _: &Request, ino: INodeNo, reply: ReplyData) {
        self.answer(async move |tree| match tree.read_link(ino.0).await {
            Ok(target) => reply.data(&target),
            Err(trouble) => reply.error(trouble.number()),
        });
    }

    fn mkdir(&self, _: &Request, parent: INodeNo, new: &OsStr, mode: u32, umask: u32, reply: ReplyEntry) {
        let (new, owner) = (name(new), self.owner);
        self.answer(async move |tree| {
            entry(reply, tree.make_folder(parent.0, &new, mode & !umask).await, &tree, owner);
        });
    }

    fn unlink(&self, _: &Request, parent: INodeNo, old: &OsStr, reply: ReplyEmpty) {
        let old = name(old);
        self.answer(async move |tree| done(reply, tree.remove(parent.0, &old, false).await));
    }

    fn rmdir(&self, _: &Request, parent: INodeNo, old: &OsStr, reply: ReplyEmpty) {
        let old = name(old);
        self.answer(async move |tree| done(reply, tree.remove(parent.0, &old, true).await));
    }

    fn symlink(&self, _: &Request, parent: INodeNo, link: &OsStr, target: &Path, reply: ReplyEntry) {
        let (link, target, owner) = (name(link), name(target.as_os_str()), self.owner);
        self.answer(async move |tree| {
            entry(reply, tree.make_link(parent.0, &link, &target).await, &tree, owner);
        });
    }

    fn rename(
        &self,
        _: &Request,
        parent: INodeNo,
        old: &OsStr,
        new_parent: INodeNo,
        new: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let (old, new) = (name(old), name(new));
        let may_replace = !flags.contains(RenameFlags::RENAME_NOREPLACE);
        if flags.bits() & !RenameFlags::RENAME_NOREPLACE.bits() != 0 {
            return reply.error(Errno::EINVAL);
        }
        self.answer(async move |tree| {
            done(reply, tree.rename((parent.0, &old), (new_parent.0, &new), may_replace).await);
        });
    }

    fn link(&self, _: &Request, ino: INodeNo, new_parent: INodeNo, new: &OsStr, reply: ReplyEntry) {
        let (new, owner) = (name(new), self.owner);
        self.answer(async move |tree| {
            entry(reply, tree.hard_link(ino.0, new_parent.0, &new).await, &tree, owner);
        });
    }

    fn open(&self, _: &Request, ino: INodeNo, wanted: KernelFlags, reply: ReplyOpen) {
        let wanted = flags(wanted.0);
        self.answer(async move |tree| match tree.open_file(ino.0, wanted).await {
            // What does not say how long it is, is read until it ends.
            Ok((handle, false)) => reply.opened(FileHandle(handle), FopenFlags::FOPEN_DIRECT_IO),
            Ok((handle, true)) => reply.opened(FileHandle(handle), FopenFlags::empty()),
            Err(trouble) => reply.error(trouble.number()),
        });
    }

    fn create(
        &self,
        _: &Request,
        parent: INodeNo,
        new: &OsStr,
        mode: u32,
        umask: u32,
        bits: i32,
        reply: ReplyCreate,
    ) {
        let (new, owner) = (name(new), self.owner);
        let exclusive = u32::try_from(bits)
            .is_ok_and(|bits| rustix::fs::OFlags::from_bits_retain(bits).contains(rustix::fs::OFlags::EXCL));
        let wanted = OpenFlags { create: true, exclusive, ..flags(bits) };
        self.answer(async move |tree| match tree.create(parent.0, &new, mode & !umask, wanted).await {
            Ok((number, attributes, handle)) => reply.created(
                &tree.left(number),
                &attr(number, &attributes, owner),
                Generation(0),
                FileHandle(handle),
                FopenFlags::empty(),
            ),
            Err(trouble) => reply.error(trouble.number()),
        });
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        offset: u64,
        size: u32,
        _: KernelFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        self.answer(async move |tree| match tree.read(handle.0, offset, size).await {
            Ok(bytes) => reply.data(&bytes),
            Err(trouble) => reply.error(trouble.number()),
        });
    }

    fn write(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        offset: u64,
        data: &[u8],
        _: WriteFlags,
        _: KernelFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let data = Bytes::copy_from_slice(data);
        self.answer(async move |tree| {
            let size = u32::try_from(data.len()).unwrap_or(u32::MAX);
            match tree.write(handle.0, offset, data).await {
                Ok(()) => reply.written(size),
                Err(trouble) => reply.error(trouble.number()),
            }
        });
    }

    fn flush(&self, _: &Request, _: INodeNo, handle: FileHandle, _: LockOwner, reply: ReplyEmpty) {
        self.answer(async move |tree| done(reply, tree.flush(handle.0, false).await));
    }

    fn release(
        &self,
        _: &Request,
        _: INodeNo,
        handle: FileHandle,
        _: KernelFlags,
        _: Option<LockOwner>,
        _: bool,
        reply: ReplyEmpty,
    ) {
        self.answer(async move |tree| done(reply, tree.close(handle.0).await));
    }

    fn fsync(&self, _: &Request, _: INodeNo, handle: FileHandle, _: bool, reply: ReplyEmpty) {
        self.answer(async move |tree| done(reply, tree.flush(handle.0, true).await));
    }

    fn opendir(&self, _: &Request, ino: INodeNo, _: KernelFlags, reply: ReplyOpen) {
        let (folders, handle) = (self.folders.clone(), self.next.fetch_add(1, Ordering::Relaxed));
        self.answer(async move |tree| {
            let moment = tree.moment();
            let (listing, since) = match tree.list(ino.0).await {
                Ok(known) => known,
                Err(trouble) => return reply.error(trouble.number()),
            };
            let mut names: Vec<_> = listing.iter().map(|(name, known)| (name.clone(), *known)).collect();
            names.sort_unstable_by(|one, other| one.0.cmp(&other.0));
            folders
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .insert(handle, Arc::new(((since, moment), names)));
            reply.opened(FileHandle(handle), FopenFlags::empty());
        });
    }

    fn readdir(&self, _: &Request, _: INodeNo, handle: FileHandle, offset: u64, mut reply: ReplyDirectory) {
        let Some(snapshot) = self.snapshot(handle) else { return reply.error(Errno::EBADF) };
        for (at, (name, attributes)) in self.behind(&snapshot.1, offset) {
            // Numbers in listings are for those who look at them; files are told by looking them up.
            let number = INodeNo(u64::MAX - at);
            if reply.add(number, at + 1, kind(attributes.kind()), OsStr::from_bytes(&name)) {
                break;
            }
        }
        reply.ok();
    }

    fn readdirplus(
        &self,
        _: &Request,
        ino: INodeNo,
        handle: FileHandle,
        offset: u64,
        mut reply: ReplyDirectoryPlus,
    ) {
        let Some(snapshot) = self.snapshot(handle) else { return reply.error(Errno::EBADF) };
        for (at, (name, attributes)) in self.behind(&snapshot.1, offset) {
            let is_step = matches!(&name[..], b"." | b"..");
            // Each that is told counts as looked up; the steps are not.
            let number =
                if is_step { u64::MAX - at } else { self.tree.told(ino.0, &name, attributes, snapshot.0) };
            // What was changed since the folder was opened is known otherwise, or is to be asked for again.
            let attributes = self.tree.known_of(number).unwrap_or(attributes);
            let lasts = self.tree.left(number);
            let known = attr(number, &attributes, self.owner);
            let name = OsStr::from_bytes(&name);
            if reply.add(INodeNo(number), at + 1, name, &lasts, &known, Generation(0)) {
                if !is_step {
                    self.tree.forget(number, 1);
                }
                break;
            }
        }
        reply.ok();
    }

    fn releasedir(&self, _: &Request, _: INodeNo, handle: FileHandle, _: KernelFlags, reply: ReplyEmpty) {
        self.folders.lock().unwrap_or_else(PoisonError::into_inner).remove(&handle.0);
        reply.ok();
    }

    fn statfs(&self, _: &Request, ino: INodeNo, reply: ReplyStatfs) {
        self.answer(async move |tree| match tree.space(ino.0).await {
            Ok(space) => {
                let unit = u32::try_from(space.unit).unwrap_or(BLOCK).max(1);
                let longest = u32::try_from(space.longest_name).unwrap_or(255);
                let (free, available) = (space.free, space.available);
                reply.statfs(
                    space.units,
                    free,
                    available,
                    space.files,
                    space.files_free,
                    unit,
                    longest,
                    unit,
                );
            }
            // Programs that ask take an empty answer better than none.
            Err(_) => reply.statfs(0, 0, 0, 0, 0, BLOCK, 255, BLOCK),
        });
    }
}

impl RemoteFilesystem {
    fn snapshot(&self, handle: FileHandle) -> Option<Snapshot> {
        self.folders.lock().unwrap_or_else(PoisonError::into_inner).get(&handle.0).cloned()
    }

    /// What follows in a folder, behind so many names, with the place of each; the two steps come first.
    fn behind<'a>(
        &self,
        names: &'a [(Vec<u8>, Attributes)],
        offset: u64,
    ) -> impl Iterator<Item = (u64, (Vec<u8>, Attributes))> + use<'a> {
        let step = |name: &[u8]| (name.to_vec(), Attributes::with_mode(FileKind::Folder.mode_bits() | 0o755));
        let steps = [step(b"."), step(b"..")];
        let begun = usize::try_from(offset).unwrap_or(usize::MAX);
        // Without a look at what was told before: a folder has many pages.
        let rest = names.get(begun.saturating_sub(steps.len())..).unwrap_or_default();
        (offset..).zip(steps.into_iter().skip(begun).chain(rest.iter().cloned()))
    }
}
