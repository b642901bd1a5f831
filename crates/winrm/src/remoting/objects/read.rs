//! Objects read from XML (MS-PSRP 2.2.5.2).

use std::collections::HashMap;
use std::sync::Arc;

use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

use super::escape::unescape;
use super::{Content, Object, ObjectId, Objects, Primitive, Value};
use crate::limits::MAX_ATTRIBUTES;
use crate::remoting::RemotingError;
use crate::remoting::limits::{MAX_MESSAGE, MAX_NESTING, MAX_TYPES, MAX_VALUES};

impl Objects {
    /// Reads values: one, or several within `Objs`.
    ///
    /// # Errors
    /// It is not in the form of the standard, or more than is read.
    pub fn read(text: &str) -> Result<Self, RemotingError> {
        if text.len() > MAX_MESSAGE {
            return Err(RemotingError::TooMuch { what: "bytes", limit: MAX_MESSAGE });
        }
        let mut reader = Reader::from_str(text);
        reader.config_mut().expand_empty_elements = true;
        let mut reading =
            Reading { reader, all: Vec::new(), known: HashMap::new(), types: HashMap::new(), values: 0 };
        let (mut roots, mut is_within, mut is_over) = (Vec::new(), false, false);
        loop {
            match reading.next()? {
                Next::Open(element)
                    if element.name == "Objs" && roots.is_empty() && !is_within && !is_over =>
                {
                    is_within = true;
                }
                Next::Open(_) if is_over => return Err(damaged("something stands behind its end")),
                Next::Open(element) => {
                    roots.push(reading.value(&element, 0)?);
                    is_over = !is_within;
                }
                Next::Text(text) if text.trim().is_empty() => {}
                Next::Text(_) => return Err(damaged("text stands between values")),
                Next::Close => (is_within, is_over) = (false, true),
                Next::End if is_within => return Err(damaged("it ends early")),
                Next::End => break,
            }
        }
        Ok(Self { roots, all: reading.all })
    }
}

fn damaged(why: &str) -> RemotingError {
    RemotingError::Objects(why.to_owned())
}

/// An element that begins.
struct Opened {
    name: String,
    /// What a property, a key or a value is called.
    called: Option<String>,
    number: Option<i64>,
}

enum Next {
    Open(Opened),
    Text(String),
    Close,
    End,
}

struct Reading<'t> {
    reader: Reader<&'t [u8]>,
    all: Vec<Object>,
    known: HashMap<i64, ObjectId>,
    types: HashMap<i64, Arc<[String]>>,
    values: usize,
}

