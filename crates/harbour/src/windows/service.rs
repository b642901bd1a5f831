//! The service of a simulated machine: shells and what runs in them, for all its connections.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use lantern_keys::SystemRandom;
use lantern_winrm::{
    Fault, Identity, NewShell, Output, Received, Request, RequestHeaders, Response, Sent, Signal,
    answer_fault, file_helper, namespace::SESSIONS,
};
use tokio::sync::Notify;

use super::command::Command;
use super::files::serve;
use super::programs::{Place, exists, run};
use super::remoting::RemotingSession;
use crate::tree::{FilesOfUser, Tree};

use super::spec::{Rights, WindowsFault, WindowsSpec};

/// What a machine has seen.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Seen {
    /// Connections that were opened.
    pub connections: usize,
    /// Logins that were taken.
    pub logins: usize,
    /// Logins that were refused.
    pub refused: usize,
    /// Tickets to go on with that came with logins.
    pub delegated: usize,
    /// What was asked for, in order.
    pub requests: Vec<&'static str>,
    /// Shells that stand.
    pub shells: usize,
}

struct Shell {
    user: String,
    new: NewShell,
    commands: HashMap<String, Command>,
    session: Option<Arc<RemotingSession>>,
    /// Whether it must be taken up again.
    is_left: bool,
}

#[derive(Default)]
struct State {
    shells: HashMap<String, Shell>,
    seen: Seen,
    /// Faults that happen once have happened.
    has_failed: bool,
}

/// The service.
pub(super) struct Service {
    pub(super) spec: WindowsSpec,
    pub(super) tree: Tree,
    state: Mutex<State>,
    /// All connections end.
    pub(super) cut: Notify,
}

impl std::fmt::Debug for Service {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Service").field("name", &self.spec.name).finish_non_exhaustive()
    }
}

/// What becomes of a request.
pub(super) enum Answer {
    /// This goes back.
    Envelope(String),
    /// The connection is cut: before anything goes back, or in the middle of this.
    Cut(Option<String>),
}

fn uuid() -> String {
    lantern_winrm::uuid(&mut SystemRandom)
}

impl Service {
    pub(super) fn new(spec: WindowsSpec) -> Self {
        let users: Vec<&str> = spec.users.iter().map(|user| user.name.as_str()).collect();
        let tree = Tree::with_drives(&users, spec.room);
        Self { spec, tree, state: Mutex::default(), cut: Notify::new() }
    }

