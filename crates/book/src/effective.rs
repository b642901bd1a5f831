//! What holds for a machine: its own settings, then those of its profiles, then the defaults, each with where it comes from.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;

use crate::entries::{Book, Entry};
use crate::field::Kind;
use crate::{BookError, Field, FieldValue};

/// Where a setting comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Origin<'b> {
    /// The machine's own table.
    Machine {
        /// The line.
        line: u32,
    },
    /// A profile.
    Profile {
        /// Its name.
        name: &'b str,
        /// The line.
        line: u32,
    },
    /// `[defaults]`.
    Defaults {
        /// The line.
        line: u32,
    },
}

impl Origin<'_> {
    /// The line of the file.
    pub fn line(&self) -> u32 {
        match self {
            Self::Machine { line } | Self::Profile { line, .. } | Self::Defaults { line } => *line,
        }
    }
}

impl fmt::Display for Origin<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Machine { .. } => f.write_str("itself"),
            Self::Profile { name, .. } => write!(f, "profile {name}"),
            Self::Defaults { .. } => f.write_str("defaults"),
        }
    }
}

/// A field with the value that holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part<'b> {
    /// The field.
    pub field: Field,
    /// Its value.
    pub value: Cow<'b, FieldValue>,
    /// Where it comes from, the nearest first.
    origin: Origin<'b>,
    /// Where else, for a field that is added to: an empty list costs nothing.
    others: Vec<Origin<'b>>,
}

/// All that holds for one machine.
#[derive(Debug, Clone, Default)]
pub struct Effective<'b> {
    /// In the order of the fields.
    parts: Vec<Part<'b>>,
    /// Profiles that contradict each other where nothing nearer decides.
    clashes: Vec<Clash<'b>>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Clash<'b> {
    field: Field,
    one: (Origin<'b>, String),
    other: (Origin<'b>, String),
}

impl<'b> Effective<'b> {
    /// All fields that are set anywhere, in order.
    pub fn iter(&self) -> impl Iterator<Item = &Part<'b>> {
        self.parts.iter()
    }

    /// A field with its origins.
    pub fn part(&self, field: Field) -> Option<&Part<'b>> {
        let index = self.parts.binary_search_by_key(&field, |part| part.field).ok()?;
        self.parts.get(index)
    }

    fn value(&self, field: Field) -> Option<&FieldValue> {
        self.part(field).map(|part| part.value.as_ref())
    }

    /// The value of a text field.
    pub fn text(&self, field: Field) -> Option<&str> {
        match self.value(field)? {
            FieldValue::Text(text) => Some(text),
            FieldValue::List(list) => list.first().map(String::as_str),
            _ => None,
        }
    }

    /// The value of a number.
    pub fn number(&self, field: Field) -> Option<u64> {
        match self.value(field)? {
            FieldValue::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// The value of a switch.
    pub fn flag(&self, field: Field) -> Option<bool> {
        match self.value(field)? {
            FieldValue::Flag(flag) => Some(*flag),
            _ => None,
        }
    }

    /// The items of a list.
    pub fn list(&self, field: Field) -> &[String] {
        match self.value(field) {
            Some(FieldValue::List(list)) => list,
            _ => &[],
        }
    }

    /// The names and strings of a map.
    pub fn map(&self, field: Field) -> Option<&BTreeMap<String, String>> {
        match self.value(field)? {
            FieldValue::Map(map) => Some(map),
            _ => None,
        }
    }

    /// Its port: given, or the usual one of its protocol.
    pub fn port(&self) -> u16 {
        let usual = match (self.text(Field::Protocol), self.text(Field::Plain)) {
            (Some("winrm"), None) => crate::DEFAULT_WINRM_PORT,
            (Some("winrm"), Some(_)) => crate::PLAIN_WINRM_PORT,
            _ => crate::DEFAULT_SSH_PORT,
        };
        self.number(Field::Port).and_then(|port| u16::try_from(port).ok()).unwrap_or(usual)
    }

    /// Its first address and port as one word; empty without an address.
    pub fn place(&self) -> String {
        self.text(Field::Address).map(|address| crate::place(address, self.port())).unwrap_or_default()
    }

    /// The same, with `nearer` settings deciding: what they say holds, and sets and maps are joined.
    fn beneath(mut self, entry: &'b Entry, origin: impl Fn(u32) -> Origin<'b>) -> Self {
        for setting in entry.settings.iter() {
            let origin = origin(setting.line);
            self.clashes.retain(|clash| clash.field != setting.field);
            match self.parts.binary_search_by_key(&setting.field, |part| part.field) {
                Ok(index) => {
                    if let Some(part) = self.parts.get_mut(index) {
                        match joined(&part.value, &setting.value, setting.field) {
                            Some(value) => {
                                part.value = Cow::Owned(value);
                                part.others.insert(0, part.origin);
                                part.origin = origin;
                            }
                            None => *part = Part::new(setting.field, &setting.value, origin),
                        }
                    }
                }
                Err(index) => self.parts.insert(index, Part::new(setting.field, &setting.value, origin)),
            }
        }
        self
    }

    /// Several of the same rank in one: what they say differently is a clash.
    fn side_by_side(layers: impl Iterator<Item = Self>) -> Self {
        let mut all = Self::default();
        for layer in layers {
            all.clashes.extend(layer.clashes);
            for part in layer.parts {
                match all.parts.binary_search_by_key(&part.field, |have| have.field) {
                    Err(index) => all.parts.insert(index, part),
                    Ok(index) => {
                        let Some(have) = all.parts.get_mut(index) else { continue };
                        if let Some(value) = joined(&have.value, &part.value, part.field) {
                            have.value = Cow::Owned(value);
                        } else if have.value != part.value {
                            let side = |part: &Part<'b>| (part.origin, part.value.to_string());
                            all.clashes.push(Clash {
                                field: part.field,
                                one: side(have),
                                other: side(&part),
                            });
                            continue;
                        }
                        let news: Vec<_> =
                            part.origins().filter(|o| !have.origins().any(|had| had == *o)).collect();
                        have.others.extend(news);
                    }
                }
            }
        }
        all
    }

    fn checked(self, what: &'static str, name: &str) -> Result<Self, BookError> {
        match self.clashes.first() {
            None => Ok(self),
            Some(Clash { field, one, other }) => Err(BookError::Clash {
                what,
                name: name.to_owned(),
                field: field.name(),
                one: format!("{} says {} (line {})", one.0, one.1, one.0.line()),
                other: format!("{} says {} (line {})", other.0, other.1, other.0.line()),
            }),
        }
    }
}

impl<'b> Part<'b> {
    fn new(field: Field, value: &'b FieldValue, origin: Origin<'b>) -> Self {
        Self { field, value: Cow::Borrowed(value), origin, others: Vec::new() }
    }

    /// Where it comes from, the nearest first: several for a field that is added to.
    pub fn origins(&self) -> impl Iterator<Item = Origin<'b>> {
        std::iter::once(self.origin).chain(self.others.iter().copied())
    }
}

/// Both values in one, where a field is added to; the second one decides about names that both have.
fn joined(under: &FieldValue, over: &FieldValue, field: Field) -> Option<FieldValue> {
    match (field.spec().kind, under, over) {
        (Kind::Set(_), FieldValue::List(under), FieldValue::List(over)) => {
            let more = under.iter().filter(|item| !over.contains(item));
            Some(FieldValue::List(over.iter().chain(more).cloned().collect()))
        }
        (Kind::Map(_), FieldValue::Map(under), FieldValue::Map(over)) => {
            Some(FieldValue::Map(under.iter().chain(over).map(|(n, v)| (n.clone(), v.clone())).collect()))
        }
        _ => None,
    }
}

/// What a profile says together with those that it builds on.
fn layer<'b>(book: &'b Book, name: &'b str, path: &mut Vec<&'b str>) -> Result<Effective<'b>, BookError> {
    if path.contains(&name) {
        path.push(name);
        return Err(BookError::Loop { what: "profiles", path: path.join(" → ") });
    }
    let (name, entry) = book
        .profiles
        .get_key_value(name)
        .ok_or_else(|| BookError::unknown("profile", name, book.profiles.keys().map(String::as_str)))?;
    path.push(name);
    let below = entry.settings.list(Field::Profiles);
    let below = below.iter().map(|below| layer(book, below, path)).collect::<Result<Vec<_>, _>>()?;
    path.pop();
    Ok(Effective::side_by_side(below.into_iter()).beneath(entry, |line| Origin::Profile { name, line }))
}

