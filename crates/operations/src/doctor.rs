//! This computer alone: the home and who may change it, the keys, the keeper and other agents, the display, the clock, completions, the terminal.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use lantern_book::{Field, Home, Imports, KeyRing, MachineBook, TrustStore};
use lantern_link::{AgentClient, AgentSocket};

use crate::check::{Finding, Line, Mark, Mend, look_at_display, look_at_keeper};
use crate::display::{DisplayCause, DisplayPlace, DisplaySurroundings};
use crate::{chain, counted, quoted};

/// The clock of a computer that forgot the time stands at the beginning of its count, or when it was made: before this.
const LANTERN_IS_YOUNGER_THAN: &str = "2026-01-01T00:00:00Z";

/// What to do about a file that people seldom write.
const MEND_LINE: &str = "mend the line that is named, or take it out";

/// What is looked at, as the surroundings have it.
#[derive(Debug, Clone, Default)]
pub struct Surroundings {
    /// Who we are, by number.
    pub user: u32,
    /// Where the keeper would listen.
    pub keeper: PathBuf,
    /// Another agent's socket.
    pub agent: Option<PathBuf>,
    /// The display.
    pub display: DisplaySurroundings,
    /// Our own time.
    pub now: Timestamp,
    /// The kind of terminal, as `TERM` has it.
    pub terminal_type: Option<String>,
    /// Whether output goes to a terminal, and how wide that is, in cells.
    pub width: Option<usize>,
    /// Whether the locale has more characters than ASCII.
    pub has_all_characters: bool,
    /// The shell that is used.
    pub shell: Option<String>,
    /// Files in which completions for that shell would be.
    pub completions: Vec<PathBuf>,
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct Symptom {
    /// What it is about, in a word.
    pub about: &'static str,
    /// How it is.
    pub mark: Mark,
    /// What was seen.
    pub saw: String,
    /// What to do about it: something that can be mended here, or a command.
    pub mend: Option<Mend>,
    /// What to type, where nothing is to be mended by itself.
    pub next: Option<String>,
}

impl Symptom {
    fn new(about: &'static str, mark: Mark, saw: impl Into<String>) -> Self {
        Self { about, mark, saw: saw.into(), mend: None, next: None }
    }

    fn next(self, next: impl Into<String>) -> Self {
        Self { next: Some(next.into()), ..self }
    }

    fn mend(self, mend: Mend) -> Self {
        Self { mend: Some(mend), ..self }
    }

