//! What has come in on one stream of a channel and was not taken yet.

use std::collections::VecDeque;

use bytes::{Bytes, BytesMut};

use crate::limits::{MIN_SHARED_SLICE, RECEIVED_PIECE};

/// Pieces of received data, oldest first.
///
/// A slice of the receive buffer keeps the whole block alive that it is part of. Large ones are kept as they are, so that
/// bulk data is not copied; small ones are copied together, so that a peer which sends its data in crumbs, with something
/// else between them, cannot make a window's worth of data hold many times that.
#[derive(Debug, Default)]
pub(crate) struct Received {
    pieces: VecDeque<Bytes>,
    /// Small pieces, copied together.
    crumbs: BytesMut,
    len: usize,
}

impl Received {
    /// Adds data. `may_share` false: it is copied whatever its size.
    pub(crate) fn push(&mut self, data: Bytes, may_share: bool) {
        self.len += data.len();
        if may_share && data.len() >= MIN_SHARED_SLICE {
            self.seal_crumbs();
            self.pieces.push_back(data);
            return;
        }
        if self.crumbs.len() + data.len() > RECEIVED_PIECE {
            self.seal_crumbs();
        }
        self.crumbs.extend_from_slice(&data);
    }

    fn seal_crumbs(&mut self) {
        if !self.crumbs.is_empty() {
            self.pieces.push_back(std::mem::take(&mut self.crumbs).freeze());
        }
    }

    /// The oldest piece.
    pub(crate) fn pop(&mut self) -> Option<Bytes> {
        if self.pieces.is_empty() {
            self.seal_crumbs();
        }
        let piece = self.pieces.pop_front()?;
        self.len -= piece.len();
        Some(piece)
    }

    /// Bytes that wait.
    pub(crate) fn len(&self) -> usize {
        self.len
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Drops everything; how much it was.
    pub(crate) fn clear(&mut self) -> usize {
        std::mem::take(self).len
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever sizes data comes in: it goes out in order, and crumbs end up in few pieces.
        #[test]
        fn data_goes_out_in_order_and_crumbs_are_put_together(
            sizes in proptest::collection::vec(prop_oneof![1usize..200, 1usize..100_000], 1..60),
            may_share: bool,
        ) {
            let mut received = Received::default();
            let mut all = Vec::new();
            for (index, size) in sizes.iter().enumerate() {
                let data = vec![index as u8; *size];
                all.extend_from_slice(&data);
                received.push(data.into(), may_share);
            }
            prop_assert_eq!(received.len(), all.len());
            let mut out = Vec::new();
            let mut pieces = 0;
            while let Some(piece) = received.pop() {
                pieces += 1;
                out.extend_from_slice(&piece);
            }
            prop_assert!(received.is_empty());
            prop_assert_eq!(&out, &all);
            let large = sizes.iter().filter(|size| **size >= MIN_SHARED_SLICE).count();
            prop_assert!(pieces <= 2 * large + 2 * all.len() / RECEIVED_PIECE + 2);
        }
    }
}
