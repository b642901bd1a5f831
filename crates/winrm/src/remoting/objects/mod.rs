//! Objects as PowerShell serializes them (MS-PSRP 2.2.5), both ways.
//!
//! Objects refer to each other, and may do so in circles: they are kept side by side, and a [`Value`] names one of them.

mod build;
mod escape;
mod json;
mod primitive;
mod read;
#[cfg(test)]
mod shown_tests;
#[cfg(test)]
mod tests;
mod text;
mod write;

use std::sync::Arc;

pub use primitive::Primitive;

/// Which object of [`Objects`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectId(pub(super) usize);

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Nothing.
    Nil,
    /// One that has no parts.
    Primitive(Primitive),
    /// An object.
    Object(ObjectId),
}

/// What an object is besides its properties.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Content {
    /// Nothing.
    #[default]
    None,
    /// A value with properties, or of an enumeration.
    Primitive(Primitive),
    /// A list.
    List(Vec<Value>),
    /// What can be gone through once.
    Enumerable(Vec<Value>),
    /// A stack.
    Stack(Vec<Value>),
    /// A queue.
    Queue(Vec<Value>),
    /// Keys with values.
    Dictionary(Vec<(Value, Value)>),
}

/// An object.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Object {
    /// The names of its types, its own first.
    pub types: Arc<[String]>,
    /// What it says of itself as text.
    pub text: Option<String>,
    /// What it is.
    pub content: Content,
    /// The properties of its type.
    pub properties: Vec<(String, Value)>,
    /// The properties that were added to it.
    pub members: Vec<(String, Value)>,
}

impl Object {
    /// A property by its name, whoever gave it; names differ by letters and not by their size.
    pub fn get(&self, name: &str) -> Option<&Value> {
        let all = self.members.iter().chain(&self.properties);
        all.into_iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    }
}

/// Values with the objects that they name.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Objects {
    /// The values.
    pub roots: Vec<Value>,
    all: Vec<Object>,
}

impl Objects {
    /// An object by its name.
    pub fn object(&self, id: ObjectId) -> Option<&Object> {
        self.all.get(id.0)
    }

    /// The object that a value names, if it names one.
    pub fn of(&self, value: &Value) -> Option<&Object> {
        match value {
            Value::Object(id) => self.object(*id),
            Value::Nil | Value::Primitive(_) => None,
        }
    }

    /// Adds an object.
    pub fn add(&mut self, object: Object) -> Value {
        self.all.push(object);
        Value::Object(ObjectId(self.all.len() - 1))
    }
}
