//! Values as text, as one would read them.

use base64ct::{Base64, Encoding};

use super::{Content, Objects, Primitive, Value};

/// Most values of a list that stand in its text: the standard's formatters show four, and what is longer is asked for as objects.
const MOST: usize = 16;

impl Primitive {
    /// The value as text. What is secret says that it is.
    pub fn plain_text(&self) -> String {
        match self {
            Self::String(text)
            | Self::DateTime(text)
            | Self::Duration(text)
            | Self::Decimal(text)
            | Self::Guid(text)
            | Self::Uri(text)
            | Self::Version(text)
            | Self::Xml(text)
            | Self::Script(text) => text.clone(),
            Self::Char(unit) => String::from_utf16_lossy(&[*unit]),
            Self::Secure(_) => "(secure text)".to_owned(),
            Self::Bytes(bytes) => Base64::encode_string(bytes),
            other => other.written(),
        }
    }
}

impl Objects {
    /// A value as text: what it says of itself, its values between commas, or the name of its type.
    pub fn plain_text(&self, value: &Value) -> String {
        match value {
            Value::Nil => String::new(),
            Value::Primitive(primitive) => primitive.plain_text(),
            Value::Object(_) => self.object_text(value),
        }
    }

    fn object_text(&self, value: &Value) -> String {
        let Some(object) = self.of(value) else { return String::new() };
        match (&object.content, &object.text) {
            (Content::Primitive(primitive), None) => primitive.plain_text(),
            (_, Some(text)) if self.values(value).is_empty() => text.clone(),
            (Content::Dictionary(entries), None) => {
                let entry = |(key, value): &(Value, Value)| {
                    format!("{}={}", self.short_text(key), self.short_text(value))
                };
                format!("{{{}}}", listed(entries, entry))
            }
            (Content::None, None) => {
                let all: Vec<_> = object.properties.iter().chain(&object.members).collect();
                match all.is_empty() {
                    true => object.types.first().cloned().unwrap_or_default(),
                    false => {
                        let entry =
                            |entry: &&(String, Value)| format!("{}={}", entry.0, self.short_text(&entry.1));
                        format!("{{{}}}", listed(&all, entry))
                    }
                }
            }
            _ => format!("{{{}}}", listed(self.values(value), |value| self.short_text(value))),
        }
    }

    /// What stands for a value within another's text: nothing of what is within that.
    fn short_text(&self, value: &Value) -> String {
        let Some(object) = self.of(value) else { return self.plain_text(value) };
        match (&object.text, &object.content) {
            (Some(text), _) => text.clone(),
            (None, Content::Primitive(primitive)) => primitive.plain_text(),
            (None, _) => object.types.first().cloned().unwrap_or_else(|| "{…}".to_owned()),
        }
    }
}

fn listed<T>(all: &[T], text: impl Fn(&T) -> String) -> String {
    let mut parts: Vec<String> = all.iter().take(MOST).map(text).collect();
    if all.len() > MOST {
        parts.push("…".to_owned());
    }
    parts.join(", ")
}
