//! `lantern machine list`

use std::borrow::Cow;

use lantern_book::{BookError, Effective, Field, Home, MachineBook, Use, Uses, glob, natural, select};
use serde_json::Value;

use super::{machine_json, put_uses};
use crate::cli::machine::list::ListArgs;
use crate::screen::ago::ago;
use crate::screen::failure::Failure;
use crate::screen::output;
use crate::screen::search::{Search, text_of};

/// What a column shows.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Column {
    Name,
    /// Address and port as one word.
    Place,
    Field(Field),
    /// When it was logged in to last.
    Used,
    /// When it answered last.
    Seen,
}

impl Column {
    fn parse(name: &str) -> Result<Self, BookError> {
        match name {
            "name" => Ok(Self::Name),
            "place" => Ok(Self::Place),
            "used" => Ok(Self::Used),
            "seen" => Ok(Self::Seen),
            _ => Ok(Self::Field(Field::from_name(name)?)),
        }
    }

    fn heading(self) -> String {
        match self {
            Self::Name => "NAME".into(),
            Self::Place => "ADDRESS".into(),
            Self::Field(field) => field.name().to_uppercase(),
            Self::Used => "USED".into(),
            Self::Seen => "SEEN".into(),
        }
    }

    fn cell<'a>(self, machine: &'a Found<'_>) -> Cow<'a, str> {
        let Found { name, effective, noted } = machine;
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
            Self::Used => noted.used.map(ago).unwrap_or_default().into(),
            Self::Seen => noted.seen.map(ago).unwrap_or_default().into(),
        }
    }
}

/// A machine of the list.
struct Found<'b> {
    name: &'b str,
    effective: Effective<'b>,
    noted: Use,
}

pub(super) fn run(args: &ListArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let machines = find(args, home, &book)?;
    if json {
        let json = |machine: &Found<'_>| {
            let mut value = machine_json(machine.name, &machine.effective);
            put_uses(&mut value, &machine.noted);
            value
        };
        let values: Vec<Value> = machines.iter().map(json).collect();
        return output::print_json(&values);
    }
    if machines.is_empty() {
        output::say(match book.iter().next() {
            None => "No machines. `lantern machine add NAME ADDRESS` adds one.",
            Some(_) => "No machine of the book is like that.",
        });
        return Ok(());
    }
    let usual = ["name", "user", "place", "gateway", "key", "tags", "used", "note"].map(str::to_owned);
    let columns = if args.columns.is_empty() { &usual[..] } else { &args.columns };
    let mut columns = columns.iter().map(|name| Column::parse(name)).collect::<Result<Vec<_>, _>>()?;
    if args.columns.is_empty() {
        let is_empty = |column: Column| machines.iter().all(|machine| column.cell(machine).is_empty());
        columns.retain(|column| {
            !matches!(column, Column::Field(Field::Gateway) | Column::Used) || !is_empty(*column)
        });
    }
    let headings: Vec<String> = columns.iter().map(|column| column.heading()).collect();
    let headings: Vec<&str> = headings.iter().map(String::as_str).collect();
    let rows =
        machines.iter().map(|machine| columns.iter().map(|column| column.cell(machine)).collect::<Vec<_>>());
    output::print(&output::table(&headings, rows))
}

/// The machines that are meant: a selection, or words to search by.
fn meant(args: &ListArgs, book: &MachineBook) -> Result<Option<Vec<String>>, Failure> {
    let words = &args.selection;
    if words.is_empty() && args.but.except.is_empty() {
        return Ok(None);
    }
    let selected = select(book, words, &args.but.except);
    let is_selection = |word: &String| word.contains(['@', '*', '?', ',', ':', '!']);
    if selected.is_ok() || words.is_empty() || words.iter().any(is_selection) {
        return Ok(Some(selected?));
    }
    let mut search = Search::new(&words.join(" "));
    let left_out: Vec<String> = match args.but.except.is_empty() {
        true => Vec::new(),
        false => select(book, &args.but.except, &[] as &[&str])?,
    };
    let mut found = Vec::new();
    for (name, _) in book.iter().filter(|(name, _)| !left_out.iter().any(|left| left == name)) {
        if let Some(score) = search.score(name, &text_of(name, &book.effective(name)?)) {
            found.push((std::cmp::Reverse(score), name.to_owned()));
        }
    }
    found.sort();
    match found.is_empty() {
        // Who typed a name gets the nearest one.
        true => Ok(Some(selected?)),
        false => Ok(Some(found.into_iter().map(|(_, name)| name).collect())),
    }
}

fn find<'b>(args: &ListArgs, home: &Home, book: &'b MachineBook) -> Result<Vec<Found<'b>>, Failure> {
    let chosen = meant(args, book)?.map(|names| names.into_iter().collect::<std::collections::BTreeSet<_>>());
    let uses = Uses::of(home).all();
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
        let noted = uses.get(name).copied().unwrap_or_default();
        let machine = Found { name, effective: book.effective(name)?, noted };
        let effective = &machine.effective;
        let has_tag = |tag: &String| effective.list(Field::Tags).contains(tag);
        let holds = |(column, pattern): &(Column, &str)| match column {
            Column::Field(field) if effective.list(*field).len() > 1 => {
                effective.list(*field).iter().any(|item| glob(pattern, item))
            }
            column => glob(pattern, &column.cell(&machine)),
        };
        if args.tag.as_ref().is_none_or(has_tag) && filters.iter().all(holds) {
            machines.push(machine);
        }
    }
    sort(args, &mut machines)?;
    Ok(machines)
}

/// By name as people count, or by a column.
fn sort(args: &ListArgs, machines: &mut [Found<'_>]) -> Result<(), Failure> {
    let Some(field) = &args.sort else {
        machines.sort_by(|one, other| natural(one.name, other.name));
        return Ok(());
    };
    match Column::parse(field)? {
        // The latest first; never comes last.
        Column::Used => machines.sort_by_key(|machine| std::cmp::Reverse(machine.noted.used)),
        Column::Seen => machines.sort_by_key(|machine| std::cmp::Reverse(machine.noted.seen)),
        column => machines.sort_by(|one, other| {
            let number = |machine: &Found<'_>| match column {
                Column::Field(field) => machine.effective.number(field),
                _ => None,
            };
            number(one).cmp(&number(other)).then_with(|| natural(&column.cell(one), &column.cell(other)))
        }),
    }
    Ok(())
}
