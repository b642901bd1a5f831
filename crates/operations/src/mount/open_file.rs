//! An open file: read ahead of whoever reads it in order, written behind whoever writes it, opened anew when the connection was lost.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use bytes::{Bytes, BytesMut};
use lantern_link::{FilesError, RandomAccess};
use lantern_ssh::sftp::OpenFlags;
use tokio::sync::{Mutex, OwnedSemaphorePermit, Semaphore};
use tokio::task::{JoinHandle, JoinSet};

/// Bytes that are read at once ahead.
const PIECE: u32 = 256 * 1024;
/// Bytes that are read when a file is opened, before anybody asks: all there is of most sources, and what every server gives in one answer
/// (draft-ietf-secsh-filexfer-02 section 3).
const FIRST: u32 = 32 * 1024;
/// Pieces ahead of a reader, at most: what a line of 100 ms and 40 MB/s holds.
const AHEAD: usize = 16;
/// Bytes that may wait to be written, in units of [`UNIT`]: 8 MiB.
const BEHIND: usize = 128;
/// What they are counted in.
const UNIT: usize = 64 * 1024;

/// Pieces that all files together may have ahead: 64 MiB. A file may always have one.
const AHEAD_OF_ALL: usize = 256;
/// What all files together may have behind, in units of [`UNIT`]: 64 MiB.
const BEHIND_OF_ALL: usize = 1024;

/// The memory that open files share.
#[derive(Debug, Clone)]
pub(super) struct Room {
    ahead: Arc<Semaphore>,
    behind: Arc<Semaphore>,
}

impl Default for Room {
    fn default() -> Self {
        Self {
            ahead: Arc::new(Semaphore::new(AHEAD_OF_ALL)),
            behind: Arc::new(Semaphore::new(BEHIND_OF_ALL)),
        }
    }
}

/// An open file.
pub(super) struct OpenFile {
    /// Its number.
    pub(super) node: u64,
    /// How it is opened anew.
    pub(super) flags: OpenFlags,
    file: Mutex<RandomAccess>,
    ahead: Mutex<Ahead>,
    room: Arc<Semaphore>,
    shared: Room,
    writes: Mutex<JoinSet<Result<(), FilesError>>>,
    /// The first write that failed and was not told yet.
    failed: std::sync::Mutex<Option<FilesError>>,
    /// Whether the file was changed through another handle, so that what was read ahead is old.
    is_stale: AtomicBool,
    /// Whether anything was written since somebody asked.
    was_written: AtomicBool,
}

/// What came of a read.
async fn came(task: JoinHandle<Result<Bytes, FilesError>>) -> Result<Bytes, FilesError> {
    let broke_off = |_| FilesError::Ended { machine: String::new(), said: "a read broke off".to_owned() };
    task.await.map_err(broke_off)?
}

/// What is read before anybody asks.
#[derive(Default)]
struct Ahead {
    /// Where a reader that reads in order goes on.
    next: u64,
    /// Pieces that are read, or being read, in order; the first begins at `from`.
    pieces: VecDeque<Piece>,
    from: u64,
    /// Pieces that are to be ahead.
    wanted: usize,
    /// Whether the end has been met.
    at_end: bool,
}

enum Piece {
    /// A whole one, which is less only where the file ends.
    UnderWay(JoinHandle<Result<Bytes, FilesError>>, Option<OwnedSemaphorePermit>),
    /// The beginning, as much as one answer brings. Nothing is asked for behind it before that has come.
    Beginning(JoinHandle<Result<Bytes, FilesError>>, OwnedSemaphorePermit),
    There(Bytes, Option<OwnedSemaphorePermit>),
}

impl Drop for Ahead {
    fn drop(&mut self) {
        self.drop_pieces();
    }
}

impl Ahead {
    fn drop_pieces(&mut self) {
        for piece in self.pieces.drain(..) {
            if let Piece::UnderWay(task, _) | Piece::Beginning(task, _) = piece {
                task.abort();
            }
        }
        (self.wanted, self.at_end) = (0, false);
    }
}

impl OpenFile {
    pub(super) fn new(node: u64, flags: OpenFlags, file: RandomAccess, shared: Room) -> Self {
        Self {
            node,
            flags: OpenFlags { create: false, exclusive: false, truncate: false, ..flags },
            file: Mutex::new(file),
            ahead: Mutex::default(),
            room: Arc::new(Semaphore::new(BEHIND)),
            shared,
            writes: Mutex::default(),
            failed: std::sync::Mutex::new(None),
            is_stale: AtomicBool::new(false),
            was_written: AtomicBool::new(false),
        }
    }

    /// The file, unless it is to be opened anew.
    pub(super) async fn file(&self) -> Option<RandomAccess> {
        Some(self.file.lock().await.clone()).filter(|file| !file.is_over())
    }

    /// It was opened anew.
    pub(super) async fn replace(&self, file: RandomAccess) {
        *self.file.lock().await = file;
        self.ahead.lock().await.drop_pieces();
    }

    fn failed(&self) -> std::sync::MutexGuard<'_, Option<FilesError>> {
        self.failed.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The file was changed, through this handle or another: what was read ahead is old.
    pub(super) fn is_changed(&self) {
        self.is_stale.store(true, Ordering::Release);
    }

