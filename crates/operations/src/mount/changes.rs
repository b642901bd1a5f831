//! When what was changed last, counted in changes: whether an answer can know of it.

use std::collections::HashMap;

/// Most changes that are remembered one by one: beyond that, all answers that are under way count as old.
const MOST: usize = 50_000;

/// Changes of files, by their numbers, and of names in folders.
#[derive(Debug, Default)]
pub(super) struct Changes {
    count: u64,
    /// The change that came last; what is not there changed before `settled`, if ever.
    files: HashMap<u64, u64>,
    names: HashMap<u64, HashMap<Vec<u8>, u64>>,
    remembered: usize,
    settled: u64,
}

impl Changes {
    /// To be said again of an answer to a question that is put now: what was changed meanwhile may not be in it.
    pub(super) fn moment(&self) -> u64 {
        self.count
    }

    /// One more, which has this number.
    fn one_more(&mut self) -> u64 {
        self.count += 1;
        if self.remembered >= MOST {
            self.files.clear();
            self.names.clear();
            (self.remembered, self.settled) = (0, self.count);
        }
        self.count
    }

    /// A file changed.
    pub(super) fn of_file(&mut self, number: u64) {
        let change = self.one_more();
        self.remembered += usize::from(self.files.insert(number, change).is_none());
    }

    /// What a name in a folder stands for changed.
    pub(super) fn of_name(&mut self, folder: u64, name: &[u8]) {
        let change = self.one_more();
        let names = self.names.entry(folder).or_default();
        self.remembered += usize::from(names.insert(name.to_vec(), change).is_none());
    }

    /// Whether anything at all can be said of that moment.
    pub(super) fn knows(&self, moment: u64) -> bool {
        moment >= self.settled
    }

    /// Whether a file is as it was at that moment, as far as we know.
    pub(super) fn is_file_as_at(&self, number: u64, moment: u64) -> bool {
        self.knows(moment) && self.files.get(&number).is_none_or(|change| *change <= moment)
    }

    /// Whether a name in a folder still stands for what it stood for at that moment, as far as we know.
    pub(super) fn is_name_as_at(&self, folder: u64, name: &[u8], moment: u64) -> bool {
        let change = self.names.get(&folder).and_then(|names| names.get(name));
        self.knows(moment) && change.is_none_or(|change| *change <= moment)
    }

    /// The names in a folder that changed after that moment.
    pub(super) fn names_since(&self, folder: u64, moment: u64) -> impl Iterator<Item = &Vec<u8>> {
        let names = self.names.get(&folder).into_iter().flatten();
        names.filter(move |(_, change)| **change > moment).map(|(name, _)| name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn they_do_not_grow_without_end_and_what_is_too_old_to_tell_is_not_told() {
        let mut changes = Changes::default();
        let begin = changes.moment();
        assert!(changes.is_file_as_at(7, begin));
        for number in 0..3 * MOST as u64 {
            changes.of_file(number);
            changes.of_name(number % 100, &number.to_be_bytes());
        }
        let names: usize = changes.names.values().map(HashMap::len).sum();
        assert_eq!(changes.remembered, names + changes.files.len());
        assert!(changes.remembered <= MOST + 1, "{}", changes.remembered);
        assert!(!changes.is_file_as_at(u64::MAX, begin) && !changes.is_name_as_at(1, b"x", begin));
        assert!(changes.is_file_as_at(u64::MAX, changes.moment()));
    }
}
