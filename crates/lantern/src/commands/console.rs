//! A pipeline under way, at this terminal: what it puts out and says, what it asks, and what it is given.

use std::collections::VecDeque;
use std::io::IsTerminal;
use std::pin::Pin;

use bytes::Bytes;
use lantern_link::{RemoteSession, SessionNews, WinrmFailure};
use lantern_operations::remoting::Outcome;
use lantern_ssh::Stream;
use lantern_winrm::remoting::{
    HostAnswer, HostAsks, HostCall, Objects, PipelineEnd, Record, SessionEvent, Telling,
};
use tokio::signal::unix::{Signal, SignalKind};

use super::feed::{Feed, give, next_chunk, take};
use super::watch;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::mark::{Mark, has_title};
use crate::screen::output;
use crate::screen::task::{self, ObjectTable, ProgressLine};
use crate::screen::wrap::{self, fitted};
use crate::terminal::host_prompt::{self, Heard};
use crate::terminal::modes;
use crate::terminal::stdio::{Output, Written};

/// How what comes out is shown.
#[derive(Debug)]
pub(super) enum Shown {
    /// As the lines that it is: the machine has formatted it.
    Lines,
    /// As JSON, so deep.
    Json(usize),
    /// In columns of ours.
    Table(ObjectTable),
}

/// How a pipeline ended here.
#[derive(Debug)]
pub(super) enum Ended {
    /// As the machine says.
    Pipeline(PipelineEnd),
    /// Since whoever read our output has gone.
    ReaderGone,
    /// Since we were told to end, by a signal of this number.
    Told(u8),
}

type Asking = Pin<Box<dyn Future<Output = Heard>>>;

/// The terminal, or what stands for it, of pipelines.
pub(super) struct Console {
    session: RemoteSession,
    pub(super) output: Output,
    pub(super) shown: Shown,
    /// Where words go that are no output: with it, where both are the same terminal, so that they stay in order.
    talk: Stream,
    color: bool,
    progress: ProgressLine,
    has_progress: bool,
    /// The mark of the machine, where somebody works on it: then the terminal is its to clear, and the window's title says what it wants behind the mark.
    mark: Option<Mark>,
    /// How many times Ctrl-C ends it all.
    strokes: u32,
    /// Whether somebody may be asked.
    may_ask: bool,
    asked: VecDeque<HostCall>,
    asking: Option<(HostCall, Asking)>,
    interrupts: Signal,
    terminations: Signal,
    hangups: Signal,
    resizes: Signal,
}

impl Console {
    pub(super) fn new(
        session: RemoteSession,
        shown: Shown,
        mark: Option<Mark>,
        may_ask: bool,
    ) -> Result<Self, Failure> {
        let (out, error) = (std::io::stdout().is_terminal(), std::io::stderr().is_terminal());
        Ok(Self {
            session,
            output: Output::new(),
            shown,
            talk: if out && error { Stream::Main } else { Stream::Stderr },
            color: output::colorful_stderr(),
            progress: ProgressLine::new(),
            has_progress: error && !output::is_quiet(),
            strokes: if mark.is_some() { 3 } else { 2 },
            mark,
            may_ask,
            asked: VecDeque::new(),
            asking: None,
            interrupts: watch(SignalKind::interrupt())?,
            terminations: watch(SignalKind::terminate())?,
            hangups: watch(SignalKind::hangup())?,
            resizes: watch(SignalKind::window_change())?,
        })
    }

    fn machine(&self) -> &str {
        self.session.machine()
    }

    fn write(&mut self, stream: Stream, text: impl Into<Bytes>) {
        let text = text.into();
        if !text.is_empty() {
            self.output.write(stream, text);
        }
    }

    fn columns() -> usize {
        modes::size().columns.try_into().unwrap_or(80)
    }

    /// Writes above the line of progress.
    fn put(&mut self, stream: Stream, text: impl Into<Bytes>) {
        let clear = self.progress.clear();
        self.write(self.talk, clear);
        self.write(stream, text);
    }

    /// Something for the terminal itself.
    pub(super) fn show(&mut self, text: String) {
        self.write(Stream::Main, text);
    }

    /// Words that are no output.
    pub(super) fn tell(&mut self, text: &Fit) {
        let width = wrap::width(&std::io::stderr());
        self.put(self.talk, fitted(&format!("{text}\n"), width));
    }

    /// The same, for a person: not where only results are wanted.
    fn mention(&mut self, text: &Fit) {
        if !output::is_quiet() {
            self.tell(text);
        }
    }

