//! The value of a field: its forms, its checks, and how it is typed on a command line.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use crate::BookError;
use crate::field::{Field, Kind};

/// The value of a field.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum FieldValue {
    /// A string.
    Text(String),
    /// A number.
    Number(u64),
    /// A switch.
    Flag(bool),
    /// Several strings, in order of preference, or as a set.
    List(Vec<String>),
    /// Names and strings.
    Map(BTreeMap<String, String>),
}

impl FieldValue {
    /// Checks that this is a value for `field`, and brings a single string into the form of a list where several are allowed.
    ///
    /// # Errors
    /// [`BookError::BadField`]: what was met and what is allowed.
    pub fn for_field(self, field: Field) -> Result<Self, BookError> {
        let bad =
            |met: String| BookError::BadField { field: field.name(), met, allowed: field.spec().allowed };
        let broken = |value: &str, rule| BookError::bad(field.name(), value, rule);
        match (field.spec().kind, self) {
            (Kind::Text(rule), Self::Text(text)) => {
                rule(&text).map_err(|words| broken(&text, words))?;
                Ok(Self::Text(text))
            }
            (Kind::Choice(words) | Kind::FlagOr(words), Self::Text(text)) => {
                match words.contains(&text.as_str()) {
                    true => Ok(Self::Text(text)),
                    false => Err(BookError::BadChoice {
                        field: field.name(),
                        nearest: BookError::nearest(&text, words.iter().copied()),
                        met: text,
                        allowed: field.spec().allowed,
                    }),
                }
            }
            (Kind::Number(least, most), Self::Number(number)) => match (least..=most).contains(&number) {
                true => Ok(Self::Number(number)),
                false => Err(bad(number.to_string())),
            },
            (Kind::Flag | Kind::FlagOr(_), Self::Flag(flag)) => Ok(Self::Flag(flag)),
            (Kind::OneOrMany(_) | Kind::Set(_), Self::Text(text)) => Self::List(vec![text]).for_field(field),
            (Kind::OneOrMany(rule) | Kind::Set(rule), Self::List(list)) => {
                list.iter().try_for_each(|item| rule(item).map_err(|words| broken(item, words)))?;
                if list.is_empty() || repeats(&list) {
                    return Err(bad(if list.is_empty() {
                        "an empty list"
                    } else {
                        "a list that repeats itself"
                    }
                    .into()));
                }
                Ok(Self::List(list))
            }
            (Kind::Map(rule), Self::Map(map)) => {
                for (name, value) in &map {
                    rule(&format!("{name}={value}"))
                        .map_err(|words| broken(&format!("{name}={value}"), words))?;
                }
                Ok(Self::Map(map))
            }
            (_, met) => Err(bad(met.form())),
        }
    }

    /// Reads what was typed for `field` on a command line or met in a table: lists are separated by commas, maps are `NAME=VALUE`.
    ///
    /// # Errors
    /// As [`Self::for_field`].
    pub fn parse(field: Field, text: &str) -> Result<Self, BookError> {
        let bad = || BookError::BadField {
            field: field.name(),
            met: format!("\"{text}\""),
            allowed: field.spec().allowed,
        };
        let value = match field.spec().kind {
            Kind::Text(_) | Kind::Choice(_) => Self::Text(text.to_owned()),
            Kind::Number(..) => Self::Number(text.parse().map_err(|_| bad())?),
            Kind::Flag => match text {
                "true" | "yes" | "on" => Self::Flag(true),
                "false" | "no" | "off" => Self::Flag(false),
                _ => return Err(bad()),
            },
            Kind::FlagOr(_) => match text {
                "true" | "yes" | "on" => Self::Flag(true),
                "false" | "no" | "off" => Self::Flag(false),
                word => Self::Text(word.to_owned()),
            },
            Kind::OneOrMany(_) | Kind::Set(_) => Self::List(items(text).map(str::to_owned).collect()),
            Kind::Map(_) => {
                // Several are separated by a semicolon and a space, which is how they are shown.
                let pairs = text.split("; ").map(|pair| {
                    let (name, value) = pair.split_once('=').ok_or_else(bad)?;
                    Ok((name.trim().to_owned(), value.trim().to_owned()))
                });
                Self::Map(pairs.collect::<Result<_, BookError>>()?)
            }
        };
        value.for_field(field)
    }

    /// What form it has, in words.
    fn form(&self) -> String {
        match self {
            Self::Text(text) => format!("the string \"{text}\""),
            Self::Number(number) => format!("the number {number}"),
            Self::Flag(flag) => format!("{flag}"),
            Self::List(_) => "a list".into(),
            Self::Map(_) => "a table".into(),
        }
    }
}

/// Whether a list has something twice. Most have few items: comparing those beats any set.
fn repeats(list: &[String]) -> bool {
    if list.len() > 16 {
        return list.iter().collect::<BTreeSet<_>>().len() < list.len();
    }
    list.iter().enumerate().any(|(index, item)| list.iter().skip(index + 1).any(|other| other == item))
}

/// The items of a list as typed.
pub(crate) fn items(text: &str) -> impl Iterator<Item = &str> {
    text.split(',').map(str::trim).filter(|item| !item.is_empty())
}

/// In one line, as it can be typed again.
impl fmt::Display for FieldValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => f.write_str(text),
            Self::Number(number) => write!(f, "{number}"),
            Self::Flag(flag) => write!(f, "{flag}"),
            Self::List(list) => f.write_str(&list.join(",")),
            Self::Map(map) => {
                let pairs: Vec<String> = map.iter().map(|(name, value)| format!("{name}={value}")).collect();
                f.write_str(&pairs.join("; "))
            }
        }
    }
}
