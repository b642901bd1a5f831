//! Mending what is amiss on this computer, after asking.

use lantern_operations::check::Mend;

use crate::screen::check::advice;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::confirm;

/// Mends what can be mended, each once, after asking; whether anything was.
///
/// # Errors
/// Nobody to ask, Ctrl-C, or what the system says.
pub(super) fn settle(mends: &[&Mend], yes: bool) -> Result<bool, Failure> {
    let mut each: Vec<&Mend> = Vec::new();
    for mend in mends {
        if !each.contains(mend) {
            each.push(mend);
        }
    }
    if each.is_empty() {
        output::say("Nothing here is in need of mending.");
    }
    let mut any = false;
    for mend in each {
        let words = advice::mend_command(mend);
        if yes || confirm::ask(&format!("{words}?"), "`--yes` mends without asking")? {
            mend.carry_out()
                .map_err(|error| Failure::new(code::LOCAL, format!("cannot do `{words}`: {error}")))?;
            output::say(format!("done: {words}"));
            any = true;
        }
    }
    Ok(any)
}
