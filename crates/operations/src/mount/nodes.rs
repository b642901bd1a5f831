//! Files by the numbers that the kernel calls them: each has a name in a folder, so that a folder that is renamed takes along what is in it.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use crate::files::join;

/// The number of the folder that is mounted.
pub(super) const ROOT: u64 = 1;
/// Deepest file below it: what systems take as one path is 4096 bytes.
const DEEPEST: usize = 4096;

#[derive(Debug)]
struct Node {
    parent: u64,
    name: Vec<u8>,
    /// How often the kernel has been told of it and has not forgotten it.
    told: u64,
    /// Whether its name is another's now, or nobody's.
    is_gone: bool,
}

/// All that the kernel knows.
#[derive(Debug)]
pub(super) struct Nodes {
    root: Vec<u8>,
    by_number: HashMap<u64, Node>,
    by_name: HashMap<(u64, Vec<u8>), u64>,
}

impl Nodes {
    pub(super) fn new(root: Vec<u8>) -> Self {
        Self { root, by_number: HashMap::new(), by_name: HashMap::new() }
    }

    /// The path on the machine; none for what is gone.
    pub(super) fn path(&self, mut number: u64) -> Option<Vec<u8>> {
        let mut names = Vec::new();
        while number != ROOT {
            if names.len() > DEEPEST {
                return None;
            }
            let node = self.by_number.get(&number).filter(|node| !node.is_gone)?;
            names.push(&node.name);
            number = node.parent;
        }
        Some(names.iter().rev().fold(self.root.clone(), |path, name| join(&path, name)))
    }

    /// Its name, and the folder that it is in; none for the uppermost, and for what is gone.
    pub(super) fn place(&self, number: u64) -> Option<(u64, Vec<u8>)> {
        let node = self.by_number.get(&number).filter(|node| !node.is_gone)?;
        Some((node.parent, node.name.clone()))
    }

    /// The number of a name, if it has one.
    pub(super) fn find(&self, parent: u64, name: &[u8]) -> Option<u64> {
        self.by_name.get(&(parent, name.to_vec())).copied()
    }

    /// A number for a name: the same each time that the same folder is mounted, as long as nobody has it. Programs that keep the numbers of files, to
    /// tell which are as they were, do so from one mount to the next.
    fn new_number(&self, parent: u64, name: &[u8]) -> u64 {
        let mut tries = 0_u64;
        loop {
            let mut hasher = DefaultHasher::new();
            (parent, name, tries).hash(&mut hasher);
            let number = hasher.finish() >> 1;
            if number > ROOT && !self.by_number.contains_key(&number) {
                return number;
            }
            tries += 1;
        }
    }

    /// The number of a name, which the kernel is told; whether it had none before.
    pub(super) fn tell(&mut self, parent: u64, name: &[u8]) -> (u64, bool) {
        let found = self.find(parent, name);
        let number = match found {
            Some(number) => number,
            None => {
                let number = self.new_number(parent, name);
                let node = Node { parent, name: name.to_vec(), told: 0, is_gone: false };
                self.by_number.insert(number, node);
                self.by_name.insert((parent, name.to_vec()), number);
                number
            }
        };
        if let Some(node) = self.by_number.get_mut(&number) {
            node.told += 1;
        }
        (number, found.is_none())
    }

    /// The kernel has forgotten it so many times.
    pub(super) fn forget(&mut self, number: u64, times: u64) {
        let Some(node) = self.by_number.get_mut(&number) else { return };
        node.told = node.told.saturating_sub(times);
        if node.told == 0
            && let Some(node) = self.by_number.remove(&number)
            && !node.is_gone
        {
            self.by_name.remove(&(node.parent, node.name));
        }
    }

    /// The name means nothing any more.
    pub(super) fn remove(&mut self, parent: u64, name: &[u8]) {
        if let Some(number) = self.by_name.remove(&(parent, name.to_vec()))
            && let Some(node) = self.by_number.get_mut(&number)
        {
            node.is_gone = true;
        }
    }

