//! How far a copy is: on a terminal a line for each file that is under way, and one for all of it; for scripts a line of JSON for each that ends.

use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use lantern_operations::copy::{CopyWatch, News, Plan};
use serde_json::json;

use super::rate::{Rate, time_words};
use super::shown;
use crate::screen::fit::Fit;
use crate::screen::live_lines::LiveLines;
use crate::screen::size::bytes;
use crate::screen::table::{put_cut, width};
use crate::screen::{output, wrap};

/// Nothing is shown before this.
const PATIENCE: Duration = Duration::from_secs(1);
/// It is drawn so often.
const PACE: Duration = Duration::from_millis(150);
/// Most files that have a line.
const MOST_LINES: usize = 8;
/// Width from which on sizes are told beside names, in columns.
const WIDE: usize = 40;
/// Width where the terminal does not say, in columns.
const USUAL_WIDTH: usize = 80;

/// A file that is under way.
#[derive(Debug)]
struct Active {
    path: String,
    bytes: u64,
    done: u64,
    verifies: bool,
}

#[derive(Debug)]
struct State {
    labels: Vec<String>,
    found: usize,
    files: usize,
    ended: usize,
    bytes: u64,
    done: u64,
    active: BTreeMap<(usize, usize), Active>,
    rate: Rate,
    lines: LiveLines,
    since: Instant,
    is_drawn: bool,
    is_over: bool,
}

/// How far a copy is.
#[derive(Debug)]
pub(crate) struct Board {
    state: Mutex<State>,
    json: bool,
}

