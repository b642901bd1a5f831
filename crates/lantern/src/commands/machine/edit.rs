//! `lantern machine edit`: the book in the user's editor, checked before it is taken.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use lantern_book::{BookEdit, BookError, Home, MachineBook, Place, Settings, select};
use serde_json::{Value, json};

use super::differences;
use crate::cli::machine::edit::EditArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::plan::Planned;
use crate::terminal::confirm;
use crate::terminal::editor::{cannot_start, editor};
use crate::terminal::prompt::Terminal;

/// What is edited: the whole file, or some of its machines.
enum Scope {
    Whole,
    Some(Vec<String>),
}

pub(super) fn run(args: &EditArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let before = MachineBook::text(home)?;
    let (scope, start, line) = if args.selection.is_empty() && args.but.except.is_empty() {
        // A broken book can be opened: that is how it is mended.
        let line = match MachineBook::load(home) {
            Err(BookError::Syntax { line, .. }) => u32::try_from(line).unwrap_or(1),
            _ => 1,
        };
        (Scope::Whole, if before.is_empty() { FIRST.to_owned() } else { before.clone() }, line)
    } else {
        let names = select(&MachineBook::load(home)?, &args.selection, &args.but.except)?;
        let start = MachineBook::excerpt(home, &names)?;
        (Scope::Some(names), start, 1)
    };
    drop(home.lock()?);
    // In the home: the text is as private as the book, and a rename away from it.
    let folder = tempfile::Builder::new().prefix(".edit-").tempdir_in(home.path()).map_err(|error| {
        Failure::new(code::LOCAL, format!("cannot write in {}: {error}", home.path().display()))
    })?;
    let draft = folder.path().join("machines.toml");
    let io = |error: std::io::Error| {
        Failure::new(code::LOCAL, format!("cannot edit {}: {error}", draft.display()))
    };
    std::fs::write(&draft, &start).map_err(io)?;
    let keep = || -> Result<std::path::PathBuf, Failure> {
        let kept = home.path().join("machines.toml.not-taken");
        std::fs::copy(&draft, &kept).map_err(io)?;
        Ok(kept)
    };
    loop {
        if let Err(failure) = open_editor(&draft, line) {
            // An editor that failed may have saved before.
            return match std::fs::read_to_string(&draft) {
                Ok(text) if text != start => {
                    Err(failure.hint(format!("what you wrote is in {}", keep()?.display())))
                }
                _ => Err(failure),
            };
        }
        let after = std::fs::read_to_string(&draft).map_err(io)?;
        if after == start || after == before {
            output::say("Nothing was changed.");
            return if json { output::print_json(&json!({ "changed": false })) } else { Ok(()) };
        }
        let error = match take(home, &scope, (&before, &start), &after, args.plan) {
            Ok((rows, values)) => {
                let changed = !args.plan;
                return match json {
                    true => output::print_json(&json!({ "changed": changed, "changes": values })),
                    false => {
                        output::plan(&rows, args.plan)?;
                        output::say(if changed {
                            "Taken."
                        } else {
                            "Nothing was changed: this was the plan."
                        });
                        Ok(())
                    }
                };
            }
            Err(error) => error,
        };
        let reopen = !matches!(error, BookError::Changed { .. }) && Terminal::open().is_some();
        output::warn(format!("not taken: {error}"));
        // Ctrl-C is a no: what was written is kept all the same.
        if !(reopen && confirm::ask("Open it again?", "").unwrap_or(false)) {
            let kept = keep()?;
            return Err(Failure::new(code::LOCAL, "the book is as it was")
                .detail(error.to_string())
                .hint(format!("what you wrote is in {}", kept.display())));
        }
    }
}

/// Checks what was written and takes it; what it changes, told and as JSON.
fn take(
    home: &Home,
    scope: &Scope,
    (before, start): (&str, &str),
    after: &str,
    plan: bool,
) -> Result<(Vec<Planned>, Vec<Value>), BookError> {
    let path = MachineBook::path(home);
    let (old, new) =
        (MachineBook::parse(&path, start).unwrap_or_default(), MachineBook::parse(&path, after)?);
    let (mut rows, mut values) = (Vec::new(), Vec::new());
    let nothing = Settings::new();
    let names: BTreeSet<&str> = old.iter().chain(new.iter()).map(|(name, _)| name).collect();
    for name in names {
        let (was, is) = (old.get(name).unwrap_or(&nothing), new.get(name).unwrap_or(&nothing));
        differences(name, was, is, &mut rows, &mut values);
    }
    match scope {
        Scope::Whole if plan => new.check()?,
        Scope::Whole => drop(MachineBook::replace_text(home, before, after)?),
        Scope::Some(names) => {
            let changed = |edit: &mut BookEdit| {
                for name in names {
                    // Somebody else's change, and a machine that was left out by mistake, are not written over.
                    if edit.book().get(name)? != old.get(name)? {
                        return Err(BookError::Changed { path: path.clone() });
                    }
                    edit.put(Place::Machine(name), new.get(name)?.clone())?;
                }
                let more = new.iter().filter(|(name, _)| !names.iter().any(|known| known == name));
                more.into_iter().try_for_each(|(name, settings)| edit.add_machine(name, settings))
            };
            match plan {
                true => MachineBook::try_edit(home, changed)?,
                false => MachineBook::edit(home, changed)?,
            }
        }
    }
    Ok((rows, values))
}

/// What an empty book begins with in the editor.
const FIRST: &str = "# The book of machines.\n\n# [defaults]\n# user = \"keeper\"\n\n# [machines.lamp-01]\n# address = \"192.0.2.7\"\n# key = \"harbour\"\n# tags = [\"coast\"]\n";

/// Runs the user's editor on the file and waits for its end.
fn open_editor(file: &Path, line: u32) -> Result<(), Failure> {
    const WITHOUT: &str =
        "without one: lantern machine set NAME FIELD=VALUE, or EDITOR names a program that needs none";
    let (program, arguments) = editor(file, line, WITHOUT)?;
    let status = Command::new(&program)
        .args(arguments)
        .status()
        .map_err(|error| cannot_start(&program, &error, "lantern machine edit"))?;
    match status.success() {
        true => Ok(()),
        false => Err(Failure::new(
            code::LOCAL,
            format!("the editor {program} ended with {status}; the book is as it was"),
        )),
    }
}
