//! `lantern machine import`: the book brought in line with an inventory.

use std::path::{Path, PathBuf};

use clap::Args;
use lantern_book::{
    BookEdit, Field, Home, InventoryForm, MachineBook, Mapping, Row, SyncStep, apply_import, check_name_of,
    glob, plan_import, read_inventory,
};
use serde_json::{Value, json};

use super::export::Form;
use crate::confirm;
use crate::failure::{Failure, code};
use crate::output;

/// Largest inventory that is read, in bytes: ten thousand machines of a talkative cloud.
const MAX_INVENTORY: u64 = 64 * 1024 * 1024;

/// Arguments of `machine import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine import machines.csv --plan
  lantern machine import inventory.json --map name=vm --map address=public_ip,private_ip
  lantern machine import cloud.yaml --at instances --only state=running --source north-cloud
  cat list.json | lantern machine import - --form json --source hypervisor

Done again, it follows the inventory: machines that it added and fields that it set change
with it, machines that are gone are removed after a question. What you set by hand stays.")]
pub(crate) struct ImportArgs {
    /// The inventory; - for standard input
    file: PathBuf,
    /// Its form [default: by the file's name]
    #[arg(long, value_enum)]
    form: Option<Form>,
    /// What to call the source, to tell its machines from others [default: the file's name]
    #[arg(long, value_name = "NAME")]
    source: Option<String>,
    /// Where the list of machines is within the file: names separated by dots
    #[arg(long, value_name = "PATH")]
    at: Option<String>,
    /// Fill a field (or `name`) from a column, or the first of several; may be given several times
    #[arg(long = "map", value_name = "FIELD=COLUMN")]
    mappings: Vec<String>,
    /// Take only rows of which this holds; may be given several times
    #[arg(long = "only", value_name = "COLUMN=GLOB")]
    only: Vec<String>,
    /// Give all of them this tag; may be given several times
    #[arg(long = "tag", value_name = "WORD")]
    tags: Vec<String>,
    /// Take over machines of the same name that were in the book before
    #[arg(long)]
    adopt: bool,
    /// Remove machines of this source that it has no more, without asking
    #[arg(long)]
    remove_gone: bool,
    /// Say what would change, and change nothing
    #[arg(long)]
    plan: bool,
}

pub(super) fn run(args: &ImportArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let rows = filtered(read(args)?, &args.only)?;
    let source = source_name(args)?;
    let mapping = Mapping::new(&args.mappings, &rows)?;
    let book = MachineBook::load(home)?;
    let steps = plan_import(&book, &source, &mapping, &rows, &args.tags, args.adopt);
    if !json {
        tell(&mapping, &steps);
    }
    let gone = steps.iter().filter(|step| matches!(step, SyncStep::Gone { .. })).count();
    let mut remove_gone = args.remove_gone;
    if !args.plan {
        if gone > 0 && !remove_gone && crate::terminal::prompt::Terminal::open().is_some() {
            remove_gone = confirm::ask(&format!("Remove the {gone} that {source} has no more?"), "")?;
        }
        MachineBook::edit(home, |edit: &mut BookEdit| {
            // The plan is made anew under the lock: another program may have changed the book meanwhile.
            let steps = plan_import(edit.book(), &source, &mapping, &rows, &args.tags, args.adopt);
            apply_import(edit, &steps, remove_gone)
        })?;
        if gone > 0 && !remove_gone && !json {
            output::say(&format!(
                "{gone} machines that {source} has no more are still there; --remove-gone removes them."
            ));
        }
    }
    let bad = steps.iter().filter(|step| matches!(step, SyncStep::Bad { .. })).count();
    if json {
        let columns: serde_json::Map<String, Value> =
            mapping.fields.iter().map(|(field, columns)| (field.name().to_owned(), json!(columns))).collect();
        output::print_json(&json!({
            "source": source, "planned_only": args.plan, "name_column": mapping.name, "columns": columns,
            "gone_removed": !args.plan && remove_gone, "steps": steps.iter().map(step_json).collect::<Vec<_>>(),
        }))?;
    } else if steps.is_empty() {
        output::say("Nothing to change: the book says what the inventory says.");
    } else if !args.plan {
        output::say("Done.");
    }
    match bad {
        0 => Ok(()),
        _ => Err(Failure::new(code::LOCAL, format!("{bad} of {} rows made no machine", rows.len()))
            .hint("the others were taken; --map says which column means what")),
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
    let text = crate::key_source::read_text(&args.file, MAX_INVENTORY)?;
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
    let filters = filters.collect::<Result<Vec<_>, _>>()?;
    for (column, _) in &filters {
        if !rows.is_empty() && !rows.iter().any(|row| row.contains_key(*column)) {
            let columns = rows.iter().flat_map(Row::keys).map(String::as_str);
            return Err(lantern_book::BookError::unknown("column", column, columns).into());
        }
    }
    let holds = |row: &Row| {
        filters.iter().all(|(column, pattern)| glob(pattern, row.get(*column).map_or("", String::as_str)))
    };
    Ok(rows.into_iter().filter(holds).collect())
}

fn tell(mapping: &Mapping, steps: &[SyncStep]) {
    let columns: Vec<String> = mapping
        .fields
        .iter()
        .map(|(field, columns)| format!("{} from {}", field.name(), columns.join(", ")))
        .collect();
    output::say(&format!("name from {}; {}", mapping.name, columns.join("; ")));
    let shown = |text: &str| if text.is_empty() { "nothing".to_owned() } else { text.to_owned() };
    for step in steps {
        match step {
            SyncStep::Add { name, settings } => {
                let fields = settings.iter().filter(|setting| setting.field != Field::Imported);
                let fields: Vec<String> = fields.map(|s| format!("{}={}", s.field.name(), s.value)).collect();
                output::say(&format!("+ {name}  {}", fields.join(" ")));
            }
            SyncStep::Change { name, fields, kept, .. } => {
                for (field, from, to) in fields {
                    output::say(&format!("~ {name}  {} {} → {}", field.name(), shown(from), shown(to)));
                }
                for (field, mine, theirs) in kept {
                    let (mine, theirs) = (shown(mine), shown(theirs));
                    output::say(&format!(
                        "= {name}  {} stays {mine}, set by hand; the inventory says {theirs}",
                        field.name()
                    ));
                }
            }
            SyncStep::Gone { name } => output::say(&format!("- {name}  is not in the inventory any more")),
            SyncStep::Foreign { name } => {
                output::say(&format!(
                    "! {name}  is in the book already, not from this source; --adopt takes it over"
                ));
            }
            SyncStep::Bad { row, why } => output::say(&format!("! row {row}  {why}")),
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
