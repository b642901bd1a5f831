//! Objects put together, and looked into, in the forms that messages have (MS-PSRP 2.2.2).

use super::{Content, Object, Objects, Primitive, Value};

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::Primitive(Primitive::String(text.to_owned()))
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Self::Primitive(Primitive::String(text))
    }
}

impl From<i32> for Value {
    fn from(number: i32) -> Self {
        Self::Primitive(Primitive::I32(number))
    }
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Self::Primitive(Primitive::I64(number))
    }
}

impl From<bool> for Value {
    fn from(is: bool) -> Self {
        Self::Primitive(Primitive::Bool(is))
    }
}

impl Value {
    /// The text of a value that is text.
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Primitive(Primitive::String(text)) => Some(text),
            _ => None,
        }
    }
}

fn types(names: &[&str]) -> std::sync::Arc<[String]> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

impl Objects {
    /// These values alone, with nothing that they name.
    pub fn of_root(root: impl Into<Value>) -> Self {
        Self { roots: vec![root.into()], all: Vec::new() }
    }

    /// Adds an object that has properties and no type: what messages are.
    pub fn bag<'a>(&mut self, members: impl IntoIterator<Item = (&'a str, Value)>) -> Value {
        let members = members.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        self.add(Object { members, ..Object::default() })
    }

    /// Adds a value of an enumeration.
    pub fn enumeration(&mut self, name: &str, text: &str, number: i32) -> Value {
        self.add(Object {
            types: types(&[name, "System.Enum", "System.ValueType", "System.Object"]),
            text: Some(text.to_owned()),
            content: Content::Primitive(Primitive::I32(number)),
            ..Object::default()
        })
    }

    /// Adds a list.
    pub fn list(&mut self, values: Vec<Value>) -> Value {
        self.add(Object {
            types: types(&["System.Collections.ArrayList", "System.Object"]),
            content: Content::List(values),
            ..Object::default()
        })
    }

    /// Adds a dictionary.
    pub fn dictionary(&mut self, entries: Vec<(Value, Value)>) -> Value {
        self.add(Object {
            types: types(&["System.Collections.Hashtable", "System.Object"]),
            content: Content::Dictionary(entries),
            ..Object::default()
        })
    }

    /// The first of the values as an object.
    pub fn first(&self) -> Option<&Object> {
        self.roots.first().and_then(|root| self.of(root))
    }

    /// The number that a value is, whatever its width; of an enumeration, its own.
    pub fn number(&self, value: &Value) -> Option<i64> {
        let primitive = match (value, self.of(value).map(|object| &object.content)) {
            (Value::Primitive(primitive), _) | (_, Some(Content::Primitive(primitive))) => primitive,
            _ => return None,
        };
        match primitive {
            Primitive::U8(number) => Some((*number).into()),
            Primitive::I8(number) => Some((*number).into()),
            Primitive::U16(number) | Primitive::Char(number) => Some((*number).into()),
            Primitive::I16(number) => Some((*number).into()),
            Primitive::U32(number) => Some((*number).into()),
            Primitive::I32(number) => Some((*number).into()),
            Primitive::I64(number) => Some(*number),
            Primitive::U64(number) => i64::try_from(*number).ok(),
            _ => None,
        }
    }

    /// The values of anything that has several.
    pub fn values(&self, value: &Value) -> &[Value] {
        match self.of(value).map(|object| &object.content) {
            Some(
                Content::List(values)
                | Content::Enumerable(values)
                | Content::Stack(values)
                | Content::Queue(values),
            ) => values,
            _ => &[],
        }
    }

    /// A property of an object as text; nothing where it has none or is not text.
    pub fn text_of(&self, object: &Object, name: &str) -> Option<String> {
        match object.get(name)? {
            Value::Nil => None,
            value => Some(self.plain_text(value)),
        }
    }

    /// A property of an object as a number.
    pub fn number_of(&self, object: &Object, name: &str) -> Option<i64> {
        object.get(name).and_then(|value| self.number(value))
    }
}
