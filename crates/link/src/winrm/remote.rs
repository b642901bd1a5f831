//! A machine that is logged in to by WinRM, as a [`Remote`](crate::Remote) has it.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use lantern_book::{Hints, Presented};
use lantern_keys::SystemRandom;
use lantern_winrm::namespace::USUAL_ENDPOINT;
use lantern_winrm::remoting::HostFacts;
use lantern_winrm::{
    CommandShell, KeptSession, NewCommand, NewShell, Request, RequestHeaders, Response, ServicePlace,
    SessionConfig, SessionShell, ShellConfig, WinrmError, interpreter_line, max_envelope, program_line,
};
use tokio::sync::mpsc;
use tokio::time::timeout;

use super::command::WinrmCommand;
use super::driver::Done;
use super::failure::WinrmFailure;
use super::opener::{Opener, WinrmRequest};
use super::remoting::RemoteSession;
use super::session::Session;
use crate::LinkError;
use crate::ask::Ask;
use crate::identity::Identity;
use crate::program::{Opens, Program, Runs};
use crate::step::Step;

/// How long a shell stands when nobody asks anything of it any more: long enough to come back to after a lost connection.
const IDLE_TIME: Duration = Duration::from_secs(180);
/// How long closing waits for the shells on the machine to be ended.
const GOODBYE: Duration = Duration::from_secs(6);

/// The same for a session in which somebody thinks between two commands.
const LASTING: Duration = Duration::from_secs(2 * 60 * 60);

/// How a session of PowerShell is to be.
#[derive(Debug, Clone, Default)]
pub struct SessionOptions {
    /// The endpoint, by its name on the machine; none: the one that every machine has.
    pub endpoint: Option<String>,
    /// Our terminal.
    pub host: HostFacts,
    /// Whether somebody may think between two pipelines: then the machine keeps it for longer where it hears nothing.
    pub is_lasting: bool,
    /// One that stands there already, to be joined.
    pub kept: Option<KeptSession>,
}

/// A machine that is logged in to. Clones are the same one.
#[derive(Clone)]
pub(crate) struct WinrmRemote {
    opener: Arc<Opener>,
    /// The connection that is there already, until something is done on it.
    first: Arc<Mutex<Option<Session>>>,
    done: Done,
    all_done: Arc<Mutex<Option<mpsc::Receiver<()>>>>,
}

impl std::fmt::Debug for WinrmRemote {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("WinrmRemote").field(&self.machine()).finish()
    }
}

impl WinrmRemote {
    /// Connects, decides about trust and asks for what the login needs. The login itself is made with the first thing that is asked of the machine.
    ///
    /// # Errors
    /// The step that failed.
    pub(crate) async fn connect(request: WinrmRequest, ask: &dyn Ask) -> Result<Self, LinkError> {
        // Before anybody is asked for a password.
        match &request.way.opens {
            Opens::Program(program) => drop(understood(&request.way.machine, program)?),
            Opens::Session if request.way.forwards_agent => {
                return Err(has_no(&request.way.machine, AGENT).into());
            }
            Opens::Session | Opens::Nothing => {}
        }
        let (opener, session) = Opener::start(request, ask).await?;
        let (done, all_done) = mpsc::channel(1);
        Ok(Self {
            opener,
            first: Arc::new(Mutex::new(Some(session))),
            done,
            all_done: Arc::new(Mutex::new(Some(all_done))),
        })
    }

    /// Asks what service it is, which logs in.
    ///
    /// # Errors
    /// The login was refused; no answer, or one that makes no sense.
    pub(crate) async fn identify(&self, ask: &dyn Ask) -> Result<lantern_winrm::Identity, LinkError> {
        let opener = &self.opener;
        let since = Instant::now();
        let first = self.first.lock().unwrap_or_else(PoisonError::into_inner).take();
        let mut session = match first {
            Some(session) => session,
            None => opener.again().await?,
        };
        let (service, limit) = (opener.service(), opener.request.way.limits.login);
        let whom = opener.whom(&service);
        let (request, headers) = (Request::Identify, RequestHeaders::default());
        let answer =
            |source| WinrmFailure::Answer { machine: whom.machine.to_owned(), what: request.name(), source };
        let message = request.encode(headers).map_err(|error| answer(error.into()))?;
        let posted = session.post(&message, request.name(), opener.proof(), &whom, limit).await;
        let bytes = posted.map_err(|error| opener.told(error))?;
        let by = opener.proof().words();
        ask.step(&Step::LoggedIn { by: &by, took: since.elapsed() });
        let Response::Identity(identity) = Response::decode(&bytes, &request, "").map_err(answer)? else {
            return Err(answer(WinrmError::Wrong("answer")).into());
        };
        *self.first.lock().unwrap_or_else(PoisonError::into_inner) = Some(session);
        if let Some(stack) = identity.stack() {
            // A cache: without it, envelopes stay small.
            let _ = Hints::of(&opener.request.way.home).note_stack(self.machine(), stack);
        }
        Ok(identity)
    }

