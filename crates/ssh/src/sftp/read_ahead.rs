//! A file as reads that are under way together, and their answers as its bytes in order.

use std::collections::{BTreeMap, VecDeque};

use bytes::Bytes;

/// Answers with no bytes in a row that are taken: a server that has nothing to say and no end is given up.
const MAX_EMPTY: u32 = 16;

/// What is to be read, what is under way, and what has come. It ends where the file ended when it was opened: a file that grows as fast as it is
/// read has no other end.
#[derive(Debug)]
pub struct ReadAhead {
    next: u64,
    /// Where it ends; none where that shows only in reading, as of files that have no size.
    end: Option<u64>,
    piece: u32,
    /// Rests of reads that brought less than they were to.
    again: VecDeque<(u64, u32)>,
    under_way: BTreeMap<u64, u32>,
    came: BTreeMap<u64, Vec<Bytes>>,
    given_out: u64,
    empty: u32,
}

/// The server answers with nothing, again and again, and does not say that this is the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("reads are answered with no bytes, and with no end")]
pub struct Stalled;

impl ReadAhead {
    /// From this byte to that one, in reads of at most `piece` bytes. Without an end, one read at a time, until the file says that it has ended.
    pub fn new(from: u64, end: Option<u64>, piece: u32) -> Self {
        Self {
            next: from,
            end: end.map(|end| end.max(from)),
            piece: piece.max(1),
            again: VecDeque::new(),
            under_way: BTreeMap::new(),
            came: BTreeMap::new(),
            given_out: from,
            empty: 0,
        }
    }

    /// Bytes of the largest read.
    pub fn piece(&self) -> u32 {
        self.piece
    }

    /// What to read next: the offset, and how many bytes. It counts as under way from now on.
    pub fn next_read(&mut self) -> Option<(u64, u32)> {
        if let Some((offset, len)) = self.again.pop_front() {
            self.under_way.insert(offset, len);
            return Some((offset, len));
        }
        let len = match self.end {
            Some(end) => u32::try_from(end.saturating_sub(self.next)).unwrap_or(u32::MAX).min(self.piece),
            None if self.under_way.is_empty() && self.came.is_empty() => self.piece,
            None => 0,
        };
        if len == 0 {
            return None;
        }
        let offset = self.next;
        self.next += u64::from(len);
        self.under_way.insert(offset, len);
        Some((offset, len))
    }

    /// What that read brought: bytes, or none at the end of the file.
    ///
    /// # Errors
    /// [`Stalled`].
    pub fn answered(&mut self, offset: u64, brought: Option<Vec<Bytes>>) -> Result<(), Stalled> {
        let Some(asked) = self.under_way.remove(&offset) else { return Ok(()) };
        let Some(pieces) = brought else {
            // It ends here or before: what was asked for behind that brings nothing either.
            self.end = Some(self.end.map_or(offset, |end| end.min(offset)));
            self.again.retain(|(at, _)| *at < offset);
            return Ok(());
        };
        let len: u64 = pieces.iter().map(|piece| piece.len() as u64).sum();
        if len == 0 {
            self.empty += 1;
            if self.empty > MAX_EMPTY {
                return Err(Stalled);
            }
        } else {
            self.empty = 0;
            self.came.insert(offset, pieces);
        }
        if self.end.is_none() {
            // The next read begins where this one ended.
            self.next = offset + len;
        } else if len < u64::from(asked) {
            self.again.push_back((offset + len, asked - u32::try_from(len).unwrap_or(asked)));
        }
        Ok(())
    }

    /// The next bytes of the file, where they have come, with their offset.
    pub fn next_bytes(&mut self) -> Option<(u64, Vec<Bytes>)> {
        let first = self.came.first_entry().filter(|first| *first.key() == self.given_out)?;
        let (offset, pieces) = first.remove_entry();
        self.given_out += pieces.iter().map(|piece| piece.len() as u64).sum::<u64>();
        Some((offset, pieces))
    }

    /// Whether all bytes were given out, up to the end.
    pub fn is_finished(&self) -> bool {
        self.came.is_empty()
            && self.under_way.is_empty()
            && self.again.is_empty()
            && self.end.is_some_and(|end| self.given_out >= end)
    }

    /// Whether reads are under way.
    pub fn waits(&self) -> bool {
        !self.under_way.is_empty()
    }

    /// Where it ended, or would have by its size.
    pub fn end(&self) -> Option<u64> {
        self.end
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::indexing_slicing)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever order the answers come in, however short they are, and wherever the file really ends: its bytes arrive, once and in order.
        #[test]
        fn the_bytes_of_a_file_arrive_whatever_the_answers_do(
            content in proptest::collection::vec(any::<u8>(), 0..2000),
            size in proptest::option::of(0..2400_u64),
            piece in 1..300_u32,
            ahead in 1..9_usize,
            choices in proptest::collection::vec((any::<u16>(), any::<u16>()), 1..64),
        ) {
            let mut reads = ReadAhead::new(0, size, piece);
            let (mut under_way, mut got) = (Vec::new(), Vec::new());
            let mut choices = choices.iter().cycle();
            for _ in 0..100_000 {
                if reads.is_finished() {
                    break;
                }
                while under_way.len() < ahead {
                    let Some(read) = reads.next_read() else { break };
                    under_way.push(read);
                }
                prop_assert!(!under_way.is_empty(), "it neither reads nor ends");
                let (which, how_much) = choices.next().unwrap();
                let (offset, len) = under_way.remove(usize::from(*which) % under_way.len());
                let rest = content.get(usize::try_from(offset).unwrap()..).unwrap_or_default();
                let len = (len as usize).min(1 + usize::from(*how_much) % 300).min(rest.len());
                let brought = (len > 0).then(|| vec![Bytes::copy_from_slice(&rest[..len])]);
                reads.answered(offset, brought).unwrap();
                while let Some((offset, pieces)) = reads.next_bytes() {
                    prop_assert_eq!(offset, got.len() as u64);
                    got.extend(pieces.concat());
                }
            }
            let end = size.map_or(content.len(), |size| content.len().min(usize::try_from(size).unwrap()));
            prop_assert!(reads.is_finished());
            prop_assert_eq!(got, &content[..end]);
        }
    }

    #[test]
    fn a_server_that_answers_with_nothing_is_given_up() {
        for size in [None, Some(100)] {
            let mut reads = ReadAhead::new(0, size, 10);
            let stalled = (0..100).find_map(|_| {
                let (offset, _) = reads.next_read().unwrap();
                reads.answered(offset, Some(Vec::new())).err()
            });
            assert_eq!(stalled, Some(Stalled));
        }
    }
}
