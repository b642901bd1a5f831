//! What goes through the pipelines of a simulated machine.

use lantern_winrm::remoting::{Content, Object, Objects, Primitive, Value};

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Item {
    Nothing,
    Text(String),
    Number(i64),
    Flag(bool),
    Moment(String),
    Secret(String),
    /// A value of an enumeration: its type, its name, its number.
    Choice(&'static str, String, i32),
    List(Vec<Item>),
    /// Properties, and the name of their type.
    Bag(String, Vec<(String, Item)>),
}

impl Item {
    pub(super) fn bag(kind: &str, properties: impl IntoIterator<Item = (&'static str, Item)>) -> Self {
        let properties = properties.into_iter().map(|(name, item)| (name.to_owned(), item));
        Self::Bag(kind.to_owned(), properties.collect())
    }

    pub(super) fn property(&self, name: &str) -> Self {
        match (self, name) {
            (Self::Bag(_, all), name) => {
                let found = all.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
                found.map(|(_, item)| item.clone()).unwrap_or(Self::Nothing)
            }
            (Self::Text(text), "Length") => Self::Number(text.chars().count().try_into().unwrap_or(i64::MAX)),
            (Self::List(all), "Count") => Self::Number(all.len().try_into().unwrap_or(i64::MAX)),
            _ => Self::Nothing,
        }
    }

    pub(super) fn text(&self) -> String {
        match self {
            Self::Nothing => String::new(),
            Self::Text(text) | Self::Moment(text) | Self::Choice(_, text, _) => text.clone(),
            Self::Number(number) => number.to_string(),
            Self::Flag(is) => if *is { "True" } else { "False" }.to_owned(),
            Self::Secret(_) => "System.Security.SecureString".to_owned(),
            Self::List(all) => all.iter().map(Self::text).collect::<Vec<_>>().join(" "),
            Self::Bag(kind, all) => match self.property("Name") {
                Self::Text(name) => name,
                _ if all.is_empty() => kind.clone(),
                _ => {
                    let all = all.iter().map(|(name, item)| format!("{name}={}", item.text()));
                    format!("@{{{}}}", all.collect::<Vec<_>>().join("; "))
                }
            },
        }
    }

    pub(super) fn value(&self, objects: &mut Objects) -> Value {
        match self {
            Self::Nothing => Value::Nil,
            Self::Text(text) => text.as_str().into(),
            Self::Number(number) => match i32::try_from(*number) {
                Ok(number) => number.into(),
                Err(_) => (*number).into(),
            },
            Self::Flag(is) => (*is).into(),
            Self::Moment(text) => Value::Primitive(Primitive::DateTime(text.clone())),
            Self::Secret(sealed) => Value::Primitive(Primitive::Secure(sealed.clone())),
            Self::Choice(kind, text, number) => objects.enumeration(kind, text, *number),
            Self::List(all) => {
                let all = all.iter().map(|item| item.value(objects)).collect();
                objects.list(all)
            }
            Self::Bag(kind, all) => {
                let properties = all.iter().map(|(name, item)| (name.clone(), item.value(objects)));
                let properties = properties.collect();
                objects.add(Object {
                    types: [kind.clone(), "System.Object".to_owned()].into(),
                    text: Some(self.text()),
                    properties,
                    ..Object::default()
                })
            }
        }
    }

    pub(super) fn of(objects: &Objects, value: &Value) -> Self {
        let primitive = |primitive: &Primitive| match primitive {
            Primitive::Bool(is) => Self::Flag(*is),
            Primitive::DateTime(text) => Self::Moment(text.clone()),
            Primitive::Secure(sealed) => Self::Secret(sealed.clone()),
            other => match objects.number(&Value::Primitive(other.clone())) {
                Some(number) => Self::Number(number),
                None => Self::Text(other.plain_text()),
            },
        };
        let Some(object) = objects.of(value) else {
            return match value {
                Value::Primitive(known) => primitive(known),
                _ => Self::Nothing,
            };
        };
        match &object.content {
            Content::Primitive(known) => primitive(known),
            Content::Dictionary(entries) => {
                let entry =
                    |(key, value): &(Value, Value)| (objects.plain_text(key), Self::of(objects, value));
                Self::Bag("System.Collections.Hashtable".to_owned(), entries.iter().map(entry).collect())
            }
            Content::None => {
                let all = object.properties.iter().chain(&object.members);
                let all = all.map(|(name, value)| (name.clone(), Self::of(objects, value)));
                Self::Bag(object.types.first().cloned().unwrap_or_default(), all.collect())
            }
            _ => Self::List(objects.values(value).iter().map(|value| Self::of(objects, value)).collect()),
        }
    }
}
