//! Changes to the text of `machines.toml` that leave the person's comments, order and quotes as they are.

use toml_edit::{Array, DocumentMut, InlineTable, Item, Key, Table, TableLike, Value};

use crate::field::Kind;
use crate::{BookError, Field, FieldValue, Settings};

/// A table of the file that holds settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place<'a> {
    /// `[defaults]`
    Defaults,
    /// `[profiles.NAME]`
    Profile(&'a str),
    /// `[machines.NAME]`
    Machine(&'a str),
}

impl<'a> Place<'a> {
    /// The table that it is in, and its name there.
    fn path(self) -> (Option<&'static str>, &'a str) {
        match self {
            Self::Defaults => (None, "defaults"),
            Self::Profile(name) => (Some("profiles"), name),
            Self::Machine(name) => (Some("machines"), name),
        }
    }
}

fn not_a_table(what: &str) -> BookError {
    BookError::bad("field", what, "must be a table")
}

/// The table that holds this place; made when it is not there.
fn holder<'d>(document: &'d mut DocumentMut, place: Place<'_>) -> Result<&'d mut Table, BookError> {
    let Some(above) = place.path().0 else { return Ok(document.as_table_mut()) };
    let item = document.entry(above).or_insert_with(|| {
        let mut table = Table::new();
        // `[machines.lamp-01]` without a bare `[machines]` above it.
        table.set_implicit(true);
        Item::Table(table)
    });
    if !item.is_table() {
        // An inline table, as TOML allows; it was read as a table, so it can become a plain one.
        let plain = std::mem::take(item).into_table().unwrap_or_default();
        *item = Item::Table(plain);
    }
    item.as_table_mut().ok_or_else(|| not_a_table(above))
}

fn settings_table<'d>(
    document: &'d mut DocumentMut,
    place: Place<'_>,
) -> Result<&'d mut dyn TableLike, BookError> {
    let name = place.path().1;
    let holder = holder(document, place)?;
    let item = holder.entry(name).or_insert_with(|| Item::Table(Table::new()));
    item.as_table_like_mut().ok_or_else(|| not_a_table(name))
}

/// Writes the difference between what is there and what shall be.
pub(crate) fn write(
    document: &mut DocumentMut,
    place: Place<'_>,
    before: Option<&Settings>,
    after: &Settings,
) -> Result<(), BookError> {
    let table = settings_table(document, place)?;
    for setting in before.into_iter().flat_map(Settings::iter) {
        if after.get(setting.field).is_none() {
            table.remove(setting.field.name());
        }
    }
    for setting in after.iter() {
        let old = before.and_then(|before| before.get(setting.field));
        if old != Some(&setting.value) {
            put(table, setting.field, old, &setting.value);
        }
    }
    Ok(())
}

fn put(table: &mut dyn TableLike, field: Field, old: Option<&FieldValue>, new: &FieldValue) {
    // A table of names keeps its comments: only what differs is touched.
    if let (Some(FieldValue::Map(old)), FieldValue::Map(new), Some(inner)) =
        (old, new, table.get_mut(field.name()).and_then(Item::as_table_like_mut))
    {
        for name in old.keys().filter(|name| !new.contains_key(*name)) {
            inner.remove(name);
        }
        for (name, value) in new.iter().filter(|(name, value)| old.get(*name) != Some(value)) {
            put_value(inner, name, value.as_str().into());
        }
        return;
    }
    put_value(table, field.name(), toml_value(field, new));
}

/// In its place, so that a comment behind it stays.
fn put_value(table: &mut dyn TableLike, name: &str, new: Value) {
    match table.get_mut(name).and_then(Item::as_value_mut) {
        Some(value) => {
            let decor = value.decor().clone();
            *value = new;
            *value.decor_mut() = decor;
        }
        None => drop(table.insert(name, Item::Value(new))),
    }
}

fn toml_value(field: Field, value: &FieldValue) -> Value {
    match value {
        FieldValue::Text(text) => text.as_str().into(),
        FieldValue::Number(number) => i64::try_from(*number).unwrap_or(i64::MAX).into(),
        FieldValue::Flag(flag) => (*flag).into(),
        FieldValue::List(list) => match (field.spec().kind, list.as_slice()) {
            (Kind::OneOrMany(_), [only]) => only.as_str().into(),
            _ => Value::Array(list.iter().map(String::as_str).collect::<Array>()),
        },
        FieldValue::Map(map) => Value::InlineTable(
            map.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect::<InlineTable>(),
        ),
    }
}

/// Takes a table out; whether it was there.
pub(crate) fn remove(document: &mut DocumentMut, place: Place<'_>) -> Result<bool, BookError> {
    Ok(holder(document, place)?.remove(place.path().1).is_some())
}

/// Gives a table another name, at the place where it stands and with its comments.
pub(crate) fn rename(document: &mut DocumentMut, place: Place<'_>, new: &str) -> Result<(), BookError> {
    let name = place.path().1;
    let holder = holder(document, place)?;
    let (key, item) = holder.remove_entry(name).ok_or_else(|| not_a_table(name))?;
    let mut renamed = Key::new(new);
    *renamed.leaf_decor_mut() = key.leaf_decor().clone();
    *renamed.dotted_decor_mut() = key.dotted_decor().clone();
    holder.insert_formatted(&renamed, item);
    Ok(())
}