    /// It has another name now, in the place of what had that.
    pub(super) fn rename(&mut self, from: (u64, &[u8]), to: (u64, &[u8])) {
        let Some(number) = self.by_name.remove(&(from.0, from.1.to_vec())) else {
            // What had the name is not there any more, whatever took its place.
            return self.remove(to.0, to.1);
        };
        self.remove(to.0, to.1);
        if let Some(node) = self.by_number.get_mut(&number) {
            (node.parent, node.name) = (to.0, to.1.to_vec());
        }
        self.by_name.insert((to.0, to.1.to_vec()), number);
    }

    /// The folder that it is in; its own, for the uppermost.
    #[cfg(test)]
    fn parent(&self, number: u64) -> u64 {
        self.by_number.get(&number).map_or(ROOT, |node| node.parent)
    }

    /// How many there are.
    #[cfg(test)]
    pub(super) fn len(&self) -> usize {
        self.by_number.len()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_in_a_folder_goes_where_that_goes() {
        let mut nodes = Nodes::new(b"/srv".to_vec());
        let folder = nodes.tell(ROOT, b"a").0;
        let file = nodes.tell(folder, b"x").0;
        assert_eq!(nodes.path(file).unwrap(), b"/srv/a/x");
        let over = nodes.tell(ROOT, b"b").0;
        nodes.rename((ROOT, b"a"), (ROOT, b"b"));
        assert_eq!((nodes.path(file).unwrap(), nodes.path(over)), (b"/srv/b/x".to_vec(), None));
        nodes.remove(folder, b"x");
        assert_eq!(nodes.path(file), None);
        // A name that is taken anew is another file, while the old one is still known.
        let new = nodes.tell(folder, b"x").0;
        assert!(new != file && nodes.path(new).unwrap() == b"/srv/b/x");
        nodes.forget(file, 1);
        assert_eq!(nodes.find(folder, b"x"), Some(new));
    }

    #[test]
    fn numbers_are_the_same_from_one_mount_to_the_next() {
        let number = |before: &[&[u8]]| {
            let mut nodes = Nodes::new(b"/srv".to_vec());
            for name in before {
                nodes.tell(ROOT, name);
            }
            let folder = nodes.tell(ROOT, b"a").0;
            nodes.tell(folder, b"x").0
        };
        assert_eq!(number(&[]), number(&[b"b", b"c"]));
    }

    proptest! {
        /// Whatever happens in whatever order, what has been forgotten takes no memory, and no way leads in a circle.
        #[test]
        fn what_is_forgotten_is_gone(deeds in proptest::collection::vec((0..4_u8, 0..6_u64, 0..5_u8, 0..6_u64, 0..5_u8), 0..60)) {
            let mut nodes = Nodes::new(b"/".to_vec());
            let mut told: HashMap<u64, u64> = HashMap::new();
            for (deed, parent, name, other, new) in deeds {
                let (name, new) = ([b'a' + name], [b'a' + new]);
                // The kernel says no number that it was not told.
                let mut numbers: Vec<u64> = told.keys().copied().filter(|number| nodes.by_number.contains_key(number)).collect();
                numbers.sort_unstable();
                let known = |at: u64| numbers.get(at as usize).copied().unwrap_or(ROOT);
                let (parent, other) = (known(parent), known(other));
                match deed {
                    0 | 1 => *told.entry(nodes.tell(parent, &name).0).or_default() += 1,
                    2 => nodes.remove(parent, &name),
                    // A machine would refuse to put a folder into itself.
                    _ if nodes.find(parent, &name).is_some_and(|moved| {
                        let (mut at, mut steps) = (other, 0);
                        while at != ROOT && at != moved && steps < 100 {
                            (at, steps) = (nodes.parent(at), steps + 1);
                        }
                        at == moved
                    }) => {}
                    _ => nodes.rename((parent, &name), (other, &new)),
                }
                for number in told.keys() {
                    let _ = nodes.path(*number);
                }
            }
            for (number, times) in told {
                nodes.forget(number, times);
            }
            prop_assert_eq!((nodes.len(), nodes.by_name.len()), (0, 0));
        }
    }
}
