//! The same on several machines, one after the other: each tells what came of it, and one that fails does not keep the others from it.

use lantern_book::{Home, MachineBook, select};
use serde_json::{Value, json};

use crate::cli::machine::selection::SelectionArgs;
use crate::cli::machine::set::PlanArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use lantern_operations::counted;

/// What is done, in the words for a plan and a question.
pub(super) struct Deed<'a> {
    /// "new" or "gone".
    pub(super) what: &'static str,
    /// Of each machine: "the key harbour".
    pub(super) detail: String,
    /// "Install harbour on".
    pub(super) question: &'a str,
    /// Whether nothing may be asked.
    pub(super) no_questions: bool,
}

/// Does it on all machines of a selection, after a plan or a question where there are several.
///
/// # Errors
/// A selection that makes no sense; what failed on the only machine; of several, that some failed.
pub(super) fn on_each(
    home: &Home,
    machines: &SelectionArgs,
    plan: PlanArgs,
    deed: &Deed<'_>,
    json: bool,
    mut act: impl FnMut(&str) -> Result<Value, Failure>,
) -> Result<(), Failure> {
    let names = select(&MachineBook::load(home)?, &machines.selection, &machines.but.except)?;
    let row = |name: &String| Planned { what: deed.what, ..Planned::new(name, deed.detail.as_str()) };
    let rows: Vec<Planned> = names.iter().map(row).collect();
    let several = names.len() > 1;
    let question = format!("{} {}?", deed.question, counted(names.len(), "machine"));
    let asks = several || deed.what == "gone";
    plan.unasked(deed.no_questions, asks)?;
    if !plan.settle(&rows, &question, asks, json)? {
        return if json { output::print_json(&json!([])) } else { Ok(()) };
    }
    let (mut values, mut failed) = (Vec::new(), Vec::new());
    for name in &names {
        match act(name) {
            Ok(value) => values.push(value),
            Err(failure) if !several => return Err(failure),
            Err(failure) => {
                output::complain_of(name, &failure);
                values.push(json!({ "machine": name, "error": failure.headline, "code": failure.code }));
                let is_over = failure.code == code::INTERRUPTED;
                failed.push((name.clone(), failure.code));
                if is_over {
                    break;
                }
            }
        }
    }
    if json {
        output::print_json(&values)?;
    }
    match failed.first() {
        None => Ok(()),
        Some((_, code)) => {
            let which: Vec<String> = failed.iter().map(|(name, _)| name.clone()).collect();
            let text = format!("{} of {} failed", failed.len(), counted(names.len(), "machine"));
            Err(Failure::new(*code, text).detail(crate::screen::login_advice::some(&which)))
        }
    }
}
