//! `imports.toml`: what imports said of machines last, so that the next one changes nothing that was set by hand. Beside the book, which stays what
//! people wrote. Losing it makes the machines of a source strangers to it, until `machine import --adopt`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::home::{read_toml, write_atomically};
use crate::{BookError, Home};

const FILE: &str = "imports.toml";
const HEADER: &str = "# What imports said of machines last, by which the next one tells what was set by hand. Written by lantern.\n\n";

/// What an import said of one machine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Imported {
    /// The source.
    pub source: String,
    /// What tells the machine apart there.
    pub id: String,
    /// Fields by name, as text.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub said: BTreeMap<String, String>,
}

/// What imports said, by machine.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Imports {
    #[serde(default)]
    machines: BTreeMap<String, Imported>,
}

impl Imports {
    /// Reads the file; without one nothing was imported.
    ///
    /// # Errors
    /// [`BookError::Io`], [`BookError::Syntax`].
    pub fn load(home: &Home) -> Result<Self, BookError> {
        read_toml(&Self::path(home)).map(|(imports, _)| imports)
    }

    fn path(home: &Home) -> PathBuf {
        home.file(FILE)
    }

    /// What was said of a machine.
    pub fn get(&self, machine: &str) -> Option<&Imported> {
        self.machines.get(machine)
    }

    /// The machines of a source, with what tells them apart there.
    pub fn of_source<'a>(&'a self, source: &'a str) -> impl Iterator<Item = (&'a str, &'a str)> {
        let ours = self.machines.iter().filter(move |(_, imported)| imported.source == source);
        ours.map(|(name, imported)| (name.as_str(), imported.id.as_str()))
    }

    /// Notes what was said of machines; nothing for those that are gone.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn note(home: &Home, said: Vec<(String, Option<Imported>)>) -> Result<(), BookError> {
        edit(home, |imports| {
            for (machine, imported) in said {
                match imported {
                    Some(imported) => drop(imports.machines.insert(machine, imported)),
                    None => drop(imports.machines.remove(&machine)),
                }
            }
        })
    }

    /// What was said of `old` was said of `new`, pair by pair.
    ///
    /// # Errors
    /// As [`Self::note`].
    pub fn rename(home: &Home, pairs: &[(&str, &str)]) -> Result<(), BookError> {
        edit(home, |imports| {
            let taken: Vec<_> =
                pairs.iter().filter_map(|(old, new)| Some((*new, imports.machines.remove(*old)?))).collect();
            for (new, imported) in taken {
                imports.machines.insert(new.to_owned(), imported);
            }
        })
    }

    /// Forgets machines that are gone.
    ///
    /// # Errors
    /// As [`Self::note`].
    pub fn forget(home: &Home, machines: &[String]) -> Result<(), BookError> {
        edit(home, |imports| machines.iter().for_each(|name| drop(imports.machines.remove(name))))
    }
}

/// Changes the file under the lock; writes it only when something changes.
fn edit(home: &Home, change: impl FnOnce(&mut Imports)) -> Result<(), BookError> {
    let _lock = home.lock()?;
    let before = Imports::load(home)?;
    let mut after = before.clone();
    change(&mut after);
    if after == before {
        return Ok(());
    }
    let path = Imports::path(home);
    let text =
        toml::to_string(&after).map_err(|error| BookError::syntax(&path, "", None, error.to_string()))?;
    write_atomically(&path, format!("{HEADER}{text}").as_bytes(), 0o600)
}
