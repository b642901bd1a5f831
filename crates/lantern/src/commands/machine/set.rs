//! `lantern machine set`

use std::borrow::Cow;

use lantern_book::{BookEdit, Change, FIELDS, Home, MachineBook, Place, Settings, select};
use serde_json::{Value, json};

use super::check_names;
use crate::cli::machine::set::{PlanArgs, SetArgs};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::confirm;
use lantern_operations::counted;

/// Most changes that are told one by one before a question.
const MAX_TOLD: usize = 20;

/// How many of each kind.
fn by_kind(changes: &[Planned]) -> String {
    let mut kinds: Vec<(&str, usize)> = Vec::new();
    for change in changes {
        match kinds.iter_mut().find(|(kind, _)| *kind == change.what) {
            Some((_, number)) => *number += 1,
            None => kinds.push((change.what, 1)),
        }
    }
    kinds.iter().map(|(kind, number)| format!("{number} {kind}")).collect::<Vec<_>>().join(", ")
}

/// What a question can be replaced by.
const WITHOUT_QUESTION: &str = "`--yes` goes on without asking, `--plan` only tells";

impl PlanArgs {
    /// What takes `--no-questions` as well settles this first: where a yes would be asked for, it is missing.
    ///
    /// # Errors
    /// The question that may not be asked.
    pub(crate) fn unasked(self, no_questions: bool, asks: bool) -> Result<(), Failure> {
        match no_questions && asks && !self.yes && !self.plan {
            true => {
                Err(Failure::new(code::USAGE, "this wants a yes, and --no-questions forbids the question")
                    .hint(WITHOUT_QUESTION))
            }
            false => Ok(()),
        }
    }

    /// Tells what would change, with `--plan` and nothing else; else asks, where `asks` says so: several things at once, or something that goes. Whether to go
    /// on.
    ///
    /// # Errors
    /// No terminal to ask at, or a no.
    pub(crate) fn settle(
        self,
        changes: &[Planned],
        what: &str,
        asks: bool,
        json: bool,
    ) -> Result<bool, Failure> {
        if self.plan {
            // As JSON it is the result itself.
            if !json {
                output::plan(changes, true)?;
            }
            return Ok(false);
        }
        if asks && !self.yes {
            match changes.len() > MAX_TOLD {
                true => output::say(format!("{}; `--plan` lists them", by_kind(changes))),
                false => output::plan(changes, false)?,
            }
            confirm::agree(what, WITHOUT_QUESTION)?;
        }
        Ok(true)
    }
}

pub(super) fn run(args: &SetArgs, home: &Home, json: bool) -> Result<(), Failure> {
    if args.fields {
        return print_fields(json);
    }
    let is_change = |word: &&String| word.contains('=');
    let changes =
        args.words.iter().filter(is_change).map(|word| Change::parse(word)).collect::<Result<Vec<_>, _>>()?;
    let selection: Vec<&String> = args.words.iter().filter(|word| !word.contains('=')).collect();
    if changes.is_empty() || selection.is_empty() && args.but.except.is_empty() {
        return Err(Failure::new(code::USAGE, "say which machines, and what to change")
            .hint("lantern machine set lamp-01 port=2222"));
    }
    let book = MachineBook::load(home)?;
    let machines = select(&book, &selection, &args.but.except)?;
    let mut rows = Vec::new();
    let mut values = Vec::new();
    for name in &machines {
        let before = book.get(name)?;
        let mut after = before.clone();
        changes.iter().try_for_each(|change| after.apply(change))?;
        check_names(home, &book, &after)?;
        differences(name, before, &after, &mut rows, &mut values);
    }
    let question = format!("Change {}?", counted(machines.len(), "machine"));
    let goes_on = args.plan.settle(&rows, &question, machines.len() > 1, json)?;
    if goes_on {
        MachineBook::edit(home, |edit: &mut BookEdit| {
            machines.iter().try_for_each(|name| edit.change(Place::Machine(name), &changes))
        })?;
    }
    if json {
        return output::print_json(&json!({ "changed": goes_on, "changes": values }));
    }
    if goes_on && machines.len() == 1 {
        output::tell_changes(&rows)?;
    }
    if goes_on && machines.len() > 1 && !rows.is_empty() {
        output::say(format!("{}: done.", counted(machines.len(), "machine")));
    }
    if rows.is_empty() {
        output::say("Nothing to change: it is so already.");
    }
    Ok(())
}

/// What changes between two states of a machine or a profile, told and as JSON.
pub(crate) fn differences(
    name: &str,
    before: &Settings,
    after: &Settings,
    changes: &mut Vec<Planned>,
    values: &mut Vec<Value>,
) {
    for spec in FIELDS {
        let text = |settings: &Settings| settings.get(spec.field).map(ToString::to_string);
        let (old, new) = (text(before), text(after));
        if old != new {
            let shown = |text: &Option<String>| text.clone().unwrap_or_else(|| "nothing".into());
            let detail = format!("{} → {}", shown(&old), shown(&new));
            changes.push(Planned::changed(name, spec.name, detail));
            values.push(json!({ "name": name, "field": spec.name, "from": old, "to": new }));
        }
    }
}

fn print_fields(json: bool) -> Result<(), Failure> {
    if json {
        let fields: Vec<Value> = FIELDS
            .iter()
            .map(|spec| json!({ "field": spec.name, "about": spec.about, "allowed": spec.allowed, "example": spec.example, "default": spec.fallback }))
            .collect();
        return output::print_json(&fields);
    }
    let rows = FIELDS
        .iter()
        .map(|spec| [Cow::Borrowed(spec.name), spec.about.into(), spec.fallback.into(), spec.example.into()]);
    output::print(&output::table(&["FIELD", "MEANING", "WHEN NOT SET", "EXAMPLE"], rows))
}
