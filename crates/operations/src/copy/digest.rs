//! What a file holds, in 32 bytes: computed where the file is, or from what is read of it.

use aws_lc_rs::digest::{Context, SHA256};
use lantern_link::remote_digest::digest_there;
use lantern_ssh::sftp::Extension;

use crate::files::{FileFault, Side, Source};

/// Zeros for what was never written, in bytes.
static ZEROS: [u8; 64 * 1024] = [0; 64 * 1024];

/// What has no more bytes than this is read back where that may be done.
const READ_BACK: u64 = 1024 * 1024;

/// SHA-256 of a file, or of its beginning.
pub type Digest = [u8; 32];

/// A digest that grows with what is read, holes as the zeros that they are read as.
pub(super) struct Growing {
    context: Context,
    at: u64,
}

impl Growing {
    pub(super) fn new() -> Self {
        Self { context: Context::new(&SHA256), at: 0 }
    }

    /// These bytes are there.
    pub(super) fn add(&mut self, offset: u64, pieces: &[bytes::Bytes]) {
        self.fill(offset);
        for piece in pieces {
            self.context.update(piece);
            self.at += piece.len() as u64;
        }
    }

    fn fill(&mut self, up_to: u64) {
        while self.at < up_to {
            let len = usize::try_from(up_to - self.at).unwrap_or(usize::MAX).min(ZEROS.len());
            self.context.update(ZEROS.get(..len).unwrap_or_default());
            self.at += len as u64;
        }
    }

    /// The digest, of a file that ends there.
    pub(super) fn finish(mut self, end: u64) -> Digest {
        self.fill(end);
        let digest = self.context.finish();
        let mut bytes = Digest::default();
        bytes.iter_mut().zip(digest.as_ref()).for_each(|(place, byte)| *place = *byte);
        bytes
    }
}

/// The digest of the first bytes of a file: on a machine by a program there, and where it has none, from what is read of it if `read_back` says so; none
/// otherwise.
///
/// # Errors
/// The file cannot be read; no answer.
pub async fn digest(
    side: &Side,
    path: &[u8],
    len: u64,
    read_back: bool,
) -> Result<Option<Digest>, FileFault> {
    // What is small is sooner read than a program is started.
    if let Side::There(machine) = side
        && (!read_back || len > READ_BACK)
    {
        if machine.files.has(Extension::CheckFile) {
            match machine.files.digest(path, len).await {
                Ok(digest) => return Ok(Some(digest)),
                Err(error) if error.is_end() => return Err(error.into()),
                Err(_) => {}
            }
        }
        let path = machine.files.real_path(path).await?;
        let _turn = machine.turn().await;
        // Programs there run as whoever is logged in, who may not read what another one may.
        if let Some(trunk) = machine.remote.trunk().filter(|_| !machine.acts)
            && let Some(digest) = digest_there(trunk, &path, len).await?
        {
            return Ok(Some(digest));
        }
        if !read_back {
            return Ok(None);
        }
    }
    of_source(side.read(path, 0).await?, len).await.map(Some)
}

async fn of_source(mut source: Source, len: u64) -> Result<Digest, FileFault> {
    let mut growing = Growing::new();
    while let Some((offset, mut pieces)) = source.next().await? {
        let mut room = len.saturating_sub(offset);
        for piece in &mut pieces {
            piece.truncate(usize::try_from(room).unwrap_or(usize::MAX));
            room -= piece.len() as u64;
        }
        growing.add(offset.min(len), &pieces);
        if room == 0 {
            break;
        }
    }
    Ok(growing.finish(len))
}
