//! `lantern edit`: a file of a machine in the user's own editor.

use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use lantern_book::Home;
use lantern_operations::edit::{DraftWatch, EditFault, RemoteFile, Saved, merged};
use lantern_operations::files::{Side, name_of};
use serde_json::json;
use tokio::process::{Child, Command};
use tokio::signal::unix::SignalKind;

use super::places::{Place, places, reach, typed};
use super::{block_on, watch};
use crate::cli::edit::EditArgs;
use crate::cli::global::Global;
use crate::cli::machine::selection::ExceptArgs;
use crate::cli::settings;
use crate::commands::connecting::asking_as;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::confirm;
use crate::terminal::editor::{cannot_start, editor};
use crate::terminal::prompt::Terminal;

/// How often a draft is looked at while an editor has it.
const PACE: Duration = Duration::from_millis(200);
/// An editor that ends sooner than this, and has saved nothing, has opened a window and left it.
const LEAVES: Duration = Duration::from_secs(2);

impl From<EditFault> for Failure {
    fn from(fault: EditFault) -> Self {
        match &fault {
            EditFault::File(fault) => fault.into(),
            EditFault::NotThere { .. } => Self::new(code::SESSION, fault.to_string()).hint("--new begins it"),
            _ => Self::new(code::USAGE, fault.to_string()),
        }
    }
}

pub(crate) fn run(args: &EditArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ask = asking_as(&args.connect, &args.acting)?;
    // What was typed once serves again when a connection is made anew.
    ask.remember();
    let mut all = places(&home, &[&args.place], &ExceptArgs { except: Vec::new() }, &args.connect)?;
    let (Some(place), true) = (all.pop(), all.is_empty()) else {
        return Err(Failure::new(code::USAGE, "one file at a time is edited"));
    };
    let saves = block_on(async {
        let acts_as = args.acting.other.as_deref().or(place.errand.target.acts_as.as_deref());
        let side = reach(&home, &place.errand, acts_as, &ask).await?;
        let file = RemoteFile::fetch(&side, &place.path, args.new).await?;
        let mut editing = Editing::begin(&home, &place, acts_as, &ask, side, file)?;
        let saves = editing.go_on(args.connect.no_questions).await;
        editing.side.leave().await;
        saves
    })?;
    if global.json {
        let path = shown(&place.path);
        output::print_json(&json!({ "machine": place.errand.target.name, "path": path, "saves": saves }))?;
    }
    place.errand.keep(&home, &ask)?;
    Ok(0)
}

/// A file that is being edited.
struct Editing<'a> {
    home: &'a Home,
    place: &'a Place,
    acts_as: Option<&'a str>,
    ask: &'a TerminalAsk,
    side: Side,
    file: RemoteFile,
    /// Goes with everything in it.
    _folder: tempfile::TempDir,
    draft: PathBuf,
    watch: DraftWatch,
    saves: usize,
    /// What was in the draft when it was looked at last.
    taken: Vec<u8>,
    /// What could not be put back, and why.
    unsaved: Option<Unsaved>,
}

/// A draft that is not on its machine.
enum Unsaved {
    /// Somebody else has changed the file: this is there now.
    Conflict(Vec<u8>, Option<Vec<u8>>),
    /// It could not be written.
    Failed(Vec<u8>, Failure),
}

impl<'a> Editing<'a> {
    fn begin(
        home: &'a Home,
        place: &'a Place,
        acts_as: Option<&'a str>,
        ask: &'a TerminalAsk,
        side: Side,
        file: RemoteFile,
    ) -> Result<Self, Failure> {
        // In the home, which nobody else can read.
        let parent = home.folder("drafts")?;
        let cannot = |error: std::io::Error| {
            Failure::new(code::LOCAL, format!("cannot write a draft in {}: {error}", parent.display()))
        };
        let folder = tempfile::Builder::new().prefix(".edit-").tempdir_in(&parent).map_err(cannot)?;
        let name = match name_of(file.path()) {
            b"" => b"draft",
            name => name,
        };
        let draft = folder.path().join(Path::new(std::ffi::OsStr::from_bytes(name)));
        write_private(&draft, file.content()).map_err(cannot)?;
        let (watch, taken) = (DraftWatch::new(&draft), file.content().to_vec());
        Ok(Self {
            home,
            place,
            acts_as,
            ask,
            side,
            file,
            _folder: folder,
            draft,
            watch,
            saves: 0,
            taken,
            unsaved: None,
        })
    }

    fn machine(&self) -> &str {
        &self.place.errand.target.name
    }

