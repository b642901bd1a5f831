//! What is known of files for a moment, so that not every look at one is a round trip.
//!
//! What we change ourselves is known as well: a name that was made is there, one that was removed is not, and a file that is being written is as long as
//! what was written. What cannot be foreseen is doubtful, and asked for again. Answers to questions that were asked before a change say nothing of what is
//! after it, and are not learned.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use lantern_ssh::sftp::Attributes;

use super::changes::Changes;

/// Most files that anything is known of; beyond that, all is forgotten and learned anew: some 100 bytes each.
const MOST: usize = 200_000;
/// A folder with more names is not asked for all of them because some are looked for.
const LARGE: usize = 20_000;
/// After so many names were looked for in a folder one by one, all of them are asked for at once.
const ONE_BY_ONE: u32 = 2;

/// The names in a folder.
pub(super) type Listing = Arc<HashMap<Vec<u8>, Attributes>>;

/// What is known of a name in a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Entry {
    /// It stands for a file, of which this was known at that time.
    There(Attributes, Instant),
    /// There is none.
    Absent,
    /// It has to be asked for: by itself, since the other names are known, or together with them.
    Unknown { others_are_known: bool },
}

#[derive(Debug)]
struct Folder {
    listing: Listing,
    since: Instant,
    /// Names that may have changed since.
    doubtful: HashSet<Vec<u8>>,
}

/// What is known, by the numbers of files.
#[derive(Debug)]
pub(super) struct Known {
    /// How long it counts.
    pub(super) lasts: Duration,
    files: HashMap<u64, (Attributes, Instant)>,
    folders: HashMap<u64, Folder>,
    /// Names that were looked for in folders of which no listing is known.
    looked: HashMap<u64, (u32, Instant)>,
    /// Folders with so many names that those are asked for when somebody lists them, and no sooner.
    large: HashSet<u64>,
    names: usize,
    changes: Changes,
}

impl Known {
    pub(super) fn new(lasts: Duration) -> Self {
        Self {
            lasts,
            files: HashMap::new(),
            folders: HashMap::new(),
            looked: HashMap::new(),
            large: HashSet::new(),
            names: 0,
            changes: Changes::default(),
        }
    }

    /// To be said again when something is learned that is asked for now: what was changed meanwhile may not be in the answer.
    pub(super) fn moment(&self) -> u64 {
        self.changes.moment()
    }

    fn is_fresh(&self, since: Instant, now: Instant) -> bool {
        now.saturating_duration_since(since) < self.lasts
    }

    /// What is known of a file.
    pub(super) fn file(&self, number: u64, now: Instant) -> Option<Attributes> {
        let (attributes, since) = self.files.get(&number)?;
        self.is_fresh(*since, now).then_some(*attributes)
    }

    /// How long that still counts.
    pub(super) fn left(&self, number: u64, now: Instant) -> Duration {
        let since = self.files.get(&number).map(|(_, since)| now.saturating_duration_since(*since));
        since.map_or(Duration::ZERO, |age| self.lasts.saturating_sub(age))
    }

    /// Whether a name in a folder still stands for what it stood for at that moment, as far as we know.
    pub(super) fn is_current(&self, folder: u64, name: &[u8], moment: u64) -> bool {
        self.changes.is_name_as_at(folder, name, moment)
    }

    /// A number is another file's now.
    pub(super) fn is_another(&mut self, number: u64) {
        self.files.remove(&number);
        self.folders.remove(&number).inspect(|folder| self.names -= folder.listing.len());
    }

    /// Learns of a file what was asked for at that moment, and was so at that time.
    pub(super) fn learn(&mut self, number: u64, attributes: Attributes, (since, moment): (Instant, u64)) {
        if !self.changes.is_file_as_at(number, moment) {
            return;
        }
        if self.files.len() >= MOST {
            self.files.clear();
        }
        self.files.insert(number, (attributes, since));
    }

    /// All names in a folder, and all that is known of them.
    pub(super) fn folder(&self, number: u64, now: Instant) -> Option<(Listing, Instant)> {
        let Folder { listing, since, doubtful } = self.folders.get(&number)?;
        (doubtful.is_empty() && self.is_fresh(*since, now)).then(|| (listing.clone(), *since))
    }

    /// What is known of a name in a folder.
    pub(super) fn entry(&self, folder: u64, name: &[u8], now: Instant) -> Entry {
        match self.folders.get(&folder).filter(|folder| self.is_fresh(folder.since, now)) {
            None => Entry::Unknown { others_are_known: false },
            Some(folder) if folder.doubtful.contains(name) => Entry::Unknown { others_are_known: true },
            Some(folder) => match folder.listing.get(name) {
                Some(attributes) => Entry::There(*attributes, folder.since),
                None => Entry::Absent,
            },
        }
    }