    /// Files as a user sees them.
    pub(super) fn files_of(&self, user: &str) -> FilesOfUser {
        self.tree.of_windows_user(user.rsplit('\\').next().unwrap_or(user))
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn seen(&self) -> Seen {
        let state = self.lock();
        Seen { shells: state.shells.len(), ..state.seen.clone() }
    }

    pub(super) fn cut(&self) {
        self.cut.notify_waiters();
    }

    pub(super) fn note(&self, note: impl FnOnce(&mut Seen)) {
        note(&mut self.lock().seen);
    }

    pub(super) fn has_fault(&self, fault: WindowsFault) -> bool {
        self.spec.fault == Some(fault)
    }

    /// Whether nobody is let in any more.
    pub(super) fn is_locked(&self) -> bool {
        self.has_fault(WindowsFault::LockedOut) && self.lock().has_failed
    }

    /// Whether a fault that happens once happens now.
    pub(super) fn fails_now(&self, fault: WindowsFault) -> bool {
        self.has_fault(fault) && !std::mem::replace(&mut self.lock().has_failed, true)
    }

    /// Answers a message of a user who is logged in.
    pub(super) async fn answer(self: &Arc<Self>, message: &[u8], user: &str) -> Answer {
        let (headers, request) = match Request::decode(message) {
            Ok(read) => read,
            Err(error) => {
                let fault = Fault::new(2_150_858_817, "SchemaValidationError", &error.to_string());
                return Answer::Envelope(answer_fault(&fault, "", &uuid()).unwrap_or_default());
            }
        };
        self.note(|seen| seen.requests.push(request.name()));
        let Some(headers) = headers else {
            let identity = Identity {
                vendor: "Simulated by the harbour".into(),
                version: "OS: 10.0.20348 SP: 0.0 Stack: 3.0".into(),
            };
            return Answer::Envelope(
                Response::Identity(identity).encode(&request, "", "").unwrap_or_default(),
            );
        };
        let id = headers.message_id.clone();
        if matches!(request, Request::Signal { .. }) && self.has_fault(WindowsFault::Deaf) {
            tokio::time::sleep(Self::SILENCE).await;
        }
        let is_receive = matches!(request, Request::Receive { .. });
        if is_receive
            && [WindowsFault::CutWaiting, WindowsFault::LockedOut].iter().any(|one| self.fails_now(*one))
        {
            return Answer::Cut(None);
        }
        let of_pipeline = headers.is_session() && matches!(request, Request::Receive { command: Some(_) });
        if of_pipeline && self.fails_now(WindowsFault::LeavesShells) {
            self.lock().shells.values_mut().for_each(|shell| shell.is_left = true);
            return Answer::Cut(None);
        }
        let answered = match self.carry_out(&headers, &request, user).await {
            Ok(response) => response.encode(&request, &id, &uuid()),
            Err(fault) => answer_fault(&fault, &id, &uuid()),
        };
        let envelope = answered.unwrap_or_default();
        match is_receive && self.fails_now(WindowsFault::CutAnswer) {
            true => Answer::Cut(Some(envelope)),
            false => Answer::Envelope(envelope),
        }
    }

    async fn carry_out(
        self: &Arc<Self>,
        headers: &RequestHeaders,
        request: &Request,
        user: &str,
    ) -> Result<Response, Fault> {
        let gone = || Fault::new(2_150_858_843, "InvalidSelectors", "The shell was not found on the server.");
        if let Request::Create(new) = request {
            return self.create(new.clone(), headers, user).await;
        }
        let shell = headers.shell.clone().unwrap_or_default();
        let known = self
            .lock()
            .shells
            .get(&shell)
            .filter(|shell| shell.user == user)
            .map(|shell| (shell.session.clone(), shell.is_left));
        let (session, is_left) = known.ok_or_else(gone)?;
        if is_left && !matches!(request, Request::Reconnect | Request::Connect(_) | Request::Delete) {
            return Err(Fault::new(2_150_859_213, "InvalidState", "The shell is disconnected."));
        }
        let command = |id: &str| {
            let state = self.lock();
            let found = state.shells.get(&shell).and_then(|shell| shell.commands.get(id));
            found
                .cloned()
                .ok_or_else(|| Fault::new(2_150_859_085, "InvalidParameter", "There is no such command."))
        };
        match request {
            Request::Command(new) => {
                let is_files = !new.by_interpreter && file_helper::is_command(&new.line);
                if !new.by_interpreter && !is_files && !exists(&new.line) {
                    let text = "The system cannot find the file specified.";
                    return Err(Fault::new(0x8007_0002, "InternalError", text));
                }
                let (id, mut environment) = (uuid(), BTreeMap::new());
                let mut state = self.lock();
                let shell = state.shells.get_mut(&shell).ok_or_else(gone)?;
                environment.insert("COMPUTERNAME".to_owned(), self.spec.name.clone());
                environment.extend(shell.new.environment.iter().cloned());
                let command = Command::new(environment);
                shell.commands.insert(id.clone(), command.clone());
                if is_files {
                    let (files, program) = (self.files_of(user), self.spec.file_service.clone());
                    tokio::spawn(async move {
                        let code = serve(&command, files, program.as_deref()).await;
                        command.end(code);
                    });
                    return Ok(Response::Started { command: id });
                }
                let place = Place { computer: self.spec.name.clone(), user: user.to_owned() };
                tokio::spawn(run(new.line.clone(), new.by_interpreter, place, command));
                Ok(Response::Started { command: id })
            }
            Request::Pipeline { id, fragments } => {
                let session = session.ok_or_else(gone)?;
                let new = Command::new(BTreeMap::new());
                if let Some(shell) = self.lock().shells.get_mut(&shell) {
                    shell.commands.insert(id.clone(), new.clone());
                }
                session.begin(id, fragments, &new).await?;
                Ok(Response::Started { command: id.clone() })
            }
            Request::Send(sent) if session.is_some() => {
                session.ok_or_else(gone)?.take(sent).await?;
                Ok(Response::Done)
            }
            Request::Send(Sent { command: id, pieces, end, .. }) => {
                match command(id.as_deref().unwrap_or_default())?.send(pieces.clone(), *end).await {
                    true => Ok(Response::Done),
                    false => Err(Fault::new(0x8007_00e8, "InternalError", "The pipe is being closed.")),
                }
            }
            Request::Receive { command: id } => {
                let of_pipeline = session.is_some() && id.is_some();
                if session.is_some() && id.is_none() && self.has_fault(WindowsFault::NeverOpens) {
                    tokio::time::sleep(Self::SILENCE).await;
                }
                let command = match (&session, id) {
                    (Some(session), None) => session.pool(),
                    (_, id) => command(id.as_deref().unwrap_or_default())?,
                };
                if self.fails_now(WindowsFault::ShellVanishes) {
                    self.lock().shells.remove(&shell);
                    return Err(gone());
                }
                // Base64 and the rest take their part.
                let most =
                    if self.has_fault(WindowsFault::Crumbs) { 1 } else { headers.max_envelope as usize / 2 };
                match command.receive(most, headers.timeout).await {
                    Some(received) => {
                        Ok(Response::Received(self.garbled(self.crumbled(received), of_pipeline)))
                    }
                    None => Err(Fault::new(2_150_858_793, "TimedOut", "The operation timed out.")),
                }
            }
            Request::Signal { command: id, signal } => {
                let command = command(id)?;
                if let Some(session) = &session
                    && *signal == Signal::Terminate
                {
                    session.forget(id);
                    if let Some(shell) = self.lock().shells.get_mut(&shell) {
                        shell.commands.remove(id);
                    }
                }
                command.interrupt();
                if *signal == Signal::Terminate {
                    command.end(super::command::INTERRUPTED);
                }
                Ok(Response::Done)
            }
            Request::Delete => {
                let ended = self.lock().shells.remove(&shell);
                for command in ended.into_iter().flat_map(|shell| shell.commands.into_values()) {
                    command.interrupt();
                    command.end(super::command::INTERRUPTED);
                }
                Ok(Response::Done)
            }
            // Whoever joins it has the whole of it: one that another holds is taken from that one.
            Request::Reconnect | Request::Connect(_) => {
                if let Request::Connect(fragments) = request {
                    session.ok_or_else(gone)?.join(fragments)?;
                }
                if let Some(shell) = self.lock().shells.get_mut(&shell) {
                    shell.is_left = false;
                }
                Ok(Response::Done)
            }
            _ => Ok(Response::Done),
        }
    }

    async fn create(&self, new: NewShell, headers: &RequestHeaders, user: &str) -> Result<Response, Fault> {
        let bare = user.rsplit('\\').next().unwrap_or(user);
        let rights = self
            .spec
            .users
            .iter()
            .find(|known| known.name.eq_ignore_ascii_case(bare))
            .map(|user| user.rights);
        if rights != Some(Rights::Administrator) {
            return Err(Fault::new(5, "AccessDenied", "Access is denied."));
        }
        match self.spec.fault {
            Some(WindowsFault::ShellQuota) => {
                let text = "The maximum number of concurrent shells for this user has been exceeded.";
                return Err(Fault::new(2_150_859_173, "QuotaLimit", text));
            }
            Some(WindowsFault::NoShells) => {
                let text = "The service is configured to not accept any remote shell requests.";
                return Err(Fault::new(2_150_859_180, "AccessDenied", text));
            }
            Some(WindowsFault::NoCommands) if new.session.is_none() => {
                return Err(Fault::new(5, "AccessDenied", "Access is denied."));
            }
            Some(WindowsFault::NoUtf8) if new.code_page == Some(65_001) => {
                return Err(Fault::new(2_150_859_072, "InvalidOptions", "The code page is not supported."));
            }
            _ => {}
        }
        let (mut id, mut session) = (uuid(), None);
        if let Some(made) = &new.session {
            let wanted = headers.resource.strip_prefix(SESSIONS).unwrap_or_default();
            let endpoint = self.spec.endpoints.iter().find(|known| known.name.eq_ignore_ascii_case(wanted));
            let endpoint = endpoint.cloned().ok_or_else(|| {
                let text = "The resource URI was not found in the WS-Management catalog.";
                Fault::new(2_150_858_752, "DestinationUnreachable", text)
            })?;
            let place = Place { computer: self.spec.name.clone(), user: user.to_owned() };
            session = Some(RemotingSession::new(&made.creation, endpoint, place, self.files_of(user)).await?);
            id = made.id.clone();
        }
        let shell = Shell { user: user.to_owned(), new, commands: HashMap::new(), session, is_left: false };
        self.lock().shells.insert(id.clone(), shell);
        Ok(Response::Created { shell: id })
    }

    /// What a pipeline says, as it is where the machine does not keep to the protocol.
    fn garbled(&self, mut received: Received, of_pipeline: bool) -> Received {
        if of_pipeline && self.has_fault(WindowsFault::Garbles) {
            for (_, piece) in &mut received.pieces {
                *piece = piece.iter().rev().copied().collect::<Vec<_>>().into();
            }
        }
        if of_pipeline && !received.pieces.is_empty() && self.fails_now(WindowsFault::LeavesOut) {
            received.pieces.remove(0);
        }
        received
    }

    /// Streams in as many pieces as there are bytes, where that is what goes wrong.
    fn crumbled(&self, received: Received) -> Received {
        if !self.has_fault(WindowsFault::Crumbs) {
            return received;
        }
        let pieces = received.pieces.into_iter().flat_map(|(output, piece): (Output, bytes::Bytes)| {
            (0..piece.len()).map(move |at| (output, piece.slice(at..at + 1))).collect::<Vec<_>>()
        });
        Received { pieces: pieces.collect(), ..received }
    }

    /// How long a silent machine keeps a question.
    pub(super) const SILENCE: Duration = Duration::from_secs(3600);
}
