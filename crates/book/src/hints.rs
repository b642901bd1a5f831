//! `hints.toml`: what was chosen with each machine's server where that is what it lists first, so that the next connection can guess and save a round
//! trip. A cache: a broken or missing file costs time, nothing else.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::home::{read_or_empty, write_atomically};
use crate::{BookError, Home};

const FILE: &str = "hints.toml";

/// What may be guessed about one server, by wire names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Hint {
    /// The key exchange method.
    pub kex: String,
    /// The host key algorithm.
    pub host_key: String,
}

/// The hints of one home.
#[derive(Debug, Default, Serialize, Deserialize)]
pub struct Hints {
    #[serde(default)]
    machines: BTreeMap<String, Hint>,
}

impl Hints {
    /// Reads the hints; what cannot be read is no hint.
    pub fn load(home: &Home) -> Self {
        read_or_empty(&home.file(FILE)).ok().and_then(|text| toml::from_str(&text).ok()).unwrap_or_default()
    }

    /// The hint for a machine.
    pub fn get(&self, machine: &str) -> Option<&Hint> {
        self.machines.get(machine)
    }

    /// Remembers a hint, when it says something new.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn note(home: &Home, machine: &str, hint: Hint) -> Result<(), BookError> {
        if Self::load(home).get(machine) == Some(&hint) {
            return Ok(());
        }
        Self::edit(home, |hints| drop(hints.insert(machine.to_owned(), hint)))
    }

    /// Forgets what there is for a machine.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn forget(home: &Home, machine: &str) -> Result<(), BookError> {
        if Self::load(home).get(machine).is_none() {
            return Ok(());
        }
        Self::edit(home, |hints| drop(hints.remove(machine)))
    }

    /// What is known of `old` is known of `new` from now on.
    ///
    /// # Errors
    /// What writing runs into.
    pub fn rename(home: &Home, old: &str, new: &str) -> Result<(), BookError> {
        if Self::load(home).get(old).is_none() {
            return Ok(());
        }
        Self::edit(home, |hints| {
            if let Some(hint) = hints.remove(old) {
                hints.insert(new.to_owned(), hint);
            }
        })
    }

    fn edit(home: &Home, change: impl FnOnce(&mut BTreeMap<String, Hint>)) -> Result<(), BookError> {
        let _lock = home.lock()?;
        let mut hints = Self::load(home);
        change(&mut hints.machines);
        let path = home.file(FILE);
        let text =
            toml::to_string(&hints).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
        write_atomically(&path, text.as_bytes(), 0o644)
    }
}
