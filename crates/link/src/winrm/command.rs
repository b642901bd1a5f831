//! A command on a machine that is spoken to by WinRM, as whoever started it holds it. A task owns its connections, and shares its state machine with this.

use std::sync::Arc;

use bytes::Bytes;
use lantern_ssh::Stream;
use lantern_winrm::{CommandShell, Signal};

use super::driver::{Done, Driver};
use super::failure::WinrmFailure;
use super::opener::Opener;
use super::session::Session;
use super::shared::{CommandEnd, Shared};

/// A command under way. Clones are the same one; when the last goes, it is given up.
#[derive(Clone)]
pub(crate) struct WinrmCommand {
    handle: Arc<Handle>,
}

struct Handle(Arc<Shared>);

impl Drop for Handle {
    fn drop(&mut self) {
        let mut state = self.0.lock();
        state.is_dropped = true;
        state.shell.close();
        drop(state);
        self.0.wake.notify_one();
    }
}

impl WinrmCommand {
    /// Starts a task for it, which begins on this connection. `done` hears of its end.
    pub(super) fn start(opener: Arc<Opener>, session: Session, shell: CommandShell, done: Done) -> Self {
        let shared = Arc::new(Shared::new(opener.request.way.machine.clone(), shell));
        tokio::spawn(Driver::new(shared.clone(), opener, done).run(session));
        Self { handle: Arc::new(Handle(shared)) }
    }

    fn shared(&self) -> &Shared {
        &self.handle.0
    }

    pub(crate) async fn next(&self, stream: Stream) -> Option<Bytes> {
        let index = usize::from(stream == Stream::Stderr);
        let shared = self.shared();
        shared
            .until(|state| match state.out[index].pop_front() {
                Some(piece) => Some(Some(piece)),
                None if state.end.is_some() => Some(None),
                None => None,
            })
            .await
    }

    pub(crate) fn consumed(&self, bytes: usize) {
        self.shared().lock().shell.consumed(bytes);
        self.shared().wake.notify_one();
    }

    /// Hands input over as far as there is room; whether anybody takes input.
    pub(crate) async fn send(&self, data: &mut Bytes) -> bool {
        while !data.is_empty() {
            let taken = self
                .shared()
                .until(|state| {
                    if !state.shell.takes_input() {
                        return Some(None);
                    }
                    let room = state.shell.input_room().min(data.len());
                    (room > 0).then_some(Some(room))
                })
                .await;
            let Some(room) = taken else { return false };
            self.shared().lock().shell.send(data.split_to(room));
            self.shared().wake.notify_one();
        }
        true
    }

    pub(crate) fn send_eof(&self) {
        self.shared().lock().shell.end_input();
        self.shared().wake.notify_one();
    }

    pub(crate) fn signal(&self, name: &str) {
        let signal = match name {
            "INT" => Signal::Interrupt,
            _ => Signal::Terminate,
        };
        self.shared().lock().shell.signal(signal);
        self.shared().wake.notify_one();
    }

    pub(crate) fn close(&self) {
        self.shared().lock().shell.close();
        self.shared().wake.notify_one();
    }

    pub(crate) async fn ended(&self) -> CommandEnd {
        self.shared().until(|state| state.end.clone()).await
    }

    /// Waits until the program runs, or is known not to.
    pub(crate) async fn started(&self) -> Result<(), WinrmFailure> {
        self.shared()
            .until(|state| match &state.end {
                _ if state.started => Some(Ok(())),
                Some(CommandEnd::Failed(failure)) => Some(Err(failure.clone())),
                Some(_) => Some(Ok(())),
                None => None,
            })
            .await
    }
}
