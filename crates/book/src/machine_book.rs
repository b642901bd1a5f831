//! `machines.toml`: read whole, edited in place so that the person's comments and order survive.

use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::document::Place;
use crate::effective::{self, Effective};
use crate::entries::{Book, Entry};
use crate::home::read_or_empty;
use crate::read::read;
use crate::{BookError, Field, Home, Settings};

const FILE: &str = "machines.toml";
pub(crate) const HEADER: &str = "# The book of machines. Made to be edited: comments and order are kept. No secret belongs in here.\n# `lantern machine schema` prints what can be in it, for editors to complete from.\n\n";

/// The machines and profiles of one home.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct MachineBook {
    pub(crate) book: Book,
}

impl MachineBook {
    /// Reads the book; a missing file is an empty one.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn load(home: &Home) -> Result<Self, BookError> {
        let path = Self::path(home);
        Self::parse(&path, &read_or_empty(&path)?)
    }

    /// Reads a text as the book; errors name `path`.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line.
    pub fn parse(path: &std::path::Path, text: &str) -> Result<Self, BookError> {
        Ok(Self { book: read(path, text)? })
    }

    /// Where the book is.
    pub fn path(home: &Home) -> PathBuf {
        home.file(FILE)
    }

    /// Checks what only shows when settings are put together: unknown profiles, loops, clashes, gateways that go in a circle.
    ///
    /// # Errors
    /// The first that is met.
    pub fn check(&self) -> Result<(), BookError> {
        for name in self.book.profiles.keys() {
            effective::of_profile(&self.book, name)?;
        }
        self.book.machines.keys().try_for_each(|name| self.gateways(name).map(drop))
    }

    /// All machines by name with what they say themselves, in order of their names.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Settings)> {
        self.book.machines.iter().map(|(name, entry)| (name.as_str(), &entry.settings))
    }

    /// All profiles by name with what they say themselves.
    pub fn profiles(&self) -> impl Iterator<Item = (&str, &Settings)> {
        self.book.profiles.iter().map(|(name, entry)| (name.as_str(), &entry.settings))
    }

    /// What holds for all machines.
    pub fn defaults(&self) -> &Settings {
        &self.book.defaults.settings
    }

    /// The line that a machine's table begins in.
    pub fn line(&self, machine: &str) -> u32 {
        self.book.machines.get(machine).map_or(0, |entry| entry.line)
    }

    /// What a machine says itself.
    ///
    /// # Errors
    /// [`BookError::Unknown`], with the nearest name.
    pub fn get(&self, name: &str) -> Result<&Settings, BookError> {
        self.entry(name).map(|entry| &entry.settings)
    }

    fn entry(&self, name: &str) -> Result<&Entry, BookError> {
        let names = || self.book.machines.keys().map(String::as_str);
        self.book.machines.get(name).ok_or_else(|| BookError::unknown("machine", name, names()))
    }

    /// What a profile says itself.
    ///
    /// # Errors
    /// [`BookError::Unknown`], with the nearest name.
    pub fn profile(&self, name: &str) -> Result<&Settings, BookError> {
        let names = || self.book.profiles.keys().map(String::as_str);
        let entry =
            self.book.profiles.get(name).ok_or_else(|| BookError::unknown("profile", name, names()))?;
        Ok(&entry.settings)
    }

    /// What holds for a machine, all settings put together.
    ///
    /// # Errors
    /// [`BookError::Unknown`] machine or profile, [`BookError::Loop`], [`BookError::Clash`].
    pub fn effective(&self, name: &str) -> Result<Effective<'_>, BookError> {
        effective::of_machine(&self.book, name, self.entry(name)?)
    }

    /// What holds for whatever takes this profile over.
    ///
    /// # Errors
    /// As [`Self::effective`].
    pub fn effective_profile(&self, name: &str) -> Result<Effective<'_>, BookError> {
        let (name, _) = self.book.profiles.get_key_value(name).ok_or_else(|| {
            BookError::unknown("profile", name, self.book.profiles.keys().map(String::as_str))
        })?;
        effective::of_profile(&self.book, name)
    }

    /// What holds for a machine that is not in the book.
    pub fn effective_defaults(&self) -> Effective<'_> {
        static NOTHING: Entry = Entry::EMPTY;
        effective::of_machine(&self.book, "", &NOTHING).unwrap_or_default()
    }

    /// The gateways of a machine, the nearest first, with the gateways' own in front of them.
    ///
    /// # Errors
    /// [`BookError::Loop`]: the way to a gateway leads through itself; else as [`Self::effective`].
    pub fn gateways(&self, name: &str) -> Result<Vec<String>, BookError> {
        let mut way = Vec::new();
        self.walk(name, &mut vec![name.to_owned()], &mut way)?;
        Ok(way)
    }

    fn walk(&self, name: &str, path: &mut Vec<String>, way: &mut Vec<String>) -> Result<(), BookError> {
        let effective = self.effective(name)?;
        for gateway in effective.list(Field::Gateway) {
            if path.contains(gateway) {
                path.push(gateway.clone());
                return Err(BookError::Loop { what: "gateways", path: path.join(" → ") });
            }
            if way.contains(gateway) {
                continue;
            }
            if let crate::Destination::Named(named) = crate::Destination::parse(gateway)? {
                path.push(named.clone());
                self.walk(&named, path, way)?;
                path.pop();
            }
            way.push(gateway.clone());
        }
        Ok(())
    }

    /// The machines that offer this key, by their own word or a profile's, in order.
    pub fn users_of_key<'a>(&'a self, key: &'a str) -> impl Iterator<Item = &'a str> {
        self.iter().map(|(name, _)| name).filter(move |name| {
            self.effective(name)
                .is_ok_and(|effective| effective.list(Field::Key).iter().any(|named| named == key))
        })
    }

    /// For each key that is named anywhere, the machines that use it.
    pub fn users_of_keys(&self) -> BTreeMap<String, Vec<&str>> {
        let mut users: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        for (name, _) in self.iter() {
            let Ok(effective) = self.effective(name) else { continue };
            for key in effective.list(Field::Key) {
                users.entry(key.clone()).or_default().push(name);
            }
        }
        users
    }

    /// All tables with settings.
    pub fn places(&self) -> impl Iterator<Item = (Place<'_>, &Settings)> {
        let defaults = [(Place::Defaults, &self.book.defaults.settings)].into_iter();
        let profiles = self.profiles().map(|(name, settings)| (Place::Profile(name), settings));
        let machines = self.iter().map(|(name, settings)| (Place::Machine(name), settings));
        defaults.chain(profiles).chain(machines)
    }
}
