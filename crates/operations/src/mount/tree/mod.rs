//! A folder of a machine as a tree of numbered files: what is asked of it, and what of that reaches the machine.

mod change;
mod handles;

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use fuser::Errno;
use lantern_link::{Files, FilesError};
use lantern_ssh::sftp::{Attributes, Space};

use super::known::{Entry, Known, Listing};
use super::lifeline::Lifeline;
use super::nodes::Nodes;
use super::open_file::{OpenFile, Room};
use super::trouble::Trouble;
use crate::files::join;

/// How a tree is.
#[derive(Debug, Clone, Copy)]
pub struct TreeOptions {
    /// How long what is known of a file counts.
    pub lasts: Duration,
    /// Whether nothing is written.
    pub read_only: bool,
}

/// A tree.
pub struct RemoteTree {
    line: Lifeline,
    options: TreeOptions,
    nodes: Mutex<Nodes>,
    known: Mutex<Known>,
    open: Mutex<Open>,
    /// The memory that they share.
    room: Room,
}

#[derive(Default)]
struct Open {
    files: HashMap<u64, Arc<OpenFile>>,
    next: u64,
}

impl std::fmt::Debug for RemoteTree {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("RemoteTree").field("options", &self.options).finish_non_exhaustive()
    }
}

type Done<T> = Result<T, Trouble>;

/// Asks, and where the connection was lost asks once more on another: for questions that change nothing.
macro_rules! asking {
    ($tree:expr, $files:ident => $question:expr) => {{
        let $files = $tree.line.files().await?;
        match $question.await {
            Err(error) if error.is_end() => {
                let $files = $tree.line.files().await?;
                $question.await
            }
            answer => answer,
        }
    }};
}

use asking;

impl RemoteTree {
    /// The tree below this folder, by its absolute path.
    pub fn new(root: Vec<u8>, line: Lifeline, options: TreeOptions) -> Self {
        Self {
            line,
            options,
            nodes: Mutex::new(Nodes::new(root)),
            known: Mutex::new(Known::new(options.lasts)),
            open: Mutex::default(),
            room: Room::default(),
        }
    }

    fn nodes(&self) -> MutexGuard<'_, Nodes> {
        self.nodes.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn known(&self) -> MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn path(&self, number: u64) -> Done<Vec<u8>> {
        self.nodes().path(number).ok_or(Trouble::Rule(Errno::ENOENT))
    }

    fn path_in(&self, parent: u64, name: &[u8]) -> Done<Vec<u8>> {
        Ok(join(&self.path(parent)?, name))
    }

    fn may_write(&self) -> Done<()> {
        match self.options.read_only {
            true => Err(Trouble::Rule(Errno::EROFS)),
            false => Ok(()),
        }
    }

    /// What a name in a folder stands for: its number, which is told once more, and what is known of it.
    ///
    /// # Errors
    /// There is nothing by that name; the machine's refusal.
    pub async fn find(&self, parent: u64, name: &[u8]) -> Done<(u64, Attributes)> {
        let (now, moment) = (Instant::now(), self.known().moment());
        let number = self.nodes().find(parent, name);
        let own = number.and_then(|number| self.known().file(number, now));
        if let Some(attributes) = own {
            return Ok((self.nodes().tell(parent, name).0, attributes));
        }
        let entry = self.known().entry(parent, name, now);
        let others_are_known = match entry {
            Entry::There(attributes, since) => {
                return Ok(self.tell(parent, name, attributes, (since, moment)));
            }
            Entry::Absent => return Err(Trouble::Rule(Errno::ENOENT)),
            Entry::Unknown { others_are_known } => others_are_known,
        };
        let wants_all = !others_are_known && self.known().wants_all(parent, now);
        let listing = if wants_all { self.list(parent).await.ok() } else { None };
        let attributes = match listing {
            Some((listing, _)) => *listing.get(name).ok_or(Trouble::Rule(Errno::ENOENT))?,
            None => {
                let path = self.path_in(parent, name)?;
                asking!(self, files => files.look_at_link(&path))?
            }
        };
        Ok(self.tell(parent, name, attributes, (now, moment)))
    }

    /// Tells the kernel of a file; what is known of it was so at that time, and asked for at that moment.
    fn tell(&self, parent: u64, name: &[u8], known: Attributes, when: (Instant, u64)) -> (u64, Attributes) {
        let (number, is_new) = self.nodes().tell(parent, name);
        let mut all = self.known();
        if is_new {
            // Whoever had the number before is forgotten.
            all.is_another(number);
        }
        if all.is_current(parent, name, when.1) {
            all.learn(number, known, when);
        }
        (number, known)
    }

    /// What is known of a file, where it still counts.
    pub(super) fn known_of(&self, number: u64) -> Option<Attributes> {
        self.known().file(number, Instant::now())
    }

