//! The task that owns the socket.

use std::future::poll_fn;
use std::sync::Arc;
use std::task::Poll;

use lantern_ssh::SshError;

use super::state::Shared;
use crate::line::Line;
use crate::pump::{Pump, PumpError};

/// Moves bytes until the connection ends; then tells everybody, and only then says goodbye.
pub(super) async fn drive(shared: Arc<Shared>, mut pump: Pump<Line>) {
    let outcome = poll_fn(|cx| {
        shared.wait_to_drive(cx);
        let mut state = shared.lock();
        let state = &mut *state;
        if shared.is_abandoned() {
            state.client.disconnect();
            return Poll::Ready(Ok(()));
        }
        let turn = pump.poll_turn(&mut state.client, cx);
        state.distribute();
        match turn {
            Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
            Poll::Ready(Ok(())) => {
                // Those who have been woken come first: what they take makes room for more.
                cx.waker().wake_by_ref();
                Poll::Pending
            }
            Poll::Pending => Poll::Pending,
        }
    })
    .await;
    let error = match outcome {
        Ok(()) => SshError::Closed { during: "by our own wish" },
        Err(PumpError::Io(_)) if shared.lock().client.is_joined() => SshError::HolderEnded,
        Err(error) => error.lost_by(),
    };
    let last_words = {
        let mut state = shared.lock();
        state.lose(error);
        state.client.take_unsent()
    };
    pump.finish(&last_words).await;
    shared.lock().finish();
}
