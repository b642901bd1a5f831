//! `machines.toml`: read whole, edited in place so that the user's comments and order survive.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml_edit::{DocumentMut, Item, Table};

use crate::home::{read_or_empty, read_toml, write_atomically};
use crate::machine::check_name;
use crate::{BookError, Home, Machine};

const FILE: &str = "machines.toml";
const HEADER: &str =
    "# The book of machines. Made to be edited: comments and order are kept. No secret belongs in here.\n\n";

/// The machines of one home.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct MachineBook {
    machines: BTreeMap<String, Machine>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileForm {
    #[serde(default)]
    machines: BTreeMap<String, Machine>,
}

impl MachineBook {
    /// Reads the book; a missing file is an empty one.
    ///
    /// # Errors
    /// [`BookError::Syntax`] with the line; [`BookError::BadValue`].
    pub fn load(home: &Home) -> Result<Self, BookError> {
        let path = home.file(FILE);
        let (form, text): (FileForm, String) = read_toml(&path)?;
        for (name, machine) in &form.machines {
            let checked = check_name("machine name", name).and_then(|()| machine.check());
            if let Err(error) = checked {
                let offset = text.find(&format!("[machines.{name}]"));
                return Err(BookError::syntax(&path, &text, offset, error.to_string()));
            }
        }
        Ok(Self { machines: form.machines })
    }

    /// All machines by name, in order of their names.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Machine)> {
        self.machines.iter().map(|(name, machine)| (name.as_str(), machine))
    }

    /// The machine with this name.
    ///
    /// # Errors
    /// [`BookError::Unknown`], with the nearest name.
    pub fn get(&self, name: &str) -> Result<&Machine, BookError> {
        self.machines
            .get(name)
            .ok_or_else(|| BookError::unknown("machine", name, self.machines.keys().map(String::as_str)))
    }

    /// Adds a machine to the file.
    ///
    /// # Errors
    /// [`BookError::Exists`], [`BookError::BadValue`], or what reading and writing run into.
    pub fn add(home: &Home, name: &str, machine: &Machine) -> Result<(), BookError> {
        check_name("machine name", name)?;
        machine.check()?;
        Self::edit(home, |book, document| {
            if book.machines.contains_key(name) {
                return Err(BookError::Exists { what: "machine", name: name.to_owned() });
            }
            let table = toml_edit::ser::to_document(machine)
                .map_err(|error| BookError::syntax(&home.file(FILE), "", None, error.to_string()))?;
            machines_table(document)?.insert(name, Item::Table(table.as_table().clone()));
            Ok(())
        })
    }

    /// Removes a machine from the file; what it was.
    ///
    /// # Errors
    /// [`BookError::Unknown`], or what reading and writing run into.
    pub fn remove(home: &Home, name: &str) -> Result<Machine, BookError> {
        Self::edit(home, |book, document| {
            let machine = book.get(name)?.clone();
            machines_table(document)?.remove(name);
            Ok(machine)
        })
    }

    /// The machines that name this key, in order.
    pub fn users_of_key<'a>(&'a self, key: &'a str) -> impl Iterator<Item = &'a str> {
        self.iter().filter(move |(_, machine)| machine.key.as_deref() == Some(key)).map(|(name, _)| name)
    }

    /// Has a machine offer another key of the ring.
    ///
    /// # Errors
    /// [`BookError::Unknown`], or what reading and writing run into.
    pub fn set_key(home: &Home, name: &str, key: &str) -> Result<(), BookError> {
        check_name("key name", key)?;
        Self::edit(home, |book, document| {
            book.get(name)?;
            set_key(document, name, key)
        })
    }

    /// Has every machine that names `old` name `new` instead; how many there were.
    ///
    /// # Errors
    /// What reading and writing run into.
    pub fn rename_key(home: &Home, old: &str, new: &str) -> Result<usize, BookError> {
        if Self::load(home)?.users_of_key(old).next().is_none() {
            return Ok(0);
        }
        Self::edit(home, |book, document| {
            let users: Vec<&str> = book.users_of_key(old).collect();
            users.iter().try_for_each(|machine| set_key(document, machine, new))?;
            Ok(users.len())
        })
    }

    /// A change under the lock. The file is checked before and after, so that a broken one is never written over.
    fn edit<T>(
        home: &Home,
        change: impl FnOnce(&Self, &mut DocumentMut) -> Result<T, BookError>,
    ) -> Result<T, BookError> {
        let _lock = home.lock()?;
        let book = Self::load(home)?;
        let path = home.file(FILE);
        let mut text = read_or_empty(&path)?;
        if text.is_empty() {
            text.push_str(HEADER);
        }
        let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
            BookError::syntax(&path, &text, error.span().map(|span| span.start), error.message().to_owned())
        })?;
        let outcome = change(&book, &mut document)?;
        write_atomically(&path, document.to_string().as_bytes(), 0o644)?;
        Ok(outcome)
    }
}

/// Changes the one value and leaves the rest of the file as it is.
fn set_key(document: &mut DocumentMut, machine: &str, key: &str) -> Result<(), BookError> {
    let item = machines_table(document)?.get_mut(machine).and_then(Item::as_table_like_mut);
    let table = item.ok_or_else(|| BookError::BadValue {
        what: "machine",
        value: machine.to_owned(),
        rule: "must be a table",
    })?;
    // In its place, so that a comment behind it stays.
    match table.get_mut("key").and_then(Item::as_value_mut) {
        Some(value) => {
            let decor = value.decor().clone();
            *value = key.into();
            *value.decor_mut() = decor;
        }
        None => drop(table.insert("key", toml_edit::value(key))),
    }
    Ok(())
}

fn machines_table(document: &mut DocumentMut) -> Result<&mut Table, BookError> {
    let item = document.entry("machines").or_insert_with(|| {
        let mut table = Table::new();
        // `[machines.lamp-01]` without a bare `[machines]` above it.
        table.set_implicit(true);
        Item::Table(table)
    });
    if !item.is_table() {
        // An inline table, as TOML allows; it was read as machines, so it can become a plain one.
        let plain = std::mem::take(item).into_table().unwrap_or_default();
        *item = Item::Table(plain);
    }
    item.as_table_mut().ok_or_else(|| BookError::BadValue {
        what: "field",
        value: "machines".into(),
        rule: "must be a table",
    })
}