    /// Until the editor is closed and all is settled; how often it was saved.
    async fn go_on(&mut self, no_questions: bool) -> Result<usize, Failure> {
        // They are the editor's, which may have the same terminal.
        let _interrupts = watch(SignalKind::interrupt())?;
        self.edit(no_questions).await?;
        loop {
            match self.unsaved.take() {
                None => break,
                Some(Unsaved::Failed(text, failure)) => return Err(self.keep_draft(&text, failure)),
                Some(Unsaved::Conflict(mine, theirs)) => {
                    if !self.settle(mine, theirs, no_questions).await? {
                        break;
                    }
                }
            }
        }
        match self.saves {
            0 => output::say("Nothing was changed."),
            1 => output::say(format!("Saved on {}.", self.machine())),
            saves => output::say(format!("Saved on {} {saves} times.", self.machine())),
        }
        Ok(self.saves)
    }

    /// Runs the editor, and puts the draft back at each save.
    async fn edit(&mut self, no_questions: bool) -> Result<(), Failure> {
        let without = "without one: lantern copy MACHINE:PATH . and back";
        let (program, arguments) = editor(&self.draft, 1, without)?;
        let begun = Instant::now();
        let mut child = Command::new(&program)
            .args(&arguments)
            .spawn()
            .map_err(|error| cannot_start(&program, &error, "lantern edit MACHINE:PATH"))?;
        let status = self.attend(&mut child).await?;
        if !status.success() {
            output::warn(format!("the editor {program} ended with {status}"));
        }
        let before = self.saves;
        self.look(true).await;
        let left =
            begun.elapsed() < LEAVES && before == self.saves && self.unsaved.is_none() && status.success();
        if left && !no_questions && Terminal::open().is_some() {
            output::say("If the editor has opened a window: it is watched until you press Enter here.");
            let mut enter = tokio::task::spawn_blocking(|| confirm::line("Enter when done: ", ""));
            loop {
                tokio::select! {
                    _ = &mut enter => break,
                    () = tokio::time::sleep(PACE) => self.look(false).await,
                }
            }
            self.look(true).await;
        }
        Ok(())
    }

    async fn attend(&mut self, child: &mut Child) -> Result<std::process::ExitStatus, Failure> {
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        loop {
            tokio::select! {
                _ = terminations.recv() => return Err(self.end_by_signal().await),
                _ = hangups.recv() => return Err(self.end_by_signal().await),
                ended = child.wait() => {
                    return ended.map_err(|error| Failure::new(code::LOCAL, format!("cannot wait for the editor: {error}")));
                }
                () = tokio::time::sleep(PACE) => self.look(false).await,
            }
        }
    }

    /// We are told to end: what was saved in the editor is put back, or kept here.
    async fn end_by_signal(&mut self) -> Failure {
        self.look(true).await;
        let ended = Failure::new(code::INTERRUPTED, "ended by a signal, while the editor was open");
        match self.unsaved.take() {
            Some(Unsaved::Conflict(text, _) | Unsaved::Failed(text, _)) => self.keep_draft(&text, ended),
            None => ended,
        }
    }

    /// Puts the draft back where it was saved; at the end, however lately that was.
    async fn look(&mut self, at_end: bool) {
        if !at_end && !self.watch.is_saved(Instant::now()) {
            return;
        }
        let text = match self.watch.take() {
            Ok(text) => text,
            // What was in it when it was looked at last is all that can be kept.
            Err(error) if at_end && error.kind() != std::io::ErrorKind::NotFound => {
                let words = format!("cannot read the draft {}: {error}", self.draft.display());
                self.unsaved = Some(Unsaved::Failed(self.taken.clone(), Failure::new(code::LOCAL, words)));
                return;
            }
            Err(_) => return,
        };
        // What could not be put back is tried once more at the end, as it is then.
        let is_due = at_end && matches!(self.unsaved, Some(Unsaved::Failed(..)));
        if text == self.taken && !is_due {
            return;
        }
        self.taken.clone_from(&text);
        let (text, _) = self.file.with_its_line_ends(text);
        self.save(text, false).await;
    }

    async fn save(&mut self, text: Vec<u8>, over: bool) {
        let mut saved = self.file.save(&self.side, &text, over).await;
        if matches!(&saved, Err(EditFault::File(fault)) if fault.is_end()) {
            // The connection may have been lost meanwhile: once more, on a new one.
            if let Ok(side) = reach(self.home, &self.place.errand, self.acts_as, self.ask).await {
                self.side = side;
                saved = self.file.save(&self.side, &text, over).await;
            }
        }
        self.unsaved = match saved {
            Ok(Saved::Done | Saved::InPlace) => {
                self.saves += 1;
                None
            }
            Ok(Saved::Conflict(theirs)) => Some(Unsaved::Conflict(text, theirs)),
            Err(fault) => Some(Unsaved::Failed(text, fault.into())),
        };
    }

