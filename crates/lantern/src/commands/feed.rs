//! What a pipeline is given: standard input, as objects, as fast as the machine takes them.

use std::collections::VecDeque;

use bytes::Bytes;
use lantern_link::RemoteSession;
use lantern_operations::remoting::Given;
use lantern_winrm::remoting::Objects;

use crate::screen::failure::{Failure, code};
use crate::terminal::stdio::Input;

/// What is given to a pipeline.
pub(super) struct Feed {
    input: Input,
    given: Given,
    /// Objects that wait for room.
    waiting: VecDeque<Objects>,
    /// Whether it has ended.
    is_over: bool,
}

impl Feed {
    /// Starts reading.
    pub(super) fn start(is_json: bool) -> Self {
        let (input, given) = (Input::start(), Given::new(is_json));
        Self { input, given, waiting: VecDeque::new(), is_over: false }
    }

    /// Whether objects wait for room.
    pub(super) fn has_objects(&self) -> bool {
        !self.waiting.is_empty()
    }

    /// Whether more is to be read.
    pub(super) fn reads(&self) -> bool {
        self.waiting.is_empty() && !self.is_over
    }

    /// The next piece; none at the end.
    pub(super) async fn next(&mut self) -> Option<Bytes> {
        self.input.next().await
    }

    /// Takes a piece, or the end.
    ///
    /// # Errors
    /// It is not what was said.
    pub(super) fn take(&mut self, chunk: Option<&Bytes>) -> Result<(), Failure> {
        let objects = match chunk {
            Some(chunk) => self.given.take(chunk),
            None => self.given.end(),
        };
        let failed = |error| Failure::new(code::LOCAL, format!("{error}"));
        self.waiting.extend(objects.map_err(failed)?);
        self.is_over |= chunk.is_none();
        Ok(())
    }
}

/// The next piece; never, where nothing is given.
pub(super) async fn next_chunk(feed: &mut Option<Feed>) -> Option<Bytes> {
    match feed {
        Some(feed) => feed.next().await,
        None => std::future::pending().await,
    }
}

/// Takes a piece of what is given to a pipeline under way.
///
/// # Errors
/// It is not what was said: then the session is given up.
pub(super) fn take(
    feed: &mut Option<Feed>,
    session: &RemoteSession,
    chunk: Option<Bytes>,
) -> Result<(), Failure> {
    let Some(feed) = feed else { return Ok(()) };
    if let Err(failure) = feed.take(chunk.as_ref()) {
        session.close();
        return Err(failure.hint("what was given before that may have been worked on"));
    }
    if feed.is_over && feed.waiting.is_empty() {
        session.end_input();
    }
    Ok(())
}

/// Hands an object over, where somebody takes it.
pub(super) fn give(feed: &mut Option<Feed>, session: &RemoteSession, takes: bool) {
    let Some(feed) = feed else { return };
    match (takes, feed.waiting.pop_front()) {
        (true, Some(objects)) => session.input(&objects),
        _ => (feed.waiting, feed.is_over) = (VecDeque::new(), true),
    }
    if feed.is_over && feed.waiting.is_empty() {
        session.end_input();
    }
}
