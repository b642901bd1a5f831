//! Files that are open.

use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use fuser::Errno;
use lantern_link::RandomAccess;
use lantern_ssh::sftp::{Attributes, FileKind, OpenFlags};

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
        if flags.truncate {
            self.file_changed(number);
        }
        let mut tries = 0;
        loop {
            let file = asking!(self, files => files.open_anywhere(&path, flags, None))?;
            if flags.truncate {
                self.file_changed(number);
                self.is_changed(number);
            }
            let open = OpenFile::new(number, flags, file.clone(), self.room.clone());
            if !flags.write {
                // Whoever opens it reads it: its beginning comes together with what it is now, which is not what was known of it.
                open.begin_to_read(&file).await;
            }
            let (now, moment) = (Instant::now(), self.known().moment());
            let attributes = match file.look().await {
                Err(error) if error.is_end() && tries < TRIES => {
                    tries += 1;
                    continue;
                }
                known => known?,
            };
            self.known().learn(number, attributes, (now, moment));
            let has_size = attributes.size.is_some_and(|size| size > 0) || flags.write;
            return Ok((self.hold(open)?, has_size));
        }
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
        self.doubt(parent, name);
        let (now, moment) = (Instant::now(), self.known().moment());
        // Both are on their way at once. What is empty was made, or emptied, by this; whatever else is there now is asked about by its handle.
        let (made, seen) = tokio::join!(
            files.open_anywhere(&path, flags, Some(permissions & 0o7777)),
            files.look_at_link(&path)
        );
        let number = if flags.exclusive { Errno::EEXIST } else { Errno::EIO };
        let file = self.explained(made, &files, &path, number).await?;
        let is_new = |seen: &Attributes| seen.kind() == FileKind::Regular && seen.size == Some(0);
        let attributes = match seen.ok().filter(is_new) {
            Some(attributes) => attributes,
            None => file.look().await?,
        };
        let (number, attributes) = self.tell(parent, name, attributes, (now, moment));
        self.now_is(parent, name, Some(attributes));
        self.is_changed(number);
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
        // Systems ask for whole pages. Behind the end that they were told of, nothing is asked for, which would be a round trip to hear of nothing.
        let size = self.known_of(open.node).and_then(|known| known.size);
        let left = size.and_then(|size| size.checked_sub(offset)).filter(|left| *left > 0);
        let len = left.and_then(|left| u32::try_from(left).ok()).map_or(len, |left| len.min(left));
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
        let end = offset.saturating_add(data.len() as u64);
        self.known().written(open.node, end, Instant::now());
        let place = self.nodes().place(open.node);
        if let Some((parent, name)) = place {
            self.known().doubt(parent, &name);
        }
        self.is_changed(open.node);
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
        let settled = open.settle().await;
        if open.was_written() {
            // Its time is that of the machine, and where a write failed, its length is what it was.
            self.file_changed(open.node);
        }
        settled?;
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
        if open.was_written() {
            self.file_changed(open.node);
        }
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
