//! A file that is written, here or there.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use bytes::Bytes;
use lantern_link::FileWriter;
use lantern_ssh::sftp::Attributes;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use super::{FileFault, here};

/// Pieces that wait for the disk.
const WAITING: usize = 8;

/// A file that is written.
pub enum Sink {
    /// Here.
    Here {
        /// Which.
        path: PathBuf,
        /// To the thread that writes.
        pieces: mpsc::Sender<(u64, Bytes)>,
        /// What came of it.
        written: JoinHandle<io::Result<File>>,
    },
    /// There.
    There(Box<FileWriter>),
}

impl Sink {
    pub(super) fn here(path: PathBuf, file: File) -> Self {
        let (pieces, mut receiver) = mpsc::channel::<(u64, Bytes)>(WAITING);
        let written = tokio::task::spawn_blocking(move || {
            while let Some((offset, piece)) = receiver.blocking_recv() {
                file.write_all_at(&piece, offset)?;
            }
            Ok(file)
        });
        Self::Here { path, pieces, written }
    }

    /// Hands bytes over that are to be there from this offset on.
    ///
    /// # Errors
    /// What was handed over before could not be written.
    pub async fn write(&mut self, mut offset: u64, pieces: Vec<Bytes>) -> Result<(), FileFault> {
        for piece in pieces {
            let len = piece.len() as u64;
            match self {
                Self::Here { path, pieces, written } => {
                    if pieces.send((offset, piece)).await.is_err() {
                        return Err(failed(path.clone(), written).await);
                    }
                }
                Self::There(writer) => writer.write(offset, piece).await?,
            }
            offset += len;
        }
        Ok(())
    }

    /// Waits until everything is written, gives the file these attributes, with its size, and brings it to disk.
    ///
    /// # Errors
    /// It could not all be written.
    pub async fn finish(self, attributes: Attributes, sync: bool) -> Result<(), FileFault> {
        match self {
            Self::Here { path, pieces, mut written } => {
                drop(pieces);
                let file = match (&mut written).await {
                    Ok(Ok(file)) => file,
                    Ok(Err(error)) => return Err(FileFault::here("write", path, error)),
                    Err(error) => return Err(FileFault::here("write", path, io::Error::other(error))),
                };
                here::off_thread("write", path, move |_| {
                    if let Some(size) = attributes.size {
                        file.set_len(size)?;
                    }
                    here::change_open(&file, attributes)?;
                    if sync { file.sync_all() } else { Ok(()) }
                })
                .await
            }
            Self::There(writer) => Ok(writer.finish(attributes, sync).await?),
        }
    }
}

/// Why the thread that writes has ended.
async fn failed(path: PathBuf, written: &mut JoinHandle<io::Result<File>>) -> FileFault {
    let error = match written.await {
        Ok(Ok(_)) => io::Error::other("it ended too soon"),
        Ok(Err(error)) => error,
        Err(error) => io::Error::other(error),
    };
    FileFault::here("write", path, error)
}
