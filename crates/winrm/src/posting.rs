//! What is posted to a service, and what is under way: the same for commands and for sessions.

use std::collections::VecDeque;
use std::time::Duration;

use lantern_keys::RandomSource;

use crate::ids::uuid;
use crate::limits::{ANSWER_MARGIN, ENVELOPE_OVERHEAD};
use crate::{Request, RequestHeaders, WinrmError};

/// Where a service is, and how it is spoken to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServicePlace {
    /// The URL of the service, as its headers say it.
    pub url: String,
    /// The language of the machine's messages.
    pub language: String,
    /// The largest answers that are asked for, in bytes.
    pub max_envelope: u32,
}

/// Something to be posted.
#[derive(Debug, Clone)]
pub struct Post {
    /// Its number, for the answer.
    pub number: u64,
    /// The envelope.
    pub body: String,
    /// What it asks for, in a word.
    pub what: &'static str,
    /// How long its answer may take; none: as long as a login's.
    pub limit: Option<Duration>,
}

/// Which connection is free.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lane {
    /// The one on which output is waited for.
    Main,
    /// The other.
    Side,
}

/// How much a second connection is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Wanted {
    /// There is nothing to say.
    Not,
    /// The end of input is to be said, to a program that may never ask.
    Soon,
    /// Now.
    Now,
}

/// What whoever brings posts to a machine needs of a state machine: a main connection, a second one where something must be said while the machine holds the
/// question for output, and answers.
pub trait Posts {
    /// How much a second connection is wanted, while the main one waits for output.
    fn wants_side(&self) -> Wanted;
    /// Whether there is something to post on the main connection, or soon will be.
    fn wants_main(&self) -> bool;
    /// What to post on a connection that is free.
    ///
    /// # Errors
    /// What was handed over cannot be sent.
    fn poll_post(&mut self, lane: Lane) -> Result<Option<Post>, WinrmError>;
    /// Takes the answer to a post.
    fn handle_answer(&mut self, number: u64, bytes: &[u8]);
    /// Notes that a connection had ended before a post left: the machine has not heard it, and it is posted again.
    fn handle_unsent(&mut self, number: u64);
    /// Notes that a connection ended before the answer to a post was there; `is_amid`: a part of it had come.
    fn handle_lost(&mut self, number: u64, is_amid: bool);
    /// Notes that there is no way to the machine any more: nothing more is asked, and the shell is left to its idle time.
    fn handle_unreachable(&mut self);
    /// Gives it up: its shell is ended.
    fn close(&mut self);
    /// Whether the shell is gone.
    fn is_gone(&self) -> bool;
    /// Whether a shell stands there that is to be ended.
    fn has_shell(&self) -> bool;
}

pub(crate) struct InFlight {
    pub(crate) number: u64,
    pub(crate) lane: Lane,
    pub(crate) request: Request,
    pub(crate) message_id: String,
}

/// What makes posts, and knows those that are under way.
pub(crate) struct Poster {
    place: ServicePlace,
    /// What the shell is of.
    resource: String,
    session_id: String,
    random: Box<dyn RandomSource + Send>,
    pub(crate) shell: Option<String>,
    pub(crate) in_flight: Vec<InFlight>,
    /// What never left, to be posted before all else.
    unsent: VecDeque<Request>,
    posted: u64,
}

impl Poster {
    pub(crate) fn new(
        place: ServicePlace,
        resource: String,
        mut random: Box<dyn RandomSource + Send>,
    ) -> Self {
        let session_id = uuid(random.as_mut());
        Self {
            place,
            resource,
            session_id,
            random,
            shell: None,
            in_flight: Vec::new(),
            unsent: VecDeque::new(),
            posted: 0,
        }
    }

    /// How many bytes of data go into one post: Base64 makes four bytes of three.
    pub(crate) fn room(&self) -> usize {
        (self.place.max_envelope as usize).saturating_sub(ENVELOPE_OVERHEAD) / 4 * 3
    }

    /// Whether something is under way on this connection.
    pub(crate) fn is_busy(&self, lane: Lane) -> bool {
        self.in_flight.iter().any(|flight| flight.lane == lane)
    }

    /// Something never left: it is to be posted again, but for questions, which are put anew anyway.
    pub(crate) fn keep_unsent(&mut self, number: u64) {
        if let Some(flight) = self.landed(number)
            && !matches!(flight.request, Request::Receive { .. })
        {
            self.unsent.push_back(flight.request);
        }
    }

    /// Whether something never left.
    pub(crate) fn has_unsent(&self) -> bool {
        !self.unsent.is_empty()
    }

    /// What never left and is to be posted now.
    pub(crate) fn next_unsent(&mut self) -> Option<Request> {
        self.unsent.pop_front()
    }

    /// What was under way under this number, which it is no more.
    pub(crate) fn landed(&mut self, number: u64) -> Option<InFlight> {
        let index = self.in_flight.iter().position(|flight| flight.number == number)?;
        Some(self.in_flight.remove(index))
    }

    /// Makes a post; the service may take so long for it.
    pub(crate) fn post(
        &mut self,
        lane: Lane,
        request: Request,
        timeout: Duration,
    ) -> Result<Post, WinrmError> {
        let message_id = uuid(self.random.as_mut());
        let limit = match &request {
            Request::Create(_) => None,
            _ => Some(timeout + ANSWER_MARGIN),
        };
        let headers = RequestHeaders {
            to: self.place.url.clone(),
            action: String::new(),
            resource: self.resource.clone(),
            message_id: message_id.clone(),
            session_id: self.session_id.clone(),
            max_envelope: self.place.max_envelope,
            timeout,
            language: self.place.language.clone(),
            shell: self.shell.clone(),
            options: Vec::new(),
        };
        let (body, what) = (request.encode(headers)?, request.name());
        self.posted += 1;
        self.in_flight.push(InFlight { number: self.posted, lane, request, message_id });
        Ok(Post { number: self.posted, body, what, limit })
    }
}
