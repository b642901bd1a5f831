//! Messages cut into fragments, and put together again (MS-PSRP 2.2.4).

use super::RemotingError;
use super::limits::{MAX_BLOB, MAX_MESSAGE};

/// The length of what stands before each fragment's data, in bytes.
pub const FRAGMENT_HEAD: usize = 21;
const START: u8 = 1;
const END: u8 = 2;

/// Cuts messages, each of which gets a number.
#[derive(Debug)]
pub struct Fragmenter {
    next: u64,
}

impl Default for Fragmenter {
    fn default() -> Self {
        Self { next: 1 }
    }
}

impl Fragmenter {
    /// One that goes on counting where another has stopped.
    pub(super) fn going_on(next: u64) -> Self {
        Self { next }
    }

    /// The number of the next message.
    pub(super) fn next(&self) -> u64 {
        self.next
    }

    /// Cuts a message into fragments of at most `most` bytes, their heads included; there is room for one byte of data in any case.
    pub fn cut(&mut self, message: &[u8], most: usize) -> Vec<Vec<u8>> {
        let object = self.next;
        self.next += 1;
        let len = most.saturating_sub(FRAGMENT_HEAD).max(1);
        let count = message.len().div_ceil(len).max(1);
        let mut pieces = message.chunks(len);
        (0..count)
            .map(|number| {
                let data = pieces.next().unwrap_or_default();
                let ends = u8::from(number == 0) * START + u8::from(number + 1 == count) * END;
                let mut fragment = Vec::with_capacity(FRAGMENT_HEAD + data.len());
                fragment.extend(object.to_be_bytes());
                fragment.extend((number as u64).to_be_bytes());
                fragment.push(ends);
                fragment.extend(u32::try_from(data.len()).unwrap_or(u32::MAX).to_be_bytes());
                fragment.extend_from_slice(data);
                fragment
            })
            .collect()
    }
}

/// Puts messages together. A fragment that is missing ends it.
#[derive(Debug, Default)]
pub struct Defragmenter {
    /// What came, and is not a whole fragment yet.
    begun: Vec<u8>,
    /// The message that is being put together: its number, how many fragments came, and their data.
    open: Option<(u64, u64, Vec<u8>)>,
    /// The number of the last message.
    last: u64,
    /// Whether what was under way may be lost: what comes next tells.
    fears: bool,
    /// Whether what comes is the rest of something that is lost.
    skips: bool,
}

impl Defragmenter {
    /// Takes bytes, cut anywhere; the messages that are whole with them, in order, each with its number.
    ///
    /// # Errors
    /// A fragment is missing, came twice, or is longer than any; nothing can be taken after that.
    pub fn take(&mut self, bytes: &[u8]) -> Result<Vec<(u64, Vec<u8>)>, RemotingError> {
        self.begun.extend_from_slice(bytes);
        let (mut at, mut whole) = (0, Vec::new());
        while let Some((head, rest)) =
            self.begun.get(at..).and_then(|rest| rest.split_first_chunk::<FRAGMENT_HEAD>())
        {
            let [o0, o1, o2, o3, o4, o5, o6, o7, f0, f1, f2, f3, f4, f5, f6, f7, ends, l0, l1, l2, l3] =
                *head;
            let object = u64::from_be_bytes([o0, o1, o2, o3, o4, o5, o6, o7]);
            let number = u64::from_be_bytes([f0, f1, f2, f3, f4, f5, f6, f7]);
            let len = u32::from_be_bytes([l0, l1, l2, l3]) as usize;
            if len > MAX_BLOB {
                return Err(RemotingError::Fragment("it is longer than any"));
            }
            let Some(data) = rest.get(..len) else { break };
            at += FRAGMENT_HEAD + len;
            // A copy of its own, which does not hold what came around it.
            let data = data.to_vec();
            if self.passes_over(object, number, ends) {
                continue;
            }
            whole.extend(self.join(object, number, ends, data)?.map(|message| (object, message)));
        }
        self.begun.drain(..at);
        Ok(whole)
    }

    fn join(
        &mut self,
        object: u64,
        number: u64,
        ends: u8,
        data: Vec<u8>,
    ) -> Result<Option<Vec<u8>>, RemotingError> {
        let (mut came, mut message) = match self.open.take() {
            None if ends & START == 0 => return Err(RemotingError::Fragment("it begins in the middle")),
            // Numbers of messages rise, and may leave some out: those that were for others.
            None if object <= self.last => {
                return Err(RemotingError::Gap { expected: self.last.saturating_add(1), met: object });
            }
            None => (0, Vec::new()),
            Some((open, ..)) if open != object => {
                return Err(RemotingError::Gap { expected: open, met: object });
            }
            Some(_) if ends & START != 0 => return Err(RemotingError::Fragment("it begins twice")),
            Some((_, came, message)) => (came, message),
        };
        if number != came {
            return Err(RemotingError::Gap { expected: came, met: number });
        }
        if message.len() + data.len() > MAX_MESSAGE {
            return Err(RemotingError::TooMuch { what: "bytes", limit: MAX_MESSAGE });
        }
        came += 1;
        match message.is_empty() {
            true => message = data,
            false => message.extend_from_slice(&data),
        }
        if ends & END == 0 {
            self.open = Some((object, came, message));
            return Ok(None);
        }
        self.last = object;
        Ok(Some(message))
    }

