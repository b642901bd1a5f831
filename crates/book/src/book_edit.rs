//! Changes to the book: to what it says and to the text that says it, at once.

use toml_edit::DocumentMut;

use crate::check::check_name_of;
use crate::document::{self, Place};
use crate::{BookError, Change, Field, FieldValue, MachineBook, Settings};

/// A book under change: what it says, and the text that will say it.
#[derive(Debug, Clone)]
pub struct BookEdit {
    book: MachineBook,
    document: DocumentMut,
}

impl BookEdit {
    pub(crate) fn new(book: MachineBook, document: DocumentMut) -> Self {
        Self { book, document }
    }

    /// The text that says it.
    pub(crate) fn text(&self) -> String {
        self.document.to_string()
    }

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
    pub(crate) fn replace(&mut self, field: Field, old: &str, new: &str) -> Result<usize, BookError> {
        let book = self.book.clone();
        let mut count = 0;
        for (place, settings) in book.places().filter(|(_, settings)| names(settings, field, old)) {
            let renamed =
                settings.list(field).iter().map(|item| if item == old { new } else { item }.to_owned());
            let value = FieldValue::List(renamed.collect());
            self.write(place, settings.clone().with(field, value)?)?;
            count += 1;
        }
        Ok(count)
    }
}

/// Whether a list of this field has this name in it.
pub(crate) fn names(settings: &Settings, field: Field, name: &str) -> bool {
    settings.list(field).iter().any(|item| item == name)
}
