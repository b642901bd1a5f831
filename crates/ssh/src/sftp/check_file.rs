//! What a file holds, in 32 bytes that the server computes (draft-ietf-secsh-filexfer-extensions §3).

use aws_lc_rs::digest::{Context, SHA256};
use bytes::Bytes;
use lantern_keys::wire::{Reader, WireError, Writer};

use super::store::{FileStore, StoreResult};
use super::{Attributes, OpenFlags, Refusal, StatusCode};

/// The algorithm, as the draft calls it.
pub(super) const ALGORITHM: &[u8] = b"sha256";
/// Bytes that are read at once.
const PIECE: usize = 128 * 1024;

/// Reads what an extended reply carries: the digest, where it is one of ours.
pub(super) fn read(content: &[u8]) -> Result<[u8; 32], WireError> {
    let invalid = |rule| WireError::Invalid { field: "check-file", rule };
    let mut reader = Reader::new(content);
    let mut algorithm = reader.string("hash-algo-used")?;
    // Between two editions of the draft, the extension's name was said first.
    if algorithm == b"check-file" {
        algorithm = reader.string("hash-algo-used")?;
    }
    if algorithm != ALGORITHM {
        return Err(invalid("must be of the algorithm that was asked for"));
    }
    reader.rest().try_into().map_err(|_| invalid("must be one digest"))
}

/// Writes that.
pub(super) fn encode(digest: &[u8]) -> Bytes {
    let mut out = Vec::new();
    out.put_string(ALGORITHM);
    out.put(digest);
    out.into()
}

/// The digest of so many bytes of a file, from there on; 0 is all of them.
pub(super) fn digest(
    store: &mut dyn FileStore,
    path: &[u8],
    mut offset: u64,
    len: u64,
) -> StoreResult<Bytes> {
    let file = store.open(path, OpenFlags::READ, Attributes::default())?;
    let mut context = Context::new(&SHA256);
    let mut left = if len == 0 { u64::MAX } else { len };
    let outcome = loop {
        let most = usize::try_from(left).unwrap_or(PIECE).min(PIECE);
        match store.read(file, offset, most) {
            _ if left == 0 => break Ok(()),
            Ok(piece) if piece.is_empty() && len > 0 => break Err(Refusal::new(StatusCode::EndOfFile)),
            Ok(piece) if piece.is_empty() => break Ok(()),
            Ok(piece) => {
                context.update(&piece);
                (offset, left) = (offset + piece.len() as u64, left - piece.len() as u64);
            }
            Err(refusal) => break Err(refusal),
        }
    };
    store.closed(file);
    outcome.map(|()| encode(context.finish().as_ref()))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_read_in_both_editions_and_no_other_is_taken() {
        let digest = [7; 32];
        let reply = encode(&digest);
        assert_eq!(read(&reply).unwrap(), digest);
        let mut older = Vec::new();
        older.put_string(b"check-file");
        older.put(&reply);
        assert_eq!(read(&older).unwrap(), digest);
        let mut other = Vec::new();
        other.put_string(b"md5");
        other.put(&digest);
        assert!(read(&other).is_err());
        assert!(read(&reply[..reply.len() - 1]).is_err());
        assert!(read(&[&reply[..], b"x"].concat()).is_err());
        assert!(read(b"").is_err());
    }
}
