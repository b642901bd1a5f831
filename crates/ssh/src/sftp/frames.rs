//! Messages out of a stream: a length of four bytes in front of each (draft §3). Large ones stay in the pieces that they came in.

use std::collections::VecDeque;

use bytes::{Buf, Bytes};

/// Longest message that is taken, in bytes: what common servers make and take, 256 KiB, which no read of ours asks to be exceeded.
pub const MAX_SFTP_FRAME: usize = 256 * 1024;

/// Collects pieces and hands out whole messages.
#[derive(Debug, Default)]
pub(super) struct Frames {
    pieces: VecDeque<Bytes>,
    held: usize,
}

impl Frames {
    /// Adds bytes as they came.
    pub(super) fn feed(&mut self, piece: Bytes) {
        if !piece.is_empty() {
            self.held += piece.len();
            self.pieces.push_back(piece);
        }
    }

    /// Bytes that are held.
    pub(super) fn held(&self) -> usize {
        self.held
    }

    /// The next whole message without its length, in pieces; none until all of it is there.
    ///
    /// # Errors
    /// The length that was announced, when it is nothing or above [`MAX_SFTP_FRAME`]: the stream is of no use any more.
    pub(super) fn next_frame(&mut self) -> Result<Option<Vec<Bytes>>, usize> {
        if self.held < 4 {
            return Ok(None);
        }
        let mut length = [0; 4];
        let head = self.pieces.iter().flat_map(|piece| piece.iter());
        length.iter_mut().zip(head).for_each(|(byte, came)| *byte = *came);
        let length = u32::from_be_bytes(length) as usize;
        if length == 0 || length > MAX_SFTP_FRAME {
            return Err(length);
        }
        if self.held < 4 + length {
            return Ok(None);
        }
        self.take(4);
        Ok(Some(self.take(length)))
    }

    /// Takes so many bytes, which are there.
    fn take(&mut self, mut len: usize) -> Vec<Bytes> {
        self.held -= len;
        let mut taken = Vec::new();
        while let Some(piece) = self.pieces.front_mut().filter(|_| len > 0) {
            let part = piece.split_to(piece.len().min(len));
            if !piece.has_remaining() {
                self.pieces.pop_front();
            }
            len -= part.len();
            taken.push(part);
        }
        taken
    }
}

/// The bytes of a message that came in pieces, as one.
pub(super) fn joined(mut pieces: Vec<Bytes>) -> Bytes {
    match pieces.len() {
        1 => pieces.pop().unwrap_or_default(),
        _ => pieces.concat().into(),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use lantern_keys::wire::Writer;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// However the stream is cut, the same messages come out of it.
        #[test]
        fn a_stream_in_any_pieces_has_the_same_messages(
            messages in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 1..200), 0..8),
            cuts in proptest::collection::vec(1..60_usize, 1..40),
        ) {
            let mut stream = Vec::new();
            messages.iter().for_each(|message| stream.put_string(message));
            let mut stream = Bytes::from(stream);
            let (mut frames, mut out) = (Frames::default(), Vec::new());
            let mut cuts = cuts.iter().cycle();
            while !stream.is_empty() {
                frames.feed(stream.split_to(stream.len().min(*cuts.next().unwrap())));
                while let Some(frame) = frames.next_frame().unwrap() {
                    out.push(joined(frame).to_vec());
                }
            }
            prop_assert_eq!(out, messages);
            prop_assert_eq!(frames.held(), 0);
        }
    }

    #[test]
    fn a_length_that_none_has_is_refused_before_anything_is_kept_for_it() {
        for (announced, refused) in [(0_u32, 0), (u32::MAX, u32::MAX as usize)] {
            let mut frames = Frames::default();
            frames.feed(Bytes::copy_from_slice(&announced.to_be_bytes()));
            assert_eq!(frames.next_frame(), Err(refused));
        }
    }
}
