//! What came of a run on many machines: those that said the same together, the others by how they differ.

use lantern_operations::counted;
use lantern_operations::many::{Ended, Ending, Group, Kept, difference, groups};
use serde_json::{Value, json};

use super::explain::code_of;
use super::failure::{Failure, code};
use super::fit::Fit;
use super::login_advice::some;
use super::output;

/// Lines of one group that are shown.
const MOST_LINES: usize = 40;
/// Machines that were not reached which are told one by one.
const MOST_TOLD: usize = 10;
/// Exit code where some did not succeed.
const SOME_FAILED: u8 = 1;

/// "the other machine", "the other 12 machines".
pub(crate) fn others(count: usize) -> String {
    match count {
        1 => "the other machine".to_owned(),
        count => format!("the other {count} machines"),
    }
}

/// How bad an ending is, and in words.
pub(crate) fn ending(ending: &Ending) -> (u8, String) {
    match ending {
        Ending::Status(0) => (0, "done".to_owned()),
        Ending::Status(status) => (1, format!("failed with status {status}")),
        Ending::Signal(name) if name.is_empty() => (1, "ended without saying how".to_owned()),
        Ending::Signal(name) => (1, format!("ended by {name}")),
        Ending::NotReached(error) => (2, format!("not reached: {error}")),
        Ending::Lost(error) => (2, format!("lost: {error}")),
        Ending::Halted => (1, "halted".to_owned()),
    }
}

/// What came of a run.
pub(crate) struct Summary<'a> {
    names: &'a [String],
    outcomes: &'a [Option<Ended>],
    groups: Vec<Group<'a>>,
}

impl<'a> Summary<'a> {
    pub(crate) fn of(names: &'a [String], outcomes: &'a [Option<Ended>]) -> Self {
        Self { names, outcomes, groups: groups(outcomes) }
    }

    fn count(&self, which: impl Fn(&Ending) -> bool) -> usize {
        self.outcomes.iter().flatten().filter(|ended| which(&ended.ending)).count()
    }

    /// 0 where all succeeded, 1 where some did not; where none could be reached, what kept the first from it.
    pub(crate) fn status(&self) -> u8 {
        let good = self.count(Ending::is_good);
        if good == self.names.len() {
            return 0;
        }
        let first = self.outcomes.iter().flatten().map(|ended| &ended.ending).next();
        match first {
            Some(Ending::NotReached(error)) if self.count(Ending::was_reached) == 0 => match error {
                lantern_operations::OperationError::Link(error) => code_of(error),
                // Whichever of them found out for the others.
                lantern_operations::OperationError::NotTried { .. } => code::LOGIN,
                _ => code::LOCAL,
            },
            Some(Ending::Halted)
                if good == 0 && self.count(|ending| !matches!(ending, Ending::Halted)) == 0 =>
            {
                code::INTERRUPTED
            }
            None => code::INTERRUPTED,
            _ => SOME_FAILED,
        }
    }

    /// In one line.
    fn line(&self) -> String {
        let part = |count: usize, words: &str| (count > 0).then(|| format!("{count} {words}"));
        let good = self.count(Ending::is_good);
        let unreached = self.count(|ending| !ending.was_reached());
        let halted = self.count(|ending| matches!(ending, Ending::Halted));
        let begun = self.outcomes.iter().flatten().count();
        let failed = begun - good - unreached - halted;
        let parts: Vec<String> = [
            part(good, "succeeded"),
            part(failed, "failed"),
            part(unreached, "not reached"),
            part(halted, "halted"),
            part(self.names.len() - begun, "not begun"),
        ]
        .into_iter()
        .flatten()
        .collect();
        format!("{}: {}.", counted(self.names.len(), "machine"), parts.join(", "))
    }

    /// Says it, where what machines wrote has been printed.
    pub(crate) fn say(&self) {
        output::say(self.line());
        self.complain();
        let failed: Vec<String> =
            self.members(|ending| matches!(ending, Ending::Status(1..) | Ending::Signal(_)));
        if !failed.is_empty() {
            output::say(format!("failed: {}", some(&failed)));
        }
        self.advise();
    }

    fn members(&self, which: impl Fn(&Ending) -> bool) -> Vec<String> {
        let all = self.names.iter().zip(self.outcomes);
        all.filter(|(_, ended)| ended.as_ref().is_some_and(|ended| which(&ended.ending)))
            .map(|(name, _)| name.clone())
            .collect()
    }

    /// Those that were not reached or were lost, each with why.
    fn complain(&self) {
        let mut told = 0;
        for (name, ended) in self.names.iter().zip(self.outcomes) {
            let failure = match ended.as_ref().map(|ended| &ended.ending) {
                Some(Ending::NotReached(error)) => Failure::from(error),
                Some(Ending::Lost(error)) => Failure::from(error),
                _ => continue,
            };
            told += 1;
            if told <= MOST_TOLD {
                output::complain_of(name, &failure);
            }
        }
        if told > MOST_TOLD {
            output::warn(format!("and {} more; --json lists them", counted(told - MOST_TOLD, "machine")));
        }
    }

