//! Lines that are typed with editing, history and completion. The editor blocks, so it has a thread; what it wants comes as events.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::sync::mpsc as std_mpsc;
use std::thread;
use std::time::Duration;

use lantern_operations::remoting::{Completions, is_whole};
use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};
use rustyline::completion::Completer;
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::FileHistory;
use rustyline::validate::{ValidationContext, ValidationResult, Validator};
use rustyline::{CompletionType, Config, Context, Editor, Helper};
use tokio::sync::mpsc;
use tracing::debug;

/// Most lines that are kept for a machine.
const MAX_HISTORY: usize = 2000;
/// How long a machine is waited for that is asked what a word may become.
pub(crate) const PATIENCE: Duration = Duration::from_secs(3);

/// What comes of an editor.
#[derive(Debug)]
pub(crate) enum Typed {
    /// A line, or several that belong together.
    Line(String),
    /// Ctrl-C: what was begun is given up.
    Interrupted,
    /// Ctrl-D on an empty line, or the terminal went away.
    Ended,
    /// It cannot be used.
    Failed(String),
    /// What may the word before this place become?
    Complete {
        /// The line.
        line: String,
        /// The place, in bytes.
        at: usize,
        /// Whom to tell.
        answer: std_mpsc::Sender<Completions>,
    },
}

/// An editor on its thread. When this is dropped, the terminal is as it was before.
pub(crate) struct LineEditor {
    prompts: std_mpsc::Sender<(String, String)>,
    typed: mpsc::UnboundedReceiver<Typed>,
    before: Option<Termios>,
}

impl LineEditor {
    /// Starts one whose lines are kept in this file; without one, nothing is kept.
    pub(crate) fn start(history: Option<PathBuf>) -> Self {
        let (prompts, wanted) = std_mpsc::channel::<(String, String)>();
        let (sender, typed) = mpsc::unbounded_channel();
        let before = tcgetattr(std::io::stdin()).ok();
        thread::spawn(move || {
            let mut editor = match editor(sender.clone(), history.as_deref()) {
                Ok(editor) => editor,
                Err(error) => {
                    let _ = sender.send(Typed::Failed(error.to_string()));
                    return;
                }
            };
            for (plain, shown) in wanted {
                if let Some(asking) = editor.helper_mut() {
                    asking.shown = shown;
                }
                let typed = match editor.readline(&plain) {
                    Ok(line) => {
                        keep(&mut editor, history.as_deref(), &line);
                        Typed::Line(line)
                    }
                    Err(ReadlineError::Interrupted) => Typed::Interrupted,
                    Err(ReadlineError::Eof) => Typed::Ended,
                    Err(error) => Typed::Failed(error.to_string()),
                };
                if sender.send(typed).is_err() {
                    return;
                }
            }
        });
        Self { prompts, typed, before }
    }

    /// Asks for a line: the prompt as text, and as it is shown, in colour.
    pub(crate) fn ask(&self, plain: String, shown: String) {
        // A thread that ended has said why.
        let _ = self.prompts.send((plain, shown));
    }

    /// What comes of it. Dropping the future loses nothing.
    pub(crate) async fn next(&mut self) -> Typed {
        self.typed.recv().await.unwrap_or(Typed::Ended)
    }
}

impl Drop for LineEditor {
    fn drop(&mut self) {
        // It may be in the middle of a line, and its thread ends with us.
        if let Some(before) = &self.before {
            let _ = tcsetattr(std::io::stdin(), OptionalActions::Drain, before);
        }
    }
}

type OurEditor = Editor<Asking, FileHistory>;

fn editor(typed: mpsc::UnboundedSender<Typed>, history: Option<&Path>) -> rustyline::Result<OurEditor> {
    let config = Config::builder()
        .max_history_size(MAX_HISTORY)?
        .history_ignore_dups(true)?
        // What begins with a space is not kept.
        .history_ignore_space(true)
        .completion_type(CompletionType::List)
        .build();
    let mut editor: OurEditor = Editor::with_config(config)?;
    editor.set_helper(Some(Asking { typed, shown: String::new() }));
    if let Some(file) = history.filter(|file| file.exists())
        && let Err(error) = editor.load_history(file)
    {
        debug!(%error, "the lines that were typed before cannot be read");
    }
    Ok(editor)
}

fn keep(editor: &mut OurEditor, history: Option<&Path>, line: &str) {
    let Ok(true) = editor.add_history_entry(line) else { return };
    if let Some(file) = history
        && let Err(error) = editor.append_history(file)
    {
        debug!(%error, "a line is not kept");
    }
}

/// What the editor asks us.
struct Asking {
    typed: mpsc::UnboundedSender<Typed>,
    /// The prompt in colour.
    shown: String,
}

impl Helper for Asking {}
impl Hinter for Asking {
    type Hint = String;
}

impl Highlighter for Asking {
    fn highlight_prompt<'b, 's: 'b, 'p: 'b>(&'s self, prompt: &'p str, is_ours: bool) -> Cow<'b, str> {
        match is_ours && !self.shown.is_empty() {
            true => Cow::Borrowed(&self.shown),
            false => Cow::Borrowed(prompt),
        }
    }
}

impl Validator for Asking {
    fn validate(&self, context: &mut ValidationContext<'_>) -> rustyline::Result<ValidationResult> {
        Ok(match is_whole(context.input()) {
            true => ValidationResult::Valid(None),
            false => ValidationResult::Incomplete,
        })
    }
}

impl Completer for Asking {
    type Candidate = String;

    fn complete(&self, line: &str, at: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<String>)> {
        let (answer, answered) = std_mpsc::channel();
        let asked = self.typed.send(Typed::Complete { line: line.to_owned(), at, answer });
        let found = asked.ok().and_then(|()| answered.recv_timeout(PATIENCE).ok()).unwrap_or_default();
        match found.words.is_empty() {
            true => Ok((at, Vec::new())),
            false => Ok((found.from, found.words)),
        }
    }
}
