//! A quick reader for the forms of `machines.toml` that nearly every line has, so that ten thousand machines are read in a few
//! milliseconds. It knows tables, bare keys, plain strings, numbers, switches, lists and inline tables on one line. Whatever else a
//! file holds, and whatever is wrong with it, is left to [`crate::read`], which reads all of TOML and tells where it breaks; a test
//! holds the two against each other.

use std::collections::BTreeMap;

use crate::entries::{Book, Entry};
use crate::{Field, FieldValue, Settings};

/// Reads a whole file; `None` when it holds anything that takes the thorough reader.
pub(crate) fn scan(text: &str) -> Option<Book> {
    let mut book = Found::default();
    let mut section = Section::Top;
    for (index, line) in text.lines().enumerate() {
        let number = u32::try_from(index).ok()?.checked_add(1)?;
        let line = line.trim_matches([' ', '\t']);
        match line.as_bytes().first() {
            None | Some(b'#') => {}
            Some(b'[') => {
                section.close(&mut book)?;
                section = Section::open(line, number)?;
            }
            Some(_) => section.line(line, number)?,
        }
    }
    section.close(&mut book)?;
    Some(Book {
        defaults: book.defaults.into_iter().next().map(|(_, entry)| entry).unwrap_or_default(),
        profiles: distinct(book.profiles)?,
        machines: distinct(book.machines)?,
    })
}

/// Tables as they come. Maps are made of them at the end: a list that is in order already costs next to nothing.
#[derive(Default)]
struct Found {
    defaults: Vec<(String, Entry)>,
    profiles: Vec<(String, Entry)>,
    machines: Vec<(String, Entry)>,
}

/// The tables by name; `None` when two have the same.
fn distinct(mut tables: Vec<(String, Entry)>) -> Option<BTreeMap<String, Entry>> {
    tables.sort_by(|(one, _), (other, _)| one.cmp(other));
    let twice = tables.windows(2).any(|pair| matches!(pair, [(one, _), (other, _)] if one == other));
    (!twice).then(|| tables.into_iter().collect())
}

enum Section {
    Top,
    /// The table of a machine, a profile or the defaults.
    Settings(Place, Settings, u32),
    /// A table of names and strings below one.
    Map(Place, Field, BTreeMap<String, String>, u32),
}

enum Place {
    Defaults,
    Profile(String),
    Machine(String),
}

impl Section {
    fn open(line: &str, number: u32) -> Option<Self> {
        let (path, rest) = line.strip_prefix('[')?.split_once(']')?;
        ends(rest)?;
        let parts: Vec<&str> = path.split('.').collect();
        if !parts.iter().all(|part| is_bare(part)) {
            return None;
        }
        let (place, below) = match parts.as_slice() {
            ["defaults", below @ ..] => (Place::Defaults, below),
            ["profiles", name, below @ ..] => (Place::Profile((*name).to_owned()), below),
            ["machines", name, below @ ..] => (Place::Machine((*name).to_owned()), below),
            _ => return None,
        };
        match below {
            [] => Some(Self::Settings(place, Settings::new(), number)),
            [name] => Some(Self::Map(place, Field::from_name(name).ok()?, BTreeMap::new(), number)),
            _ => None,
        }
    }

    fn line(&mut self, line: &str, number: u32) -> Option<()> {
        let (key, value) = line.split_once('=')?;
        let (key, value) = (key.trim_end_matches([' ', '\t']), value.trim_start_matches([' ', '\t']));
        if !is_bare(key) {
            return None;
        }
        match self {
            Self::Top => None,
            Self::Settings(_, settings, _) => {
                let field = Field::from_name(key).ok()?;
                let (value, rest) = value_of(value)?;
                ends(rest)?;
                if settings.get(field).is_some() {
                    return None;
                }
                settings.set(field, value.for_field(field).ok()?, number);
                Some(())
            }
            Self::Map(_, _, map, _) => {
                let (text, rest) = string(value)?;
                ends(rest)?;
                map.insert(key.to_owned(), text.to_owned()).is_none().then_some(())
            }
        }
    }

