//! `lantern shell` on a machine that is spoken to by WinRM: a live session of PowerShell.

use std::path::PathBuf;

use lantern_book::Home;
use lantern_link::{LinkError, Remote, RemoteSession, SessionNews, SessionOptions, WinrmFailure};
use lantern_operations::Target;
use lantern_operations::remoting::{Outcome, Shown as Wanted, Task, completions, has_formatter, location};
use lantern_winrm::KeptSession;
use tokio::signal::unix::SignalKind;

use super::console::{Console, Ended, Shown};
use super::session::{patiently, wide};
use super::task::host;
use super::watch;
use crate::cli::shell::ShellArgs;
use crate::commands::connecting::{connect_recalling, forget_if_refused};
use crate::commands::errand::Errand;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::mark::{Mark, OLD_TITLE, has_title};
use crate::screen::output;
use crate::screen::task::ObjectTable;
use crate::terminal::ask::TerminalAsk;
use crate::terminal::line_editor::{LineEditor, PATIENCE, Typed};
use crate::terminal::modes;

/// The folder of the home with the lines that were typed on each machine.
const HISTORY: &str = "typed";

/// One session, from the connection to its end. One that was lost is joined again where the machine has `kept` it; what is to be known for that is put there.
pub(super) async fn attend(
    args: &ShellArgs,
    home: &Home,
    errand: &Errand,
    ask: &TerminalAsk,
    kept: &mut Option<KeptSession>,
) -> Result<u8, Failure> {
    let target = &errand.target;
    let (remote, recalling) = connect_recalling(home, target, &errand.options, ask).await?;
    let outcome = converse(args, home, target, &remote, kept).await;
    remote.close().await;
    match outcome {
        Ok(status) => Ok(status),
        Err(failure) => Err(forget_if_refused(&recalling, target, failure).await),
    }
}

async fn converse(
    args: &ShellArgs,
    home: &Home,
    target: &Target,
    remote: &Remote,
    kept: &mut Option<KeptSession>,
) -> Result<u8, Failure> {
    let endpoint = args.configuration.configuration.clone().or_else(|| target.winrm.configuration.clone());
    let is_named_endpoint = endpoint.is_some();
    let can_ask = !args.connect.no_questions;
    let options = SessionOptions { endpoint, host: host(can_ask), is_lasting: true, kept: kept.take() };
    let mut session = remote.session(options.clone()).await?;
    if options.kept.is_some() {
        match patiently(&session, location(&session)).await? {
            Ok(_) => output::say(fit!("the session on {} is still there, and goes on", target.name)),
            Err(news) => {
                let failure = over(&session, news);
                if failure.code != code::SESSION {
                    return Err(failure);
                }
                output::say(fit!("{} has not kept the session: a new one begins", target.name));
                session = remote.session(SessionOptions { kept: None, ..options }).await?;
            }
        }
    }
    // It opens with the first thing that is asked of it.
    let formats = !is_named_endpoint || patiently(&session, has_formatter(&session)).await??;
    let shown = if formats { Shown::Lines } else { Shown::Table(ObjectTable::default()) };
    let console = Console::new(session.clone(), shown, Some(Mark::of(target)), can_ask)?;
    let mut shell = Shell {
        session,
        console,
        mark: Mark::of(target),
        editor: LineEditor::start(history(home, &target.name)),
        place: None,
        tells_place: true,
        is_named_endpoint,
        formats,
    };
    let titled = has_title(&std::env::var("TERM").unwrap_or_default());
    if titled {
        shell.console.show(shell.mark.set_title());
    }
    let outcome = shell.run().await;
    if titled {
        shell.console.show(OLD_TITLE.to_owned());
    }
    let _ = shell.console.drain().await;
    if outcome.as_ref().is_err_and(|failure| failure.code == code::LOST) {
        *kept = shell.session.kept();
    }
    shell.session.close();
    outcome
}

/// Where the lines that are typed on a machine are kept; nowhere, where the home cannot have it.
fn history(home: &Home, machine: &str) -> Option<PathBuf> {
    let folder = home.folder(HISTORY).ok()?;
    lantern_book::machine_file_name(machine).map(|name| folder.join(name))
}

struct Shell {
    session: RemoteSession,
    console: Console,
    mark: Mark,
    editor: LineEditor,
    /// Where the session stands on the machine.
    place: Option<String>,
    /// Whether the endpoint says where.
    tells_place: bool,
    is_named_endpoint: bool,
    formats: bool,
}

