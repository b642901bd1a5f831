//! The keeper's process: a socket for its owner alone, and a connection each for those who ask.

use std::path::PathBuf;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use lantern_book::Home;
use lantern_link::{Listener, Pool, bind_unix};
use lantern_operations::ReachOptions;
use lantern_ssh::agent::{AgentRequest, AgentResponse, Frames, Keeper, Outcome, SignTask};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::{Mutex as AsyncMutex, Notify, Semaphore};
use tracing::debug;
use zeroize::Zeroizing;

use crate::confirm::{at_terminal, by_program};
use crate::errands::{Errands, Explain};
use crate::holder::{self, Beside, Holder};
use crate::passwords::{DISOWN, Passwords, RECALL, REMEMBER};
use crate::peer::{has_gone, is_ours, is_there};
use crate::status::{HeldKey, STATUS, STOP, Status};
use crate::terminal;
use crate::vault::LockedVault;

/// Most connections at once: each is a shell or a forwarded agent.
const MAX_CONNECTIONS: usize = 128;

/// What all connections share.
struct Shared {
    keeper: Mutex<Keeper>,
    passwords: Mutex<Passwords>,
    /// Notified when deadlines may have changed.
    changed: Notify,
    stop: Notify,
    started: Instant,
    memory_locked: bool,
    confirm_with: Option<PathBuf>,
    errands: Arc<Errands>,
    /// The terminal of whoever asked last, among those who have one.
    last_terminal: Arc<Mutex<Option<PathBuf>>>,
    /// Held while a person is asked: several questions at once would be answered without a look at each.
    asking: AsyncMutex<()>,
    /// Held while a passphrase waits to be looked at, so that those who try are served in their order.
    unlocking: AsyncMutex<()>,
}

/// Where a keeper listens: for those who want keys, for those who want passwords as well, and for those who want more.
pub struct Sockets {
    keys: UnixListener,
    passwords: UnixListener,
    more: Option<Listener>,
}

/// Listens on the sockets, closed to everybody else; the first must not be there.
///
/// # Errors
/// What the system says.
pub async fn listen(home: &Home) -> std::io::Result<Sockets> {
    let keys = bind_unix(&crate::socket_path(home))?;
    // Left behind by one that was killed: only who listens on the first one gets here.
    let _ = std::fs::remove_file(crate::passwords_path(home));
    let passwords = bind_unix(&crate::passwords_path(home))?;
    Ok(Sockets { keys, passwords, more: holder::listen(home, "keeper").await })
}

/// What a keeper is to be.
pub struct KeeperOptions {
    /// Its home.
    pub home: Home,
    /// Uses that want a yes are asked about by this program, else on the terminal that was last used.
    pub confirm_with: Option<PathBuf>,
    /// Says what went wrong for a program.
    pub explain: Explain,
    /// How long a connection stays that nobody uses.
    pub idle: Duration,
    /// What holds for tunnels that it opens by itself.
    pub reach: ReachOptions,
}

/// How often it is looked whether something is over.
const TIDY: Duration = Duration::from_secs(2);

/// Serves until it is told to stop.
pub async fn serve(sockets: Sockets, options: KeeperOptions) {
    let KeeperOptions { home, confirm_with, explain, idle, reach } = options;
    let holder = Holder::new(true);
    let errands = Arc::new(Errands {
        home,
        pool: Pool::new(),
        holder: holder.clone(),
        explain,
        idle,
        reach,
        is_locked: Arc::default(),
        is_missing: AtomicBool::new(false),
        asked_about: Mutex::default(),
        last_terminal: Arc::default(),
        trust_seen: Mutex::default(),
        made_with: Mutex::default(),
    });
    let beside: Arc<dyn Beside> = errands.clone();
    let answering = tokio::spawn(async move {
        if let Some(listener) = sockets.more {
            holder.serve_with(listener, Some(beside)).await;
        }
    });
    let opening = errands.clone();
    tokio::spawn(async move { opening.open_at_start().await });
    serve_keys(sockets.keys, sockets.passwords, confirm_with, errands.clone()).await;
    errands.end();
    answering.abort();
}