    /// Reads, by what was read ahead where that is it.
    pub(super) async fn read(&self, file: &RandomAccess, offset: u64, len: u32) -> Result<Bytes, FilesError> {
        // What was written is what is read.
        self.settle().await?;
        let mut ahead = self.ahead.lock().await;
        if self.is_stale.swap(false, Ordering::AcqRel) || offset != ahead.next {
            ahead.drop_pieces();
            let bytes = file.read_at(offset, len).await?;
            (ahead.next, ahead.from) = (offset + bytes.len() as u64, offset + bytes.len() as u64);
            return Ok(bytes);
        }
        // What breaks off in the middle is not gone on with: the next read begins anew.
        ahead.next = u64::MAX;
        ahead.wanted = (ahead.wanted * 2).clamp(1, AHEAD);
        let mut out = BytesMut::new();
        let mut left = len as usize;
        while left > 0 {
            self.fill(&mut ahead, file);
            let Some(piece) = ahead.pieces.pop_front() else { break };
            let (mut bytes, permit) = match piece {
                Piece::There(bytes, permit) => (bytes, permit),
                Piece::UnderWay(task, permit) => {
                    let bytes = came(task).await?;
                    if bytes.len() < PIECE as usize {
                        // Where a file ends now, it may not end in a moment: what is behind it is asked for again then.
                        ahead.pieces.clear();
                        ahead.at_end = true;
                    }
                    (bytes, permit)
                }
                Piece::Beginning(task, permit) => {
                    let bytes = came(task).await?;
                    ahead.at_end = bytes.is_empty();
                    (bytes, Some(permit))
                }
            };
            let part = bytes.split_to(bytes.len().min(left));
            left -= part.len();
            ahead.from += part.len() as u64;
            out.extend_from_slice(&part);
            if !bytes.is_empty() {
                ahead.pieces.push_front(Piece::There(bytes, permit));
            } else if ahead.at_end {
                break;
            }
        }
        ahead.next = offset + out.len() as u64;
        if ahead.at_end && ahead.pieces.is_empty() {
            ahead.drop_pieces();
            ahead.from = ahead.next;
        }
        Ok(out.freeze())
    }

    /// Has as many pieces under way as are wanted.
    fn fill(&self, ahead: &mut Ahead, file: &RandomAccess) {
        let begins = |ahead: &Ahead| matches!(ahead.pieces.front(), Some(Piece::Beginning(..)));
        while !ahead.at_end && !begins(ahead) && ahead.pieces.len() < ahead.wanted.max(1) {
            // Where others have all there is, one piece is what a reader goes on with.
            let permit = self.shared.ahead.clone().try_acquire_owned().ok();
            if permit.is_none() && !ahead.pieces.is_empty() {
                break;
            }
            // Only the first may be less than a whole one: the rest of what was taken from.
            let before: u64 = ahead
                .pieces
                .iter()
                .map(|piece| match piece {
                    Piece::There(bytes, _) => bytes.len() as u64,
                    Piece::UnderWay(..) => u64::from(PIECE),
                    Piece::Beginning(..) => u64::from(FIRST),
                })
                .sum();
            let (file, at) = (file.clone(), ahead.from + before);
            let task = tokio::spawn(async move { file.read_at(at, PIECE).await });
            ahead.pieces.push_back(Piece::UnderWay(task, permit));
        }
    }

    /// Asks for the beginning of the file, which was opened just now: it is on its way when this returns.
    pub(super) async fn begin_to_read(&self, file: &RandomAccess) {
        if let Ok(permit) = self.shared.ahead.clone().try_acquire_owned() {
            let file = file.clone();
            let task = tokio::spawn(async move { file.read_some(0, FIRST).await });
            self.ahead.lock().await.pieces.push_back(Piece::Beginning(task, permit));
            // It puts its question before whoever goes on puts theirs.
            tokio::task::yield_now().await;
        }
    }

    /// Whether anything was written since this was asked last.
    pub(super) fn was_written(&self) -> bool {
        self.was_written.swap(false, Ordering::AcqRel)
    }

    /// Writes, behind whoever asks for it. What failed before is told now.
    pub(super) async fn write(
        &self,
        file: &RandomAccess,
        offset: u64,
        data: Bytes,
    ) -> Result<(), FilesError> {
        self.was_written.store(true, Ordering::Release);
        if let Some(error) = self.failed().take() {
            return Err(error);
        }
        let units = u32::try_from(data.len().div_ceil(UNIT).clamp(1, BEHIND)).unwrap_or(1);
        let own = self.room.clone().acquire_many_owned(units).await.ok();
        let shared = self.shared.behind.clone().acquire_many_owned(units).await.ok();
        let mut writes = self.writes.lock().await;
        let under_way = file.write_at(offset, data)?;
        writes.spawn(async move {
            let _permits = (own, shared);
            under_way.ended().await
        });
        // Those that have ended are not kept until the end.
        while let Some(ended) = writes.try_join_next() {
            self.note(ended);
        }
        Ok(())
    }

    fn note(&self, ended: Result<Result<(), FilesError>, tokio::task::JoinError>) {
        if let Ok(Err(error)) = ended {
            self.failed().get_or_insert(error);
        }
    }

    /// Waits until everything is written; what failed is told to whoever has it open.
    pub(super) async fn wait(&self) {
        let mut writes = self.writes.lock().await;
        while let Some(ended) = writes.join_next().await {
            self.note(ended);
        }
    }

    /// The same.
    ///
    /// # Errors
    /// The first write that failed, once.
    pub(super) async fn settle(&self) -> Result<(), FilesError> {
        self.wait().await;
        self.failed().take().map_or(Ok(()), Err)
    }
}