    /// How long what is known of a file still counts.
    pub(super) fn left(&self, number: u64) -> Duration {
        self.known().left(number, Instant::now())
    }

    /// The kernel has forgotten a file so many times.
    pub fn forget(&self, number: u64, times: u64) {
        self.nodes().forget(number, times);
    }

    /// What is known of a file.
    ///
    /// # Errors
    /// It is gone; the machine's refusal.
    pub async fn look(&self, number: u64) -> Done<Attributes> {
        if let Some(attributes) = self.known().file(number, Instant::now()) {
            return Ok(attributes);
        }
        // What is being written counts.
        self.settle(number).await;
        let (now, moment) = (Instant::now(), self.known().moment());
        let attributes = match self.path(number) {
            Ok(path) => asking!(self, files => files.look_at_link(&path))?,
            // It has no name any more; whoever has it open still sees it.
            Err(trouble) => match self.opened(number) {
                Some(open) => open.file().await.ok_or(trouble)?.look().await?,
                None => return Err(trouble),
            },
        };
        self.known().learn(number, attributes, (now, moment));
        Ok(attributes)
    }

    /// Waits until what was written to a file is there.
    async fn settle(&self, number: u64) {
        let all: Vec<_> = self.open().files.values().filter(|open| open.node == number).cloned().collect();
        for open in all {
            if open.flags.write {
                open.wait().await;
            }
        }
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A file is not what it was, and neither is what stands of it in the listing of its folder.
    fn file_changed(&self, number: u64) {
        let place = self.nodes().place(number);
        let mut known = self.known();
        known.forget(number);
        if let Some((parent, name)) = place {
            known.doubt(parent, &name);
        }
    }

    /// What was read ahead of a file is old.
    fn is_changed(&self, number: u64) {
        self.open().files.values().filter(|open| open.node == number).for_each(|open| open.is_changed());
    }

    fn opened(&self, number: u64) -> Option<Arc<OpenFile>> {
        self.open().files.values().find(|open| open.node == number).cloned()
    }

    /// The names in a folder, with what is known of each, and since when.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn list(&self, number: u64) -> Done<(Listing, Instant)> {
        let (now, moment) = (Instant::now(), self.known().moment());
        if let Some(known) = self.known().folder(number, now) {
            return Ok(known);
        }
        let path = self.path(number)?;
        let entries = asking!(self, files => files.list(&path))?;
        let mut listing = HashMap::with_capacity(entries.len());
        for entry in entries {
            // A name that leads elsewhere is none.
            if !entry.name.is_empty()
                && !matches!(&entry.name[..], b"." | b"..")
                && !entry.name.contains(&b'/')
            {
                listing.insert(entry.name, entry.attributes);
            }
        }
        let listing = Arc::new(listing);
        self.known().learn_folder(number, listing.clone(), (now, moment));
        Ok((listing, now))
    }

    /// A moment, by which it shows whether anything was changed since.
    pub(super) fn moment(&self) -> u64 {
        self.known().moment()
    }

    /// What stands in a folder, each told to the kernel.
    pub(super) fn told(&self, parent: u64, name: &[u8], known: Attributes, when: (Instant, u64)) -> u64 {
        self.tell(parent, name, known, when).0
    }

    /// Where a link leads.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn read_link(&self, number: u64) -> Done<Vec<u8>> {
        let path = self.path(number)?;
        Ok(asking!(self, files => files.read_link(&path))?)
    }

    /// How much room there is.
    ///
    /// # Errors
    /// The machine does not say.
    pub async fn space(&self, number: u64) -> Done<Space> {
        let path = self.path(number)?;
        Ok(asking!(self, files => files.space(&path))?)
    }

    /// A name in a folder is about to stand for something else: it is doubtful until it is known what came of it, and so is what is known of the folder.
    fn doubt(&self, parent: u64, name: &[u8]) {
        let mut known = self.known();
        known.doubt(parent, name);
        known.forget(parent);
    }

    /// What came of it.
    fn now_is(&self, parent: u64, name: &[u8], file: Option<Attributes>) {
        let mut known = self.known();
        known.now_is(parent, name, file);
        known.forget(parent);
    }

    /// A vague refusal where something has that name already has the number for that.
    async fn explained<T>(
        &self,
        outcome: Result<T, FilesError>,
        files: &Files,
        path: &[u8],
        number: Errno,
    ) -> Done<T> {
        let trouble = match outcome {
            Ok(done) => return Ok(done),
            Err(error) => Trouble::from(error),
        };
        match trouble.is_vague() && files.look_at_link(path).await.is_ok() {
            true => Err(Trouble::Rule(number)),
            false => Err(trouble),
        }
    }
}
