//! The session that was opened together with the login, until somebody takes it.

use std::sync::{Arc, Mutex, PoisonError};

use super::Trunk;
use super::channel::{Channel, Reply};
use super::state::State;
use crate::LinkError;
use crate::program::{Opens, Program};

/// One that waits.
pub(super) struct EarlyChannel {
    channel: Channel,
    /// What it was opened for, with the answers that are awaited; nothing was asked of it yet else.
    program: Option<(Program, Vec<Reply>)>,
}

/// Where it waits; it goes with the last handle of the connection.
pub(super) type Early = Arc<Mutex<Option<EarlyChannel>>>;

impl Trunk {
    /// Takes note of what was opened, before anything is heard of it.
    pub(super) fn keep_early(&self, opens: Opens) {
        let mut state = self.shared().lock();
        let Some((id, with_requests)) = State::early(&state) else { return };
        state.add_channel(id);
        drop(state);
        let channel = Channel::new(self.handle.clone(), id);
        let program = match opens {
            Opens::Program(program) if with_requests => {
                let requests = program.requests();
                let wanted = requests.iter().filter(|(_, wants_reply)| *wants_reply);
                let replies = wanted.map(|_| channel.asked_before()).collect();
                Some((program, replies))
            }
            _ => None,
        };
        *self.early() = Some(EarlyChannel { channel, program });
    }

    fn early(&self) -> std::sync::MutexGuard<'_, Option<EarlyChannel>> {
        self.early.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The session on which this program was started with the login, and the answers to what was asked.
    pub(crate) fn take_early(&self, program: &Program) -> Option<(Channel, Vec<Reply>)> {
        let is_that = |early: &mut EarlyChannel| early.program.as_ref().is_some_and(|(of, _)| of == program);
        let early = self.early().take_if(is_that)?;
        Some((early.channel, early.program.map(|(_, replies)| replies).unwrap_or_default()))
    }

    /// The session that was opened with the login, for whatever it may be.
    pub(crate) fn take_early_session(&self) -> Option<Channel> {
        self.early().take_if(|early| early.program.is_none()).map(|early| early.channel)
    }

    /// A session once it is open.
    ///
    /// # Errors
    /// As [`Trunk::open_session`].
    pub(crate) async fn opened_session(&self, channel: Channel) -> Result<Channel, LinkError> {
        let machine = self.machine().to_owned();
        let opened = self.wait_for_opening(channel, "a session").await?;
        opened.map_err(|source| LinkError::ChannelRefused { machine, source })
    }
}