impl Reading<'_> {
    fn next(&mut self) -> Result<Next, RemotingError> {
        let malformed = |error: &dyn std::fmt::Display| RemotingError::Objects(error.to_string());
        loop {
            let event = self.reader.read_event().map_err(|error| malformed(&error))?;
            return Ok(match event {
                Event::Start(start) | Event::Empty(start) => Next::Open(opened(&start)?),
                Event::End(_) => Next::Close,
                Event::Text(text) => Next::Text(text.xml10_content().into_owned()),
                Event::CData(text) => Next::Text(text.xml10_content().into_owned()),
                Event::GeneralRef(reference) => {
                    let resolved = reference.resolve_char_ref().map_err(|error| malformed(&error))?;
                    Next::Text(match (resolved, &*reference) {
                        (Some(character), _) => character.to_string(),
                        (None, "lt") => "<".to_owned(),
                        (None, "gt") => ">".to_owned(),
                        (None, "amp") => "&".to_owned(),
                        (None, "apos") => "'".to_owned(),
                        (None, "quot") => "\"".to_owned(),
                        (None, _) => return Err(damaged("it has an entity")),
                    })
                }
                Event::DocType(_) => return Err(damaged("it has a document type")),
                Event::Decl(_) | Event::PI(_) | Event::Comment(_) => continue,
                Event::Eof => Next::End,
            });
        }
    }

    /// The next element within the one that is open; nothing at that one's end.
    fn child(&mut self) -> Result<Option<Opened>, RemotingError> {
        loop {
            match self.next()? {
                Next::Open(element) => return Ok(Some(element)),
                Next::Close => return Ok(None),
                Next::Text(text) if text.trim().is_empty() => {}
                Next::Text(_) => return Err(damaged("text stands where values should")),
                Next::End => return Err(damaged("it ends early")),
            }
        }
    }

    /// The text of the element that is open, to its end.
    fn text(&mut self) -> Result<String, RemotingError> {
        let mut text = String::new();
        loop {
            match self.next()? {
                Next::Text(more) if text.is_empty() => text = more,
                Next::Text(more) => text.push_str(&more),
                Next::Close => return Ok(text),
                Next::Open(_) => return Err(damaged("an element stands where text should")),
                Next::End => return Err(damaged("it ends early")),
            }
        }
    }

    fn value(&mut self, element: &Opened, depth: usize) -> Result<Value, RemotingError> {
        self.values += 1;
        if self.values > MAX_VALUES {
            return Err(RemotingError::TooMuch { what: "values", limit: MAX_VALUES });
        }
        match element.name.as_str() {
            "Obj" => self.object(element, depth),
            "Nil" => {
                self.text()?;
                Ok(Value::Nil)
            }
            "Ref" => {
                self.text()?;
                let known = element.number.and_then(|number| self.known.get(&number));
                known
                    .copied()
                    .map(Value::Object)
                    .ok_or_else(|| damaged("it refers to an object that is not there"))
            }
            name if Primitive::is_tag(name) => {
                let text = self.text()?;
                let read = Primitive::read(name, &text);
                read.map(Value::Primitive).ok_or_else(|| damaged("a value is not of its kind"))
            }
            _ => self.stranger(element, depth),
        }
    }

    /// An element that nobody knows: its text, and its elements as members.
    fn stranger(&mut self, element: &Opened, depth: usize) -> Result<Value, RemotingError> {
        let id = self.begin(depth)?;
        let mut object = Object { types: vec![element.name.clone()].into(), ..Object::default() };
        let mut text = String::new();
        loop {
            match self.next()? {
                Next::Text(more) => text.push_str(&more),
                Next::Close => break,
                Next::Open(inner) => {
                    let name = inner.called.clone().unwrap_or_else(|| inner.name.clone());
                    let value = self.value(&inner, depth + 1)?;
                    object.members.push((name, value));
                }
                Next::End => return Err(damaged("it ends early")),
            }
        }
        object.text = Some(unescape(text.trim()).into_owned()).filter(|text| !text.is_empty());
        self.finish(id, object);
        Ok(Value::Object(id))
    }

    fn begin(&mut self, depth: usize) -> Result<ObjectId, RemotingError> {
        if depth >= MAX_NESTING {
            return Err(RemotingError::TooMuch { what: "objects within each other", limit: MAX_NESTING });
        }
        self.all.push(Object::default());
        Ok(ObjectId(self.all.len() - 1))
    }

    fn finish(&mut self, id: ObjectId, object: Object) {
        if let Some(place) = self.all.get_mut(id.0) {
            *place = object;
        }
    }

    fn object(&mut self, element: &Opened, depth: usize) -> Result<Value, RemotingError> {
        let id = self.begin(depth)?;
        // Before what is in it, which may refer to it.
        if let Some(number) = element.number {
            self.known.insert(number, id);
        }
        let mut object = Object::default();
        while let Some(part) = self.child()? {
            match part.name.as_str() {
                "TN" => object.types = self.type_names(&part)?,
                "TNRef" => {
                    self.text()?;
                    let known = part.number.and_then(|number| self.types.get(&number));
                    object.types =
                        known.cloned().ok_or_else(|| damaged("it has types that are not there"))?;
                }
                "ToString" => object.text = Some(unescape(&self.text()?).into_owned()),
                "Props" => object.properties = self.named(depth)?,
                "MS" => object.members = self.named(depth)?,
                "LST" => object.content = Content::List(self.values(depth)?),
                "IE" => object.content = Content::Enumerable(self.values(depth)?),
                "STK" => object.content = Content::Stack(self.values(depth)?),
                "QUE" => object.content = Content::Queue(self.values(depth)?),
                "DCT" => object.content = Content::Dictionary(self.entries(depth)?),
                _ => match self.value(&part, depth + 1)? {
                    Value::Primitive(primitive) => object.content = Content::Primitive(primitive),
                    Value::Nil => {}
                    Value::Object(_) => return Err(damaged("an object is the whole of another")),
                },
            }
        }
        self.finish(id, object);
        Ok(Value::Object(id))
    }

    fn type_names(&mut self, element: &Opened) -> Result<Arc<[String]>, RemotingError> {
        let mut names = Vec::new();
        while self.child()?.is_some() {
            if names.len() == MAX_TYPES {
                return Err(RemotingError::TooMuch { what: "types of one object", limit: MAX_TYPES });
            }
            names.push(unescape(&self.text()?).into_owned());
        }
        let names: Arc<[String]> = names.into();
        if let Some(number) = element.number {
            self.types.insert(number, names.clone());
        }
        Ok(names)
    }

    fn named(&mut self, depth: usize) -> Result<Vec<(String, Value)>, RemotingError> {
        let mut all = Vec::new();
        while let Some(part) = self.child()? {
            let value = self.value(&part, depth + 1)?;
            all.push((part.called.unwrap_or_default(), value));
        }
        Ok(all)
    }

    fn values(&mut self, depth: usize) -> Result<Vec<Value>, RemotingError> {
        let mut all = Vec::new();
        while let Some(part) = self.child()? {
            all.push(self.value(&part, depth + 1)?);
        }
        Ok(all)
    }

    fn entries(&mut self, depth: usize) -> Result<Vec<(Value, Value)>, RemotingError> {
        let mut all = Vec::new();
        while let Some(entry) = self.child()? {
            if entry.name != "En" {
                return Err(damaged("a dictionary has something else than entries"));
            }
            let (mut key, mut value) = (None, None);
            for (name, met) in self.named(depth)? {
                match name.as_str() {
                    "Key" => key = Some(met),
                    "Value" => value = Some(met),
                    _ => return Err(damaged("an entry has neither a key nor a value")),
                }
            }
            all.push((key.ok_or_else(|| damaged("an entry has no key"))?, value.unwrap_or(Value::Nil)));
        }
        Ok(all)
    }
}

fn opened(start: &BytesStart<'_>) -> Result<Opened, RemotingError> {
    let malformed = |error: &dyn std::fmt::Display| RemotingError::Objects(error.to_string());
    let (mut called, mut number) = (None, None);
    for (count, attribute) in start.attributes().enumerate() {
        if count == MAX_ATTRIBUTES {
            return Err(RemotingError::TooMuch { what: "attributes of one element", limit: MAX_ATTRIBUTES });
        }
        let attribute = attribute.map_err(|error| malformed(&error))?;
        let value = || {
            let value = attribute.normalized_value(quick_xml::XmlVersion::Explicit1_0);
            value.map_err(|error| malformed(&error))
        };
        match attribute.key.as_ref() {
            "N" => called = Some(unescape(&value()?).into_owned()),
            "RefId" => number = Some(value()?.parse().map_err(|_| damaged("a reference is no number"))?),
            _ => {}
        }
    }
    Ok(Opened { name: start.local_name().as_ref().into(), called, number })
}
