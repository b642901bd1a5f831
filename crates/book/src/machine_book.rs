//! `machines.toml`: read whole, edited in place so that the person's comments and order survive.

use std::collections::BTreeMap;
use std::path::PathBuf;

use toml_edit::DocumentMut;

use crate::check::check_name_of;
use crate::document::{self, Place};
use crate::effective::{self, Effective};
use crate::home::{read_or_empty, write_atomically};
use crate::read::{Book, Entry, read};
use crate::{BookError, Change, Field, FieldValue, Home, Settings};

const FILE: &str = "machines.toml";
const HEADER: &str = "# The book of machines. Made to be edited: comments and order are kept. No secret belongs in here.\n# `lantern machine schema` prints what can be in it, for editors to complete from.\n\n";

/// The machines and profiles of one home.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct MachineBook {
    book: Book,
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

    /// Adds a machine to the file.
    ///
    /// # Errors
    /// [`BookError::Exists`], [`BookError::BadValue`], or what reading and writing run into.
    pub fn add(home: &Home, name: &str, machine: &Settings) -> Result<(), BookError> {
        Self::edit(home, |book| book.add_machine(name, machine))
    }

    /// Has a machine offer another key of the ring.
    ///
    /// # Errors
    /// [`BookError::Unknown`], or what reading and writing run into.
    pub fn set_key(home: &Home, name: &str, key: &str) -> Result<(), BookError> {
        let change = Change::Set(Field::Key, FieldValue::Text(key.to_owned()).for_field(Field::Key)?);
        Self::edit(home, |book| book.change(Place::Machine(name), &[change]))
    }

    /// Has a machine offer `new` where it offers `old`, by its own word or a profile's; nothing when it doesn't, or isn't in the book.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn replace_key(home: &Home, name: &str, old: &str, new: &str) -> Result<(), BookError> {
        let book = Self::load(home)?;
        let Ok(effective) = book.effective(name) else { return Ok(()) };
        let keys = effective.list(Field::Key);
        if !keys.iter().any(|key| key == old) {
            return Ok(());
        }
        let renamed = keys.iter().map(|key| if key == old { new } else { key }.to_owned()).collect();
        let change = Change::Set(Field::Key, FieldValue::List(renamed).for_field(Field::Key)?);
        Self::edit(home, |book| book.change(Place::Machine(name), &[change]))
    }

    /// Has everything that names the key `old` name `new` instead; in how many tables it was.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn rename_key(home: &Home, old: &str, new: &str) -> Result<usize, BookError> {
        if !Self::load(home)?.places().any(|(_, settings)| names(settings, Field::Key, old)) {
            return Ok(0);
        }
        Self::edit(home, |book| book.replace(Field::Key, old, new))
    }

    /// The machines that offer this key, by their own word or a profile's, in order.
    pub fn users_of_key<'a>(&'a self, key: &'a str) -> impl Iterator<Item = &'a str> {
        self.iter().map(|(name, _)| name).filter(move |name| {
            self.effective(name)
                .is_ok_and(|effective| effective.list(Field::Key).iter().any(|named| named == key))
        })
    }

    /// All tables with settings.
    pub fn places(&self) -> impl Iterator<Item = (Place<'_>, &Settings)> {
        let defaults = [(Place::Defaults, &self.book.defaults.settings)].into_iter();
        let profiles = self.profiles().map(|(name, settings)| (Place::Profile(name), settings));
        let machines = self.iter().map(|(name, settings)| (Place::Machine(name), settings));
        defaults.chain(profiles).chain(machines)
    }

    /// A change under the lock. The file is checked before and after, so that a broken one is never written over and none is written.
    ///
    /// # Errors
    /// What the change says; what reading and writing run into.
    pub fn edit<T>(
        home: &Home,
        change: impl FnOnce(&mut BookEdit) -> Result<T, BookError>,
    ) -> Result<T, BookError> {
        let _lock = home.lock()?;
        let path = Self::path(home);
        let mut text = read_or_empty(&path)?;
        let book = Self::parse(&path, &text)?;
        if text.is_empty() {
            text.push_str(HEADER);
        }
        let document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
            BookError::syntax(&path, &text, error.span().map(|span| span.start), error.message().to_owned())
        })?;
        let mut edit = BookEdit { book: book.clone(), document };
        let outcome = change(&mut edit)?;
        if edit.book == book {
            return Ok(outcome);
        }
        let written = edit.document.to_string();
        let reread = Self::parse(&path, &written)?;
        // What was wrong before, in a file edited by hand, must not stand in the way of mending it.
        if book.check().is_ok() {
            reread.check()?;
        }
        write_atomically(&path, written.as_bytes(), 0o644)?;
        Ok(outcome)
    }

    /// Replaces the whole text, after a person edited it, provided that the file still is as it was when they began.
    ///
    /// # Errors
    /// What is wrong with the new text; [`BookError::Changed`].
    pub fn replace_text(home: &Home, before: &str, after: &str) -> Result<Self, BookError> {
        let _lock = home.lock()?;
        let path = Self::path(home);
        if read_or_empty(&path)? != before {
            return Err(BookError::Changed { path });
        }
        let book = Self::parse(&path, after)?;
        book.check()?;
        write_atomically(&path, after.as_bytes(), 0o644)?;
        Ok(book)
    }

    /// The text of the file, with the heading that a new one gets.
    ///
    /// # Errors
    /// What reading runs into.
    pub fn text(home: &Home) -> Result<String, BookError> {
        read_or_empty(&Self::path(home))
    }
}