    /// Notes that what was under way may be lost: where what comes next does not follow on what came, that is no error. That a message is missing shows in their
    /// numbers.
    pub fn resume(&mut self) {
        self.begun.clear();
        self.fears = true;
    }

    /// Whether something may be lost, and nothing has come since that would tell.
    pub fn fears_loss(&self) -> bool {
        self.fears
    }

    /// Whether this fragment is to be passed over, since it is the rest of something that is lost.
    fn passes_over(&mut self, object: u64, number: u64, ends: u8) -> bool {
        if std::mem::take(&mut self.fears) {
            let follows = match &self.open {
                Some((open, came, _)) => *open == object && *came == number,
                None => ends & START != 0,
            };
            self.skips = !follows;
            if !follows {
                self.open = None;
            }
        }
        self.skips &= ends & START == 0;
        self.skips
    }

    /// Whether something is begun that is not whole.
    pub fn is_amid(&self) -> bool {
        self.open.is_some() || !self.begun.is_empty()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_fragment_stands_as_in_the_standard() {
        let cut = Fragmenter::default().cut(b"lit", 100);
        let expected =
            [&[0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 3][..], b"lit"].concat();
        assert_eq!(cut, [expected]);
        assert_eq!(Fragmenter::default().cut(b"", 0).len(), 1);
    }

    #[test]
    fn what_is_missing_or_comes_twice_is_told() {
        let mut fragmenter = Fragmenter::default();
        let (one, two) = (fragmenter.cut(b"abcdef", FRAGMENT_HEAD + 2), fragmenter.cut(b"g", 100));
        let take = |order: &[&[u8]]| Defragmenter::default().take(&order.concat());
        assert_eq!(
            take(&[&one[0], &one[1], &one[2], &two[0]]).unwrap(),
            [(1, b"abcdef".to_vec()), (2, b"g".to_vec())]
        );
        assert_eq!(take(&[&one[0], &one[2]]), Err(RemotingError::Gap { expected: 1, met: 2 }));
        assert_eq!(take(&[&one[0], &one[0]]), Err(RemotingError::Fragment("it begins twice")));
        assert_eq!(take(&[&one[1]]), Err(RemotingError::Fragment("it begins in the middle")));
        assert_eq!(take(&[&one[0], &two[0]]), Err(RemotingError::Gap { expected: 1, met: 2 }));
        assert_eq!(take(&[&two[0], &two[0]]), Err(RemotingError::Gap { expected: 3, met: 2 }));
        let mut endless = one[0].clone();
        endless[17..21].fill(0xff);
        assert_eq!(take(&[&endless]), Err(RemotingError::Fragment("it is longer than any")));
    }

    #[test]
    fn after_a_loss_it_goes_on_with_what_is_whole() {
        let mut fragmenter = Fragmenter::default();
        let (one, two) = (fragmenter.cut(b"abcdef", FRAGMENT_HEAD + 2), fragmenter.cut(b"g", 100));
        for (lost, expected) in [
            (0, vec![(1, b"abcdef".to_vec()), (2, b"g".to_vec())]),
            (1, vec![(2, b"g".to_vec())]),
            (2, vec![(2, b"g".to_vec())]),
        ] {
            let mut defragmenter = Defragmenter::default();
            assert_eq!(defragmenter.take(&one[0]).unwrap(), []);
            defragmenter.resume();
            assert!(defragmenter.fears_loss());
            let rest: Vec<u8> = one[1 + lost..].iter().chain(&two).flatten().copied().collect();
            assert_eq!(defragmenter.take(&rest).unwrap(), expected, "{lost}");
            assert!(!defragmenter.fears_loss() && !defragmenter.is_amid());
        }
    }

    #[test]
    fn a_message_without_an_end_is_not_kept() {
        let mut defragmenter = Defragmenter::default();
        let piece = vec![0; 1024 * 1024];
        let mut ended = None;
        for number in 0u64..64 {
            let mut fragment = 1u64.to_be_bytes().to_vec();
            fragment.extend(number.to_be_bytes());
            fragment.push(u8::from(number == 0));
            fragment.extend((piece.len() as u32).to_be_bytes());
            fragment.extend(&piece);
            if let Err(error) = defragmenter.take(&fragment) {
                ended = Some((number, error));
                break;
            }
        }
        assert_eq!(ended, Some((32, RemotingError::TooMuch { what: "bytes", limit: MAX_MESSAGE })));
    }

    proptest! {
        #[test]
        fn what_is_cut_comes_together_however_it_travels(messages in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..300), 1..6), most in 0usize..120, step in 1usize..200) {
            let mut fragmenter = Fragmenter::default();
            let bytes: Vec<u8> = messages.iter().flat_map(|message| fragmenter.cut(message, most)).flatten().collect();
            let mut defragmenter = Defragmenter::default();
            let mut met = Vec::new();
            for piece in bytes.chunks(step) {
                met.extend(defragmenter.take(piece).unwrap());
            }
            let numbered: Vec<_> = (1u64..).zip(messages).collect();
            prop_assert_eq!(met, numbered);
            prop_assert!(!defragmenter.is_amid());
        }

        #[test]
        fn nothing_makes_it_panic(bytes: Vec<u8>, at: prop::sample::Index, byte: u8) {
            let _ = Defragmenter::default().take(&bytes);
            let mut cut = Fragmenter::default().cut(&[7; 50], 40).concat();
            let at = at.index(cut.len());
            cut[at] = byte;
            let _ = Defragmenter::default().take(&cut);
        }
    }
}