async fn serve_keys(
    keys: UnixListener,
    passwords: UnixListener,
    confirm_with: Option<PathBuf>,
    errands: Arc<Errands>,
) {
    let vault = LockedVault::new();
    let memory_locked = vault.is_locked();
    let shared = Arc::new(Shared {
        keeper: Mutex::new(Keeper::new(Box::new(vault), true)),
        passwords: Mutex::new(Passwords::new()),
        changed: Notify::new(),
        stop: Notify::new(),
        started: Instant::now(),
        memory_locked,
        confirm_with,
        errands: errands.clone(),
        last_terminal: errands.last_terminal.clone(),
        asking: AsyncMutex::new(()),
        unlocking: AsyncMutex::new(()),
    });
    let room = Arc::new(Semaphore::new(MAX_CONNECTIONS));
    // However much there is to do.
    let mut tidying = tokio::time::interval(TIDY);
    loop {
        let deadline = shared.with_keeper(|keeper| keeper.poll_timeout());
        let come = async {
            tokio::select! {
                accepted = keys.accept() => (accepted, false),
                accepted = passwords.accept() => (accepted, true),
            }
        };
        tokio::select! {
            (accepted, tells_passwords) = come => match accepted {
                Ok((stream, _)) => match room.clone().try_acquire_owned() {
                    Ok(permit) if is_ours(&stream) => {
                        let shared = shared.clone();
                        tokio::spawn(async move {
                            converse(&shared, stream, tells_passwords).await;
                            drop(permit);
                        });
                    }
                    _ => debug!("turned away"),
                },
                // Out of descriptors, perhaps: those who are connected will go.
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            },
            () = tokio::time::sleep_until(deadline.unwrap_or(shared.started).into()), if deadline.is_some() => {
                shared.with_keeper(|keeper| keeper.handle_timeout(Instant::now()));
            }
            () = shared.changed.notified() => {}
            _ = tidying.tick() => {
                errands.tidy();
                shared.with_passwords(|passwords| passwords.handle_timeout(Instant::now()));
            }
            () = shared.stop.notified() => return,
        }
    }
}

async fn converse(shared: &Shared, mut stream: UnixStream, tells_passwords: bool) {
    let terminal = stream.peer_cred().ok().and_then(|peer| peer.pid()).and_then(terminal::of_process);
    if terminal.is_some() {
        *shared.last_terminal() = terminal;
    }
    let mut frames = Frames::default();
    let mut buffer = Zeroizing::new([0; 16 * 1024]);
    loop {
        match frames.next_frame() {
            Ok(Some(frame)) => {
                let answer = match AgentRequest::decode(&frame) {
                    Ok(request) => shared.answer(request, &stream, tells_passwords).await,
                    Err(_) => AgentResponse::Failure,
                };
                // It may hold a password.
                let encoded = Zeroizing::new(answer.encode());
                if let AgentResponse::Extension { content, .. } = answer {
                    drop(Zeroizing::new(content));
                }
                let framed = Zeroizing::new(Frames::wrap(&encoded));
                if stream.write_all(&framed).await.is_err() {
                    return;
                }
            }
            // What is announced too long ends the conversation.
            Err(_) => return,
            Ok(None) => match stream.read(buffer.as_mut_slice()).await {
                Ok(len) if len > 0 => frames.feed(buffer.get(..len).unwrap_or_default()),
                _ => return,
            },
        }
    }
}

/// What a request changes, once it is granted.
#[derive(Clone, Copy)]
enum Change {
    Locked,
    Unlocked,
    MoreKeys,
    FewerKeys,
}

impl Change {
    fn of(request: &AgentRequest) -> Option<Self> {
        match request {
            AgentRequest::Lock(_) => Some(Self::Locked),
            AgentRequest::Unlock(_) => Some(Self::Unlocked),
            AgentRequest::Add { .. } => Some(Self::MoreKeys),
            AgentRequest::Remove { .. } | AgentRequest::RemoveAll => Some(Self::FewerKeys),
            _ => None,
        }
    }
}

