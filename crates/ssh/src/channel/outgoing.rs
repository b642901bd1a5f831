//! What the caller has handed over to a channel and has not been made into packets yet.

use std::collections::VecDeque;

use bytes::{Buf, Bytes};

use super::Stream;

/// One thing to send, in its turn.
#[derive(Debug)]
pub(crate) enum Outgoing {
    Data(Stream, Bytes),
    /// A whole message that must not overtake the data before it: an exit status.
    Message(Vec<u8>),
    Eof,
    Close,
}

/// A queue of them.
#[derive(Debug, Default)]
pub(crate) struct OutgoingQueue {
    items: VecDeque<Outgoing>,
    bytes: usize,
}

impl OutgoingQueue {
    /// Bytes of data that wait.
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    pub(crate) fn push_data(&mut self, stream: Stream, data: Bytes) {
        self.bytes += data.len();
        self.items.push_back(Outgoing::Data(stream, data));
    }

    pub(crate) fn push(&mut self, item: Outgoing) {
        self.items.push_back(item);
    }

    pub(crate) fn front(&self) -> Option<&Outgoing> {
        self.items.front()
    }

    /// The first item, which is no data.
    pub(crate) fn pop(&mut self) -> Option<Outgoing> {
        self.items.pop_front()
    }

    /// How much of the first item's stream stands together at the front, up to `limit` bytes.
    pub(crate) fn run_len(&self, limit: usize) -> usize {
        let Some(Outgoing::Data(first, _)) = self.items.front() else { return 0 };
        let mut len = 0;
        for item in &self.items {
            match item {
                Outgoing::Data(stream, data) if stream == first && len < limit => len += data.len(),
                _ => break,
            }
        }
        len.min(limit)
    }

    /// Takes `len` bytes off the front, which [`Self::run_len`] says are there, and hands them to `each`.
    pub(crate) fn take(&mut self, len: usize, mut each: impl FnMut(&[u8])) {
        let mut left = len;
        while left > 0 {
            let Some(Outgoing::Data(_, data)) = self.items.front_mut() else { break };
            let part = data.len().min(left);
            each(data.get(..part).unwrap_or_default());
            data.advance(part);
            left -= part;
            if data.is_empty() {
                self.items.pop_front();
            }
        }
        self.bytes -= len - left;
    }

    /// Drops everything; how much data it was.
    pub(crate) fn clear(&mut self) -> usize {
        self.items.clear();
        std::mem::take(&mut self.bytes)
    }
}