    fn close(&mut self, book: &mut Found) -> Option<()> {
        match std::mem::replace(self, Self::Top) {
            Self::Top => Some(()),
            Self::Settings(place, settings, line) => {
                let (tables, name) = book.place(place);
                // A second table of the same name is for the thorough reader; so is one of machines, which is seen at the end.
                if name.is_empty() && !tables.is_empty() {
                    return None;
                }
                tables.push((name, Entry { settings, line }));
                Some(())
            }
            Self::Map(place, field, map, line) => {
                let (tables, name) = book.place(place);
                // One that is not right behind its own table is for the thorough reader.
                let (_, there) = tables.last_mut().filter(|(last, _)| *last == name)?;
                if there.settings.get(field).is_some() {
                    return None;
                }
                there.settings.set(field, FieldValue::Map(map).for_field(field).ok()?, line);
                Some(())
            }
        }
    }
}

impl Found {
    /// The tables that a place is among, and its name there.
    fn place(&mut self, place: Place) -> (&mut Vec<(String, Entry)>, String) {
        match place {
            Place::Defaults => (&mut self.defaults, String::new()),
            Place::Profile(name) => (&mut self.profiles, name),
            Place::Machine(name) => (&mut self.machines, name),
        }
    }
}

fn is_bare(key: &str) -> bool {
    !key.is_empty() && key.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
}

/// Nothing but a comment may follow a value.
fn ends(rest: &str) -> Option<()> {
    let rest = rest.trim_start_matches([' ', '\t']);
    let harmless = |text: &str| !text.chars().any(|c| c.is_control() && c != '\t');
    (rest.is_empty() || rest.starts_with('#') && harmless(rest)).then_some(())
}

/// A value, and what follows it.
fn value_of(text: &str) -> Option<(FieldValue, &str)> {
    match text.as_bytes().first()? {
        b'"' | b'\'' => string(text).map(|(value, rest)| (FieldValue::Text(value.to_owned()), rest)),
        b'[' => list(text),
        b'{' => table(text),
        b'0'..=b'9' => {
            let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
            let (digits, rest) = text.split_at(end);
            // TOML knows no leading zeros, but dates, underscores and fractions.
            if digits.len() > 1 && digits.starts_with('0')
                || rest.starts_with(['_', '.', '-', ':', 'e', 'E', 'x', 'o', 'b'])
            {
                return None;
            }
            // What is beyond an i64 is an error of TOML's.
            Some((FieldValue::Number(u64::try_from(digits.parse::<i64>().ok()?).ok()?), rest))
        }
        _ => {
            let flag = |word: &'static str, value| Some((FieldValue::Flag(value), text.strip_prefix(word)?));
            flag("true", true).or_else(|| flag("false", false))
        }
    }
}

/// A string without escapes on one line, and what follows it.
fn string(text: &str) -> Option<(&str, &str)> {
    let quote = text.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let (value, rest) = text.get(1..)?.split_once(quote)?;
    let plain =
        !value.chars().any(|c| c.is_control() && c != '\t') && (quote == '\'' || !value.contains('\\'));
    // Three quotes open another form.
    (plain && !(value.is_empty() && rest.starts_with(quote))).then_some((value, rest))
}

fn list(text: &str) -> Option<(FieldValue, &str)> {
    let mut items = Vec::new();
    let mut rest = text.strip_prefix('[')?.trim_start_matches([' ', '\t']);
    while !rest.starts_with(']') {
        let (item, after) = string(rest)?;
        items.push(item.to_owned());
        let after = after.trim_start_matches([' ', '\t']);
        rest = match after.strip_prefix(',') {
            Some(after) => after.trim_start_matches([' ', '\t']),
            None if after.starts_with(']') => after,
            None => return None,
        };
    }
    Some((FieldValue::List(items), rest.strip_prefix(']')?))
}

fn table(text: &str) -> Option<(FieldValue, &str)> {
    let mut pairs = BTreeMap::new();
    let mut rest = text.strip_prefix('{')?.trim_start_matches([' ', '\t']);
    while !rest.starts_with('}') {
        let (key, after) = rest.split_once('=')?;
        let key = key.trim_matches([' ', '\t']);
        if !is_bare(key) {
            return None;
        }
        let (value, after) = string(after.trim_start_matches([' ', '\t']))?;
        if pairs.insert(key.to_owned(), value.to_owned()).is_some() {
            return None;
        }
        let after = after.trim_start_matches([' ', '\t']);
        rest = match after.strip_prefix(',') {
            // A comma at the end is for the thorough reader to judge.
            Some(after) if !after.trim_start_matches([' ', '\t']).starts_with('}') => {
                after.trim_start_matches([' ', '\t'])
            }
            None if after.starts_with('}') => after,
            _ => return None,
        };
    }
    Some((FieldValue::Map(pairs), rest.strip_prefix('}')?))
}
