//! What the keeper tells about itself: two extensions of the agent protocol, of our own.

use lantern_keys::PublicKey;
use lantern_keys::wire::{Reader, WireError, Writer};

/// The extension that tells the state.
pub(crate) const STATUS: &str = "status@brass-lantern";
/// The extension that ends the process.
pub(crate) const STOP: &str = "stop@brass-lantern";
/// In place of a number of seconds: forever.
pub(crate) const FOREVER: u32 = u32::MAX;

/// Most passwords of a status.
const MAX_PASSWORDS: u32 = 256;

/// One key that is held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldKey {
    /// Its public half.
    pub key: PublicKey,
    /// Its comment, as whoever added it said.
    pub comment: String,
    /// Seconds until it is forgotten.
    pub remaining: Option<u32>,
    /// Whether each use wants a yes.
    pub confirm: bool,
}

/// One password that is held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldPassword {
    /// The machine.
    pub machine: String,
    /// Of which user.
    pub user: String,
    /// Seconds until it is forgotten.
    pub remaining: Option<u32>,
}

/// The state of a keeper.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Status {
    /// Its process.
    pub pid: u32,
    /// Seconds since it started.
    pub age: u32,
    /// Whether it is locked.
    pub locked: bool,
    /// Whether its memory is kept from swap.
    pub memory_locked: bool,
    /// Whether it asks a person by a program; else on the terminal that was last used.
    pub asks_by_program: bool,
    /// The keys; none while it is locked.
    pub keys: Vec<HeldKey>,
    /// The passwords; none while it is locked.
    pub passwords: Vec<HeldPassword>,
}

impl Status {
    /// The content of the extension's answer.
    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        out.put_uint32(self.pid);
        out.put_uint32(self.age);
        for flag in [self.locked, self.memory_locked, self.asks_by_program] {
            out.put_bool(flag);
        }
        out.put_uint32(self.keys.len() as u32);
        for key in &self.keys {
            out.put_string(&key.key.encode());
            out.put_string(key.comment.as_bytes());
            out.put_uint32(key.remaining.unwrap_or(FOREVER));
            out.put_bool(key.confirm);
        }
        out.put_uint32(self.passwords.len() as u32);
        for password in &self.passwords {
            out.put_string(password.machine.as_bytes());
            out.put_string(password.user.as_bytes());
            out.put_uint32(password.remaining.unwrap_or(FOREVER));
        }
        out
    }

    /// Reads what [`Self::encode`] writes.
    pub(crate) fn decode(content: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(content);
        let (pid, age) = (reader.u32("pid")?, reader.u32("age")?);
        let (locked, memory_locked, asks_by_program) =
            (reader.bool("locked")?, reader.bool("memory")?, reader.bool("asks by a program")?);
        let count = reader.u32("number of keys")?;
        let mut keys = Vec::new();
        for _ in 0..count.min(lantern_ssh::agent::MAX_KEYS as u32) {
            let key = PublicKey::decode(reader.string("key")?)
                .map_err(|_| WireError::Invalid { field: "key", rule: "must be of a kind that we hold" })?;
            let comment = reader.text("comment")?.to_owned();
            let remaining = Some(reader.u32("remaining time")?).filter(|seconds| *seconds != FOREVER);
            keys.push(HeldKey { key, comment, remaining, confirm: reader.bool("confirm")? });
        }
        let mut passwords = Vec::new();
        // One that is older says nothing of them.
        let count = if reader.rest().is_empty() { 0 } else { reader.u32("number of passwords")? };
        for _ in 0..count.min(MAX_PASSWORDS) {
            let (machine, user) = (reader.text("machine")?.to_owned(), reader.text("user")?.to_owned());
            let remaining = Some(reader.u32("remaining time")?).filter(|seconds| *seconds != FOREVER);
            passwords.push(HeldPassword { machine, user, remaining });
        }
        reader.finish()?;
        Ok(Self { pid, age, locked, memory_locked, asks_by_program, keys, passwords })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn held() -> impl Strategy<Value = HeldKey> {
        (any::<[u8; 32]>(), ".{0,40}", proptest::option::of(0..u32::MAX), any::<bool>()).prop_map(
            |(key, comment, remaining, confirm)| HeldKey {
                key: PublicKey::Ed25519(key),
                comment,
                remaining,
                confirm,
            },
        )
    }

    proptest! {
        #[test]
        fn what_is_told_is_understood(
            numbers: (u32, u32),
            flags: (bool, bool, bool),
            keys in proptest::collection::vec(held(), 0..8),
            passwords in proptest::collection::vec(("[a-z]{1,8}", "\\PC{1,8}", proptest::option::of(0..FOREVER)), 0..4),
        ) {
            let held = |(machine, user, remaining)| HeldPassword { machine, user, remaining };
            let passwords = passwords.into_iter().map(held).collect();
            let status = Status {
                pid: numbers.0,
                age: numbers.1,
                locked: flags.0,
                memory_locked: flags.1,
                asks_by_program: flags.2,
                keys,
                passwords,
            };
            prop_assert_eq!(Status::decode(&status.encode()), Ok(status));
        }

        #[test]
        fn any_answer_is_survived(bytes: Vec<u8>) {
            let _ = Status::decode(&bytes);
        }
    }
}
