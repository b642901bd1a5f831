//! `lantern machine list`

use std::borrow::Cow;

use lantern_book::{BookError, Effective, Field, Home, MachineBook, glob, select};
use serde_json::Value;

use super::machine_json;
use crate::cli::machine::list::ListArgs;
use crate::screen::failure::Failure;
use crate::screen::output;

/// What a column shows.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Column {
    Name,
    /// Address and port as one word.
    Place,
    Field(Field),
}

impl Column {
    fn parse(name: &str) -> Result<Self, BookError> {
        match name {
            "name" => Ok(Self::Name),
            "place" => Ok(Self::Place),
            _ => Ok(Self::Field(Field::from_name(name)?)),
        }
    }

    fn heading(self) -> String {
        match self {
            Self::Name => "NAME".into(),
            Self::Place => "ADDRESS".into(),
            Self::Field(field) => field.name().to_uppercase(),
        }
    }

    fn cell<'a>(self, name: &'a str, effective: &'a Effective<'_>) -> Cow<'a, str> {
        match self {
            Self::Name => Cow::Borrowed(name),
            Self::Place => match effective.list(Field::Address).len() {
                0 | 1 => effective.place().into(),
                more => format!("{} +{}", effective.place(), more - 1).into(),
            },
            Self::Field(Field::Tags) => effective.list(Field::Tags).join(" ").into(),
            Self::Field(field) => match effective.text(field) {
                Some(text) if effective.list(field).len() < 2 => Cow::Borrowed(text),
                _ => effective.part(field).map(|part| part.value.to_string()).unwrap_or_default().into(),
            },
        }
    }
}

pub(super) fn run(args: &ListArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let machines = find(args, &book)?;
    if json {
        let values: Vec<Value> =
            machines.iter().map(|(name, effective)| machine_json(name, effective)).collect();
        return output::print_json(&values);
    }
    if machines.is_empty() {
        output::say(match book.iter().next() {
            None => "No machines. `lantern machine add NAME ADDRESS` adds one.",
            Some(_) => "No machine of the book is like that.",
        });
        return Ok(());
    }
    let usual = ["name", "user", "place", "gateway", "key", "tags", "note"].map(str::to_owned);
    let columns = if args.columns.is_empty() { &usual[..] } else { &args.columns };
    let mut columns = columns.iter().map(|name| Column::parse(name)).collect::<Result<Vec<_>, _>>()?;
    if args.columns.is_empty() && !machines.iter().any(|(_, e)| e.part(Field::Gateway).is_some()) {
        columns.retain(|column| *column != Column::Field(Field::Gateway));
    }
    let headings: Vec<String> = columns.iter().map(|column| column.heading()).collect();
    let headings: Vec<&str> = headings.iter().map(String::as_str).collect();
    let rows = machines.iter().map(|(name, effective)| {
        columns.iter().map(|column| column.cell(name, effective)).collect::<Vec<_>>()
    });
    output::print(&output::table(&headings, rows))
}

fn find<'b>(args: &ListArgs, book: &'b MachineBook) -> Result<Vec<(&'b str, Effective<'b>)>, Failure> {
    let chosen = match args.selection.is_empty() && args.but.except.is_empty() {
        true => None,
        false => Some(
            select(book, &args.selection, &args.but.except)?
                .into_iter()
                .collect::<std::collections::BTreeSet<_>>(),
        ),
    };
    let filters = args.filters.iter().map(|filter| match filter.split_once('=') {
        Some((field, pattern)) => Ok((Column::parse(field)?, pattern)),
        None => {
            Err(Failure::new(crate::screen::failure::code::USAGE, format!("`{filter}` must read FIELD=GLOB")))
        }
    });
    let filters = filters.collect::<Result<Vec<_>, _>>()?;
    let mut machines = Vec::new();
    for (name, _) in book.iter() {
        if chosen.as_ref().is_some_and(|chosen| !chosen.contains(name)) {
            continue;
        }
        let effective = book.effective(name)?;
        let has_tag = |tag: &String| effective.list(Field::Tags).contains(tag);
        let holds = |(column, pattern): &(Column, &str)| match column {
            Column::Field(field) if effective.list(*field).len() > 1 => {
                effective.list(*field).iter().any(|item| glob(pattern, item))
            }
            column => glob(pattern, &column.cell(name, &effective)),
        };
        if args.tag.as_ref().is_none_or(has_tag) && filters.iter().all(holds) {
            machines.push((name, effective));
        }
    }
    if let Some(field) = &args.sort {
        let column = Column::parse(field)?;
        machines.sort_by_cached_key(|(name, effective)| {
            let number = match column {
                Column::Field(field) => effective.number(field),
                _ => None,
            };
            (number, column.cell(name, effective).into_owned())
        });
    }
    Ok(machines)
}