    fn tell_record(&mut self, record: &Record) {
        if let Record::Progress(progress) = record {
            if self.has_progress {
                let machine = self.session.machine().to_owned();
                let line = self.progress.take(progress, &machine, Self::columns());
                self.write(self.talk, line);
            }
            return;
        }
        match self.shown {
            Shown::Json(_) => {
                let line = output::visible_json(&task::json(record).to_string());
                self.put(Stream::Stderr, format!("{line}\n"));
            }
            _ => {
                if let Some(words) = task::words(self.machine(), record, self.color) {
                    self.tell(&words);
                }
            }
        }
    }

    /// The error that ended a pipeline.
    fn tell_end(&mut self, end: &PipelineEnd) {
        let PipelineEnd::Failed(error) = end else { return };
        match self.shown {
            Shown::Json(_) => {
                let line = output::visible_json(&task::error_json(error, true).to_string());
                self.put(Stream::Stderr, format!("{line}\n"));
            }
            _ => self.tell_record(&Record::Error(error.clone())),
        }
    }

    fn put_out(&mut self, xml: &str) -> Result<(), Failure> {
        let machine = self.session.machine().to_owned();
        let damaged = |error| {
            let machine = machine.clone();
            Failure::from(lantern_link::LinkError::from(WinrmFailure::Session { machine, source: error }))
        };
        let objects = Objects::read(xml).map_err(damaged)?;
        for root in &objects.roots {
            let text = match &mut self.shown {
                Shown::Lines => objects.plain_text(root) + "\n",
                Shown::Json(depth) => {
                    let json = objects.to_json(root, *depth).map_err(damaged)?;
                    output::visible_json(&json) + "\n"
                }
                Shown::Table(table) => {
                    table.take(&objects, root).map(|text| text.to_string()).unwrap_or_default()
                }
            };
            if !text.is_empty() {
                self.put(Stream::Main, text);
            }
        }
        Ok(())
    }

    /// What the machine wants of the terminal, where nobody is asked for it.
    fn host(&mut self, call: HostCall) {
        // What is shown is no object.
        let stream = if matches!(self.shown, Shown::Json(_)) { Stream::Stderr } else { Stream::Main };
        match &call.asks {
            HostAsks::Write { text, ends_line, colour } => {
                let end = if *ends_line { "\n" } else { "" };
                let colour = colour.filter(|_| output::colorful_stdout() && stream == Stream::Main);
                let text = match colour {
                    Some(colour) => format!("{}{text}\x1b[0m{end}", task::colored(colour)),
                    None => format!("{text}{end}"),
                };
                self.put(stream, text);
            }
            HostAsks::Tell(telling, text) => {
                let text = text.clone();
                self.tell_record(&match telling {
                    Telling::Error => Record::Error(Box::new(lantern_winrm::remoting::ErrorRecord {
                        message: text,
                        category: "NotSpecified",
                        ..Default::default()
                    })),
                    Telling::Warning => Record::Warning(text),
                    Telling::Verbose => Record::Verbose(text),
                    Telling::Debug => Record::Debug(text),
                });
            }
            HostAsks::Progress(progress) => self.tell_record(&Record::Progress(progress.clone())),
            HostAsks::Clear if self.mark.is_some() => self.put(stream, "\x1b[H\x1b[2J"),
            HostAsks::Title(title) => {
                let titled = has_title(&std::env::var("TERM").unwrap_or_default());
                if let (Some(mark), true) = (&self.mark, titled) {
                    let title = format!("\x1b]2;{} - {}\x07", mark.words(), Fit::cell(title));
                    self.show(title);
                }
            }
            _ if call.wants_answer() => self.asked.push_back(call),
            _ => {}
        }
    }

    /// Asks what is to be asked, once everything that came before it has been written.
    fn begin_question(&mut self) {
        if self.asking.is_some() || !self.output.is_drained() {
            return;
        }
        let Some(call) = self.asked.pop_front() else { return };
        let clear = self.progress.clear();
        self.write(self.talk, clear);
        let (machine, asks) = (self.machine().to_owned(), call.asks.clone());
        let may_ask = self.may_ask;
        let heard = async move {
            match may_ask {
                true => host_prompt::ask(&machine, &asks).await,
                false => host_prompt::nobody(),
            }
        };
        self.asking = Some((call, Box::pin(heard)));
    }

    fn heard(&mut self, heard: Heard) -> Result<(), Failure> {
        let Some((call, _)) = self.asking.take() else { return Ok(()) };
        let answer = match heard {
            Heard::Answer(answer) => answer,
            Heard::Interrupted => {
                self.session.stop();
                HostAnswer::Refused("whoever was asked pressed Ctrl-C")
            }
        };
        self.session
            .answer(&call, answer)
            .map_err(|error| Failure::new(code::INTERNAL, format!("cannot answer: {error}")))
    }

