//! What `machines.toml` holds, table by table.

use std::collections::BTreeMap;

use crate::Settings;

/// A table of the file.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Entry {
    pub(crate) settings: Settings,
    /// The line that it begins in, from 1; 0 when there is none.
    pub(crate) line: u32,
}

impl Entry {
    /// Nothing.
    pub(crate) const EMPTY: Self = Self { settings: Settings::EMPTY, line: 0 };
}

/// What the file holds.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Book {
    pub(crate) defaults: Entry,
    pub(crate) profiles: BTreeMap<String, Entry>,
    pub(crate) machines: BTreeMap<String, Entry>,
}