impl Board {
    /// Begins to watch jobs that are called so.
    pub(crate) fn start(json: bool, labels: Vec<String>) -> Arc<Self> {
        let state = State {
            labels,
            found: 0,
            files: 0,
            ended: 0,
            bytes: 0,
            done: 0,
            active: BTreeMap::new(),
            rate: Rate::default(),
            lines: LiveLines::default(),
            since: Instant::now(),
            is_drawn: false,
            is_over: false,
        };
        let board = Arc::new(Self { state: Mutex::new(state), json });
        if !json && std::io::stderr().is_terminal() && !output::is_quiet() {
            let board = board.clone();
            std::thread::spawn(move || {
                while board.draw() {
                    std::thread::sleep(PACE);
                }
            });
        }
        board
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether what happens is told as JSON.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Who watches one of the jobs.
    pub(crate) fn watch(self: &Arc<Self>, job: usize) -> Arc<dyn CopyWatch> {
        Arc::new(JobWatch { board: self.clone(), job })
    }

    /// It is known what is to be done.
    pub(crate) fn planned(&self, _job: usize, plan: &Plan) {
        let mut state = self.lock();
        state.files += plan.files.len();
        state.bytes += plan.bytes();
    }

    /// Takes the lines away for a question, until something happens again.
    pub(crate) fn pause(&self) {
        let mut state = self.lock();
        state.lines.clear();
        state.is_drawn = false;
        state.since = Instant::now();
    }

    /// Takes the lines away: what came of it follows.
    pub(crate) fn end(&self) {
        let mut state = self.lock();
        if state.is_drawn {
            state.lines.clear();
        }
        (state.is_drawn, state.is_over) = (false, true);
    }

    /// Draws it; whether to go on with that.
    fn draw(&self) -> bool {
        let mut state = self.lock();
        if state.is_over {
            return false;
        }
        let now = Instant::now();
        let done = state.done;
        state.rate.note(done, now);
        // Until there is something to tell, the terminal may be asking for a password.
        let has_begun = state.found > 0 || state.files > 0 || !state.active.is_empty();
        if has_begun && now.saturating_duration_since(state.since) > PATIENCE {
            let width = wrap::width(&std::io::stderr()).unwrap_or(USUAL_WIDTH);
            let text = picture(&state, width);
            state.lines.draw(&text);
            state.is_drawn = true;
        }
        true
    }

    fn tell(&self, job: usize, news: &News<'_>) {
        let state = self.lock();
        let machine = state.labels.get(job).cloned().unwrap_or_default();
        drop(state);
        let News::Ended { path, outcome, .. } = news else { return };
        let path = shown(path);
        let value = match outcome {
            Ok(moved) if moved.same => json!({
                "event": "left", "machine": machine, "path": path, "reason": "same",
            }),
            Ok(moved) => json!({
                "event": "copied", "machine": machine, "path": path, "bytes": moved.bytes,
                "from_before": moved.from_before, "holes": moved.holes, "verified": moved.verified,
            }),
            // What failed is told at the end, with everything else that did.
            Err(_) => return,
        };
        // Whoever reads no more has had enough.
        let _ = output::print_json_line(&value);
    }
}

struct JobWatch {
    board: Arc<Board>,
    job: usize,
}

impl CopyWatch for JobWatch {
    fn news(&self, news: News<'_>) {
        if self.board.json {
            self.board.tell(self.job, &news);
        }
        let mut state = self.board.lock();
        match news {
            News::Found(found) => state.found = state.found.max(found),
            News::Begins { number, path, bytes, from } => {
                let several = state.labels.len() > 1;
                let label = state.labels.get(self.job).filter(|_| several);
                let path = match label {
                    Some(label) => format!("{label}: {}", shown(path)),
                    None => shown(path).into_owned(),
                };
                state.done += from;
                let active = Active { path, bytes, done: from, verifies: false };
                state.active.insert((self.job, number), active);
            }
            News::Bytes { number, bytes } => {
                state.done += bytes;
                if let Some(active) = state.active.get_mut(&(self.job, number)) {
                    active.done += bytes;
                }
            }
            News::Verifies { number } => {
                if let Some(active) = state.active.get_mut(&(self.job, number)) {
                    active.verifies = true;
                }
            }
            News::Ended { number, outcome, .. } => {
                state.ended += 1;
                if let Some(active) = state.active.remove(&(self.job, number)) {
                    // Holes were not sent, and are there.
                    match outcome {
                        Ok(_) => state.done += active.bytes.saturating_sub(active.done),
                        Err(_) => state.done = state.done.saturating_sub(active.done),
                    }
                } else if let Ok(moved) = outcome {
                    state.done += moved.bytes;
                }
            }
            News::OneAtATime { machine } => {
                let was_drawn = std::mem::take(&mut state.is_drawn);
                if was_drawn {
                    state.lines.clear();
                }
                output::warn(format!(
                    "the file service of {machine} mixes up files that are open at the same time: one at a time from now on"
                ));
            }
        }
    }
}

/// The lines as they are now, none wider than that.
fn picture(state: &State, columns: usize) -> String {
    let room = columns.saturating_sub(1).max(20);
    let mut text = String::new();
    for active in state.active.values().take(MOST_LINES) {
        let far = match (active.verifies, active.bytes) {
            (true, _) => "comparing".to_owned(),
            (_, 0) => bytes(active.done),
            (_, all) => format!("{:>3} %", (active.done.min(all) as f64 / all as f64 * 100.0) as u64),
        };
        // Where there is little room, the name matters more.
        let tells_size = active.bytes > 0 && columns >= WIDE;
        let of = if tells_size { format!("  of {}", bytes(active.bytes)) } else { String::new() };
        let end = format!("{far}{of}");
        put_line(&mut text, &active.path, &end, room);
    }
    let more = state.active.len().saturating_sub(MOST_LINES);
    if more > 0 {
        put_line(&mut text, &format!("and {more} more"), "", room);
    }
    let total = total(state);
    let mut line = String::new();
    match width(&total) <= room {
        true => line.push_str(&total),
        false => drop(put_cut(&mut line, &total, room)),
    }
    text.push_str(&line);
    text.push('\n');
    text
}

/// A path on the left, as much of its end as there is room for, and how far it is on the right.
fn put_line(text: &mut String, path: &str, end: &str, room: usize) {
    let path = Fit::line(path);
    let room = room.saturating_sub(2 + 2 + width(end)).max(4);
    let mut name = path.as_str();
    let mut cut = "";
    while width(name) + cut.len().min(1) > room {
        let mut rest = name.chars();
        rest.next();
        name = rest.as_str();
        cut = "…";
    }
    let cut = if cut.is_empty() { String::new() } else { wrap::cut_mark().to_string() };
    let pad = room.saturating_sub(width(name) + width(&cut));
    text.push_str(&format!("  {cut}{name}{}  {end}\n", " ".repeat(pad)));
}

fn total(state: &State) -> String {
    if state.files == 0 && state.bytes == 0 && state.active.is_empty() {
        return format!("looking: {} found", state.found);
    }
    let mut parts = Vec::new();
    if state.files > 1 {
        parts.push(format!("{} of {} files", state.ended, state.files));
    }
    match state.bytes {
        0 => parts.push(bytes(state.done)),
        all => parts.push(format!("{} of {}", bytes(state.done.min(all)), bytes(all))),
    }
    if let Some(rate) = state.rate.a_second() {
        if rate < 1.0 {
            parts.push("standing still".to_owned());
        } else {
            parts.push(format!("{}/s", bytes(rate as u64)));
            let left = state.bytes.saturating_sub(state.done);
            if left > 0 {
                parts.push(format!("{} left", time_words(left as f64 / rate)));
            }
        }
    }
    parts.join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn state(files: usize) -> State {
        let active = (0..files).map(|number| {
            let path = format!("/srv/\x1b[2Jsite/a-long-name-of-a-chart-{number}.svg");
            ((0, number), Active { path, bytes: 1_000_000, done: 250_000, verifies: number == 1 })
        });
        State {
            labels: vec!["lamp-01".into()],
            found: files,
            files,
            ended: 2,
            bytes: 1_000_000 * files as u64,
            done: 250_000 * files as u64,
            active: active.collect(),
            rate: Rate::default(),
            lines: LiveLines::default(),
            since: Instant::now(),
            is_drawn: false,
            is_over: false,
        }
    }

    #[test]
    fn it_fits_the_terminal_and_steers_nothing() {
        for columns in [20, 40, 80, 200] {
            let picture = picture(&state(30), columns);
            assert_eq!(picture.lines().count(), MOST_LINES + 2, "{picture}");
            assert!(picture.lines().all(|line| width(line) < columns.max(21)), "{columns}: {picture}");
            assert!(!picture.contains('\x1b'), "{picture:?}");
        }
        let wide = picture(&state(3), 100);
        assert!(wide.contains("25 %  of 1.0 MB") && wide.contains("comparing"), "{wide}");
        assert!(wide.ends_with("2 of 3 files, 750 kB of 3.0 MB\n"), "{wide}");
    }
}
