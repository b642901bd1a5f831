//! What is given to a pipeline on standard input: lines, or JSON.

use lantern_winrm::remoting::{Content, Object, Objects, Primitive, Value};
use serde_json::Value as Json;

/// Longest line, and longest text of one JSON value, in bytes: as much as a machine takes as one object.
const MAX_LEN: usize = 10 * 1024 * 1024;

/// Puts objects together from what comes in pieces.
#[derive(Debug)]
pub struct Given {
    is_json: bool,
    begun: Vec<u8>,
    line: usize,
    has_json: bool,
}

/// Why what is given is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum GivenError {
    /// A line that is no text.
    #[error("line {line} of standard input is not UTF-8")]
    NotText {
        /// Which, from 1.
        line: usize,
    },
    /// Not JSON.
    #[error("standard input is no JSON: {why}")]
    NotJson {
        /// What is wrong, and where.
        why: String,
    },
    /// Longer than a machine takes.
    #[error(
        "line {line} of standard input is longer than {MAX_LEN} bytes, which is more than a machine takes as one object"
    )]
    TooLong {
        /// Which, from 1.
        line: usize,
    },
}

impl Given {
    /// Of lines, each of which is an object; or of JSON: values behind each other, or one list of them.
    pub fn new(is_json: bool) -> Self {
        Self { is_json, begun: Vec::new(), line: 1, has_json: false }
    }

    /// Takes a piece; the objects that are whole with it.
    ///
    /// # Errors
    /// What came is not what was said.
    pub fn take(&mut self, piece: &[u8]) -> Result<Vec<Objects>, GivenError> {
        self.begun.extend_from_slice(piece);
        let whole = match self.is_json {
            true => self.values(false)?,
            false => self.lines()?,
        };
        match self.begun.len() > MAX_LEN {
            true => Err(GivenError::TooLong { line: self.line }),
            false => Ok(whole),
        }
    }

    /// It has ended; the objects that are left.
    ///
    /// # Errors
    /// What came is not what was said.
    pub fn end(&mut self) -> Result<Vec<Objects>, GivenError> {
        if self.is_json {
            return self.values(true);
        }
        match self.begun.is_empty() {
            true => Ok(Vec::new()),
            false => {
                let last = std::mem::take(&mut self.begun);
                Ok(vec![self.text(&last)?])
            }
        }
    }

    fn text(&self, line: &[u8]) -> Result<Objects, GivenError> {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let text = str::from_utf8(line).map_err(|_| GivenError::NotText { line: self.line })?;
        Ok(Objects::of_root(text))
    }

    fn lines(&mut self) -> Result<Vec<Objects>, GivenError> {
        let Some(last) = self.begun.iter().rposition(|byte| *byte == b'\n') else { return Ok(Vec::new()) };
        let rest = self.begun.split_off(last + 1);
        let whole = std::mem::replace(&mut self.begun, rest);
        let mut all = Vec::new();
        for line in whole.strip_suffix(b"\n").unwrap_or(&whole).split(|byte| *byte == b'\n') {
            all.push(self.text(line)?);
            self.line += 1;
        }
        Ok(all)
    }

    fn values(&mut self, is_all: bool) -> Result<Vec<Objects>, GivenError> {
        let mut all = Vec::new();
        let mut stream = serde_json::Deserializer::from_slice(&self.begun).into_iter::<Json>();
        let mut used = 0;
        loop {
            let next = stream.next();
            // What a number is shows only by what follows it.
            let ends = stream.byte_offset() == self.begun.len();
            match next {
                Some(Ok(Json::Number(_))) if ends && !is_all => break,
                Some(Ok(Json::Array(list))) if !self.has_json => all.extend(list.iter().map(object)),
                Some(Ok(value)) => all.push(object(&value)),
                None => break,
                Some(Err(error)) if error.is_eof() && !is_all => break,
                Some(Err(error)) => return Err(GivenError::NotJson { why: error.to_string() }),
            }
            self.has_json = true;
            used = stream.byte_offset();
        }
        self.begun.drain(..used);
        Ok(all)
    }
}

