//! A JSON Schema of `machines.toml`, for editors to complete from: made of the table of fields.

use serde_json::{Map, Value, json};

use crate::field::{FIELDS, Field, Kind};

/// The schema (draft 2020-12).
pub fn json_schema() -> Value {
    let machine = properties(|_| true);
    let profile = properties(Field::is_shared);
    let defaults = properties(|field| field.is_shared() && field != Field::Profiles);
    let table = |properties: &Map<String, Value>| json!({ "type": "object", "properties": properties, "additionalProperties": false });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "The book of machines",
        "type": "object",
        "additionalProperties": false,
        "properties": {
            "defaults": table(&defaults),
            "profiles": {
                "type": "object",
                "propertyNames": { "pattern": NAME },
                "additionalProperties": table(&profile),
            },
            "machines": {
                "type": "object",
                "propertyNames": { "pattern": NAME },
                "additionalProperties": table(&machine),
            },
        },
    })
}

/// The rule of [`crate::check_name_of`] as a pattern.
const NAME: &str = "^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$";

fn properties(wanted: impl Fn(Field) -> bool) -> Map<String, Value> {
    FIELDS
        .iter()
        .filter(|spec| wanted(spec.field))
        .map(|spec| (spec.name.to_owned(), property(spec)))
        .collect()
}

/// A tunnel as a table of its parts.
fn tunnel() -> Value {
    let end = || json!({ "type": ["string", "integer"] });
    json!({
        "type": "object",
        "additionalProperties": false,
        "properties": {
            "local": end(), "remote": end(), "dynamic": end(), "to": { "type": "string" },
            "wide": { "type": "boolean" }, "at-start": { "type": "boolean" },
            "hold": { "type": "integer", "minimum": 0, "maximum": crate::MAX_HOLD },
            "then": { "type": "string" },
        },
        "oneOf": [{ "required": ["local", "to"] }, { "required": ["remote", "to"] }, { "required": ["dynamic"] }],
    })
}

fn property(spec: &crate::FieldSpec) -> Value {
    let string = || json!({ "type": "string", "minLength": 1 });
    let strings = || json!({ "type": "array", "items": string(), "minItems": 1, "uniqueItems": true });
    let mut form = match spec.kind {
        Kind::Text(_) => string(),
        Kind::Choice(words) => json!({ "enum": words }),
        Kind::Number(least, most) => json!({ "type": "integer", "minimum": least, "maximum": most }),
        Kind::Flag => json!({ "type": "boolean" }),
        Kind::FlagOr(words) => json!({ "anyOf": [{ "type": "boolean" }, { "enum": words }] }),
        Kind::OneOrMany(_) | Kind::Set(_) => json!({ "anyOf": [string(), strings()] }),
        Kind::Map(_) if spec.field == Field::Tunnels => {
            json!({ "type": "object", "propertyNames": { "pattern": NAME }, "additionalProperties": { "anyOf": [string(), tunnel()] } })
        }
        Kind::Map(_) => json!({ "type": "object", "additionalProperties": { "type": "string" } }),
    };
    form["description"] = json!(format!("{}; allowed: {}", spec.about, spec.allowed));
    form["examples"] = match spec.kind {
        Kind::Number(..) => json!([spec.example.parse::<u64>().unwrap_or_default()]),
        Kind::Flag | Kind::FlagOr(_) => json!([spec.example == "true"]),
        Kind::Map(_) => match spec.example.split_once('=') {
            Some((name, value)) => json!([{ name: value }]),
            None => json!([]),
        },
        _ => json!([spec.example]),
    };
    form
}