    /// Follows a pipeline to its end.
    ///
    /// # Errors
    /// The session is over; what was given is not what was said; twice Ctrl-C.
    pub(super) async fn follow(
        &mut self,
        outcome: &mut Outcome,
        feed: &mut Option<Feed>,
    ) -> Result<Ended, Failure> {
        let mut interrupted = 0;
        // What was pressed before it began does not stop it.
        self.interrupts = watch(SignalKind::interrupt())?;
        loop {
            self.begin_question();
            let (has_objects, reads) =
                feed.as_ref().map_or((false, false), |feed| (feed.has_objects(), feed.reads()));
            tokio::select! {
                report = self.output.report() => if let Written::Failed(stream, error) = report {
                    return self.output_failed(stream, &error);
                },
                news = self.session.next(), if self.output.has_room() => {
                    outcome.note(&news);
                    if let Some(end) = self.news(news)? {
                        return Ok(end);
                    }
                }
                heard = answered(&mut self.asking), if self.asking.is_some() => self.heard(heard)?,
                takes = self.session.takes_input(), if has_objects => give(feed, &self.session, takes),
                chunk = next_chunk(feed), if reads => take(feed, &self.session, chunk)?,
                _ = self.interrupts.recv() => {
                    interrupted += 1;
                    if interrupted >= self.strokes {
                        self.session.close();
                        return Err(Failure::new(code::INTERRUPTED, "interrupted"));
                    }
                    self.session.stop();
                    let then = if interrupted + 1 == self.strokes { "once more" } else { "twice more" };
                    let what = if self.mark.is_some() { "the session" } else { "lantern" };
                    let text = fit!("the pipeline on {} is to stop; {} ends {}", self.machine(), Fit::literal(then), Fit::literal(what));
                    self.tell(&text);
                }
                _ = self.terminations.recv() => return Ok(Ended::Told(15)),
                _ = self.hangups.recv() => return Ok(Ended::Told(1)),
                _ = self.resizes.recv() => {
                    let size = modes::size();
                    let side = |side: u32| u16::try_from(side).unwrap_or(u16::MAX);
                    self.session.resize(side(size.columns), side(size.rows));
                }
            }
        }
    }

    fn news(&mut self, news: SessionNews) -> Result<Option<Ended>, Failure> {
        match news {
            SessionNews::Event(SessionEvent::Output(xml)) => self.put_out(&xml)?,
            SessionNews::Event(SessionEvent::Record(record)) => self.tell_record(&record),
            SessionNews::Event(SessionEvent::Asked(call)) => self.host(call),
            SessionNews::Event(SessionEvent::Opened | SessionEvent::Broken(_)) => {}
            SessionNews::Event(SessionEvent::Ended(end)) => {
                if let Shown::Table(table) = &mut self.shown
                    && let Some(rest) = table.end()
                {
                    self.put(Stream::Main, rest.to_string());
                }
                // Nobody needs an answer any more.
                (self.asking, self.asked) = (None, VecDeque::new());
                self.tell_end(&end);
                let clear = self.progress.clear();
                self.write(self.talk, clear);
                self.progress = ProgressLine::new();
                return Ok(Some(Ended::Pipeline(end)));
            }
            SessionNews::LinkLost => {
                let text = fit!("the connection to {} is lost; it is looked for", self.machine());
                self.mention(&text);
            }
            SessionNews::LinkBack => {
                let text = fit!("{} is there again, and so is the session", self.machine());
                self.mention(&text);
            }
            SessionNews::MayMiss => {
                let text = fit!("note: something of what {} said may be missing", self.machine());
                self.tell(&text);
            }
            SessionNews::Over(Some(failure)) => return Err(lantern_link::LinkError::from(failure).into()),
            SessionNews::Over(None) => {
                let machine = self.machine().to_owned();
                let failure = WinrmFailure::SessionBroke { machine, why: String::new() };
                return Err(lantern_link::LinkError::from(failure).into());
            }
        }
        Ok(None)
    }

    /// Waits until everything is written.
    ///
    /// # Errors
    /// It cannot be written.
    pub(super) async fn drain(&mut self) -> Result<bool, Failure> {
        while !self.output.is_drained() {
            if let Written::Failed(stream, error) = self.output.report().await {
                self.output_failed(stream, &error)?;
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn output_failed(&self, stream: Stream, error: &std::io::Error) -> Result<Ended, Failure> {
        self.session.close();
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            return Ok(Ended::ReaderGone);
        }
        let name = if stream == Stream::Main { "standard output" } else { "standard error" };
        Err(Failure::new(code::LOCAL, format!("cannot write {name}: {error}")))
    }
}

async fn answered(asking: &mut Option<(HostCall, Asking)>) -> Heard {
    match asking {
        Some((_, asking)) => asking.await,
        None => std::future::pending().await,
    }
}
