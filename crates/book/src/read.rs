//! The thorough reader of `machines.toml`: all of TOML, and an error that names line, field, what was met, what is allowed, and the
//! nearest right word.

use std::collections::BTreeMap;
use std::path::Path;

use toml_edit::{Document, Item, TableLike, Value};

use crate::check::check_name_of;
use crate::entries::{Book, Entry};
use crate::tunnel::quoted;
use crate::{BookError, Field, FieldValue, Settings, scan};

/// Reads a file's text.
///
/// # Errors
/// [`BookError::Syntax`].
pub(crate) fn read(path: &Path, text: &str) -> Result<Book, BookError> {
    let book = match scan::scan(text) {
        Some(book) => book,
        None => read_thoroughly(path, text)?,
    };
    for (what, entries) in [("profile name", &book.profiles), ("machine name", &book.machines)] {
        for (name, entry) in entries {
            check_name_of(what, name).map_err(|error| error.at_line(path, entry.line))?;
        }
    }
    let shared =
        [("defaults", &book.defaults)].into_iter().chain(book.profiles.iter().map(|(n, e)| (n.as_str(), e)));
    for (name, entry) in shared {
        if let Some(setting) = entry.settings.iter().find(|setting| !setting.field.is_shared()) {
            let message =
                format!("`{}` belongs to one machine, and cannot be in `{name}`", setting.field.name());
            return Err(BookError::Syntax { path: path.to_owned(), line: setting.line as usize, message });
        }
    }
    if let Some(setting) = book.defaults.settings.setting(Field::Profiles) {
        let message = "`profiles` cannot be in [defaults]: those hold for all machines anyway".to_owned();
        return Err(BookError::Syntax { path: path.to_owned(), line: setting.line as usize, message });
    }
    Ok(book)
}

pub(crate) fn read_thoroughly(path: &Path, text: &str) -> Result<Book, BookError> {
    let document = Document::parse(text).map_err(|error| {
        BookError::syntax(path, text, error.span().map(|span| span.start), error.message().to_owned())
    })?;
    let reader = Reader { path, text, starts: line_starts(text) };
    let mut book = Book::default();
    for (name, item) in document.iter() {
        let line = reader.line(document.key(name).and_then(|key| key.span()).or(item.span()));
        let what = "table of the book";
        match name {
            "defaults" => book.defaults = reader.entry("defaults", item, line)?,
            "profiles" => book.profiles = reader.entries("profile", item, line)?,
            "machines" => book.machines = reader.entries("machine", item, line)?,
            _ => {
                let unknown =
                    BookError::unknown(what, name, ["defaults", "profiles", "machines"].into_iter());
                return Err(unknown.at_line(path, line));
            }
        }
    }
    Ok(book)
}

struct Reader<'a> {
    path: &'a Path,
    text: &'a str,
    /// Where each line begins, in bytes.
    starts: Vec<usize>,
}

fn line_starts(text: &str) -> Vec<usize> {
    std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect()
}

impl Reader<'_> {
    fn line(&self, span: Option<std::ops::Range<usize>>) -> u32 {
        let at = span.map_or(0, |span| span.start.min(self.text.len()));
        self.starts.partition_point(|start| *start <= at).max(1) as u32
    }

    fn table<'t>(&self, name: &str, item: &'t Item, line: u32) -> Result<&'t dyn TableLike, BookError> {
        item.as_table_like().ok_or_else(|| BookError::Syntax {
            path: self.path.to_owned(),
            line: line as usize,
            message: format!("`{name}` is {}, and must be a table", item.type_name()),
        })
    }

    fn entries(&self, what: &str, item: &Item, line: u32) -> Result<BTreeMap<String, Entry>, BookError> {
        let table = self.table(what, item, line)?;
        let mut entries = BTreeMap::new();
        for (name, item) in table.iter() {
            let line = self.line(table.key(name).and_then(|key| key.span()).or(item.span()));
            entries.insert(name.to_owned(), self.entry(name, item, line)?);
        }
        Ok(entries)
    }

    fn entry(&self, name: &str, item: &Item, line: u32) -> Result<Entry, BookError> {
        let table = self.table(name, item, line)?;
        // A table of its own begins with its heading; its key has no place in the text.
        let line = item.as_table().and_then(|table| table.span()).map_or(line, |span| self.line(Some(span)));
        let mut settings = Settings::new();
        for (field, item) in table.iter() {
            let at = self.line(table.key(field).and_then(|key| key.span()).or(item.span()));
            let read =
                Field::from_name(field).and_then(|field| Ok((field, value(field, item)?.for_field(field)?)));
            let (field, value) = read.map_err(|error| error.at_line(self.path, at))?;
            settings.set(field, value, at);
        }
        Ok(Entry { settings, line })
    }
}

