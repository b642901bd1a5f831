//! What is kept of what a machine wrote: its beginning, how much it was, and a digest of all of it, by which machines that said the same are told.

use std::sync::Arc;

use aws_lc_rs::digest::{Context, SHA256};

/// Bytes that are kept of each stream: a few screens. What was written in full goes where the user wants it.
pub const MOST_KEPT: usize = 16 * 1024;

/// What is kept of a stream that has ended.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Kept {
    /// Its beginning.
    pub head: Arc<[u8]>,
    /// Its length, in bytes.
    pub len: u64,
    digest: [u8; 32],
}

impl Kept {
    /// Whether there is more of it than is kept.
    pub fn is_cut(&self) -> bool {
        self.len > self.head.len() as u64
    }
}

/// A stream that is listened to.
pub(super) struct Listening {
    head: Vec<u8>,
    len: u64,
    context: Context,
}

impl Listening {
    pub(super) fn new() -> Self {
        Self { head: Vec::new(), len: 0, context: Context::new(&SHA256) }
    }

    pub(super) fn take(&mut self, piece: &[u8]) {
        let room = MOST_KEPT.saturating_sub(self.head.len());
        self.head.extend_from_slice(piece.get(..room).unwrap_or(piece));
        self.len += piece.len() as u64;
        self.context.update(piece);
    }

    pub(super) fn end(self) -> Kept {
        let mut digest = [0; 32];
        digest.iter_mut().zip(self.context.finish().as_ref()).for_each(|(place, byte)| *place = *byte);
        Kept { head: self.head.into(), len: self.len, digest }
    }
}