    fn advise(&self) {
        if self.count(Ending::is_good) < self.names.len() {
            output::say("Those that did not succeed, once more: lantern run --again failed");
        }
    }

    /// Prints it as the result.
    ///
    /// # Errors
    /// Nobody reads it.
    pub(crate) fn print(&self, json: bool) -> Result<(), Failure> {
        if json {
            return self.print_json();
        }
        output::print(&self.text())?;
        self.complain();
        self.advise();
        Ok(())
    }

    fn text(&self) -> Fit {
        let mut text = Fit::from(self.line());
        text.end_line();
        let many = self.groups.first().filter(|group| group.members.len() > 1).map(|group| group.ended);
        for (at, group) in self.groups.iter().enumerate() {
            if matches!(group.ended.ending, Ending::NotReached(_) | Ending::Lost(_)) {
                continue;
            }
            let names: Vec<String> =
                group.members.iter().filter_map(|index| self.names.get(*index)).cloned().collect();
            let how = ending(&group.ended.ending).1;
            text.end_line();
            text.push(format!("{}, {how}: {}", counted(names.len(), "machine"), some(&names)));
            text.end_line();
            let odd = many.filter(|_| at > 0);
            text.push(body(&group.ended.out, odd.map(|many| &many.out), ""));
            text.push(body(&group.ended.err, odd.map(|many| &many.err), "standard error: "));
        }
        // What follows is of another kind.
        text.end_line();
        text
    }

    fn print_json(&self) -> Result<(), Failure> {
        for (name, ended) in self.names.iter().zip(self.outcomes) {
            let Some(ended) = ended else {
                output::print_json_line(&json!({
                    "event": "machine", "machine": name, "state": "not-begun", "status": null, "signal": null,
                    "met": null, "seconds": null, "out_bytes": 0, "err_bytes": 0,
                }))?;
                continue;
            };
            let (state, status, signal, met) = match &ended.ending {
                Ending::Status(0) => ("done", Some(0), None, None),
                Ending::Status(status) => ("failed", Some(*status), None, None),
                Ending::Signal(name) => ("failed", None, Some(name.clone()), None),
                Ending::NotReached(error) => ("not-reached", None, None, Some(super::failure::chain(error))),
                Ending::Lost(error) => ("lost", None, None, Some(super::failure::chain(error))),
                Ending::Halted => ("halted", None, None, None),
            };
            output::print_json_line(&json!({
                "event": "machine", "machine": name, "state": state, "status": status, "signal": signal,
                "met": met, "seconds": ended.took.as_secs_f64(), "out_bytes": ended.out.len,
                "err_bytes": ended.err.len,
            }))?;
        }
        let group = |group: &Group<'_>| -> Value {
            let names: Vec<&String> =
                group.members.iter().filter_map(|index| self.names.get(*index)).collect();
            json!({
                "machines": names,
                "out": String::from_utf8_lossy(&group.ended.out.head),
                "err": String::from_utf8_lossy(&group.ended.err.head),
                "cut": group.ended.out.is_cut() || group.ended.err.is_cut(),
            })
        };
        let said = self.groups.iter().filter(|group| group.ended.ending.was_reached());
        output::print_json_line(&json!({
            "event": "end",
            "machines": self.names.len(),
            "good": self.count(Ending::is_good),
            "not_reached": self.count(|ending| !ending.was_reached()),
            "not_begun": self.names.len() - self.outcomes.iter().flatten().count(),
            "groups": said.map(group).collect::<Vec<_>>(),
            "code": self.status(),
        }))
    }
}

/// What a stream said, or how that differs from what the many said.
fn body(kept: &Kept, many: Option<&Kept>, front: &'static str) -> Fit {
    if kept.len == 0 {
        return Fit::default();
    }
    let text = String::from_utf8_lossy(&kept.head);
    let mut lines: Vec<Fit> = match many.filter(|many| many.len > 0) {
        Some(many) if *many == *kept => vec![Fit::literal("the same as the others")],
        Some(many) => {
            let from = String::from_utf8_lossy(&many.head);
            let lines = difference(&from, &text);
            match lines.iter().any(|(mark, _)| *mark == ' ') {
                true => lines
                    .into_iter()
                    .map(|(mark, line)| Fit::picture(format!("{mark} {}", Fit::line(&line))))
                    .collect(),
                // It is another thing altogether.
                false => text.lines().map(Fit::line).collect(),
            }
        }
        None => text.lines().map(Fit::line).collect(),
    };
    let more = lines.len().saturating_sub(MOST_LINES);
    lines.truncate(MOST_LINES);
    let mut out = Fit::default();
    for line in lines {
        out.push(Fit::literal("  "));
        out.push(Fit::literal(front));
        out.push(line);
        out.end_line();
    }
    if more > 0 || kept.is_cut() {
        out.push(Fit::literal("  … and more; --to FOLDER has all of it\n"));
    }
    out
}