    /// A line of a check that is about this side.
    fn of(about: &'static str, line: Line) -> Self {
        let mut symptom = Self::new(about, line.mark, line.saw);
        match line.finding {
            Some(Finding::Mendable(mend)) => symptom.mend = Some(mend),
            Some(Finding::NoKeeper) => symptom.next = Some("lantern keeper add NAME".into()),
            Some(Finding::Display(DisplayCause::Unnamed | DisplayCause::NotThere)) => {
                symptom.next = Some("start the display server".into());
            }
            Some(Finding::Display(DisplayCause::NotLetIn { .. })) => {
                symptom.next = Some("set XAUTHORITY to the file with the display's cookie".into());
            }
            _ => {}
        }
        symptom
    }
}

/// Looks at everything, in order.
pub async fn examine(home: &Home, around: &Surroundings) -> Vec<Symptom> {
    let mut seen = Vec::new();
    look_at_home(home, around.user, &mut seen);
    look_at_files(home, &mut seen);
    look_at_keys(home, &mut seen);
    seen.push(Symptom::of("keeper", look_at_keeper(&around.keeper).await));
    if let Some(agent) = around.agent.as_ref().filter(|agent| **agent != around.keeper) {
        seen.push(look_at_agent(agent).await);
    }
    let start = MachineBook::load(home)
        .ok()
        .and_then(|book| book.effective_defaults().text(Field::DisplayStart).map(str::to_owned));
    seen.push(match (&around.display.name, &start) {
        (None, None) => {
            Symptom::new("display", Mark::Note, "DISPLAY is not set: programs of machines cannot draw here")
        }
        // It is missed by those who forward one.
        _ => {
            let place = DisplayPlace::new(home, &around.display, start);
            let line = look_at_display(&place, None).await;
            Symptom::of("display", Line { mark: line.mark.min(Mark::Note), ..line })
        }
    });
    look_at_clock(home, around.now, &mut seen);
    look_at_shell(around, &mut seen);
    seen
}

fn look_at_home(home: &Home, user: u32, seen: &mut Vec<Symptom>) {
    let path = home.path();
    let shown = path.display();
    let Ok(metadata) = fs::metadata(path) else {
        seen.push(Symptom::new(
            "home",
            Mark::Note,
            format!("{shown} is not there yet: the first command that keeps something makes it"),
        ));
        return;
    };
    let mode = metadata.permissions().mode() & 0o7777;
    if metadata.uid() != user {
        let saw = format!("{shown} belongs to another user (number {})", metadata.uid());
        seen.push(
            Symptom::new("home", Mark::Doubt, saw).next("--home or LANTERN_HOME with a folder of your own"),
        );
    } else if mode & 0o077 != 0 {
        let saw = format!("others can look into {shown} (mode {mode:04o})");
        seen.push(Symptom::new("home", Mark::Doubt, saw).mend(Mend::Narrow(path.to_owned(), 0o700)));
    } else {
        seen.push(Symptom::new("home", Mark::Good, format!("{shown}, yours alone")));
    }
    // A name of our own, made and gone at once.
    let probe = path.join(format!(".doctor-{}", std::process::id()));
    match fs::write(&probe, [0; 4096]).and_then(|()| fs::remove_file(&probe)) {
        Ok(()) => seen.push(Symptom::new("disk", Mark::Good, "the home can be written to")),
        Err(error) => {
            let _ = fs::remove_file(&probe);
            seen.push(Symptom::new("disk", Mark::Doubt, format!("the home cannot be written to: {error}")));
        }
    }
}

fn look_at_files(home: &Home, seen: &mut Vec<Symptom>) {
    let good = |about, saw: String| Symptom::new(about, Mark::Good, saw);
    let bad = |about, error: &lantern_book::BookError| {
        Symptom::new(about, Mark::Doubt, chain(error)).next("lantern machine edit")
    };
    match MachineBook::load(home).and_then(|book| book.check().map(|()| book)) {
        Ok(book) => seen.push(good("book", counted(book.iter().count(), "machine"))),
        Err(error) => seen.push(bad("book", &error)),
    }
    match TrustStore::load(home).and_then(|trust| trust.records().map(|records| records.len())) {
        Ok(known) => seen.push(good("trust", format!("{} met", counted(known, "machine")))),
        Err(error) => seen.push(Symptom::new("trust", Mark::Doubt, chain(&error)).next(MEND_LINE)),
    }
    if let Err(error) = Imports::load(home) {
        seen.push(Symptom::new("imports", Mark::Doubt, chain(&error)).next(MEND_LINE));
    }
}

fn look_at_keys(home: &Home, seen: &mut Vec<Symptom>) {
    let ring = KeyRing::new(home);
    let summaries = match ring.summaries() {
        Ok(summaries) => summaries,
        Err(error) => return seen.push(Symptom::new("keys", Mark::Doubt, chain(&error))),
    };
    let mut well = 0;
    for (name, key) in &summaries {
        match key {
            Ok(key) if key.is_exposed() => {
                let path = ring.private_path(name);
                let saw = format!("others can read {} (mode {:04o})", path.display(), key.mode & 0o7777);
                seen.push(Symptom::new("keys", Mark::Doubt, saw).mend(Mend::Narrow(path, 0o600)));
            }
            Ok(_) => well += 1,
            Err(error) => {
                seen.push(Symptom::new("keys", Mark::Doubt, chain(error)).next("lantern key audit"))
            }
        }
    }
    for (name, _) in ring.lost().unwrap_or_default() {
        let saw = format!("the private file of {name} is gone");
        seen.push(Symptom::new("keys", Mark::Doubt, saw).next("lantern key audit"));
    }
    match (summaries.len(), well) {
        (0, _) => {
            seen.push(Symptom::new("keys", Mark::Note, "the ring is empty").next("lantern key new NAME"))
        }
        // What is wrong with all of them was told.
        (_, 0) => {}
        _ => seen.push(Symptom::new(
            "keys",
            Mark::Good,
            format!("{} in the ring, closed to others", counted(well, "key")),
        )),
    }
}

async fn look_at_agent(socket: &Path) -> Symptom {
    let agent = AgentSocket { path: socket.to_owned(), what: "the agent" };
    let listed = match AgentClient::connect(&agent).await {
        Ok(mut client) => client.list().await.map(|keys| keys.len()),
        Err(error) => Err(error),
    };
    match listed {
        Ok(keys) => Symptom::new(
            "agent",
            Mark::Good,
            format!("another agent runs and holds {}", counted(keys, "key")),
        ),
        Err(error) => {
            let saw = format!("SSH_AUTH_SOCK names an agent that does not answer: {}", chain(&error));
            Symptom::new("agent", Mark::Note, saw).next("unset SSH_AUTH_SOCK")
        }
    }
}

/// A clock that is wrong makes certificates, codes and tickets fail.
fn look_at_clock(home: &Home, now: Timestamp, seen: &mut Vec<Symptom>) {
    let floor: Option<Timestamp> = LANTERN_IS_YOUNGER_THAN.parse().ok();
    let records = TrustStore::load(home).and_then(|trust| trust.records()).unwrap_or_default();
    let latest = records.values().flat_map(|record| &record.keys).map(|known| known.last_seen).max();
    let day = now.strftime("%Y-%m-%d %H:%M UTC");
    let mend = "timedatectl status";
    if floor.is_some_and(|floor| now < floor) {
        let saw = format!("it says {day}, which is before lantern was made");
        seen.push(Symptom::new("clock", Mark::Doubt, saw).next(mend));
    } else if let Some(latest) = latest.filter(|latest| *latest > now) {
        let saw = format!(
            "it says {day}, and a machine was seen after that, {}",
            latest.strftime("%Y-%m-%d %H:%M UTC")
        );
        seen.push(Symptom::new("clock", Mark::Doubt, saw).next(mend));
    } else {
        seen.push(Symptom::new(
            "clock",
            Mark::Good,
            format!("it says {day}; `lantern check` compares it with machines"),
        ));
    }
}

fn look_at_shell(around: &Surroundings, seen: &mut Vec<Symptom>) {
    let term = around.terminal_type.as_deref().unwrap_or_default();
    let locale = if around.has_all_characters { "UTF-8" } else { "ASCII only" };
    match (around.width, term) {
        (None, _) => seen.push(Symptom::new("terminal", Mark::Note, "output goes to no terminal")),
        (Some(_), "" | "dumb") => {
            seen.push(
                Symptom::new("terminal", Mark::Note, "TERM says nothing of it: no colors, no title")
                    .next("export TERM=xterm-256color"),
            );
        }
        (Some(width), term) => {
            seen.push(Symptom::new("terminal", Mark::Good, format!("{term}, {width} columns, {locale}")));
        }
    }
    if !around.has_all_characters {
        seen.push(
            Symptom::new("locale", Mark::Note, "it has ASCII only: arrows and marks are drawn in it")
                .next("export LANG=C.UTF-8"),
        );
    }
    let shell =
        around.shell.as_deref().and_then(|shell| Path::new(shell).file_name()).and_then(|name| name.to_str());
    let Some(shell) = shell.filter(|shell| ["bash", "zsh", "fish", "elvish"].contains(shell)) else { return };
    match around.completions.iter().find(|path| path.exists()) {
        Some(path) => {
            seen.push(Symptom::new("completions", Mark::Good, format!("for {shell}, in {}", path.display())))
        }
        None => {
            let saw = format!("{shell} does not complete what lantern knows");
            let place = around.completions.first().and_then(|path| Some((path.parent()?, path)));
            let next = match place {
                None => format!("lantern completions {shell}"),
                Some((folder, path)) => {
                    let (folder, path) = (quoted(folder), quoted(path));
                    format!("mkdir -p {folder} && lantern completions {shell} > {path}")
                }
            };
            seen.push(Symptom::new("completions", Mark::Note, saw).next(next));
        }
    }
}
