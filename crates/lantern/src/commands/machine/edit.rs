//! `lantern machine edit`: the book in the user's editor, checked before it is taken.

use std::path::Path;
use std::process::Command;

use clap::Args;
use lantern_book::{BookError, Home, MachineBook};
use serde_json::json;

use crate::confirm;
use crate::failure::{Failure, code};
use crate::output;
use crate::terminal::prompt::Terminal;

/// Arguments of `machine edit`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine edit
  lantern machine edit lamp-01       puts the cursor there, in editors that know how
  EDITOR=nano lantern machine edit

A book that breaks its rules is not taken: the editor opens again, or what you wrote is kept in
a file beside the book.")]
pub(crate) struct EditArgs {
    /// The machine to begin at
    #[arg(add = crate::completing::machines())]
    name: Option<String>,
}

pub(super) fn run(args: &EditArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let before = MachineBook::text(home)?;
    // A broken book can be opened: that is how it is mended.
    let line = match (&args.name, MachineBook::load(home)) {
        (Some(name), Ok(book)) => {
            book.get(name)?;
            book.line(name)
        }
        (_, Err(BookError::Syntax { line, .. })) => u32::try_from(line).unwrap_or(1),
        _ => 1,
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
    let start = if before.is_empty() { FIRST.to_owned() } else { before.clone() };
    std::fs::write(&draft, &start).map_err(io)?;
    loop {
        open_editor(&draft, line)?;
        let after = std::fs::read_to_string(&draft).map_err(io)?;
        if after == start || after == before {
            output::say("Nothing was changed.");
            return if json { output::print_json(&json!({ "changed": false })) } else { Ok(()) };
        }
        let error = match MachineBook::replace_text(home, &before, &after) {
            Ok(book) => {
                let machines = book.iter().count();
                output::say(&format!("Taken: {machines} machines."));
                return if json {
                    output::print_json(&json!({ "changed": true, "machines": machines }))
                } else {
                    Ok(())
                };
            }
            Err(error) => error,
        };
        // The draft's own path says nothing to the person: the error names the book, which is unchanged.
        let reopen = !matches!(error, BookError::Changed { .. }) && Terminal::open().is_some();
        output::warn(&format!("not taken: {error}"));
        if !(reopen && confirm::ask("Open it again?", "")?) {
            let kept = home.path().join("machines.toml.not-taken");
            std::fs::copy(&draft, &kept).map_err(io)?;
            return Err(Failure::new(code::LOCAL, "the book is as it was")
                .detail(error.to_string())
                .hint(format!("what you wrote is in {}", kept.display())));
        }
    }
}

/// What an empty book begins with in the editor.
const FIRST: &str = "# The book of machines.\n\n# [defaults]\n# user = \"keeper\"\n\n# [machines.lamp-01]\n# address = \"192.0.2.7\"\n# key = \"harbour\"\n# tags = [\"coast\"]\n";

/// Runs the user's editor on the file and waits for its end.
fn open_editor(file: &Path, line: u32) -> Result<(), Failure> {
    let named = ["VISUAL", "EDITOR"]
        .iter()
        .find_map(|name| std::env::var(name).ok().filter(|value| !value.is_empty()));
    let editor = named.unwrap_or_else(|| "vi".into());
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or("vi");
    let mut command = Command::new(program);
    command.args(words);
    // A plus and the line is what terminal editors share.
    let base = Path::new(program).file_name().and_then(|name| name.to_str()).unwrap_or_default();
    if line > 1 && ["vi", "vim", "nvim", "nano", "emacs", "kak", "micro", "joe"].contains(&base) {
        command.arg(format!("+{line}"));
    }
    let status = command.arg(file).status().map_err(|error| {
        Failure::new(code::LOCAL, format!("cannot run the editor {program}: {error}"))
            .hint("EDITOR names the editor: EDITOR=nano lantern machine edit")
    })?;
    match status.success() {
        true => Ok(()),
        false => Err(Failure::new(
            code::LOCAL,
            format!("the editor {program} ended with {status}; the book is as it was"),
        )),
    }
}
