//! An inventory against the book: what an import adds, changes and leaves. What a person set by hand stays; what an earlier import set and
//! nobody touched follows the inventory.

use std::collections::{BTreeMap, BTreeSet};

use crate::check::check_name;
use crate::field::Kind;
use crate::inventory::Row;
use crate::value::items;
use crate::{
    BookEdit, BookError, Change, Field, FieldValue, Home, Imported, Imports, MachineBook, Place, Settings,
};

/// Which columns mean what: fields with the columns that they are filled from, in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mapping {
    /// The column with the machine's name, which also tells its rows apart.
    pub name: String,
    /// Fields and their columns: the first that has something; for lists, all that have.
    pub fields: Vec<(Field, Vec<String>)>,
}

/// Columns that usually mean a field, in order of likelihood.
const USUAL: &[(Field, &[&str])] = &[
    (
        Field::Address,
        &[
            "address",
            "public_ip",
            "public_ip_address",
            "public_ipv4",
            "external_ip",
            "floating_ip",
            "public_dns_name",
            "ip",
            "ip_address",
            "ipv4",
            "ip_addr",
            "primary_ip",
            "fqdn",
            "dns_name",
            "host",
            "private_ip",
            "private_ip_address",
            "internal_ip",
        ],
    ),
    (Field::Port, &["port", "ssh_port"]),
    (Field::User, &["user", "username", "login", "ssh_user", "admin_user", "admin_username"]),
    (Field::Image, &["image", "os", "image_name", "operating_system", "guest_os"]),
    (Field::Tags, &["tags", "labels", "groups"]),
    (Field::Note, &["note", "description", "comment"]),
];
const USUAL_NAMES: &[&str] = &[
    "name",
    "tags.name",
    "vm",
    "vm_name",
    "hostname",
    "host_name",
    "server",
    "server_name",
    "instance",
    "instance_name",
    "machine",
    "machine_name",
    "id",
    "instance_id",
];

/// The letters and digits of a column's name.
fn plain(name: &str) -> String {
    name.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect()
}

impl Mapping {
    /// From what a person said (`FIELD=COLUMN[,COLUMN…]`, `name=COLUMN`), and for the rest from the names that columns usually have;
    /// a column that is called like a field means it.
    ///
    /// # Errors
    /// An unknown field, a column that no row has, no column for names.
    pub fn new(said: &[String], rows: &[Row]) -> Result<Self, BookError> {
        let columns: BTreeSet<&str> = rows.iter().flat_map(Row::keys).map(String::as_str).collect();
        // As it is written, else as it sounds: `Public IP address` is `public_ip_address` is `PublicIpAddress`.
        let find = |wanted: &str| {
            let exact = columns.iter().find(|c| c.eq_ignore_ascii_case(wanted));
            exact.or_else(|| columns.iter().find(|c| plain(c) == plain(wanted))).map(|c| (*c).to_owned())
        };
        let usual = |wanted: &[&str]| wanted.iter().find_map(|wanted| find(wanted));
        let mut name = None;
        let mut fields: Vec<(Field, Vec<String>)> = Vec::new();
        for pair in said {
            let (field, from) = pair
                .split_once('=')
                .ok_or_else(|| BookError::bad("mapping", pair, "must read FIELD=COLUMN"))?;
            let from = items(from)
                .map(|column| {
                    find(column).ok_or_else(|| BookError::unknown("column", column, columns.iter().copied()))
                })
                .collect::<Result<Vec<_>, _>>()?;
            match field {
                "name" => name = from.first().cloned(),
                _ => fields.push((Field::from_name(field)?, from)),
            }
        }
        for spec in crate::FIELDS {
            if fields.iter().any(|(field, _)| *field == spec.field) {
                continue;
            }
            let likely =
                USUAL.iter().find(|(field, _)| *field == spec.field).map_or(&[][..], |(_, names)| names);
            if let Some(column) = find(spec.name).or_else(|| usual(likely)) {
                fields.push((spec.field, vec![column]));
            }
        }
        let name = name.or_else(|| usual(USUAL_NAMES)).ok_or_else(|| {
            BookError::bad(
                "inventory",
                &columns.iter().copied().collect::<Vec<_>>().join(", "),
                "has no column that looks like a name; say which with --map name=COLUMN",
            )
        })?;
        Ok(Self { name, fields })
    }

