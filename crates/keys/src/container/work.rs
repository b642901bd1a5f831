//! What deriving a key from a passphrase costs. The file decides that, so it is bounded: a small file could ask for
//! a year of computing or for all of the memory.

use crate::KeyError;

/// Most bcrypt rounds that we spend unasked: about ten seconds.
pub const MAX_BCRYPT_ROUNDS: u32 = 1024;
/// Most PBKDF2 iterations that we spend unasked: about ten seconds of SHA-512 without help of the processor.
pub const MAX_PBKDF2_ITERATIONS: u32 = 10_000_000;
/// Most scrypt work (N·r·p) that we spend unasked: about ten seconds.
pub const MAX_SCRYPT_WORK: u64 = 8 * 1024 * 1024 * 3;
/// Most memory that we ever give to scrypt (128·N·r), in bytes; refused above, asked or not.
pub const MAX_SCRYPT_MEMORY: u64 = 1024 * 1024 * 1024;
/// However patient the caller: a hundred times the limits above is twenty minutes, and no honest file.
const LAST_LIMIT: u64 = 100;

/// How long the caller is ready to wait for a key derivation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Patience {
    /// Some ten seconds.
    Short,
    /// Many minutes: somebody was asked.
    Long,
}

/// The work that opening a container takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// None: it is not protected, or by a single hash.
    None,
    /// bcrypt, in rounds.
    Bcrypt(u32),
    /// PBKDF2, in iterations.
    Pbkdf2(u32),
    /// scrypt: N·r·p, and the memory in bytes.
    Scrypt {
        /// N·r·p.
        work: u64,
        /// 128·N·r, in bytes.
        memory: u64,
    },
}

impl Work {
    /// What is counted, how much of it, and the limit for [`Patience::Short`].
    fn account(self) -> (&'static str, u64, u64) {
        match self {
            Self::None => ("steps", 0, 1),
            Self::Bcrypt(rounds) => ("rounds of bcrypt", rounds.into(), MAX_BCRYPT_ROUNDS.into()),
            Self::Pbkdf2(count) => ("iterations of PBKDF2", count.into(), MAX_PBKDF2_ITERATIONS.into()),
            Self::Scrypt { work, .. } => ("steps of scrypt", work, MAX_SCRYPT_WORK),
        }
    }

    /// About how long it takes on a computer of today, in seconds.
    pub fn seconds(self) -> u64 {
        let (_, met, limit) = self.account();
        met.saturating_mul(10) / limit
    }

    /// Whether deriving is so cheap that a stolen file can be searched: under a hundredth of what we write, or a
    /// single hash.
    pub fn is_weak(self) -> bool {
        match self {
            Self::None => true,
            Self::Bcrypt(rounds) => rounds < 16,
            Self::Pbkdf2(count) => count < 100_000,
            Self::Scrypt { work, .. } => work < 8 * 16 * 1024,
        }
    }

    /// Refuses what is beyond the caller's patience.
    ///
    /// # Errors
    /// [`KeyError::TooCostly`].
    pub fn check(self, patience: Patience) -> Result<(), KeyError> {
        if let Self::Scrypt { memory, .. } = self
            && memory > MAX_SCRYPT_MEMORY
        {
            return Err(KeyError::TooCostly {
                what: "bytes of memory",
                met: memory,
                limit: MAX_SCRYPT_MEMORY,
            });
        }
        let (what, met, limit) = self.account();
        let limit = match patience {
            Patience::Short => limit,
            Patience::Long => limit * LAST_LIMIT,
        };
        if met > limit { Err(KeyError::TooCostly { what, met, limit }) } else { Ok(()) }
    }
}
