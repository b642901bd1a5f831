//! Inventories that clouds and hypervisors print, as rows of columns: CSV, JSON, YAML and TOML.

use std::collections::BTreeMap;
use std::path::Path;

use saphyr::{LoadableYamlNode, ScalarOwned, YamlOwned};
use serde_json::{Map, Value};

use crate::BookError;

/// The forms that are read and written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InventoryForm {
    /// Comma-separated values (RFC 4180) with a heading.
    Csv,
    /// JSON.
    Json,
    /// YAML.
    Yaml,
    /// TOML.
    Toml,
}

/// One machine of an inventory: columns by name. What is nested is named by its path: `network.public`.
pub type Row = BTreeMap<String, String>;

/// Most nesting that is followed.
const MAX_DEPTH: usize = 16;
/// Most aliases of a YAML file: each copies what its anchor names, and copies of copies fill any memory. Nested as cruelly as can be, sixteen
/// make some four hundred copies.
const MAX_ALIASES: usize = 16;

impl InventoryForm {
    /// The form that a file's name says.
    pub fn from_path(path: &Path) -> Option<Self> {
        match path.extension()?.to_str()?.to_lowercase().as_str() {
            "csv" => Some(Self::Csv),
            "json" => Some(Self::Json),
            "yaml" | "yml" => Some(Self::Yaml),
            "toml" => Some(Self::Toml),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Csv => "CSV",
            Self::Json => "JSON",
            Self::Yaml => "YAML",
            Self::Toml => "TOML",
        }
    }
}

/// Reads an inventory. `at` names the list of machines within, as a path with dots; without it, the one list or table of tables that
/// there is, is taken.
///
/// # Errors
/// [`BookError::Syntax`] with the line, or [`BookError::Inventory`] when there is no list of machines in it.
pub fn read_inventory(
    path: &Path,
    text: &str,
    form: InventoryForm,
    at: Option<&str>,
) -> Result<Vec<Row>, BookError> {
    let line = |line: usize, message: String| BookError::Syntax { path: path.to_owned(), line, message };
    let value = match form {
        InventoryForm::Csv => return csv_rows(path, text),
        InventoryForm::Json => {
            serde_json::from_str(text).map_err(|error| line(error.line(), error.to_string()))?
        }
        InventoryForm::Toml => toml::from_str::<Value>(text).map_err(|error| {
            BookError::syntax(path, text, error.span().map(|span| span.start), error.message().to_owned())
        })?,
        InventoryForm::Yaml => yaml(path, text)?,
    };
    let none = |message: String| BookError::Inventory { path: path.to_owned(), message };
    let found = match at {
        Some(at) => all_at(&value, at).ok_or_else(|| {
            none(format!("there is nothing at `{at}`; at the top there is {}", names(&value)))
        })?,
        None => list_within(&value).map(|found| vec![found]).ok_or_else(|| {
            none(format!(
                "no single list of machines was found; say which with --at PATH (at the top there is {})",
                names(&value)
            ))
        })?,
    };
    let mut rows: Vec<Row> = Vec::new();
    for found in found {
        match found {
            Value::Array(items) => rows.extend(items.iter().map(row)),
            Value::Object(named) => rows.extend(named.iter().map(|(name, item)| {
                let mut row = row(item);
                row.entry("name".into()).or_insert_with(|| name.clone());
                row
            })),
            _ => return Err(none("what was found is neither a list nor a table".into())),
        }
    }
    Ok(rows.into_iter().map(harmless).collect())
}

/// What is at a path: names with dots between them, and `[]` behind the name of a list whose items are all gone into. None where nothing is.
fn all_at<'v>(value: &'v Value, path: &str) -> Option<Vec<&'v Value>> {
    let steps: Vec<&str> = path.split('.').collect();
    let mut at = vec![value];
    for (index, step) in steps.iter().enumerate() {
        let (name, into_list) = step.strip_suffix("[]").map_or((*step, false), |name| (name, true));
        let below =
            at.into_iter().filter_map(|value| if name.is_empty() { Some(value) } else { value.get(name) });
        // The last list is what was looked for.
        let is_last = index + 1 == steps.len();
        at = match into_list && !is_last {
            true => below.filter_map(Value::as_array).flatten().collect(),
            false => below.collect(),
        };
    }
    (!at.is_empty()).then_some(at)
}

/// The same without characters that would steer a terminal: rows are shown before anything is made of them.
fn harmless(row: Row) -> Row {
    let clean = |text: String| match text.chars().any(char::is_control) {
        true => text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect(),
        false => text,
    };
    row.into_iter().map(|(name, cell)| (clean(name), clean(cell))).collect()
}

