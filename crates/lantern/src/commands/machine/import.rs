//! `lantern machine import`: the book brought in line with an inventory.

use std::path::Path;

use lantern_book::{Field, Home, InventoryForm, Mapping, Row, SyncStep, check_name_of, read_inventory};
use lantern_operations::inventory::{Inventory, rows_like};
use serde_json::{Value, json};

use crate::cli::machine::import::ImportArgs;
use crate::commands::key_source::read_text;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::confirm;
use crate::terminal::prompt::Terminal;
use lantern_operations::counted;

/// Largest inventory that is read, in bytes: ten thousand machines of a talkative cloud.
const MAX_INVENTORY: u64 = 64 * 1024 * 1024;
/// Most changes that are told one by one without being asked for.
const MAX_TOLD: usize = 10;

pub(super) fn run(args: &ImportArgs, home: &Home, json: bool, verbose: bool) -> Result<(), Failure> {
    let rows = filtered(read(args)?, &args.only)?;
    let mapping = Mapping::new(&args.mappings, &rows)?;
    let source = source_name(args)?;
    let inventory = Inventory {
        source,
        mapping,
        rows,
        tags: args.tags.clone(),
        adopt: args.adopt,
        without_address: args.without_address,
    };
    let mut plan = inventory.plan(home)?;
    if !json {
        // Of a few, each is told.
        let rows_too = args.plan || verbose || plan.steps.len() <= MAX_TOLD;
        tell(&inventory.mapping, &plan.steps, rows_too, args.plan)?;
    }
    let gone = plan.gone();
    let mut remove_gone = args.remove_gone;
    if !args.plan {
        if gone > 0 && !remove_gone && Terminal::open().is_some() {
            remove_gone =
                confirm::ask(&format!("Remove the {gone} that {} has no more?", inventory.source), "")?;
        }
        plan = inventory.carry_out(home, &plan, remove_gone)?;
        if gone > 0 && !remove_gone && !json {
            output::say(format!(
                "{} that {} has no more: still there; --remove-gone removes them.",
                counted(gone, "machine"),
                inventory.source
            ));
        }
    }
    let bad = plan.bad();
    if json {
        let columns: serde_json::Map<String, Value> = inventory
            .mapping
            .fields
            .iter()
            .map(|(field, columns)| (field.name().to_owned(), json!(columns)))
            .collect();
        output::print_json(&json!({
            "source": inventory.source, "planned_only": args.plan, "name_column": inventory.mapping.name,
            "columns": columns, "gone_removed": !args.plan && remove_gone,
            "steps": plan.steps.iter().map(step_json).collect::<Vec<_>>(),
        }))?;
    } else if plan.steps.is_empty() {
        output::say("Nothing to change: the book says what the inventory says.");
    } else if !args.plan {
        output::say("Done.");
    }
    match bad {
        0 => Ok(()),
        _ => {
            Err(Failure::new(code::LOCAL, format!("{bad} of {} rows made no machine", inventory.rows.len()))
                .hint("the others were taken; --map says which column means what"))
        }
    }
}

fn read(args: &ImportArgs) -> Result<Vec<Row>, Failure> {
    let is_input = args.file.as_os_str() == "-";
    let form: InventoryForm = match (args.form, InventoryForm::from_path(&args.file)) {
        (Some(form), _) => form.into(),
        (None, Some(form)) => form,
        (None, None) => {
            return Err(Failure::new(
                code::USAGE,
                format!("the form of {} cannot be told by its name", args.file.display()),
            )
            .hint("--form says it: csv, json, yaml or toml"));
        }
    };
    let text = read_text(&args.file, MAX_INVENTORY)?;
    let shown = if is_input { Path::new("standard input") } else { &args.file };
    Ok(read_inventory(shown, &text, form, args.at.as_deref())?)
}

fn source_name(args: &ImportArgs) -> Result<String, Failure> {
    let named = args.source.clone().or_else(|| {
        let stem = args.file.file_stem().and_then(|stem| stem.to_str()).filter(|stem| *stem != "-")?;
        Some(stem.to_owned())
    });
    let name = named.ok_or_else(|| {
        Failure::new(code::USAGE, "standard input has no name").hint("--source NAME says what to call it")
    })?;
    check_name_of("source", &name)?;
    Ok(name)
}

fn filtered(rows: Vec<Row>, only: &[String]) -> Result<Vec<Row>, Failure> {
    let filters = only.iter().map(|filter| {
        filter
            .split_once('=')
            .ok_or_else(|| Failure::new(code::USAGE, format!("`{filter}` must read COLUMN=GLOB")))
    });
    Ok(rows_like(rows, &filters.collect::<Result<Vec<_>, _>>()?)?)
}