fn object(json: &Json) -> Objects {
    let mut objects = Objects::default();
    let root = value(&mut objects, json);
    objects.roots.push(root);
    objects
}

fn value(objects: &mut Objects, json: &Json) -> Value {
    match json {
        Json::Null => Value::Nil,
        Json::Bool(is) => (*is).into(),
        Json::String(text) => text.as_str().into(),
        Json::Number(number) => Value::Primitive(match (number.as_i64(), number.as_u64()) {
            (Some(number), _) => i32::try_from(number).map_or(Primitive::I64(number), Primitive::I32),
            (None, Some(number)) => Primitive::U64(number),
            (None, None) => Primitive::Double(number.as_f64().unwrap_or(f64::NAN)),
        }),
        Json::Array(list) => {
            let list = list.iter().map(|json| value(objects, json)).collect();
            objects.list(list)
        }
        Json::Object(map) => {
            let members = map.iter().map(|(name, json)| (name.clone(), value(objects, json))).collect();
            objects.add(Object {
                types: ["System.Management.Automation.PSCustomObject", "System.Object"]
                    .map(str::to_owned)
                    .into(),
                content: Content::None,
                members,
                ..Object::default()
            })
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all(given: &mut Given, pieces: &[&[u8]]) -> Result<Vec<String>, GivenError> {
        let mut all = Vec::new();
        for piece in pieces {
            all.extend(given.take(piece)?);
        }
        all.extend(given.end()?);
        Ok(all.iter().map(|objects| objects.to_json(&objects.roots[0], 9).unwrap()).collect())
    }

    #[test]
    fn lines_are_objects_and_so_are_values() {
        let read = all(&mut Given::new(false), &[b"high\r\nlow", b" water\n\nlast"]).unwrap();
        assert_eq!(read, ["\"high\"", "\"low water\"", "\"\"", "\"last\""]);
        assert_eq!(all(&mut Given::new(false), &[b"a\n", b"b\xff\n"]), Err(GivenError::NotText { line: 2 }));
        let read =
            all(&mut Given::new(true), &[b"{\"a\": [1, null", b"]} 12", b"3 \"x\" 1.5 [true]"]).unwrap();
        assert_eq!(read, ["{\"a\":[1,null]}", "123", "\"x\"", "1.5", "[true]"]);
        // One list is its values.
        assert_eq!(all(&mut Given::new(true), &[b"[1, {\"b\": 2}]"]).unwrap(), ["1", "{\"b\":2}"]);
        assert!(matches!(all(&mut Given::new(true), &[b"{\"a\" 1}"]), Err(GivenError::NotJson { .. })));
        assert!(matches!(all(&mut Given::new(true), &[b"{\"a\": 1"]), Err(GivenError::NotJson { .. })));
        let long = vec![b'x'; MAX_LEN + 1];
        assert_eq!(all(&mut Given::new(false), &[b"a\n", &long]), Err(GivenError::TooLong { line: 2 }));
    }

    proptest! {
        #[test]
        fn however_it_is_cut_it_is_the_same(lines in proptest::collection::vec("[^\n\r]{0,12}", 1..8), step in 1usize..9) {
            let text = lines.join("\n");
            let pieces: Vec<&[u8]> = text.as_bytes().chunks(step).collect();
            let read = all(&mut Given::new(false), &pieces).unwrap();
            let expected: Vec<String> = text.split('\n').map(|line| serde_json::to_string(line).unwrap()).collect();
            let expected = if text.is_empty() || text.ends_with('\n') { &expected[..expected.len() - 1] } else { &expected[..] };
            let read: Vec<String> = read.iter().map(|json| serde_json::from_str::<String>(json).unwrap()).collect();
            let expected: Vec<String> = expected.iter().map(|json| serde_json::from_str::<String>(json).unwrap()).collect();
            prop_assert_eq!(read, expected);
        }
    }
}
