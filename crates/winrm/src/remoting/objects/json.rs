//! Values as JSON (RFC 8259), in forms that stay: docs/guide/windows.md has them.

use std::collections::HashSet;
use std::fmt::Write;

use base64ct::{Base64, Encoding};

use super::{Content, Object, Objects, Primitive, Value};
use crate::remoting::RemotingError;
use crate::remoting::limits::MAX_JSON;

/// The type of enumerations.
const ENUMERATION: &str = "System.Enum";

impl Objects {
    /// A value as JSON on one line. What is nested deeper than `depth` stands as its text, and so does what contains itself.
    ///
    /// - Text, moments, lengths of time, identifiers, places, versions, documents and scripts are strings as the machine writes them; a decimal number is one, so that it
    ///   keeps its digits; bytes are base64.
    /// - Numbers are numbers; those that JSON cannot hold are the strings `NaN`, `INF` and `-INF`.
    /// - A value of an enumeration is its name. A value that has properties besides is the value.
    /// - Lists, stacks and queues are arrays; dictionaries are objects, their keys as text.
    /// - Any other object is an object with its properties; one that has none is its text.
    /// - Secure text is `{"secure": true}`.
    ///
    /// # Errors
    /// It takes more than [`MAX_JSON`] bytes: references can make few bytes many.
    pub fn to_json(&self, value: &Value, depth: usize) -> Result<String, RemotingError> {
        let mut writing = Writing { objects: self, out: String::new(), within: HashSet::new(), depth };
        writing.value(value)?;
        Ok(writing.out)
    }
}

struct Writing<'o> {
    objects: &'o Objects,
    out: String,
    /// Objects that are being written.
    within: HashSet<super::ObjectId>,
    depth: usize,
}

impl Writing<'_> {
    fn value(&mut self, value: &Value) -> Result<(), RemotingError> {
        if self.out.len() > MAX_JSON {
            return Err(RemotingError::TooMuch { what: "bytes as JSON", limit: MAX_JSON });
        }
        match value {
            Value::Nil => self.out.push_str("null"),
            Value::Primitive(primitive) => self.primitive(primitive),
            Value::Object(id) => match self.objects.object(*id) {
                None => self.out.push_str("null"),
                Some(object) if is_enumeration(object) => {
                    let text = self.objects.plain_text(value);
                    self.string(&text);
                }
                Some(Object { content: Content::Primitive(primitive), .. }) => self.primitive(primitive),
                Some(_) if self.within.len() >= self.depth || self.within.contains(id) => {
                    let text = self.objects.plain_text(value);
                    self.string(&text);
                }
                Some(object) => {
                    self.within.insert(*id);
                    self.object(value, object)?;
                    self.within.remove(id);
                }
            },
        }
        Ok(())
    }

    fn object(&mut self, value: &Value, object: &Object) -> Result<(), RemotingError> {
        match &object.content {
            Content::List(_) | Content::Enumerable(_) | Content::Stack(_) | Content::Queue(_) => {
                self.out.push('[');
                for (at, value) in self.objects.values(value).iter().enumerate() {
                    self.comma(at);
                    self.value(value)?;
                }
                self.out.push(']');
            }
            Content::Dictionary(entries) => {
                self.out.push('{');
                let mut seen = HashSet::new();
                for (key, value) in entries {
                    let key = self.objects.plain_text(key);
                    self.entry(&mut seen, key, value)?;
                }
                self.out.push('}');
            }
            Content::None | Content::Primitive(_) => {
                if object.properties.is_empty() && object.members.is_empty() {
                    let text = self.objects.plain_text(value);
                    self.string(&text);
                    return Ok(());
                }
                self.out.push('{');
                let mut seen = HashSet::new();
                for (name, value) in object.properties.iter().chain(&object.members) {
                    self.entry(&mut seen, name.clone(), value)?;
                }
                self.out.push('}');
            }
        }
        Ok(())
    }

    /// One name with its value. What would stand twice gets a number: readers of JSON keep one of two (RFC 8259 §4).
    fn entry(
        &mut self,
        seen: &mut HashSet<String>,
        name: String,
        value: &Value,
    ) -> Result<(), RemotingError> {
        self.comma(seen.len());
        let name = match seen.contains(&name) {
            false => name,
            true => (2..).map(|n| format!("{name} ({n})")).find(|name| !seen.contains(name)).unwrap_or(name),
        };
        self.string(&name);
        seen.insert(name);
        self.out.push(':');
        self.value(value)
    }

    fn comma(&mut self, at: usize) {
        if at > 0 {
            self.out.push(',');
        }
    }

    fn primitive(&mut self, primitive: &Primitive) {
        match primitive {
            Primitive::Bool(_)
            | Primitive::U8(_)
            | Primitive::I8(_)
            | Primitive::U16(_)
            | Primitive::I16(_)
            | Primitive::U32(_)
            | Primitive::I32(_)
            | Primitive::U64(_)
            | Primitive::I64(_) => self.out.push_str(&primitive.written()),
            Primitive::Single(number) => self.float((*number).is_finite(), primitive),
            Primitive::Double(number) => self.float(number.is_finite(), primitive),
            Primitive::Bytes(bytes) => {
                let text = Base64::encode_string(bytes);
                self.string(&text);
            }
            Primitive::Secure(_) => self.out.push_str("{\"secure\":true}"),
            other => {
                let text = other.plain_text();
                self.string(&text);
            }
        }
    }

    fn float(&mut self, is_finite: bool, primitive: &Primitive) {
        match is_finite {
            true => self.out.push_str(&primitive.written()),
            false => self.string(&primitive.written()),
        }
    }

    /// A string (RFC 8259 §7), every control character as its number.
    fn string(&mut self, text: &str) {
        self.out.push('"');
        for c in text.chars() {
            match c {
                '"' => self.out.push_str("\\\""),
                '\\' => self.out.push_str("\\\\"),
                '\n' => self.out.push_str("\\n"),
                '\r' => self.out.push_str("\\r"),
                '\t' => self.out.push_str("\\t"),
                c if c.is_control() => {
                    for unit in c.encode_utf16(&mut [0; 2]) {
                        let _ = write!(self.out, "\\u{unit:04x}");
                    }
                }
                c => self.out.push(c),
            }
        }
        self.out.push('"');
    }
}

fn is_enumeration(object: &Object) -> bool {
    object.types.iter().any(|name| name == ENUMERATION)
        && matches!(object.content, Content::Primitive(_))
        && object.text.is_some()
}