    pub(crate) fn machine(&self) -> &str {
        &self.opener.request.way.machine
    }

    pub(crate) fn identity(&self) -> Identity {
        Identity {
            machine: self.machine().to_owned(),
            user: self.opener.request.way.user.clone(),
            presented: self.opener.certificate().cloned().map(Presented::Certificate),
            service: "WS-Management".to_owned(),
        }
    }

    pub(crate) fn answer_limit(&self) -> Duration {
        self.opener.request.way.limits.login
    }

    /// Starts a program.
    ///
    /// # Errors
    /// It cannot be handed over as it is meant; no connection.
    pub(crate) async fn start(&self, program: &Program) -> Result<WinrmCommand, LinkError> {
        let command = understood(self.machine(), program)?;
        let config = ShellConfig {
            place: self.place(),
            shell: NewShell {
                environment: program.environment.clone(),
                idle_time: Some(IDLE_TIME),
                ..NewShell::default()
            },
            command,
        };
        let session = self.connection().await?;
        let shell = CommandShell::new(config, Box::new(SystemRandom));
        Ok(WinrmCommand::start(self.opener.clone(), session, shell, self.done.clone()))
    }

    /// Opens a session of PowerShell.
    ///
    /// # Errors
    /// No connection.
    pub(crate) async fn session(&self, options: SessionOptions) -> Result<RemoteSession, LinkError> {
        let config = SessionConfig {
            place: self.place(),
            endpoint: options.endpoint.unwrap_or_else(|| USUAL_ENDPOINT.to_owned()),
            host: options.host,
            idle_time: Some(if options.is_lasting { LASTING } else { IDLE_TIME }),
            no_profile: false,
            kept: options.kept,
        };
        let session = self.connection().await?;
        let shell = SessionShell::new(config);
        Ok(RemoteSession::start(self.opener.clone(), session, shell, self.done.clone()))
    }

    /// Where the service is. Envelopes stay small until the machine is known to take large ones.
    fn place(&self) -> ServicePlace {
        let hints = Hints::of(&self.opener.request.way.home);
        ServicePlace {
            url: self.opener.request.url(),
            language: self.opener.request.language.clone(),
            max_envelope: max_envelope(hints.stack(self.machine())),
        }
    }

    /// The connection that is there already, or another.
    async fn connection(&self) -> Result<Session, LinkError> {
        let first = self.first.lock().unwrap_or_else(PoisonError::into_inner).take();
        let session = match first {
            Some(session) => session,
            None => self.opener.again().await?,
        };
        self.opener.note_used();
        Ok(session)
    }

    /// Waits until the machine has ended what was begun there.
    pub(crate) async fn close(self) {
        let Self { done, all_done, opener, first } = self;
        drop((done, opener, first));
        let waiting = all_done.lock().unwrap_or_else(PoisonError::into_inner).take();
        if let Some(mut waiting) = waiting {
            // Each command holds a sender; the last one that goes ends this.
            let _ = timeout(GOODBYE, async { while waiting.recv().await.is_some() {} }).await;
        }
    }
}

const AGENT: &str = "agent that could be forwarded";

fn has_no(machine: &str, what: &'static str) -> WinrmFailure {
    WinrmFailure::HasNo { machine: machine.to_owned(), what }
}

/// The command of a program, where it can be handed over as it is meant.
fn understood(machine: &str, program: &Program) -> Result<NewCommand, WinrmFailure> {
    let words = match &program.runs {
        Runs::Shell => return Err(has_no(machine, "session at a terminal")),
        _ if program.terminal.is_some() => return Err(has_no(machine, "terminal")),
        _ if program.agent => return Err(has_no(machine, AGENT)),
        _ if program.display.is_some() => return Err(has_no(machine, "display that could be forwarded")),
        Runs::Command(words) => words,
    };
    let refused = |why: String| WinrmFailure::Command { machine: machine.to_owned(), why };
    let text = |word: &bytes::Bytes| {
        let text = str::from_utf8(word).map(str::to_owned);
        text.map_err(|_| refused("a word of it is not UTF-8, and Windows takes text".into()))
    };
    let by_interpreter = words.by_interpreter;
    let words = words.words.iter().map(text).collect::<Result<Vec<_>, _>>()?;
    let line = match by_interpreter {
        true => interpreter_line(&words.join(" ")),
        false => program_line(&words),
    };
    let line = line.map_err(|error| refused(error.to_string()))?;
    Ok(NewCommand { line, by_interpreter })
}