/// What somebody at the prompt wants.
enum Wish {
    Run(String),
    Nothing,
    End(u8),
}

impl Shell {
    async fn run(&mut self) -> Result<u8, Failure> {
        if self.mark.is_marked() {
            let text = fit!("this is {}", self.session.machine());
            self.console.tell(&text);
        }
        let mut terminations = watch(SignalKind::terminate())?;
        let mut hangups = watch(SignalKind::hangup())?;
        loop {
            self.find_place().await?;
            if !self.console.drain().await? {
                return Ok(128 + 1);
            }
            let wish = tokio::select! {
                wish = self.ask() => wish?,
                _ = terminations.recv() => Wish::End(128 + 15),
                _ = hangups.recv() => Wish::End(128 + 1),
            };
            let text = match wish {
                Wish::Run(text) => text,
                Wish::Nothing => continue,
                Wish::End(status) => return Ok(status),
            };
            if let Some(status) = self.carry_out(text).await? {
                return Ok(status);
            }
        }
    }

    /// Where it stands, for the prompt.
    async fn find_place(&mut self) -> Result<(), Failure> {
        if !self.tells_place {
            return Ok(());
        }
        match patiently(&self.session, location(&self.session)).await? {
            Ok(place) => (self.tells_place, self.place) = (place.is_some(), place),
            Err(news) => return Err(over(&self.session, news)),
        }
        Ok(())
    }

    /// The prompt, as text and as it is shown.
    fn prompt(&self) -> (String, String) {
        let color = output::colorful_stdout();
        let place = self.place.as_ref().map(|place| format!(" {}", Fit::cell(place))).unwrap_or_default();
        let machine = Fit::line(self.session.machine()).to_string();
        match (self.mark.is_marked(), color) {
            (true, _) => {
                let plain = format!(" {} {place} > ", self.mark.words());
                (plain, format!("{}{place} > ", self.mark.label(color)))
            }
            (false, true) => (
                format!("{machine}{place} > "),
                format!("\x1b[1;33m{machine}\x1b[0m\x1b[36m{place}\x1b[0m > "),
            ),
            (false, false) => (format!("{machine}{place} > "), String::new()),
        }
    }

    async fn ask(&mut self) -> Result<Wish, Failure> {
        let (plain, shown) = self.prompt();
        self.editor.ask(plain, shown);
        loop {
            match self.editor.next().await {
                Typed::Line(text) if text.trim().is_empty() => return Ok(Wish::Nothing),
                Typed::Line(text) => return Ok(Wish::Run(text)),
                Typed::Interrupted => return Ok(Wish::Nothing),
                Typed::Ended => return Ok(Wish::End(0)),
                Typed::Failed(why) => {
                    return Err(Failure::new(code::LOCAL, format!("cannot read from the terminal: {why}")));
                }
                Typed::Complete { line, at, answer } => {
                    let found = completions(&self.session, &line, at, PATIENCE).await;
                    let _ = answer.send(found);
                }
            }
        }
    }

    /// Runs what was typed; the status where that ended the session.
    async fn carry_out(&mut self, text: String) -> Result<Option<u8>, Failure> {
        let size = host(true);
        self.session.resize(size.width, modes::size().rows.try_into().unwrap_or(u16::MAX));
        let task = Task { text, arguments: Vec::new(), is_named_endpoint: self.is_named_endpoint };
        let wanted = if self.formats { Wanted::Text { width: size.width } } else { Wanted::Objects };
        let mut pipeline = task.pipeline(wanted, false);
        pipeline.in_history = true;
        self.session.begin(&pipeline, false);
        let mut outcome = Outcome::default();
        match self.console.follow(&mut outcome, &mut None).await? {
            Ended::Told(number) => return Ok(Some(128 + number)),
            Ended::ReaderGone => return Ok(Some(128 + 1)),
            Ended::Pipeline(_) => {}
        }
        Ok(outcome.exit.map(|status| {
            let status = status.cast_unsigned();
            u8::try_from(status).unwrap_or_else(|_| wide(status, self.session.machine()))
        }))
    }
}

fn over(session: &RemoteSession, news: SessionNews) -> Failure {
    let machine = session.machine().to_owned();
    let failure = match news {
        SessionNews::Over(Some(failure)) => failure,
        _ => WinrmFailure::SessionBroke { machine, why: String::new() },
    };
    LinkError::from(failure).into()
}
