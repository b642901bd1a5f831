//! A file that is read, here or there: its bytes in order.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use bytes::{Bytes, BytesMut};
use lantern_link::FileReader;
use lantern_ssh::sftp::Attributes;
use rustix::fs::SeekFrom;
use tokio::sync::mpsc;

use super::{FileFault, here};

/// Bytes that are read of a file here at once.
const PIECE: usize = 256 * 1024;
/// Pieces that are read ahead of whoever takes them.
const AHEAD: usize = 4;
/// Most bytes that are taken of a file here that has no size, as those of `/proc`.
const MOST_WITHOUT_SIZE: u64 = 256 * 1024 * 1024;

type Read = Result<(u64, Bytes), io::Error>;

/// A file that is read.
pub enum Source {
    /// Here.
    Here {
        /// Which.
        path: PathBuf,
        /// What was known of it when it was opened.
        attributes: Attributes,
        /// Its bytes, from a thread that reads them.
        pieces: mpsc::Receiver<Read>,
    },
    /// There.
    There(Box<FileReader>),
}

impl Source {
    pub(super) async fn here(path: PathBuf, from: u64) -> Result<Self, FileFault> {
        let (file, attributes) = here::off_thread("read", path.clone(), |path| {
            let file = File::open(path)?;
            let metadata = file.metadata()?;
            if metadata.is_dir() {
                return Err(io::ErrorKind::IsADirectory.into());
            }
            Ok((file, here::attributes(&metadata)))
        })
        .await?;
        let (sender, pieces) = mpsc::channel(AHEAD);
        let size = attributes.size.unwrap_or(0);
        tokio::task::spawn_blocking(move || read_all(&file, from, size, &sender));
        Ok(Self::Here { path, attributes, pieces })
    }

    /// What was known of it when it was opened.
    pub fn attributes(&self) -> Attributes {
        match self {
            Self::Here { attributes, .. } => *attributes,
            Self::There(reader) => reader.attributes(),
        }
    }

    /// The next bytes, with where they are in the file: where nothing was written to it, some are left out. None at its end.
    ///
    /// # Errors
    /// It cannot be read.
    pub async fn next(&mut self) -> Result<Option<(u64, Vec<Bytes>)>, FileFault> {
        match self {
            Self::Here { path, pieces, .. } => match pieces.recv().await {
                Some(Ok((offset, piece))) => Ok(Some((offset, vec![piece]))),
                Some(Err(error)) => Err(FileFault::here("read", path.clone(), error)),
                None => Ok(None),
            },
            Self::There(reader) => Ok(reader.next().await?),
        }
    }

    /// What is known of it now.
    ///
    /// # Errors
    /// That cannot be told.
    pub async fn look(&self) -> Result<Attributes, FileFault> {
        match self {
            Self::Here { path, .. } => {
                here::off_thread("look at", path.clone(), |path| {
                    Ok(here::attributes(&std::fs::metadata(path)?))
                })
                .await
            }
            Self::There(reader) => Ok(reader.look().await?),
        }
    }
}

/// Reads a file to its end, as it was when it was opened.
fn read_all(file: &File, from: u64, size: u64, sender: &mpsc::Sender<Read>) {
    let has_size = size > 0;
    let end = if has_size { size } else { from.saturating_add(MOST_WITHOUT_SIZE) };
    let mut offset = from;
    while offset < end {
        if has_size {
            match next_data(file, offset) {
                Some(data) if data >= end => return,
                Some(data) => offset = data.max(offset),
                None => {}
            }
        }
        let len = usize::try_from(end - offset).unwrap_or(PIECE).min(PIECE);
        let mut piece = BytesMut::zeroed(len);
        let read = match file.read_at(&mut piece, offset) {
            Ok(0) => return,
            Ok(read) => read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return drop(sender.blocking_send(Err(error))),
        };
        piece.truncate(read);
        if sender.blocking_send(Ok((offset, piece.freeze()))).is_err() {
            return;
        }
        offset += read as u64;
    }
    if !has_size && matches!(file.read_at(&mut [0], offset), Ok(1)) {
        let error = io::Error::other("it says that it has no size, and does not end");
        drop(sender.blocking_send(Err(error)));
    }
}

/// Where data begins behind this place; none where the system cannot tell.
fn next_data(file: &File, offset: u64) -> Option<u64> {
    match rustix::fs::seek(file, SeekFrom::Data(offset)) {
        Ok(data) => Some(data),
        // Nothing but emptiness up to the end (POSIX.1-2024 lseek).
        Err(rustix::io::Errno::NXIO) => Some(u64::MAX),
        Err(_) => None,
    }
}
