//! Memory for keys that is never written to swap, and a process that is never written to a core file.

use lantern_ssh::agent::{MAX_KEYS, SLOT_LEN, Vault};
use rustix::process::{DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit};
use zeroize::Zeroize;

/// One piece of memory for all keys, locked as a whole. A megabyte: what a process may lock without privileges is eight on
/// most systems.
pub(crate) struct LockedVault {
    /// Unlocks when dropped; none where the system refused to lock. It stands before the memory, since fields are dropped in their order and what has
    /// been given back can't be unlocked.
    _guard: Option<region::LockGuard>,
    memory: Box<[u8]>,
    lengths: Vec<usize>,
    slot_len: usize,
    locked: bool,
}

impl LockedVault {
    /// Takes the memory and locks it as far as the system allows.
    pub(crate) fn new() -> Self {
        Self::with(MAX_KEYS, SLOT_LEN)
    }

    /// The same for so many secrets of that length at the most, in bytes.
    pub(crate) fn with(slots: usize, slot_len: usize) -> Self {
        let memory = vec![0u8; slots * slot_len].into_boxed_slice();
        let guard = region::lock(memory.as_ptr(), memory.len()).ok();
        let locked = guard.is_some();
        Self { memory, lengths: vec![0; slots], slot_len, _guard: guard, locked }
    }

    /// Whether the memory is locked.
    pub(crate) fn is_locked(&self) -> bool {
        self.locked
    }
}

impl Vault for LockedVault {
    fn store(&mut self, slot: usize, bytes: &[u8]) {
        self.wipe(slot);
        if let (Some(place), Some(length)) = (
            self.memory.get_mut(slot * self.slot_len..slot * self.slot_len + bytes.len()),
            self.lengths.get_mut(slot),
        ) {
            place.copy_from_slice(bytes);
            *length = bytes.len();
        }
    }

    fn load(&self, slot: usize) -> &[u8] {
        let length = self.lengths.get(slot).copied().unwrap_or_default();
        self.memory.get(slot * self.slot_len..slot * self.slot_len + length).unwrap_or_default()
    }

    fn wipe(&mut self, slot: usize) {
        if let Some(place) = self.memory.get_mut(slot * self.slot_len..(slot + 1) * self.slot_len) {
            place.zeroize();
        }
        if let Some(length) = self.lengths.get_mut(slot) {
            *length = 0;
        }
    }
}

impl Drop for LockedVault {
    fn drop(&mut self) {
        self.memory.zeroize();
    }
}

/// Keeps this process out of core files and from being looked into by other processes of the same user.
///
/// # Errors
/// What the system says.
pub fn close_process() -> rustix::io::Result<()> {
    let hard = getrlimit(Resource::Core).maximum;
    setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: hard })?;
    set_dumpable_behavior(DumpableBehavior::NotDumpable)
}
