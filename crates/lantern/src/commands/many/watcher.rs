//! What is seen of a run while it goes on: a table on a terminal, else lines with the machine in front, or JSON; and files for everything.

use std::collections::HashMap;
use std::fs::File;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use lantern_book::machine_file_name;
use lantern_operations::many::{Ending, ManyWatch, Phase};
use lantern_ssh::Stream;
use serde_json::json;

use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::machine_lines::{PACE, State, Table};
use crate::screen::many as view;
use crate::screen::output;
use crate::terminal::modes;

/// Longest line that is waited for, in bytes; what is longer is taken apart.
const LONGEST_LINE: usize = 64 * 1024;

/// What a run looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// A table, and a summary.
    Live,
    /// Lines with the machine in front.
    Lines,
    /// Lines of JSON.
    Json,
}

impl Form {
    pub(super) fn of(json: bool) -> Self {
        let terminal = std::io::stdout().is_terminal() && std::io::stderr().is_terminal();
        match (json, terminal && !output::is_quiet()) {
            (true, _) => Self::Json,
            (false, true) => Self::Live,
            (false, false) => Self::Lines,
        }
    }
}

/// What has come of a stream and is no whole line yet.
type Rests = HashMap<(usize, bool), Vec<u8>>;

struct Inside {
    table: Option<Table>,
    rests: Rests,
    files: HashMap<(usize, bool), File>,
    /// What could not be written to a file.
    failed: Option<String>,
}

/// What sees a run.
pub(super) struct Watcher {
    names: Vec<String>,
    form: Form,
    folder: Option<PathBuf>,
    inside: Arc<Mutex<Inside>>,
}

impl Watcher {
    pub(super) fn start(names: &[String], form: Form, to: Option<&Path>) -> Result<Arc<Self>, Failure> {
        if let Some(folder) = to {
            std::fs::create_dir_all(folder).map_err(|error| {
                Failure::new(code::LOCAL, format!("cannot make the folder {}: {error}", folder.display()))
            })?;
        }
        let table = (form == Form::Live).then(|| Table::start("done", names, false, modes::size));
        let inside = Inside { table, rests: HashMap::new(), files: HashMap::new(), failed: None };
        let inside = Arc::new(Mutex::new(inside));
        if form == Form::Live {
            let weak = Arc::downgrade(&inside);
            std::thread::spawn(move || {
                while let Some(inside) = weak.upgrade() {
                    if let Some(table) = &mut lock(&inside).table {
                        table.draw();
                    }
                    drop(inside);
                    std::thread::sleep(PACE);
                }
            });
        }
        Ok(Arc::new(Self { names: names.to_vec(), form, folder: to.map(Path::to_owned), inside }))
    }

    /// The watch of machines that stand behind so many others.
    pub(super) fn behind(self: &Arc<Self>, from: usize) -> Arc<dyn ManyWatch> {
        Arc::new(Behind { watcher: self.clone(), from })
    }

    /// Takes the table away for a while.
    pub(super) fn pause(&self) {
        if let Some(table) = &mut lock(&self.inside).table {
            table.pause();
        }
    }

    /// Takes the table away for good.
    ///
    /// # Errors
    /// Something could not be written to a file.
    pub(super) fn end(&self) -> Result<(), Failure> {
        let mut inside = lock(&self.inside);
        if let Some(mut table) = inside.table.take() {
            table.end();
        }
        match inside.failed.take() {
            Some(failed) => Err(Failure::new(code::LOCAL, failed)),
            None => Ok(()),
        }
    }

    fn name(&self, index: usize) -> &str {
        self.names.get(index).map_or("", String::as_str)
    }

    fn wrote(&self, index: usize, stream: Stream, piece: &[u8]) {
        let is_out = stream == Stream::Main;
        let mut inside = lock(&self.inside);
        if let Some(folder) = &self.folder {
            let failed = write_file(&mut inside.files, folder, self.name(index), (index, is_out), piece);
            if let Err(error) = failed {
                inside.failed.get_or_insert(error);
            }
        }
        for line in lines(inside.rests.entry((index, is_out)).or_default(), piece) {
            self.line(&mut inside, index, is_out, &line);
        }
    }

