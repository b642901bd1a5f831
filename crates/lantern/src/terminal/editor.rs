//! The user's own editor.

use std::path::Path;

use crate::screen::failure::{Failure, code};

/// The command that opens a file in the user's editor: its program, and the words behind it. At a line, where the editor is one that is known to
/// take that.
///
/// # Errors
/// Nothing names one, and there is no terminal for the usual one; `without` says what to type then.
pub(crate) fn editor(
    file: &Path,
    line: u32,
    without: &str,
) -> Result<(String, Vec<std::ffi::OsString>), Failure> {
    let named = ["VISUAL", "EDITOR"]
        .iter()
        .find_map(|name| std::env::var(name).ok().filter(|value| !value.trim().is_empty()));
    if named.is_none() && !std::io::IsTerminal::is_terminal(&std::io::stdout()) {
        return Err(Failure::new(code::USAGE, "an editor needs a terminal").hint(without));
    }
    let editor = named.unwrap_or_else(|| "vi".into());
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or("vi").to_owned();
    let mut arguments: Vec<_> = words.map(std::ffi::OsString::from).collect();
    // A plus and the line is what terminal editors share.
    let base = Path::new(&program).file_name().and_then(|name| name.to_str()).unwrap_or_default();
    if line > 1 && ["vi", "vim", "nvim", "nano", "emacs", "kak", "micro", "joe"].contains(&base) {
        arguments.push(format!("+{line}").into());
    }
    arguments.push(file.into());
    Ok((program, arguments))
}

/// An editor that cannot be started.
pub(crate) fn cannot_start(program: &str, error: &std::io::Error, typed: &str) -> Failure {
    Failure::new(code::LOCAL, format!("cannot run the editor {program}: {error}"))
        .hint(format!("EDITOR names the editor: EDITOR=nano {typed}"))
}
