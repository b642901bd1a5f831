//! What connections are made with: where the book or the key ring says something else of a machine since, its connection goes.

use std::collections::{HashMap, HashSet};
use std::time::{Duration, Instant};

use lantern_book::{Home, KeyRing, MachineBook};
use lantern_link::{ConnectRequest, KeyChoice};
use lantern_operations::{ReachOptions, Target};

use crate::stamp::{Stamp, stamp};

/// The book and the ring, as they were looked at.
type Changed = [Stamp; 2];

/// How long a machine is remembered that there is no connection to: longer than any login takes.
const FORGOTTEN: Duration = Duration::from_secs(2 * 3600);

/// What held for each machine when its connection was made.
#[derive(Debug, Default)]
pub(crate) struct MadeWith {
    seen: Changed,
    machines: HashMap<String, Held>,
}

#[derive(Debug)]
struct Held {
    what: Option<String>,
    since: Instant,
}

impl MadeWith {
    /// A connection with this request is about to be made.
    pub(crate) fn note(&mut self, home: &Home, reach: &ReachOptions, request: &ConnectRequest) {
        let names = request.via.iter().chain([request]).map(|hop| &hop.machine);
        let missing: Vec<&String> = names.filter(|name| !self.machines.contains_key(*name)).collect();
        if missing.is_empty() {
            return;
        }
        if self.machines.is_empty() {
            self.seen = changed(home);
        }
        let Ok(book) = MachineBook::load(home) else { return };
        for name in missing {
            let what = holds(home, &book, reach, name);
            self.machines.insert(name.clone(), Held { what, since: Instant::now() });
        }
    }

    /// The machines of which something else holds now.
    pub(crate) fn changed(&mut self, home: &Home, reach: &ReachOptions) -> Vec<String> {
        let now = changed(home);
        if self.machines.is_empty() || now == self.seen {
            return Vec::new();
        }
        // A book that is no good says nothing: the next one will.
        let Ok(book) = MachineBook::load(home) else { return Vec::new() };
        self.seen = now;
        let is_other = |(name, held): &(&String, &Held)| held.what != holds(home, &book, reach, name);
        let others: Vec<String> =
            self.machines.iter().filter(is_other).map(|(name, _)| name.clone()).collect();
        others.iter().for_each(|name| drop(self.machines.remove(name)));
        others
    }

    /// Forgets machines that there is no connection to.
    pub(crate) fn forget_others(&mut self, machines: &HashSet<String>) {
        self.machines.retain(|name, held| held.since.elapsed() < FORGOTTEN || machines.contains(name));
    }
}

fn changed(home: &Home) -> Changed {
    [stamp(&MachineBook::path(home)), stamp(&KeyRing::new(home).folder())]
}

/// All that a connection to a machine of the book is made by, and the keys behind the names; none for one that is not in it.
fn holds(home: &Home, book: &MachineBook, reach: &ReachOptions, name: &str) -> Option<String> {
    let target = Target::find(home, book, name).ok()?;
    let request = target.request(home, reach, target.keys(reach), false).ok()?;
    let ring = KeyRing::new(home);
    let keys = match &request.keys {
        KeyChoice::Named(names) => names
            .iter()
            .map(|name| ring.get(name).ok().map(|entry| entry.public.fingerprint().to_string()))
            .collect(),
        _ => ring.names().unwrap_or_default().into_iter().map(Some).collect::<Vec<_>>(),
    };
    Some(format!("{request:?} {keys:?}"))
}