    /// Somebody else has changed the file: asks what is to become of both. Whether there is more to settle.
    async fn settle(
        &mut self,
        mine: Vec<u8>,
        theirs: Option<Vec<u8>>,
        no_questions: bool,
    ) -> Result<bool, Failure> {
        let path = shown(self.file.path()).into_owned();
        let what = if theirs.is_some() { "was changed" } else { "was removed" };
        let failure = Failure::new(code::SESSION, format!("{path} {what} on {} meanwhile", self.machine()));
        if no_questions || Terminal::open().is_none() {
            return Err(self.keep_draft(&mine, failure));
        }
        output::warn(format!("{path} {what} on {} while you edited it.", self.machine()));
        output::say("mine    puts what you wrote in its place");
        output::say("theirs  leaves what is there; what you wrote is kept here as a draft");
        output::say("both    opens the editor again, with both where they differ");
        loop {
            let asked = tokio::task::spawn_blocking(|| confirm::line("mine, theirs or both: ", "")).await;
            let answer = asked.map_err(|_| Failure::new(code::INTERNAL, "the question broke off"))?;
            match answer.as_ref().map(|answer| answer.as_deref().unwrap_or("")) {
                Ok("mine") => {
                    self.save(mine, true).await;
                    return match self.unsaved.take() {
                        Some(Unsaved::Failed(text, failure)) => Err(self.keep_draft(&text, failure)),
                        _ => Ok(false),
                    };
                }
                Ok("theirs") => {
                    let kept = self.draft_file(&mine)?;
                    output::say(format!("What you wrote is in {}.", kept.display()));
                    return Ok(false);
                }
                Ok("both") => {
                    let theirs = theirs.unwrap_or_default();
                    let both = merged(&String::from_utf8_lossy(&theirs), &String::from_utf8_lossy(&mine));
                    let anew = RemoteFile::fetch(&self.side, self.file.path(), true).await;
                    let written = write_private(&self.draft, both.as_bytes());
                    match (anew, written) {
                        (Ok(anew), Ok(())) => self.file = anew,
                        (Err(fault), _) => return Err(self.keep_draft(&mine, fault.into())),
                        (_, Err(error)) => {
                            let failure =
                                Failure::new(code::LOCAL, format!("cannot write the draft: {error}"));
                            return Err(self.keep_draft(&mine, failure));
                        }
                    }
                    (self.watch, self.taken) = (DraftWatch::new(&self.draft), both.into_bytes());
                    let before = self.saves;
                    self.edit(no_questions).await?;
                    if self.saves == before && self.unsaved.is_none() {
                        let kept = self.draft_file(&mine)?;
                        output::say(format!(
                            "Nothing was saved; what you wrote first is in {}.",
                            kept.display()
                        ));
                    }
                    return Ok(self.unsaved.is_some());
                }
                Ok(_) => {}
                Err(_) => return Err(self.keep_draft(&mine, failure)),
            }
        }
    }

    /// Keeps what could not be put back, and says where.
    fn keep_draft(&self, text: &[u8], failure: Failure) -> Failure {
        match self.draft_file(text) {
            Ok(path) => failure.detail(format!("what you wrote is in {}", path.display())).hint(format!(
                "to put it there: lantern copy {} {}",
                lantern_operations::quoted(&path),
                typed(self.machine(), self.file.path())
            )),
            Err(other) => failure.detail(other.headline),
        }
    }

    fn draft_file(&self, text: &[u8]) -> Result<PathBuf, Failure> {
        let folder = self.home.folder("drafts")?;
        let name = self.draft.file_name().unwrap_or_default().to_string_lossy().into_owned();
        for number in 1.. {
            let path = folder.join(format!("{}-{number}-{name}", self.machine()));
            match write_new(&path, text) {
                Ok(()) => return Ok(path),
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists && number < 10_000 => {}
                Err(error) => {
                    return Err(Failure::new(
                        code::LOCAL,
                        format!("cannot keep the draft {}: {error}", path.display()),
                    ));
                }
            }
        }
        Err(Failure::new(code::INTERNAL, "no name for the draft"))
    }
}

fn write_new(path: &Path, text: &[u8]) -> std::io::Result<()> {
    std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?.write_all(text)
}

fn write_private(path: &Path, text: &[u8]) -> std::io::Result<()> {
    let mut file =
        std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
    file.write_all(text)
}
