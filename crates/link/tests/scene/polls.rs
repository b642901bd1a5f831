//! Futures that are dropped after some polls.

#![allow(unreachable_pub)]

use std::future::{Future, poll_fn};
use std::pin::pin;
use std::task::Poll;

/// Polls a future so many times, each time that it is woken, and drops it then; what it came to, if it did before.
pub async fn poll_times<F: Future>(future: F, times: usize) -> Option<F::Output> {
    let mut future = pin!(future);
    let mut polled = 0;
    poll_fn(|cx| {
        let outcome = future.as_mut().poll(cx);
        polled += 1;
        match outcome {
            Poll::Ready(outcome) => Poll::Ready(Some(outcome)),
            Poll::Pending if polled >= times => Poll::Ready(None),
            Poll::Pending => Poll::Pending,
        }
    })
    .await
}
