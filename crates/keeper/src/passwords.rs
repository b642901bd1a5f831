//! Passwords of users of machines that the keeper holds, in memory like that of keys; and how programs have it remember, recall and forget them: three
//! extensions of the agent protocol, of our own.

use std::time::{Duration, Instant};

use lantern_keys::SecretBytes;
use lantern_keys::wire::{Reader, WireError, Writer};
use lantern_ssh::agent::Vault;
use zeroize::Zeroizing;

use crate::status::{FOREVER, HeldPassword};
use crate::vault::LockedVault;

/// The extension that has a password remembered.
pub(crate) const REMEMBER: &str = "remember@brass-lantern";
/// The extension that recalls one.
pub(crate) const RECALL: &str = "recall@brass-lantern";
/// The extension that has those of a machine forgotten; of all machines, where it has no name.
pub(crate) const DISOWN: &str = "disown@brass-lantern";
/// Most passwords that are held: beside each other they take a quarter of a megabyte of locked memory.
pub(crate) const MAX_PASSWORDS: usize = 256;
/// Longest password, in bytes: what systems take is shorter.
pub(crate) const MAX_LEN: usize = 1024;

/// What is to be remembered.
pub(crate) struct Remember {
    pub(crate) machine: String,
    pub(crate) user: String,
    pub(crate) password: SecretBytes,
    pub(crate) lifetime: Option<u32>,
}

impl Remember {
    pub(crate) fn encode(&self) -> Zeroizing<Vec<u8>> {
        let len = self.machine.len() + self.user.len() + self.password.expose_secret().len() + 16;
        // As large as it will be: a vector that grows leaves copies behind.
        let mut out = Zeroizing::new(Vec::with_capacity(len));
        out.put_string(self.machine.as_bytes());
        out.put_string(self.user.as_bytes());
        out.put_string(self.password.expose_secret());
        out.put_uint32(self.lifetime.unwrap_or(FOREVER));
        out
    }

    fn decode(content: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(content);
        let (machine, user) = (reader.text("machine")?.to_owned(), reader.text("user")?.to_owned());
        let password = SecretBytes::new(reader.string("password")?.to_vec());
        let lifetime = Some(reader.u32("lifetime")?).filter(|seconds| *seconds != FOREVER);
        reader.finish()?;
        Ok(Self { machine, user, password, lifetime })
    }
}

/// The question for a password.
pub(crate) fn question(machine: &str, user: &str) -> Vec<u8> {
    let mut out = Vec::new();
    out.put_string(machine.as_bytes());
    out.put_string(user.as_bytes());
    out
}

struct Entry {
    machine: String,
    user: String,
    expires: Option<Instant>,
    slot: usize,
}

/// The passwords.
pub(crate) struct Passwords {
    memory: LockedVault,
    entries: Vec<Entry>,
}

impl Passwords {
    pub(crate) fn new() -> Self {
        Self { memory: LockedVault::with(MAX_PASSWORDS, MAX_LEN), entries: Vec::new() }
    }

    /// Remembers one, in place of what was known of that user there; whether there was room.
    pub(crate) fn remember(&mut self, content: &[u8], now: Instant) -> bool {
        let Ok(Remember { machine, user, password, lifetime }) = Remember::decode(content) else {
            return false;
        };
        let password = password.expose_secret();
        if password.is_empty() || password.len() > MAX_LEN {
            return false;
        }
        self.forget(|entry| entry.machine == machine && entry.user == user);
        let is_taken = |slot: &usize| self.entries.iter().any(|entry| entry.slot == *slot);
        let Some(slot) = (0..MAX_PASSWORDS).find(|slot| !is_taken(slot)) else { return false };
        self.memory.store(slot, password);
        let expires = lifetime.map(|seconds| now + Duration::from_secs(seconds.into()));
        self.entries.push(Entry { machine, user, expires, slot });
        true
    }

    /// The password that is asked for.
    pub(crate) fn recall(&self, content: &[u8]) -> Option<&[u8]> {
        let mut reader = Reader::new(content);
        let (machine, user) = (reader.text("machine").ok()?, reader.text("user").ok()?);
        reader.finish().ok()?;
        let entry = self.entries.iter().find(|entry| entry.machine == machine && entry.user == user)?;
        Some(self.memory.load(entry.slot))
    }

    /// Forgets those of a machine, or all; whether there were any.
    pub(crate) fn disown(&mut self, content: &[u8]) -> bool {
        let mut reader = Reader::new(content);
        let Ok(machine) = reader.text("machine") else { return false };
        let before = self.entries.len();
        self.forget(|entry| machine.is_empty() || entry.machine == machine);
        self.entries.len() < before
    }

    pub(crate) fn forget_all(&mut self) {
        self.forget(|_| true);
    }

    /// Forgets what is over.
    pub(crate) fn handle_timeout(&mut self, now: Instant) {
        self.forget(|entry| entry.expires.is_some_and(|expires| expires <= now));
    }

    fn forget(&mut self, is_meant: impl Fn(&Entry) -> bool) {
        let (gone, kept) = std::mem::take(&mut self.entries).into_iter().partition(is_meant);
        self.entries = kept;
        let gone: Vec<Entry> = gone;
        gone.iter().for_each(|entry| self.memory.wipe(entry.slot));
    }

    /// What is told of them.
    pub(crate) fn held(&self, now: Instant) -> Vec<HeldPassword> {
        let held = |entry: &Entry| HeldPassword {
            machine: entry.machine.clone(),
            user: entry.user.clone(),
            remaining: entry.expires.map(|expires| {
                u32::try_from(expires.saturating_duration_since(now).as_secs()).unwrap_or(FOREVER - 1)
            }),
        };
        self.entries.iter().map(held).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn remember(machine: &str, user: &str, password: &str, lifetime: Option<u32>) -> Zeroizing<Vec<u8>> {
        let password = SecretBytes::new(password.as_bytes().to_vec());
        Remember { machine: machine.into(), user: user.into(), password, lifetime }.encode()
    }

    #[test]
    fn passwords_are_kept_by_machine_and_user_until_their_time_is_over() {
        let (mut passwords, now) = (Passwords::new(), Instant::now());
        assert!(passwords.remember(&remember("chart-room", "keeper", "low water", None), now));
        assert!(passwords.remember(&remember("chart-room", "keeper", "high water", Some(60)), now));
        assert!(passwords.remember(&remember("log-room", "keeper", "ebb", None), now));
        assert_eq!(passwords.recall(&question("chart-room", "keeper")), Some(&b"high water"[..]));
        assert_eq!(passwords.recall(&question("chart-room", "warden")), None);
        assert_eq!(passwords.held(now).len(), 2);
        passwords.handle_timeout(now + Duration::from_secs(60));
        assert_eq!(passwords.recall(&question("chart-room", "keeper")), None);
        assert!(passwords.disown(&question("log-room", "")) && !passwords.disown(&question("log-room", "")));
        assert!(!passwords.remember(&remember("a", "b", "", None), now));
        assert!(!passwords.remember(&remember("a", "b", &"x".repeat(MAX_LEN + 1), None), now));
        for number in 0..MAX_PASSWORDS {
            assert!(passwords.remember(&remember(&format!("m{number}"), "k", "p", None), now));
        }
        assert!(!passwords.remember(&remember("one-more", "k", "p", None), now));
        passwords.forget_all();
        assert!(passwords.held(now).is_empty());
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>) {
            let mut passwords = Passwords::new();
            let _ = passwords.remember(&bytes, Instant::now());
            let _ = (passwords.recall(&bytes).map(<[u8]>::len), passwords.disown(&bytes));
        }
    }
}