/// What holds for a machine.
///
/// # Errors
/// [`BookError::Unknown`] profile, [`BookError::Loop`], [`BookError::Clash`].
pub(crate) fn of_machine<'b>(
    book: &'b Book,
    name: &str,
    entry: &'b Entry,
) -> Result<Effective<'b>, BookError> {
    let profiles = entry.settings.list(Field::Profiles);
    let layers = profiles
        .iter()
        .map(|profile| layer(book, profile, &mut Vec::new()))
        .collect::<Result<Vec<_>, _>>()?;
    let defaults = Effective::default().beneath(&book.defaults, |line| Origin::Defaults { line });
    let profiles = Effective::side_by_side(layers.into_iter());
    // The defaults are beneath the profiles, whose clashes stay until the machine itself decides.
    let mut all = defaults;
    all.clashes = profiles.clashes;
    for part in profiles.parts {
        match all.parts.binary_search_by_key(&part.field, |have| have.field) {
            Err(index) => all.parts.insert(index, part),
            Ok(index) => {
                let Some(have) = all.parts.get_mut(index) else { continue };
                *have = match joined(&have.value, &part.value, part.field) {
                    Some(value) => Part {
                        field: part.field,
                        value: Cow::Owned(value),
                        origin: part.origin,
                        others: part.others.iter().copied().chain(have.origins()).collect(),
                    },
                    None => part,
                };
            }
        }
    }
    all.beneath(entry, |line| Origin::Machine { line }).checked("machine", name)
}

/// What holds for whatever takes this profile over.
///
/// # Errors
/// As [`of_machine`].
pub(crate) fn of_profile<'b>(book: &'b Book, name: &'b str) -> Result<Effective<'b>, BookError> {
    layer(book, name, &mut Vec::new())?.checked("profile", name)
}