    /// Learns the names in a folder, which were asked for at that moment.
    pub(super) fn learn_folder(&mut self, number: u64, listing: Listing, (now, moment): (Instant, u64)) {
        if !self.changes.knows(moment) {
            return;
        }
        if self.names + listing.len() > MOST {
            self.folders.clear();
            self.names = 0;
        }
        self.looked.remove(&number);
        if listing.len() > LARGE {
            if self.large.len() >= MOST {
                self.large.clear();
            }
            self.large.insert(number);
        }
        // What changed before it was asked for is in the answer.
        let doubtful = self.changes.names_since(number, moment).cloned().collect();
        self.names += listing.len();
        if let Some(before) = self.folders.insert(number, Folder { listing, since: now, doubtful }) {
            self.names -= before.listing.len();
        }
    }

    /// A name is looked for in a folder whose listing is not known: whether all of its names are to be asked for, since others were before.
    pub(super) fn wants_all(&mut self, folder: u64, now: Instant) -> bool {
        if self.looked.len() >= MOST {
            self.looked.clear();
        }
        let lasts = self.lasts;
        let (times, since) = self.looked.entry(folder).or_insert((0, now));
        if now.saturating_duration_since(*since) >= lasts {
            (*times, *since) = (0, now);
        }
        *times += 1;
        !lasts.is_zero() && *times > ONE_BY_ONE && !self.large.contains(&folder)
    }

    /// A file is not what it was.
    pub(super) fn forget(&mut self, number: u64) {
        self.changes.of_file(number);
        self.files.remove(&number);
    }

    /// A file is being written, up to there: its length and its time are those that this makes, for as long as it goes on.
    pub(super) fn written(&mut self, number: u64, end: u64, now: Instant) {
        self.changes.of_file(number);
        if let Some((attributes, since)) = self.files.get_mut(&number)
            && now.saturating_duration_since(*since) < self.lasts
        {
            let seconds = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
            attributes.size = attributes.size.map(|size| size.max(end));
            attributes.times =
                attributes.times.map(|(read, _)| (read, u32::try_from(seconds).unwrap_or(u32::MAX)));
            *since = now;
        }
    }

    /// What a name in a folder stands for is about to change: it is doubtful until it is known what came of it.
    pub(super) fn doubt(&mut self, folder: u64, name: &[u8]) {
        self.changes.of_name(folder, name);
        if let Some(folder) = self.folders.get_mut(&folder)
            && !folder.doubtful.contains(name)
        {
            folder.doubtful.insert(name.to_vec());
        }
    }