    /// What a row says: the machine's name in the book, what tells it apart, and its fields.
    fn read(&self, row: &Row, tags: &[String]) -> Result<(String, String, Settings), BookError> {
        let id = row.get(&self.name).ok_or_else(|| BookError::bad("row", &describe(row), "has no name"))?;
        let name = book_name(id)
            .ok_or_else(|| BookError::bad("name", id, "cannot be made into a machine's name"))?;
        let mut settings = Settings::new();
        for (field, columns) in &self.fields {
            let mut texts = columns
                .iter()
                .filter_map(|column| row.get(column))
                .map(|text| text.trim())
                .filter(|t| !t.is_empty());
            let text = match field.spec().kind {
                Kind::OneOrMany(_) | Kind::Set(_) => {
                    let mut all: Vec<String> = texts.flat_map(items).map(str::to_owned).collect();
                    if *field == Field::Tags {
                        all = all.iter().filter_map(|tag| book_name(tag)).collect();
                    }
                    let mut seen = BTreeSet::new();
                    all.retain(|item| seen.insert(item.clone()));
                    all.join(",")
                }
                _ => texts.next().unwrap_or_default().to_owned(),
            };
            if !text.is_empty() {
                settings = settings.with_text(*field, &text)?;
            }
        }
        if !tags.is_empty() {
            settings
                .apply(&Change::Add(Field::Tags, FieldValue::List(tags.to_vec()).for_field(Field::Tags)?))?;
        }
        Ok((name, id.clone(), settings))
    }
}

fn describe(row: &Row) -> String {
    row.iter().map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join(" ")
}

/// A name that the book takes, as near as can be.
fn book_name(text: &str) -> Option<String> {
    let plain: String = text
        .trim()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' })
        .collect();
    let name: String = plain.trim_matches(|c| "-_.".contains(c)).chars().take(64).collect();
    check_name(&name).is_ok().then_some(name)
}

/// What an import would do to one machine.
#[derive(Debug, Clone, PartialEq)]
pub enum SyncStep {
    /// It is new.
    Add {
        /// Its name.
        name: String,
        /// All that will be said of it.
        settings: Settings,
        /// What is kept of the import.
        last: Imported,
    },
    /// Some of its fields follow the inventory.
    Change {
        /// Its name.
        name: String,
        /// Fields with what they were and will be, as text; empty for nothing.
        fields: Vec<(Field, String, String)>,
        /// Fields that the inventory says otherwise and that stay, since they were set by hand.
        kept: Vec<(Field, String, String)>,
        /// What will be said of it.
        settings: Settings,
        /// What is kept of the import.
        last: Imported,
    },
    /// It came from this source, and the source has it no more.
    Gone {
        /// Its name.
        name: String,
    },
    /// A machine of this name is in the book and did not come from this source.
    Foreign {
        /// Its name.
        name: String,
    },
    /// The row makes no machine.
    Bad {
        /// Which row, from 1.
        row: usize,
        /// Why not.
        why: String,
    },
}

/// What an import goes by, besides its rows.
#[derive(Debug, Clone, Copy)]
pub struct ImportRules<'a> {
    /// What its machines are told from others by.
    pub source: &'a str,
    /// Tags that all of its machines get.
    pub tags: &'a [String],
    /// Whether machines of the same name that were in the book before become the source's.
    pub adopt: bool,
    /// Whether rows without an address make machines.
    pub without_address: bool,
}

/// Works out what an import does. Nothing is changed yet.
pub fn plan_import(
    book: &MachineBook,
    imports: &Imports,
    mapping: &Mapping,
    rows: &[Row],
    rules: ImportRules<'_>,
) -> Vec<SyncStep> {
    let source = rules.source;
    // One that was removed or renamed by hand is not there under that name any more.
    let ours: BTreeMap<&str, &str> = imports
        .of_source(source)
        .filter(|(name, _)| book.get(name).is_ok())
        .map(|(name, id)| (id, name))
        .collect();
    let mut steps = Vec::new();
    let mut met = BTreeSet::new();
    let mut names = BTreeSet::new();
    for (index, row) in rows.iter().enumerate() {
        let bad = |why: String| SyncStep::Bad { row: index + 1, why };
        let (name, id, said) = match mapping.read(row, rules.tags) {
            Ok(read) => read,
            Err(error) => {
                // A row that cannot be read says nothing about whether its machine is gone.
                met.extend(row.get(&mapping.name).cloned());
                steps.push(bad(error.to_string()));
                continue;
            }
        };
        let known = ours.get(id.as_str()).copied();
        if !met.insert(id.clone()) || known.is_none() && !names.insert(name.clone()) {
            steps.push(bad(format!("another row is called {name} too")));
            continue;
        }
        let fields = said.iter().map(|setting| (setting.field.name().to_owned(), setting.value.to_string()));
        let last = Imported { source: source.to_owned(), id, said: fields.collect() };
        let has_address = !said.list(Field::Address).is_empty() || rules.without_address;
        match (known, book.get(&name)) {
            (Some(known), _) => steps.extend(changed(book, imports, known, &said, last)),
            // What was added and not noted, because somebody pulled the plug, says just what it would say.
            (None, Ok(there)) if rules.adopt || *there == said => {
                steps.extend(changed(book, imports, &name, &said, last));
            }
            (None, Ok(_)) => steps.push(SyncStep::Foreign { name }),
            (None, Err(_)) if has_address => steps.push(SyncStep::Add { name, settings: said, last }),
            (None, Err(_)) => {
                steps.push(bad(format!("{name} has no address; --without-address takes it in all the same")))
            }
        }
    }
    let gone = ours.iter().filter(|(id, _)| !met.contains(**id));
    steps.extend(gone.map(|(_, name)| SyncStep::Gone { name: (*name).to_owned() }));
    steps
}

