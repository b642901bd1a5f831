//! A set of fields with their values: what the book says of one machine, one profile, or all.

use std::collections::BTreeMap;

use crate::value::items;
use crate::{BookError, Field, FieldValue};

/// One field as it stands in the file.
#[derive(Debug, Clone)]
pub struct Setting {
    /// The field.
    pub field: Field,
    /// Its value.
    pub value: FieldValue,
    /// The line of the file that it stands in, from 1; 0 when it comes from no file.
    pub line: u32,
}

/// Fields with their values, each at most once. Equality looks at the values, not at the lines.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// In the order of the fields.
    settings: Vec<Setting>,
}

impl PartialEq for Settings {
    fn eq(&self, other: &Self) -> bool {
        let pairs = |settings: &Self| {
            settings.settings.iter().map(|s| (s.field, s.value.clone())).collect::<Vec<_>>()
        };
        pairs(self) == pairs(other)
    }
}

/// One change as typed: `FIELD=VALUE`, `FIELD+=VALUE`, `FIELD-=VALUE`, `FIELD.NAME=VALUE`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// The field has this value.
    Set(Field, FieldValue),
    /// Nothing is said about the field.
    Unset(Field),
    /// These items more.
    Add(Field, FieldValue),
    /// These items, or names of a map, less.
    Take(Field, Vec<String>),
}

impl Settings {
    /// No field.
    pub(crate) const EMPTY: Self = Self { settings: Vec::new() };

    /// No field.
    pub fn new() -> Self {
        Self::default()
    }

    /// The same with this field; a value that does not fit is an error.
    ///
    /// # Errors
    /// What is wrong with the value.
    pub fn with(mut self, field: Field, value: FieldValue) -> Result<Self, BookError> {
        self.set(field, value.for_field(field)?, 0);
        Ok(self)
    }

    /// The same with this field as typed.
    ///
    /// # Errors
    /// What is wrong with the value.
    pub fn with_text(self, field: Field, text: &str) -> Result<Self, BookError> {
        let value = FieldValue::parse(field, text)?;
        self.with(field, value)
    }

    /// A machine of which only the address is known.
    ///
    /// # Errors
    /// An address that is none.
    pub fn at(address: &str) -> Result<Self, BookError> {
        Self::new().with_text(Field::Address, address)
    }

    pub(crate) fn set(&mut self, field: Field, value: FieldValue, line: u32) {
        match self.settings.binary_search_by_key(&field, |setting| setting.field) {
            Ok(index) => {
                if let Some(setting) = self.settings.get_mut(index) {
                    *setting = Setting { field, value, line };
                }
            }
            Err(index) => self.settings.insert(index, Setting { field, value, line }),
        }
    }

    fn unset(&mut self, field: Field) {
        self.settings.retain(|setting| setting.field != field);
    }

    /// All fields that are set, in order.
    pub fn iter(&self) -> impl Iterator<Item = &Setting> {
        self.settings.iter()
    }

    /// Whether nothing is set.
    pub fn is_empty(&self) -> bool {
        self.settings.is_empty()
    }

    pub(crate) fn setting(&self, field: Field) -> Option<&Setting> {
        let index = self.settings.binary_search_by_key(&field, |setting| setting.field).ok()?;
        self.settings.get(index)
    }

    /// The value of a field.
    pub fn get(&self, field: Field) -> Option<&FieldValue> {
        self.setting(field).map(|setting| &setting.value)
    }

    /// The items of a field that is a list.
    pub fn list(&self, field: Field) -> &[String] {
        match self.get(field) {
            Some(FieldValue::List(list)) => list,
            _ => &[],
        }
    }

    /// The names and strings of a field that is a map.
    pub fn map(&self, field: Field) -> Option<&BTreeMap<String, String>> {
        match self.get(field) {
            Some(FieldValue::Map(map)) => Some(map),
            _ => None,
        }
    }

    /// The same with a change carried out.
    ///
    /// # Errors
    /// An item to take that is not there; an item more for a field that is no list.
    pub fn apply(&mut self, change: &Change) -> Result<(), BookError> {
        match change {
            Change::Set(field, value) => self.set(*field, value.clone(), 0),
            Change::Unset(field) => self.unset(*field),
            Change::Add(field, added) => {
                let joined = match (self.get(*field).cloned(), added.clone()) {
                    (None, added) => added,
                    (Some(FieldValue::List(mut list)), FieldValue::List(added)) => {
                        let news: Vec<String> =
                            added.into_iter().filter(|item| !list.contains(item)).collect();
                        list.extend(news);
                        FieldValue::List(list)
                    }
                    (Some(FieldValue::Map(mut map)), FieldValue::Map(added)) => {
                        map.extend(added);
                        FieldValue::Map(map)
                    }
                    _ => return Err(BookError::bad("field", field.name(), "is no list; `=` sets it")),
                };
                self.set(*field, joined, 0);
            }
            Change::Take(field, items) => {
                let left = match self.get(*field).cloned() {
                    Some(FieldValue::List(mut list)) => {
                        for item in items {
                            let index = list.iter().position(|have| have == item);
                            list.remove(index.ok_or_else(|| {
                                BookError::unknown(field.name(), item, list.iter().map(String::as_str))
                            })?);
                        }
                        FieldValue::List(list)
                    }
                    Some(FieldValue::Map(mut map)) => {
                        for item in items {
                            if map.remove(item).is_none() {
                                return Err(BookError::unknown(
                                    field.name(),
                                    item,
                                    map.keys().map(String::as_str),
                                ));
                            }
                        }
                        FieldValue::Map(map)
                    }
                    _ => return Err(BookError::bad("field", field.name(), "has nothing to take away here")),
                };
                match &left {
                    FieldValue::List(list) if list.is_empty() => self.unset(*field),
                    FieldValue::Map(map) if map.is_empty() => self.unset(*field),
                    _ => self.set(*field, left, 0),
                }
            }
        }
        Ok(())
    }
}

impl Change {
    /// Reads a change as typed. An empty value takes the field away.
    ///
    /// # Errors
    /// An unknown field, with the nearest; a value that is not allowed, with what is.
    pub fn parse(text: &str) -> Result<Self, BookError> {
        let (left, value) = text.split_once('=').ok_or_else(|| {
            BookError::bad("change", text, "must read FIELD=VALUE, FIELD+=VALUE or FIELD-=VALUE")
        })?;
        let value = value.trim();
        if let Some(name) = left.strip_suffix('+') {
            let field = Field::from_name(name.trim())?;
            return Ok(Self::Add(field, FieldValue::parse(field, value)?));
        }
        if let Some(name) = left.strip_suffix('-') {
            return Ok(Self::Take(Field::from_name(name.trim())?, items(value).map(str::to_owned).collect()));
        }
        // One name of a map: `environment.LANG=C`.
        if let Some((name, key)) = left.split_once('.') {
            let field = Field::from_name(name.trim())?;
            return match value {
                "" => Ok(Self::Take(field, vec![key.to_owned()])),
                _ => Ok(Self::Add(field, FieldValue::parse(field, &format!("{key}={value}"))?)),
            };
        }
        let field = Field::from_name(left.trim())?;
        match value {
            "" => Ok(Self::Unset(field)),
            _ => Ok(Self::Set(field, FieldValue::parse(field, value)?)),
        }
    }

    /// The field that it is about.
    pub fn field(&self) -> Field {
        match self {
            Self::Set(field, _) | Self::Unset(field) | Self::Add(field, _) | Self::Take(field, _) => *field,
        }
    }
}
