//! What is known of files for a moment, so that not every look at one is a round trip.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_ssh::sftp::Attributes;

/// Most files that anything is known of; beyond that, all is forgotten and learned anew: some 100 bytes each.
const MOST: usize = 200_000;
/// A folder with more names is not asked for all of them because some are looked for.
const LARGE: usize = 20_000;
/// After so many names were looked for in a folder one by one, all of them are asked for at once.
const ONE_BY_ONE: u32 = 4;

/// The names in a folder.
pub(super) type Listing = Arc<HashMap<Vec<u8>, Attributes>>;

/// What is known, by the numbers of files.
#[derive(Debug)]
pub(super) struct Known {
    /// How long it counts.
    pub(super) lasts: Duration,
    files: HashMap<u64, (Attributes, Instant)>,
    folders: HashMap<u64, (Listing, Instant)>,
    /// Names that were looked for in folders of which no listing is known.
    looked: HashMap<u64, (u32, Instant)>,
    /// Folders with so many names that those are asked for when somebody lists them, and no sooner.
    large: HashSet<u64>,
    names: usize,
    /// How often anything was forgotten because it changed.
    changes: u64,
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
            changes: 0,
        }
    }

    /// To be said again when something is learned that is asked for now: what was changed meanwhile may not be in the answer.
    pub(super) fn moment(&self) -> u64 {
        self.changes
    }

    fn is_fresh(&self, since: Instant, now: Instant) -> bool {
        now.saturating_duration_since(since) < self.lasts
    }

    pub(super) fn file(&self, number: u64, now: Instant) -> Option<Attributes> {
        let (attributes, since) = self.files.get(&number)?;
        self.is_fresh(*since, now).then_some(*attributes)
    }

    pub(super) fn learn(&mut self, number: u64, attributes: Attributes, (now, moment): (Instant, u64)) {
        if moment != self.changes {
            return;
        }
        if self.files.len() >= MOST {
            self.files.clear();
        }
        self.files.insert(number, (attributes, now));
    }

    pub(super) fn folder(&self, number: u64, now: Instant) -> Option<Listing> {
        let (listing, since) = self.folders.get(&number)?;
        self.is_fresh(*since, now).then(|| listing.clone())
    }

    pub(super) fn learn_folder(&mut self, number: u64, listing: Listing, (now, moment): (Instant, u64)) {
        if moment != self.changes {
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
        self.names += listing.len();
        if let Some((before, _)) = self.folders.insert(number, (listing, now)) {
            self.names -= before.len();
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
        self.changes += 1;
        self.files.remove(&number);
    }

    /// Neither are the names in a folder.
    pub(super) fn forget_folder(&mut self, number: u64) {
        self.changes += 1;
        self.files.remove(&number);
        if let Some((before, _)) = self.folders.remove(&number) {
            self.names -= before.len();
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn what_is_known_counts_for_its_time_and_no_longer() {
        let (mut known, start) = (Known::new(Duration::from_secs(2)), Instant::now());
        let later = |millis| start + Duration::from_millis(millis);
        known.learn(7, Attributes::with_mode(0o644), (start, 0));
        assert_eq!(known.file(7, later(1999)), Some(Attributes::with_mode(0o644)));
        assert_eq!(known.file(7, later(2000)), None);
        known.learn_folder(8, Arc::new(HashMap::from([(b"x".to_vec(), Attributes::default())])), (start, 0));
        assert!(known.folder(8, later(10)).unwrap().contains_key(&b"x"[..]));
        known.forget_folder(8);
        assert!(known.folder(8, later(10)).is_none() && known.names == 0);
        // What was asked for before a change says nothing of what is now.
        known.learn(7, Attributes::with_mode(0o600), (start, 0));
        assert_eq!(known.file(7, start), Some(Attributes::with_mode(0o644)));
        // Names one by one, and then all; after a while it begins anew.
        let asked: Vec<_> = (0..6).map(|_| known.wants_all(9, start)).collect();
        assert_eq!(asked, [false, false, false, false, true, true]);
        assert!(!known.wants_all(9, later(2000)));
        // One that was found to be large is not asked for all of them again.
        let many = (0..=LARGE).map(|n| (n.to_string().into_bytes(), Attributes::default())).collect();
        known.learn_folder(9, Arc::new(many), (start, known.moment()));
        assert!((0..6).all(|_| !known.wants_all(9, later(5000))));
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
}