fn names(settings: &Settings, field: Field, name: &str) -> bool {
    settings.list(field).iter().any(|item| item == name)
}

/// A book under change: what it says, and the text that will say it.
#[derive(Debug, Clone)]
pub struct BookEdit {
    book: MachineBook,
    document: DocumentMut,
}

impl BookEdit {
    /// The book as it is by now.
    pub fn book(&self) -> &MachineBook {
        &self.book
    }

    /// Adds a machine.
    ///
    /// # Errors
    /// [`BookError::Exists`], [`BookError::BadValue`].
    pub fn add_machine(&mut self, name: &str, machine: &Settings) -> Result<(), BookError> {
        check_name_of("machine name", name)?;
        self.add(Place::Machine(name), "machine", name, machine)
    }

    /// Adds a profile.
    ///
    /// # Errors
    /// [`BookError::Exists`], [`BookError::BadValue`].
    pub fn add_profile(&mut self, name: &str, profile: &Settings) -> Result<(), BookError> {
        check_name_of("profile name", name)?;
        self.add(Place::Profile(name), "profile", name, profile)
    }

    fn add(
        &mut self,
        place: Place<'_>,
        what: &'static str,
        name: &str,
        settings: &Settings,
    ) -> Result<(), BookError> {
        if self.settings(place).is_some() {
            return Err(BookError::Exists { what, name: name.to_owned() });
        }
        self.write(place, settings.clone())
    }

    fn settings(&self, place: Place<'_>) -> Option<&Settings> {
        let book = &self.book.book;
        match place {
            Place::Defaults => Some(&book.defaults.settings),
            Place::Profile(name) => book.profiles.get(name).map(|entry| &entry.settings),
            Place::Machine(name) => book.machines.get(name).map(|entry| &entry.settings),
        }
    }

    fn write(&mut self, place: Place<'_>, settings: Settings) -> Result<(), BookError> {
        let before = self.settings(place).cloned();
        document::write(&mut self.document, place, before.as_ref(), &settings)?;
        let book = &mut self.book.book;
        let entry = match place {
            Place::Defaults => &mut book.defaults,
            Place::Profile(name) => book.profiles.entry(name.to_owned()).or_default(),
            Place::Machine(name) => book.machines.entry(name.to_owned()).or_default(),
        };
        entry.settings = settings;
        Ok(())
    }