/// The value of an item, in the nearest of our forms.
fn value(field: Field, item: &Item) -> Result<FieldValue, BookError> {
    let bad = |met: String| BookError::BadField { field: field.name(), met, allowed: field.spec().allowed };
    let text = |value: &Value| match value.as_str() {
        Some(text) => Ok(text.to_owned()),
        None => Err(bad(format!("the {} {}", value.type_name(), value.to_string().trim()))),
    };
    if let Some(table) = item.as_table_like() {
        let pairs = table.iter().map(|(name, item)| match (item.as_table_like(), item.as_value()) {
            (Some(parts), _) if field == Field::Tunnels => Ok((name.to_owned(), tunnel(name, parts)?)),
            (None, Some(value)) => Ok((name.to_owned(), text(value)?)),
            _ => Err(bad(format!("`{name}`, which is a table"))),
        });
        return Ok(FieldValue::Map(pairs.collect::<Result<_, _>>()?));
    }
    match item.as_value() {
        Some(Value::String(string)) => Ok(FieldValue::Text(string.value().clone())),
        Some(Value::Boolean(flag)) => Ok(FieldValue::Flag(*flag.value())),
        Some(Value::Integer(number)) => match u64::try_from(*number.value()) {
            Ok(number) => Ok(FieldValue::Number(number)),
            Err(_) => Err(bad(format!("the number {}", number.value()))),
        },
        Some(Value::Array(array)) => Ok(FieldValue::List(array.iter().map(text).collect::<Result<_, _>>()?)),
        Some(other) => Err(bad(format!("the {} {}", other.type_name(), other.to_string().trim()))),
        None => Err(bad("a list of tables".into())),
    }
}

/// A tunnel that is written as a table of its parts, in its one line.
fn tunnel(name: &str, parts: &dyn TableLike) -> Result<String, BookError> {
    let bad = |part: &str, rule| BookError::bad("tunnels", &format!("{name}.{part}"), rule);
    let words = |part: &str, item: &Item| match item.as_value() {
        Some(Value::String(text)) => Ok(text.value().clone()),
        Some(Value::Integer(number)) => Ok(number.value().to_string()),
        _ => Err(bad(part, "must be a string or a number")),
    };
    let mut ends = (None, None);
    let mut behind = String::new();
    let mut then = None;
    for (part, item) in parts.iter() {
        match part {
            "local" | "remote" | "dynamic" if ends.0.is_none() => ends.0 = Some((part, words(part, item)?)),
            "to" => ends.1 = Some(words(part, item)?),
            "hold" => behind.push_str(&format!(" hold {}", words(part, item)?)),
            "then" => then = Some(words(part, item)?),
            "wide" | "at-start" => match item.as_bool() {
                Some(true) => behind.push_str(&format!(" {part}")),
                Some(false) => {}
                None => return Err(bad(part, "must be true or false")),
            },
            _ => {
                return Err(bad(
                    part,
                    "must be one of local, remote, dynamic (one of them), to, wide, at-start, hold, then",
                ));
            }
        }
    }
    let Some((kind, listen)) = ends.0 else {
        return Err(bad("local", "must say where it listens, as local, remote or dynamic"));
    };
    let mut line = format!("{kind} {}", quoted(&listen));
    if let Some(to) = ends.1 {
        line.push_str(&format!(" to {}", quoted(&to)));
    }
    line.push_str(&behind);
    if let Some(then) = then {
        line.push_str(&format!(" then {then}"));
    }
    Ok(line)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::*;
    use proptest::prelude::*;

    /// Lines that a file may have, some of them wrong.
    fn line() -> impl Strategy<Value = String> {
        let value = prop_oneof![
            "\"[a-z0-9.@:,# -]{0,8}\"",
            "'[a-z0-9.\\\\# -]{0,8}'",
            "[0-9]{1,6}",
            "0[0-9]",
            "true|false|truex",
            "\\[\"[a-z]{1,3}\", ?'[a-z]{1,3}'(, ?)?\\]",
            "\\{ ?[A-Z]{1,2} ?= ?\"[a-z]{0,3}\"(, B = 'x')? ?,?\\}",
            "\"\\\\u0041\"",
            "\"\"\"abc\"\"\"",
            "[0-9]{4}-01-01",
            "\"local 80[0-9]{2} to a:1\"",
        ];
        let field = prop_oneof![
            Just("address"),
            Just("port"),
            Just("user"),
            Just("tags"),
            Just("environment"),
            Just("forward-agent"),
            Just("note"),
            Just("trust"),
            Just("profiles"),
            Just("adress"),
            Just("tunnels"),
            Just("a b"),
        ];
        prop_oneof![
            8 => (field, value, prop_oneof![Just(""), Just(" # why"), Just(" x")]).prop_map(|(f, v, c)| format!("{f} = {v}{c}")),
            1 => "\\[machines\\.[a-c]\\]( # x)?", 1 => "\\[profiles\\.[a-b]\\]", 1 => Just("[defaults]".to_owned()),
            1 => "\\[machines\\.[a-c]\\.(environment|tunnels)\\]", 1 => "# [a-z ]*", 1 => Just("LANG = 'x'".to_owned()),
            1 => Just(String::new()), 1 => Just("[machines.\"a.b\"]".to_owned()),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]
        #[test]
        fn what_the_quick_reader_takes_the_thorough_one_takes_alike(lines in prop::collection::vec(line(), 1..10)) {
            let text = format!("[machines.a]\n{}\n", lines.join("\n"));
            if let Some(quick) = scan::scan(&text) {
                let thorough = read_thoroughly(Path::new("x"), &text).unwrap();
                prop_assert_eq!(&quick, &thorough);
                let lines = |book: &Book| -> Vec<u32> {
                    book.machines.values().flat_map(|e| e.settings.iter()).filter(|s| !matches!(s.value, FieldValue::Map(_))).map(|s| s.line).collect()
                };
                prop_assert_eq!(lines(&quick), lines(&thorough));
            }
        }
    }
}
