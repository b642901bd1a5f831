//! What the keeper tells about itself: two extensions of the agent protocol, of our own.

use lantern_keys::PublicKey;
use lantern_keys::wire::{Reader, WireError, Writer};

/// The extension that tells the state.
pub(crate) const STATUS: &str = "status@brass-lantern";
/// The extension that ends the process.
pub(crate) const STOP: &str = "stop@brass-lantern";
/// In place of a number of seconds: forever.
const FOREVER: u32 = u32::MAX;

/// One key that is held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct HeldKey {
    pub(crate) key: PublicKey,
    pub(crate) comment: String,
    /// Seconds until it is forgotten.
    pub(crate) remaining: Option<u32>,
    pub(crate) confirm: bool,
}

/// The state of a keeper.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Status {
    pub(crate) pid: u32,
    /// Seconds since it started.
    pub(crate) age: u32,
    /// Whether it is locked.
    pub(crate) locked: bool,
    /// Whether its memory is kept from swap.
    pub(crate) memory_locked: bool,
    /// Whether it can ask a person.
    pub(crate) can_ask: bool,
    /// The keys, told while it is locked too.
    pub(crate) keys: Vec<HeldKey>,
}

impl Status {
    /// The content of the extension's answer.
    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        out.put_uint32(self.pid);
        out.put_uint32(self.age);
        for flag in [self.locked, self.memory_locked, self.can_ask] {
            out.put_bool(flag);
        }
        out.put_uint32(self.keys.len() as u32);
        for key in &self.keys {
            out.put_string(&key.key.encode());
            out.put_string(key.comment.as_bytes());
            out.put_uint32(key.remaining.unwrap_or(FOREVER));
            out.put_bool(key.confirm);
        }
        out
    }

    /// Reads what [`Self::encode`] writes.
    pub(crate) fn decode(content: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(content);
        let (pid, age) = (reader.u32("pid")?, reader.u32("age")?);
        let (locked, memory_locked, can_ask) =
            (reader.bool("locked")?, reader.bool("memory")?, reader.bool("can ask")?);
        let count = reader.u32("number of keys")?;
        let mut keys = Vec::new();
        for _ in 0..count.min(lantern_ssh::agent::MAX_KEYS as u32) {
            let key = PublicKey::decode(reader.string("key")?)
                .map_err(|_| WireError::Invalid { field: "key", rule: "must be of a kind that we hold" })?;
            let comment = reader.text("comment")?.to_owned();
            let remaining = Some(reader.u32("remaining time")?).filter(|seconds| *seconds != FOREVER);
            keys.push(HeldKey { key, comment, remaining, confirm: reader.bool("confirm")? });
        }
        reader.finish()?;
        Ok(Self { pid, age, locked, memory_locked, can_ask, keys })
    }
}
