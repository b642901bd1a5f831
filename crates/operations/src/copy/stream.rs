//! One file from a stream, or to one.

use std::sync::Arc;

use bytes::BytesMut;
use lantern_ssh::sftp::{Attributes, FileKind};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

use super::digest::{Growing, digest};
use super::one::open;
use super::part::new_part;
use super::zeros::zeros;
use super::{CopyFault, CopyOptions, CopyWatch, Moved, News, Stop};
use crate::files::{FileFault, Side};

/// Bytes that are read of a stream at once.
const PIECE: usize = 256 * 1024;

/// A stream becomes a file.
///
/// # Errors
/// The stream or the file; it was stopped. What was there is there as it was.
pub async fn copy_in(
    mut stream: impl AsyncRead + Unpin,
    to: &Side,
    path: &[u8],
    options: &CopyOptions,
    watch: Arc<dyn CopyWatch>,
    stop: &Stop,
) -> Result<Moved, CopyFault> {
    let there = to.look(path, true).await?;
    if there.is_some_and(|there| there.kind() == FileKind::Folder) {
        let error = std::io::ErrorKind::IsADirectory.into();
        return Err(FileFault::here("write", String::from_utf8_lossy(path).into_owned(), error).into());
    }
    let part = new_part(path);
    watch.news(News::Begins { number: 0, path, bytes: 0, from: 0 });
    let written = tokio::select! {
        written = write_part(&mut stream, to, &part, there, options, &*watch) => written,
        () = stop.wanted() => Err(CopyFault::Stopped),
    };
    let renamed = match written {
        Ok(moved) => to.rename_over(&part, path).await.map(|()| moved).map_err(CopyFault::from),
        Err(fault) => Err(fault),
    };
    if renamed.is_err() {
        let _ = to.remove(&part).await;
    }
    watch.news(News::Ended { number: 0, path, outcome: renamed.as_ref() });
    renamed
}

async fn write_part(
    stream: &mut (impl AsyncRead + Unpin),
    to: &Side,
    part: &[u8],
    replaces: Option<Attributes>,
    options: &CopyOptions,
    watch: &dyn CopyWatch,
) -> Result<Moved, CopyFault> {
    let mut sink = to.create(part).await?;
    let mut growing = options.verify.then(Growing::new);
    let mut offset = 0;
    loop {
        let mut piece = BytesMut::with_capacity(PIECE);
        let read = stream.read_buf(&mut piece).await;
        if read.map_err(|error| FileFault::here("read", "standard input", error))? == 0 {
            break;
        }
        let piece = vec![piece.freeze()];
        let len = piece.iter().map(|piece| piece.len() as u64).sum::<u64>();
        if let Some(growing) = &mut growing {
            growing.add(offset, &piece);
        }
        sink.write(offset, piece).await?;
        offset += len;
        watch.news(News::Bytes { number: 0, bytes: len });
    }
    let replaced = replaces.and_then(|replaced| replaced.permissions()).map(|mode| mode & 0o777);
    let mode = Some(options.permissions.or(replaced).unwrap_or(0o644));
    sink.finish(Attributes { size: Some(offset), mode, ..Attributes::default() }, true).await?;
    let mut moved = Moved { bytes: offset, ..Moved::default() };
    if let Some(growing) = growing {
        watch.news(News::Verifies { number: 0 });
        if digest(to, part, offset, true).await? != Some(growing.finish(offset)) {
            return Err(CopyFault::Differs { side: to.name().to_owned() });
        }
        moved.verified = true;
    }
    Ok(moved)
}

/// A file goes into a stream. What was written is written, also where it breaks off.
///
/// # Errors
/// The file or the stream; it was stopped.
pub async fn copy_out(
    from: &Side,
    path: &[u8],
    mut stream: impl AsyncWrite + Unpin,
    watch: Arc<dyn CopyWatch>,
    stop: &Stop,
) -> Result<Moved, CopyFault> {
    let mut source = open(from, path).await?;
    let bytes = source.attributes().size.unwrap_or(0);
    watch.news(News::Begins { number: 0, path, bytes, from: 0 });
    let failed = |error| CopyFault::from(FileFault::here("write", "standard output", error));
    let mut at = 0;
    let copied = async {
        while let Some((offset, pieces)) = source.next().await? {
            // What was never written is zeros.
            for piece in zeros(offset.saturating_sub(at)) {
                stream.write_all(&piece).await.map_err(failed)?;
                at += piece.len() as u64;
            }
            for piece in pieces {
                stream.write_all(&piece).await.map_err(failed)?;
                at += piece.len() as u64;
                watch.news(News::Bytes { number: 0, bytes: piece.len() as u64 });
            }
        }
        stream.flush().await.map_err(failed)
    };
    let copied = tokio::select! {
        copied = copied => copied,
        () = stop.wanted() => Err(CopyFault::Stopped),
    };
    let outcome = copied.map(|()| Moved { bytes: at, ..Moved::default() });
    watch.news(News::Ended { number: 0, path, outcome: outcome.as_ref() });
    outcome
}