fn names(value: &Value) -> String {
    match value {
        Value::Object(map) => map.keys().take(10).cloned().collect::<Vec<_>>().join(", "),
        Value::Array(_) => "a list".into(),
        _ => "no table".into(),
    }
}

/// The list of tables, or the table of tables, when there is just one.
fn list_within(value: &Value) -> Option<&Value> {
    let is_list = |value: &Value| match value {
        Value::Array(items) => items.iter().all(Value::is_object),
        Value::Object(map) => !map.is_empty() && map.values().all(Value::is_object),
        _ => false,
    };
    match value {
        Value::Object(map) => {
            let within: Vec<&Value> = map.values().filter(|value| is_list(value)).collect();
            match within.as_slice() {
                [only] => Some(only),
                _ => Some(value).filter(|value| is_list(value)),
            }
        }
        _ => Some(value).filter(|value| is_list(value)),
    }
}

fn row(value: &Value) -> Row {
    let mut row = Row::new();
    flatten("", value, &mut row, 0);
    row
}

fn flatten(path: &str, value: &Value, row: &mut Row, depth: usize) {
    let below = |name: &str| if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
    let scalar = |value: &Value| match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(flag) => Some(flag.to_string()),
        _ => None,
    };
    match value {
        _ if depth > MAX_DEPTH => {}
        Value::Object(map) => {
            let pairs = map.iter().filter_map(|(name, value)| Some((name.clone(), scalar(value)?)));
            put_as_words(path, &pairs.collect::<Vec<_>>(), row);
            map.iter().for_each(|(name, value)| flatten(&below(name), value, row, depth + 1));
        }
        Value::Array(items) => {
            let scalars: Vec<String> = items.iter().filter_map(scalar).collect();
            if !scalars.is_empty() {
                row.insert(path.to_owned(), scalars.join(","));
            }
            let pairs: Vec<(String, String)> = items.iter().filter_map(key_and_value).collect();
            put_as_words(path, &pairs, row);
            for (index, item) in items.iter().enumerate().filter(|(_, item)| item.is_object()) {
                match key_and_value(item) {
                    Some((key, value)) => drop(row.insert(below(&key), value)),
                    None => flatten(&below(&index.to_string()), item, row, depth + 1),
                }
            }
        }
        other => {
            if let Some(text) = scalar(other) {
                row.insert(path.to_owned(), text);
            }
        }
    }
}

/// Tags that are names with values, as words too: `role-web`. What is called a name is the machine's, and no tag.
fn put_as_words(path: &str, pairs: &[(String, String)], row: &mut Row) {
    let last = path.rsplit('.').next().unwrap_or_default().to_lowercase();
    if !["tags", "labels", "tagset"].contains(&last.as_str()) {
        return;
    }
    let word = |(key, value): &(String, String)| match value.as_str() {
        "" => key.clone(),
        value => format!("{key}-{value}"),
    };
    let words: Vec<String> =
        pairs.iter().filter(|(key, _)| !key.eq_ignore_ascii_case("name")).map(word).collect();
    if !words.is_empty() {
        row.entry(path.to_owned()).or_insert_with(|| words.join(","));
    }
}

/// Many clouds print tags as a list of `{ "Key": …, "Value": … }`.
fn key_and_value(item: &Value) -> Option<(String, String)> {
    let map: &Map<String, Value> = item.as_object().filter(|map| map.len() == 2)?;
    let get = |wanted: &str| {
        map.iter().find(|(name, _)| name.eq_ignore_ascii_case(wanted)).and_then(|(_, v)| v.as_str())
    };
    Some((get("key").or_else(|| get("name"))?.to_owned(), get("value")?.to_owned()))
}

fn csv_rows(path: &Path, text: &str) -> Result<Vec<Row>, BookError> {
    let failed = |error: csv::Error| {
        let line = error.position().map_or(1, |position| position.line() as usize);
        let message = match error.kind() {
            csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
                format!("this line has {len} columns, and the heading {expected_len}")
            }
            _ => error.to_string(),
        };
        BookError::Syntax { path: path.to_owned(), line, message }
    };
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let heading = reader.headers().map_err(failed)?.clone();
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.map_err(failed)?;
        let cells = heading.iter().zip(record.iter()).filter(|(_, cell)| !cell.is_empty());
        rows.push(harmless(cells.map(|(name, cell)| (name.to_owned(), cell.to_owned())).collect()));
    }
    Ok(rows)
}

