//! `machines.toml`: read whole, edited in place so that the person's comments and order survive.

use std::path::PathBuf;

use toml_edit::DocumentMut;

use crate::book_edit::BookEdit;
use crate::document::Place;
use crate::effective::{self, Effective};
use crate::home::{read_or_empty, write_atomically};
use crate::read::{Book, Entry, read};
use crate::{BookError, Change, Field, FieldValue, Home, Settings};

const FILE: &str = "machines.toml";
const HEADER: &str = "# The book of machines. Made to be edited: comments and order are kept. No secret belongs in here.\n# `lantern machine schema` prints what can be in it, for editors to complete from.\n\n";

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
        if !Self::load(home)?.places().any(|(_, settings)| crate::book_edit::names(settings, Field::Key, old))
        {
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
        let (outcome, text) = Self::changed(home, change)?;
        if let Some(text) = text {
            write_atomically(&Self::path(home), text.as_bytes(), 0o644)?;
        }
        Ok(outcome)
    }

    /// The same without writing anything: whether the change could be made.
    ///
    /// # Errors
    /// As [`Self::edit`].
    pub fn try_edit<T>(
        home: &Home,
        change: impl FnOnce(&mut BookEdit) -> Result<T, BookError>,
    ) -> Result<T, BookError> {
        Self::changed(home, change).map(|(outcome, _)| outcome)
    }

    /// The outcome of a change, and the text to be written; none when it changes nothing.
    fn changed<T>(
        home: &Home,
        change: impl FnOnce(&mut BookEdit) -> Result<T, BookError>,
    ) -> Result<(T, Option<String>), BookError> {
        let path = Self::path(home);
        let text = read_or_empty(&path)?;
        let book = Self::parse(&path, &text)?;
        let mut edit = BookEdit::new(book.clone(), Self::document(&path, &text)?);
        let outcome = change(&mut edit)?;
        if *edit.book() == book {
            return Ok((outcome, None));
        }
        // Before the first table, where a comment alone would have no place to stay.
        let heading = if text.is_empty() { HEADER } else { "" };
        let written = format!("{heading}{}", edit.text());
        let reread = Self::parse(&path, &written)?;
        // What was wrong before, in a file edited by hand, must not stand in the way of mending it.
        if book.check().is_ok() {
            reread.check()?;
        }
        Ok((outcome, Some(written)))
    }

    fn document(path: &std::path::Path, text: &str) -> Result<DocumentMut, BookError> {
        text.parse().map_err(|error: toml_edit::TomlError| {
            BookError::syntax(path, text, error.span().map(|span| span.start), error.message().to_owned())
        })
    }

    /// The text of these machines' tables alone, comments included.
    ///
    /// # Errors
    /// What reading runs into.
    pub fn excerpt(home: &Home, names: &[String]) -> Result<String, BookError> {
        let path = Self::path(home);
        let mut document = Self::document(&path, &read_or_empty(&path)?)?;
        document.retain(|name, _| name == "machines");
        if let Some(machines) = document.get_mut("machines").and_then(|item| item.as_table_like_mut()) {
            let others: Vec<String> = machines
                .iter()
                .map(|(name, _)| name.to_owned())
                .filter(|name| !names.contains(name))
                .collect();
            others.iter().for_each(|name| drop(machines.remove(name)));
        }
        Ok(document.to_string())
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