fn changed(
    book: &MachineBook,
    imports: &Imports,
    name: &str,
    said: &Settings,
    last: Imported,
) -> Option<SyncStep> {
    let now = book.get(name).ok()?;
    let noted = imports.get(name);
    let before = noted.map(|imported| imported.said.clone()).unwrap_or_default();
    let text = |settings: &Settings, field| settings.get(field).map(ToString::to_string).unwrap_or_default();
    let mut settings = now.clone();
    let (mut fields, mut kept) = (Vec::new(), Vec::new());
    let touched: BTreeSet<Field> = said
        .iter()
        .map(|setting| setting.field)
        .chain(before.keys().filter_map(|name| Field::from_name(name).ok()))
        .collect();
    for field in touched {
        let was = before.get(field.name()).cloned().unwrap_or_default();
        let (current, wanted) = (text(now, field), text(said, field));
        let new = match field.spec().kind {
            // Of a set, each item is followed or kept by itself.
            Kind::Set(_) => {
                let (was, wanted): (BTreeSet<&str>, BTreeSet<&str>) =
                    (items(&was).collect(), items(&wanted).collect());
                let stay = items(&current).filter(|item| wanted.contains(item) || !was.contains(item));
                let come = wanted
                    .iter()
                    .filter(|item| !was.contains(*item) && !items(&current).any(|c| c == **item));
                stay.chain(come.copied()).collect::<Vec<_>>().join(",")
            }
            _ if current == was => wanted,
            _ => {
                if current != wanted && wanted != was {
                    kept.push((field, current.clone(), wanted));
                }
                continue;
            }
        };
        if new != current {
            let change = if new.is_empty() {
                Change::Unset(field)
            } else {
                Change::Set(field, FieldValue::parse(field, &new).ok()?)
            };
            settings.apply(&change).ok()?;
            fields.push((field, current, new));
        }
    }
    let nothing = fields.is_empty() && kept.is_empty() && noted == Some(&last);
    (!nothing).then(|| SyncStep::Change { name: name.to_owned(), fields, kept, settings, last })
}

/// Carries a plan out in the book; machines that are gone are removed only when asked for. [`note_import`] comes afterwards.
///
/// # Errors
/// What a step cannot do: the book has changed since the plan was made.
pub fn apply_import(edit: &mut BookEdit, steps: &[SyncStep], remove_gone: bool) -> Result<(), BookError> {
    for step in steps {
        match step {
            SyncStep::Add { name, settings, .. } => edit.add_machine(name, settings)?,
            SyncStep::Change { name, settings, .. } => edit.put(Place::Machine(name), settings.clone())?,
            SyncStep::Gone { name } if remove_gone => drop(edit.remove_machine(name)?),
            SyncStep::Gone { .. } | SyncStep::Foreign { .. } | SyncStep::Bad { .. } => {}
        }
    }
    Ok(())
}

/// Notes what was carried out, for the next import of the source.
///
/// # Errors
/// As [`Imports::note`].
pub fn note_import(home: &Home, steps: &[SyncStep], removed_gone: bool) -> Result<(), BookError> {
    let said = steps.iter().filter_map(|step| match step {
        SyncStep::Add { name, last, .. } | SyncStep::Change { name, last, .. } => {
            Some((name.clone(), Some(last.clone())))
        }
        SyncStep::Gone { name } if removed_gone => Some((name.clone(), None)),
        SyncStep::Gone { .. } | SyncStep::Foreign { .. } | SyncStep::Bad { .. } => None,
    });
    Imports::note(home, said.collect())
}

/// The machines as rows: what each says itself, under the names of the fields.
pub fn export_rows<'a>(machines: impl Iterator<Item = (&'a str, &'a Settings)>) -> Vec<Row> {
    machines
        .map(|(name, settings)| {
            let cells =
                settings.iter().map(|setting| (setting.field.name().to_owned(), setting.value.to_string()));
            cells.chain([("name".to_owned(), name.to_owned())]).collect()
        })
        .collect()
}
