//! `lantern run --history`.

use lantern_book::Home;
use lantern_operations::counted;
use lantern_operations::many::{MachineNote, RunNote, RunNotes};
use serde_json::json;

use crate::screen::ago::ago;
use crate::screen::failure::Failure;
use crate::screen::output;

pub(super) fn print(home: &Home, json: bool) -> Result<u8, Failure> {
    let all = RunNotes::of(home).all();
    let good = |note: &RunNote| note.machines.iter().filter(|machine| machine.is_good()).count();
    if json {
        let value = |note: &RunNote| {
            json!({
                "at": note.at.to_string(),
                "selection": note.selection,
                "command": note.command,
                "script": note.script,
                "as": note.acts_as,
                "good": good(note),
                "machines": note.machines.iter().map(|MachineNote { name, status, met }| json!({
                    "machine": name, "status": status, "met": met,
                })).collect::<Vec<_>>(),
            })
        };
        output::print_json(&all.iter().map(value).collect::<Vec<_>>())?;
        return Ok(0);
    }
    if all.is_empty() {
        output::say("Nothing has run on many machines yet.");
        return Ok(0);
    }
    let rows = all.iter().map(|note| {
        let failed = note.machines.len() - good(note);
        let came = match failed {
            0 => "all succeeded".to_owned(),
            failed => format!("{failed} did not succeed"),
        };
        let what = note.script.clone().unwrap_or_else(|| note.command.join(" "));
        let what = match &note.acts_as {
            Some(other) => format!("as {other}: {what}"),
            None => what,
        };
        [
            ago(note.at).into(),
            counted(note.machines.len(), "machine").into(),
            came.into(),
            note.selection.join(",").into(),
            what.into(),
        ]
    });
    output::print(&output::table(&["WHEN", "WHERE", "OUTCOME", "SELECTION", "WHAT"], rows))?;
    Ok(0)
}