fn yaml(path: &Path, text: &str) -> Result<Value, BookError> {
    let syntax = |line: usize, message: String| BookError::Syntax { path: path.to_owned(), line, message };
    let aliases = text.match_indices('*').filter(|(at, _)| {
        text.get(at + 1..).is_some_and(|rest| rest.starts_with(|c: char| !c.is_whitespace()))
            && text.get(..*at).is_none_or(|before| {
                before.ends_with([' ', '\t', '[', ',', '\n', '{', ':']) || before.is_empty()
            })
    });
    if aliases.count() > MAX_ALIASES {
        return Err(syntax(1, format!("it has more than {MAX_ALIASES} aliases")));
    }
    // The reader never comes to the end of a directive ("%…") that no line break ends.
    let documents = YamlOwned::load_from_str(&format!("{text}\n"))
        .map_err(|error| syntax(error.marker().line(), error.info().to_owned()))?;
    let first = documents.into_iter().next().ok_or_else(|| syntax(1, "it is empty".into()))?;
    yaml_value(&first, 0)
        .ok_or_else(|| syntax(1, "it has keys that are no words, or is nested too deep".into()))
}

fn yaml_value(node: &YamlOwned, depth: usize) -> Option<Value> {
    if depth > MAX_DEPTH * 2 {
        return None;
    }
    Some(match node {
        YamlOwned::Value(ScalarOwned::String(text)) => Value::String(text.clone()),
        YamlOwned::Value(ScalarOwned::Integer(number)) => Value::from(*number),
        YamlOwned::Value(ScalarOwned::Boolean(flag)) => Value::Bool(*flag),
        YamlOwned::Value(ScalarOwned::FloatingPoint(number)) => Value::String(number.to_string()),
        YamlOwned::Representation(text, ..) => Value::String(text.clone()),
        YamlOwned::Sequence(items) => {
            Value::Array(items.iter().map(|item| yaml_value(item, depth + 1)).collect::<Option<_>>()?)
        }
        YamlOwned::Mapping(map) => {
            let pairs = map.iter().map(|(key, value)| {
                let key = match yaml_value(key, depth + 1)? {
                    Value::String(text) => text,
                    Value::Number(number) => number.to_string(),
                    _ => return None,
                };
                Some((key, yaml_value(value, depth + 1)?))
            });
            Value::Object(pairs.collect::<Option<_>>()?)
        }
        YamlOwned::Tagged(_, node) => yaml_value(node, depth + 1)?,
        _ => Value::Null,
    })
}

/// Writes rows in a form that [`read_inventory`] reads as the same rows.
///
/// # Errors
/// Only what the libraries call impossible.
pub fn write_inventory(rows: &[Row], form: InventoryForm) -> Result<String, BookError> {
    let failed = |error: String| BookError::Inventory { path: "the export".into(), message: error };
    match form {
        InventoryForm::Json => serde_json::to_string_pretty(rows)
            .map(|text| text + "\n")
            .map_err(|error| failed(error.to_string())),
        InventoryForm::Toml => {
            toml::to_string(&BTreeMap::from([("machine", rows)])).map_err(|error| failed(error.to_string()))
        }
        InventoryForm::Yaml => {
            let mut text = String::new();
            for row in rows {
                for (index, (name, value)) in row.iter().enumerate() {
                    let quoted = |text: &str| Value::from(text).to_string();
                    let lead = if index == 0 { "- " } else { "  " };
                    // A JSON string is a YAML string, whatever is in it.
                    text.push_str(&format!("{lead}{}: {}\n", quoted(name), quoted(value)));
                }
            }
            Ok(if text.is_empty() { "[]\n".into() } else { text })
        }
        InventoryForm::Csv => {
            let columns: std::collections::BTreeSet<&String> = rows.iter().flat_map(Row::keys).collect();
            // The name first: that is what one looks for.
            let (name, others): (Vec<&String>, Vec<&String>) =
                columns.into_iter().partition(|c| *c == "name");
            let columns: Vec<&String> = name.into_iter().chain(others).collect();
            let mut writer = csv::Writer::from_writer(Vec::new());
            writer.write_record(&columns).map_err(|error| failed(error.to_string()))?;
            for row in rows {
                let cells = columns.iter().map(|column| row.get(*column).map_or("", String::as_str));
                writer.write_record(cells).map_err(|error| failed(error.to_string()))?;
            }
            let bytes = writer.into_inner().map_err(|error| failed(error.to_string()))?;
            String::from_utf8(bytes).map_err(|error| failed(error.to_string()))
        }
    }
}