/// What is made of the columns, and what changes: how many of each kind, the rows where somebody wants to see them.
fn tell(mapping: &Mapping, steps: &[SyncStep], rows_too: bool, planned: bool) -> Result<(), Failure> {
    let columns: Vec<String> = mapping
        .fields
        .iter()
        .map(|(field, columns)| format!("{} from {}", field.name(), columns.join(", ")))
        .collect();
    output::say(format!("name from {}; {}", mapping.name, columns.join("; ")));
    let rows: Vec<Planned> = steps.iter().flat_map(rows_of).collect();
    if rows_too {
        output::plan(&rows, planned)?;
    }
    let count = |kind: fn(&SyncStep) -> bool| steps.iter().filter(|step| kind(step)).count();
    let kinds = [
        ("new", count(|step| matches!(step, SyncStep::Add { .. }))),
        ("changed", count(|step| matches!(step, SyncStep::Change { fields, .. } if !fields.is_empty()))),
        (
            "kept as set by hand",
            count(|step| matches!(step, SyncStep::Change { kept, .. } if !kept.is_empty())),
        ),
        ("gone from the inventory", count(|step| matches!(step, SyncStep::Gone { .. }))),
        ("in the book from elsewhere", count(|step| matches!(step, SyncStep::Foreign { .. }))),
        ("bad rows", count(|step| matches!(step, SyncStep::Bad { .. }))),
    ];
    if !rows_too {
        let table: Vec<Planned> = kinds
            .iter()
            .filter(|(_, number)| *number > 0)
            .map(|(what, number)| Planned { what, ..Planned::new(&number.to_string(), "") })
            .collect();
        output::plan(&table, false)?;
        output::say("`--plan` lists the rows, and so does -v.");
    }
    // What went wrong is told in any case, as far as somebody would read it.
    if !rows_too {
        for step in steps
            .iter()
            .filter(|step| matches!(step, SyncStep::Bad { .. } | SyncStep::Foreign { .. }))
            .take(MAX_TOLD)
        {
            output::plan(&rows_of(step), false)?;
        }
    }
    Ok(())
}

fn rows_of(step: &SyncStep) -> Vec<Planned> {
    let shown = |text: &str| if text.is_empty() { "nothing".to_owned() } else { text.to_owned() };
    match step {
        SyncStep::Add { name, settings, .. } => {
            let fields: Vec<String> =
                settings.iter().map(|s| format!("{}={}", s.field.name(), s.value)).collect();
            vec![Planned::new(name, fields.join(" "))]
        }
        SyncStep::Change { name, fields, kept, .. } => {
            let changed = fields.iter().map(|(field, from, to)| {
                Planned::changed(name, field.name(), format!("{} → {}", shown(from), shown(to)))
            });
            let kept = kept.iter().map(|(field, mine, theirs)| Planned {
                what: "kept",
                ..Planned::changed(
                    name,
                    field.name(),
                    format!("{}, set by hand; the inventory says {}", shown(mine), shown(theirs)),
                )
            });
            changed.chain(kept).collect()
        }
        SyncStep::Gone { name } => vec![Planned::gone(name, "not in the inventory any more")],
        SyncStep::Foreign { name } => {
            let detail = "in the book already, not from this source; --adopt takes it over";
            vec![Planned { what: "left", ..Planned::new(name, detail) }]
        }
        SyncStep::Bad { row, why } => {
            vec![Planned { what: "bad", ..Planned::new(&format!("row {row}"), why.as_str()) }]
        }
    }
}

fn step_json(step: &SyncStep) -> Value {
    let fields = |list: &[(Field, String, String)]| -> Vec<Value> {
        list.iter()
            .map(|(field, from, to)| json!({ "field": field.name(), "from": from, "to": to }))
            .collect()
    };
    match step {
        SyncStep::Add { name, .. } => json!({ "step": "add", "name": name }),
        SyncStep::Change { name, fields: changed, kept, .. } => {
            json!({ "step": "change", "name": name, "fields": fields(changed), "kept": fields(kept) })
        }
        SyncStep::Gone { name } => json!({ "step": "gone", "name": name }),
        SyncStep::Foreign { name } => json!({ "step": "foreign", "name": name }),
        SyncStep::Bad { row, why } => json!({ "step": "bad", "row": row, "why": why }),
    }
}