    /// A name in a folder was given to a file, or taken from one, by ourselves.
    pub(super) fn now_is(&mut self, folder: u64, name: &[u8], file: Option<Attributes>) {
        self.changes.of_name(folder, name);
        let Some(known) = self.folders.get_mut(&folder) else { return };
        known.doubtful.remove(name);
        let names = Arc::make_mut(&mut known.listing);
        match file {
            Some(attributes) => self.names += usize::from(names.insert(name.to_vec(), attributes).is_none()),
            None => self.names -= usize::from(names.remove(name).is_some()),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn listing(names: &[&str]) -> Listing {
        let names = names.iter().map(|name| (name.as_bytes().to_vec(), Attributes::with_mode(0o644)));
        Arc::new(names.collect())
    }

    #[test]
    fn what_is_known_counts_for_its_time_and_no_longer() {
        let (mut known, start) = (Known::new(Duration::from_secs(2)), Instant::now());
        let later = |millis| start + Duration::from_millis(millis);
        known.learn(7, Attributes::with_mode(0o644), (start, 0));
        assert_eq!(known.file(7, later(1999)), Some(Attributes::with_mode(0o644)));
        assert_eq!(known.left(7, later(1500)), Duration::from_millis(500));
        assert_eq!((known.file(7, later(2000)), known.left(7, later(9000))), (None, Duration::ZERO));
        known.learn_folder(8, listing(&["x"]), (start, 0));
        assert!(known.folder(8, later(10)).unwrap().0.contains_key(&b"x"[..]));
        assert_eq!(known.entry(8, b"y", later(10)), Entry::Absent);
        assert_eq!(known.entry(8, b"y", later(2000)), Entry::Unknown { others_are_known: false });
        // Names one by one, and then all; after a while it begins anew.
        let asked: Vec<_> = (0..4).map(|_| known.wants_all(9, start)).collect();
        assert_eq!(asked, [false, false, true, true]);
        assert!(!known.wants_all(9, later(2000)));
        // One that was found to be large is not asked for all of them again.
        let many = (0..=LARGE).map(|n| (n.to_string().into_bytes(), Attributes::default())).collect();
        known.learn_folder(9, Arc::new(many), (start, known.moment()));
        assert!((0..6).all(|_| !known.wants_all(9, later(5000))));
    }

    #[test]
    fn what_was_asked_for_before_a_change_says_nothing_of_what_is_after_it() {
        let (mut known, now) = (Known::new(Duration::from_secs(2)), Instant::now());
        known.learn_folder(8, listing(&["x", "y"]), (now, 0));
        let asked = known.moment();
        known.forget(7);
        known.learn(7, Attributes::with_mode(0o600), (now, asked));
        assert_eq!(known.file(7, now), None);
        // What is another's change is no hindrance.
        known.learn(6, Attributes::with_mode(0o600), (now, asked));
        assert!(known.file(6, now).is_some());
        // A name that is being changed is doubtful alone, also in an answer that was on its way.
        known.doubt(8, b"x");
        assert_eq!(known.entry(8, b"x", now), Entry::Unknown { others_are_known: true });
        assert!(matches!(known.entry(8, b"y", now), Entry::There(..)));
        assert!(known.folder(8, now).is_none());
        known.learn_folder(8, listing(&["x", "y", "z"]), (now, asked));
        assert_eq!(known.entry(8, b"x", now), Entry::Unknown { others_are_known: true });
        assert!(matches!(known.entry(8, b"z", now), Entry::There(..)));
        // Once it is done, it is known what came of it, and nobody need ask.
        known.now_is(8, b"x", None);
        assert_eq!(known.entry(8, b"x", now), Entry::Absent);
        known.now_is(8, b"w", Some(Attributes::with_mode(0o644)));
        assert!(matches!(known.entry(8, b"w", now), Entry::There(..)) && known.folder(8, now).is_some());
        // An answer from before that has no idea of it is not believed about it.
        known.learn_folder(8, listing(&["x"]), (now, asked));
        assert_eq!(known.entry(8, b"w", now), Entry::Unknown { others_are_known: true });
        known.learn_folder(8, listing(&["w"]), (now, known.moment()));
        assert_eq!(known.entry(8, b"x", now), Entry::Absent);
    }

    #[test]
    fn a_file_that_is_written_is_as_long_as_what_was_written() {
        let (mut known, now) = (Known::new(Duration::from_secs(2)), Instant::now());
        let attributes = Attributes { size: Some(10), times: Some((1, 1)), ..Attributes::default() };
        known.learn(7, attributes, (now, 0));
        known.written(7, 5, now);
        assert_eq!(known.file(7, now).unwrap().size, Some(10));
        let later = now + Duration::from_secs(1);
        known.written(7, 500, later);
        let written = known.file(7, now + Duration::from_millis(2500)).unwrap();
        assert!(written.size == Some(500) && written.times.unwrap().1 > 1_700_000_000);
        // What was too old to be known is not made new by that.
        known.written(7, 600, now + Duration::from_secs(9));
        assert_eq!(known.file(7, now + Duration::from_secs(9)), None);
    }

    #[test]
    fn nothing_grows_without_end() {
        let (mut known, now) = (Known::new(Duration::from_secs(9)), Instant::now());
        for number in 0..2 * MOST as u64 {
            known.learn(number, Attributes::default(), (now, 0));
        }
        assert!(known.files.len() <= MOST);
        let listing: HashMap<_, _> =
            (0..1000_u32).map(|n| (n.to_be_bytes().to_vec(), Attributes::default())).collect();
        let listing = Arc::new(listing);
        for number in 0..1000 {
            known.learn_folder(number, listing.clone(), (now, 0));
        }
        assert!(known.names <= MOST && known.folders.len() <= MOST / 1000);
    }

    /// What is done in a folder, beside a machine that is asked at one moment and answers later.
    #[derive(Debug, Clone)]
    enum Deed {
        Make(u8),
        Remove(u8),
        Ask,
        Answer,
    }

    fn deed() -> impl Strategy<Value = Deed> {
        prop_oneof![
            (0..5_u8).prop_map(Deed::Make),
            (0..5_u8).prop_map(Deed::Remove),
            Just(Deed::Ask),
            Just(Deed::Answer),
        ]
    }

    proptest! {
        /// Whatever comes between a question and its answer: a name that is said to be there is there, and one that is said to be absent is absent.
        #[test]
        fn what_is_said_of_names_is_so(deeds in proptest::collection::vec(deed(), 0..60)) {
            let (mut known, now) = (Known::new(Duration::from_secs(9)), Instant::now());
            let mut there: HashMap<Vec<u8>, Attributes> = HashMap::new();
            let mut asked = Vec::new();
            for deed in deeds {
                match deed {
                    Deed::Make(name) | Deed::Remove(name) => {
                        let file = matches!(deed, Deed::Make(_)).then(|| Attributes::with_mode(0o644));
                        known.doubt(3, &[name]);
                        match file {
                            Some(file) => drop(there.insert(vec![name], file)),
                            None => drop(there.remove(&vec![name])),
                        }
                        known.now_is(3, &[name], file);
                    }
                    Deed::Ask => asked.push((Arc::new(there.clone()), known.moment())),
                    Deed::Answer => {
                        if let Some((listing, moment)) = asked.pop() {
                            known.learn_folder(3, listing, (now, moment));
                        }
                    }
                }
                for name in 0..5_u8 {
                    match known.entry(3, &[name], now) {
                        Entry::There(..) => prop_assert!(there.contains_key(&vec![name])),
                        Entry::Absent => prop_assert!(!there.contains_key(&vec![name])),
                        Entry::Unknown { .. } => {}
                    }
                }
                let listed = known.folder(3, now);
                prop_assert!(listed.is_none_or(|(listing, _)| *listing == there));
                prop_assert_eq!(known.names, known.folders.values().map(|folder| folder.listing.len()).sum::<usize>());
            }
        }
    }
}
