//! Files that are open.

use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use fuser::Errno;
use lantern_link::RandomAccess;
use lantern_ssh::sftp::{Attributes, OpenFlags};

use super::{Done, RemoteTree, asking};
use crate::mount::open_file::OpenFile;
use crate::mount::trouble::Trouble;

/// Most files that are open at once.
const MOST_OPEN: usize = 4096;
/// Over how many connections more a read is tried that were lost one after the other.
const TRIES: u32 = 3;

impl RemoteTree {
    fn hold(&self, open: OpenFile) -> Done<u64> {
        let mut all = self.open();
        if all.files.len() >= MOST_OPEN {
            return Err(Trouble::Rule(Errno::EMFILE));
        }
        all.next += 1;
        let handle = all.next;
        all.files.insert(handle, Arc::new(open));
        Ok(handle)
    }

    fn held(&self, handle: u64) -> Done<Arc<OpenFile>> {
        self.open().files.get(&handle).cloned().ok_or(Trouble::Rule(Errno::EBADF))
    }

    /// Opens a file; its handle, and whether it says how long it is, so that its bytes may be kept by whoever asks.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn open_file(&self, number: u64, flags: OpenFlags) -> Done<(u64, bool)> {
        if flags.write || flags.truncate {
            self.may_write()?;
        }
        self.settle(number).await;
        let path = self.path(number)?;
        let file = asking!(self, files => files.open_anywhere(&path, flags, None))?;
        // What it is now, and not what was known of it.
        let moment = self.known().moment();
        let attributes = file.look().await?;
        self.known().learn(number, attributes, (Instant::now(), moment));
        let has_size = attributes.size.is_some_and(|size| size > 0) || flags.write;
        Ok((self.hold(OpenFile::new(number, flags, file, self.room.clone()))?, has_size))
    }

    /// Makes a file and opens it.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn create(
        &self,
        parent: u64,
        name: &[u8],
        permissions: u32,
        flags: OpenFlags,
    ) -> Done<(u64, Attributes, u64)> {
        self.may_write()?;
        let path = self.path_in(parent, name)?;
        let files = self.line.files().await?;
        let made = files.open_anywhere(&path, flags, Some(permissions & 0o7777)).await;
        let number = if flags.exclusive { Errno::EEXIST } else { Errno::EIO };
        let file = self.explained(made, &files, &path, number).await?;
        self.changed(parent);
        let moment = self.known().moment();
        let attributes = file.look().await?;
        let (number, attributes) = self.tell(parent, name, attributes, moment);
        let handle = self.hold(OpenFile::new(number, flags, file, self.room.clone()))?;
        Ok((number, attributes, handle))
    }

    /// The file behind a handle, opened anew where the connection was lost.
    async fn file(&self, open: &OpenFile) -> Done<RandomAccess> {
        if let Some(file) = open.file().await {
            return Ok(file);
        }
        let path = self.path(open.node)?;
        let file = asking!(self, files => files.open_anywhere(&path, open.flags, None))?;
        open.replace(file.clone()).await;
        Ok(file)
    }

    /// Reads of an open file.
    ///
    /// # Errors
    /// The machine's refusal; what could not be written before.
    pub async fn read(&self, handle: u64, offset: u64, len: u32) -> Done<Bytes> {
        let open = self.held(handle)?;
        let mut tries = 0;
        loop {
            let file = self.file(&open).await?;
            match open.read(&file, offset, len).await {
                Err(error) if error.is_end() && tries < TRIES => tries += 1,
                read => return Ok(read?),
            }
        }
    }

    /// Writes to an open file: it is on its way when this returns, and how it went is told by the next write, or when the file is closed.
    ///
    /// # Errors
    /// A write before it failed.
    pub async fn write(&self, handle: u64, offset: u64, data: Bytes) -> Done<()> {
        let open = self.held(handle)?;
        self.known().forget(open.node);
        self.is_changed(open.node);
        let parent = self.parent(open.node);
        self.changed(parent);
        let file = self.file(&open).await?;
        Ok(open.write(&file, offset, data).await?)
    }

    /// Waits until everything is written; brings it to disk with `sync`.
    ///
    /// # Errors
    /// What could not be written.
    pub async fn flush(&self, handle: u64, sync: bool) -> Done<()> {
        let open = self.held(handle)?;
        if !open.flags.write {
            return Ok(());
        }
        open.settle().await?;
        self.known().forget(open.node);
        if sync {
            self.file(&open).await?.sync().await?;
        }
        Ok(())
    }

    /// Closes a handle.
    ///
    /// # Errors
    /// What could not be written.
    pub async fn close(&self, handle: u64) -> Done<()> {
        let Some(open) = self.open().files.remove(&handle) else { return Ok(()) };
        let settled = open.settle().await;
        self.known().forget(open.node);
        if let Some(file) = open.file().await {
            file.close().await?;
        }
        Ok(settled?)
    }

    /// Waits until all that was written is there: before it is left.
    pub async fn settle_all(&self) {
        let all: Vec<_> = self.open().files.values().cloned().collect();
        for open in all {
            open.wait().await;
        }
    }
}