    /// Has a table that is there say this and nothing else.
    ///
    /// # Errors
    /// A place that is no table.
    pub fn put(&mut self, place: Place<'_>, settings: Settings) -> Result<(), BookError> {
        self.write(place, settings)
    }

    /// Changes fields of a table that is there.
    ///
    /// # Errors
    /// [`BookError::Unknown`]; what a change cannot do.
    pub fn change(&mut self, place: Place<'_>, changes: &[Change]) -> Result<(), BookError> {
        let mut settings = match place {
            Place::Defaults => self.book.defaults(),
            Place::Profile(name) => self.book.profile(name)?,
            Place::Machine(name) => self.book.get(name)?,
        }
        .clone();
        changes.iter().try_for_each(|change| settings.apply(change))?;
        self.write(place, settings)
    }

    /// Takes a machine out.
    ///
    /// # Errors
    /// [`BookError::Unknown`].
    pub fn remove_machine(&mut self, name: &str) -> Result<Settings, BookError> {
        let settings = self.book.get(name)?.clone();
        document::remove(&mut self.document, Place::Machine(name))?;
        self.book.book.machines.remove(name);
        Ok(settings)
    }

    /// Takes a profile out.
    ///
    /// # Errors
    /// [`BookError::Unknown`].
    pub fn remove_profile(&mut self, name: &str) -> Result<Settings, BookError> {
        let settings = self.book.profile(name)?.clone();
        document::remove(&mut self.document, Place::Profile(name))?;
        self.book.book.profiles.remove(name);
        Ok(settings)
    }

    /// Gives a machine another name, also where it is somebody's gateway.
    ///
    /// # Errors
    /// [`BookError::Unknown`], [`BookError::Exists`], [`BookError::BadValue`].
    pub fn rename_machine(&mut self, name: &str, new: &str) -> Result<(), BookError> {
        check_name_of("machine name", new)?;
        self.book.get(name)?;
        if self.book.get(new).is_ok() {
            return Err(BookError::Exists { what: "machine", name: new.to_owned() });
        }
        document::rename(&mut self.document, Place::Machine(name), new)?;
        if let Some(entry) = self.book.book.machines.remove(name) {
            self.book.book.machines.insert(new.to_owned(), entry);
        }
        self.replace(Field::Gateway, name, new).map(drop)
    }

    /// Gives a profile another name, also where it is taken over.
    ///
    /// # Errors
    /// [`BookError::Unknown`], [`BookError::Exists`], [`BookError::BadValue`].
    pub fn rename_profile(&mut self, name: &str, new: &str) -> Result<(), BookError> {
        check_name_of("profile name", new)?;
        self.book.profile(name)?;
        if self.book.profile(new).is_ok() {
            return Err(BookError::Exists { what: "profile", name: new.to_owned() });
        }
        document::rename(&mut self.document, Place::Profile(name), new)?;
        if let Some(entry) = self.book.book.profiles.remove(name) {
            self.book.book.profiles.insert(new.to_owned(), entry);
        }
        self.replace(Field::Profiles, name, new).map(drop)
    }

    /// Writes `new` wherever a list of this field says `old`; in how many tables.
    fn replace(&mut self, field: Field, old: &str, new: &str) -> Result<usize, BookError> {
        let owned: BTreeMap<(u8, String), Settings> = self
            .book
            .places()
            .filter(|(_, settings)| names(settings, field, old))
            .map(|(place, settings)| {
                let place = match place {
                    Place::Defaults => (0, String::new()),
                    Place::Profile(name) => (1, name.to_owned()),
                    Place::Machine(name) => (2, name.to_owned()),
                };
                (place, settings.clone())
            })
            .collect();
        for ((kind, name), settings) in &owned {
            let place = match kind {
                0 => Place::Defaults,
                1 => Place::Profile(name),
                _ => Place::Machine(name),
            };
            let renamed =
                settings.list(field).iter().map(|item| if item == old { new } else { item }.to_owned());
            let value = FieldValue::List(renamed.collect());
            self.write(place, settings.clone().with(field, value)?)?;
        }
        Ok(owned.len())
    }
}