    fn line(&self, inside: &mut Inside, index: usize, is_out: bool, line: &[u8]) {
        let text = String::from_utf8_lossy(line);
        let text = text.trim_end_matches(['\n', '\r']);
        match self.form {
            Form::Live => {
                if let Some(table) = &mut inside.table
                    && !text.trim().is_empty()
                {
                    table.put(index, State::At(format!("running  {text}")));
                }
            }
            Form::Lines => {
                let name = self.name(index);
                let line = match goes_to_terminal(is_out) {
                    // Nobody passes for another there.
                    true => format!("{name}: {}\n", Fit::line(text)).into_bytes(),
                    false => {
                        [name.as_bytes(), b": ", line.strip_suffix(b"\n").unwrap_or(line), b"\n"].concat()
                    }
                };
                // Whoever reads no more has had enough.
                let _ = if is_out {
                    std::io::stdout().write_all(&line)
                } else {
                    std::io::stderr().write_all(&line)
                };
            }
            Form::Json => {
                let stream = if is_out { "out" } else { "err" };
                let value =
                    json!({ "event": "line", "machine": self.name(index), "stream": stream, "text": text });
                let _ = output::print_json_line(&value);
            }
        }
    }

    fn ended(&self, index: usize, ending: &Ending) {
        let mut inside = lock(&self.inside);
        for is_out in [true, false] {
            if let Some(rest) = inside.rests.remove(&(index, is_out)).filter(|rest| !rest.is_empty()) {
                self.line(&mut inside, index, is_out, &rest);
            }
            inside.files.remove(&(index, is_out));
        }
        let (rank, words) = view::ending(ending);
        if let Some(table) = &mut inside.table {
            table.put(index, State::Done(rank, words));
        }
    }
}

struct Behind {
    watcher: Arc<Watcher>,
    from: usize,
}

impl ManyWatch for Behind {
    fn phase(&self, index: usize, phase: Phase) {
        let words = match phase {
            Phase::Connecting => "connecting",
            Phase::Running => "running",
        };
        if let Some(table) = &mut lock(&self.watcher.inside).table {
            table.put(self.from + index, State::At(words.to_owned()));
        }
    }

    fn wrote(&self, index: usize, stream: Stream, piece: &[u8]) {
        self.watcher.wrote(self.from + index, stream, piece);
    }

    fn ended(&self, index: usize, ending: &Ending) {
        self.watcher.ended(self.from + index, ending);
    }
}

fn lock(inside: &Mutex<Inside>) -> MutexGuard<'_, Inside> {
    inside.lock().unwrap_or_else(PoisonError::into_inner)
}

fn goes_to_terminal(is_out: bool) -> bool {
    if is_out { std::io::stdout().is_terminal() } else { std::io::stderr().is_terminal() }
}

/// The lines that are whole now.
fn lines(rest: &mut Vec<u8>, piece: &[u8]) -> Vec<Vec<u8>> {
    let mut whole = Vec::new();
    for part in piece.split_inclusive(|byte| *byte == b'\n') {
        rest.extend_from_slice(part);
        if part.ends_with(b"\n") || rest.len() > LONGEST_LINE {
            whole.push(std::mem::take(rest));
        }
    }
    whole
}

fn write_file(
    files: &mut HashMap<(usize, bool), File>,
    folder: &Path,
    name: &str,
    (index, is_out): (usize, bool),
    piece: &[u8],
) -> Result<(), String> {
    let ending = if is_out { "out" } else { "err" };
    let name = machine_file_name(name).unwrap_or_else(|| format!("machine-{index}"));
    let path = folder.join(format!("{name}.{ending}"));
    let failed = |error: std::io::Error| format!("cannot write {}: {error}", path.display());
    let file = match files.entry((index, is_out)) {
        std::collections::hash_map::Entry::Occupied(entry) => entry.into_mut(),
        std::collections::hash_map::Entry::Vacant(entry) => {
            entry.insert(File::create(&path).map_err(failed)?)
        }
    };
    file.write_all(piece).map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_come_whole_however_their_bytes_come() {
        let text: Vec<u8> = (0..2_000).flat_map(|number| format!("lamp {number}\n").into_bytes()).collect();
        for at_once in [1, 7, 4_096, text.len()] {
            let mut rest = Vec::new();
            let all: Vec<_> = text.chunks(at_once).flat_map(|piece| lines(&mut rest, piece)).collect();
            assert!(rest.is_empty() && all.len() == 2_000 && all.concat() == text);
        }
        // What never ends in a line is not kept without end.
        let mut rest = Vec::new();
        let all = lines(&mut rest, &vec![b'x'; LONGEST_LINE + 1]);
        assert!(rest.is_empty() && all.len() == 1);
    }
}