impl Shared {
    fn with_keeper<T>(&self, use_it: impl FnOnce(&mut Keeper) -> T) -> T {
        use_it(&mut self.keeper.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn with_passwords<T>(&self, use_them: impl FnOnce(&mut Passwords) -> T) -> T {
        use_them(&mut self.passwords.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// What is asked about passwords; nothing else. While it is locked, nothing is told or changed.
    fn about_passwords(&self, name: &str, content: &[u8]) -> Option<AgentResponse> {
        if ![REMEMBER, RECALL, DISOWN].contains(&name) {
            return None;
        }
        let now = Instant::now();
        let is_locked = self.with_keeper(|keeper| keeper.is_locked());
        let answer = |good: bool| if good { AgentResponse::Success } else { AgentResponse::Failure };
        Some(self.with_passwords(|passwords| {
            passwords.handle_timeout(now);
            match name {
                _ if is_locked => AgentResponse::Failure,
                REMEMBER => answer(passwords.remember(content, now)),
                DISOWN => answer(passwords.disown(content)),
                _ => match passwords.recall(content) {
                    Some(password) => {
                        AgentResponse::Extension { name: RECALL.into(), content: password.to_vec() }
                    }
                    None => AgentResponse::Failure,
                },
            }
        }))
    }

    async fn answer(
        &self,
        request: AgentRequest,
        asker: &UnixStream,
        tells_passwords: bool,
    ) -> AgentResponse {
        match &request {
            AgentRequest::Extension { name, .. } if name == STATUS => {
                let mut status = self.status();
                status.passwords.retain(|_| tells_passwords);
                return AgentResponse::Extension { name: STATUS.into(), content: status.encode() };
            }
            AgentRequest::Extension { name, .. } if name == STOP => {
                // What is held is wiped before the answer says so.
                self.with_keeper(|keeper| keeper.forget_all());
                self.with_passwords(Passwords::forget_all);
                self.stop.notify_one();
                return AgentResponse::Success;
            }
            _ => {}
        }
        let request = match request {
            AgentRequest::Extension { name, content } => {
                let content = Zeroizing::new(content);
                match tells_passwords.then(|| self.about_passwords(&name, &content)).flatten() {
                    Some(answer) => return answer,
                    None => AgentRequest::Extension { name, content: content.to_vec() },
                }
            }
            request => request,
        };
        let _turn = match &request {
            AgentRequest::Unlock(_) => Some(self.unlocking.lock().await),
            _ => None,
        };
        let (change, forgets_all) = (Change::of(&request), matches!(request, AgentRequest::RemoveAll));
        let mut outcome = self.with_keeper(|keeper| keeper.handle(request, Instant::now()));
        while let Outcome::Later(at, request) = outcome {
            tokio::time::sleep_until(at.into()).await;
            if !is_there(asker) {
                return AgentResponse::Failure;
            }
            outcome = self.with_keeper(|keeper| keeper.handle(request, Instant::now()));
        }
        self.changed.notify_one();
        match outcome {
            Outcome::Answer(answer) => {
                if let (AgentResponse::Success, Some(change)) = (&answer, change) {
                    if forgets_all {
                        self.with_passwords(Passwords::forget_all);
                    }
                    self.follow(change);
                }
                answer
            }
            Outcome::Confirm(task) if self.allows(&task, asker).await => {
                self.with_keeper(|keeper| keeper.sign(&task))
            }
            Outcome::Confirm(_) | Outcome::Later(..) => AgentResponse::Failure,
        }
    }

    /// What was made for programs follows what became of the keys.
    fn follow(&self, change: Change) {
        let held = self.with_keeper(|keeper| {
            let asks = keeper.held().iter().filter(|held| held.confirm);
            asks.map(|held| held.public.clone()).collect()
        });
        if let Ok(mut asked_about) = self.errands.asked_about.lock() {
            *asked_about = held;
        }
        match change {
            Change::Locked => self.errands.lock(true),
            // What could not log in before may now; and what was made before may want a yes now.
            Change::Unlocked | Change::MoreKeys => {
                if self.errands.asked_about.lock().is_ok_and(|keys| !keys.is_empty()) {
                    self.errands.pool.close_idle();
                }
                self.errands.lock(self.with_keeper(|keeper| keeper.is_locked()));
                let errands = self.errands.clone();
                tokio::spawn(async move { errands.open_at_start().await });
            }
            // Nobody knows which of them logged in with a key that is gone.
            Change::FewerKeys => self.errands.pool.close_all("the keeper has forgotten a key"),
        }
    }

    /// Asks the person, one question at a time, and none for somebody who has gone while others were asked.
    async fn allows(&self, task: &SignTask, asker: &UnixStream) -> bool {
        let here = asker.peer_cred().ok().and_then(|peer| peer.pid()).and_then(terminal::of_process);
        let _turn = self.asking.lock().await;
        if !is_there(asker) {
            return false;
        }
        if let Some(program) = &self.confirm_with {
            return by_program(program, task).await;
        }
        let Some(terminal) = here.or_else(|| self.last_terminal().clone()) else { return false };
        at_terminal(terminal, task, has_gone(asker)).await
    }

    fn last_terminal(&self) -> MutexGuard<'_, Option<PathBuf>> {
        self.last_terminal.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn status(&self) -> Status {
        let now = Instant::now();
        let seconds = |time: Duration| u32::try_from(time.as_secs()).unwrap_or(u32::MAX - 1);
        self.with_keeper(|keeper| {
            keeper.handle_timeout(now);
            // While it is locked nothing is shown.
            let held = if keeper.is_locked() { &[] } else { keeper.held() };
            let keys = held.iter().map(|held| HeldKey {
                key: held.public.clone(),
                comment: held.comment.clone(),
                remaining: held.expires.map(|expires| seconds(expires.saturating_duration_since(now))),
                confirm: held.confirm,
            });
            Status {
                pid: std::process::id(),
                age: seconds(self.started.elapsed()),
                locked: keeper.is_locked(),
                memory_locked: self.memory_locked,
                asks_by_program: self.confirm_with.is_some(),
                keys: keys.collect(),
                passwords: match keeper.is_locked() {
                    true => Vec::new(),
                    false => self.with_passwords(|passwords| passwords.held(now)),
                },
            }
        })
    }
}
