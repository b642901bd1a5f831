//! `machines.toml` on disk: changed under the lock, checked before and after, and never half written.

use toml_edit::DocumentMut;

use crate::book_edit::{BookEdit, names};
use crate::document::Place;
use crate::home::{read_or_empty, write_atomically};
use crate::machine_book::HEADER;
use crate::{BookError, Change, Field, FieldValue, Home, MachineBook, Settings};

impl MachineBook {
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
