//! A session that is opened together with the login, where the last visits say that this works: with this key, at this server.

use lantern_book::{Hints, Opening};
use lantern_keys::Fingerprint;
use lantern_ssh::{Client, EarlySession, SshError};
use tracing::debug;

use crate::ConnectRequest;
use crate::program::{Opens, Program};
use crate::pump::PumpError;

/// What is to be opened, with the login by which key.
#[derive(Debug)]
pub(crate) struct Intent {
    pub(crate) key: Fingerprint,
    pub(crate) session: EarlySession,
}

impl Intent {
    /// What the last visits allow. `took` is the key that the machine took last.
    pub(crate) fn of(request: &ConnectRequest, hints: &Hints, took: Option<Fingerprint>) -> Option<Self> {
        let program = match &request.opens {
            Opens::Nothing => return None,
            Opens::Session => None,
            Opens::Program(program) => Some(program),
        };
        let key = took.filter(|_| !request.only_looking)?;
        let (number, unless) = match hints.opening(&request.machine) {
            Opening::Unwelcome { key: with, identification } if with == key => (None, Some(identification)),
            opening => (opening.sure_number(), None),
        };
        let requests = program.filter(|_| number.is_some()).map(Program::requests).unwrap_or_default();
        Some(Self { key, session: EarlySession { number, requests, unless } })
    }
}

/// Whether the connection may have ended since a session was opened together with the login: the next visit then goes without.
pub(crate) fn is_to_blame(client: &Client, source: &SshError) -> bool {
    let is_that =
        matches!(source, SshError::EarlyUnwelcome | SshError::Disconnected(_) | SshError::Closed { .. });
    is_that && client.early_may_be_unwelcome()
}

/// Whether a program may have been started of which nothing was heard: its command has left, and the line went without a word. A server that says goodbye, or
/// opens the session as another one, has not started it: what it says comes in order (RFC 4253 §6), and that the session is open would have come before.
pub(crate) fn may_have_run(client: &Client, error: &PumpError) -> bool {
    let says_so = matches!(error, PumpError::Ssh(SshError::EarlyUnwelcome | SshError::Disconnected(_)));
    !says_so && client.early_session().is_some_and(|(_, with_requests)| with_requests)
}

/// Notes for the next visit that this key at this server is not enough, or that its numbers are not the same every time.
pub(crate) fn note_unwelcome(request: &ConnectRequest, client: &Client, key: Fingerprint, by_number: bool) {
    debug!(machine = request.machine, by_number, "no session together with the login");
    let opening = match by_number {
        true => Opening::Changing,
        false => Opening::Unwelcome { key, identification: client.peer_identification().to_owned() },
    };
    let hints = Hints::of(&request.home);
    // What is not noted costs the same next time.
    let _ = hints.note(&request.machine, hints.get(&request.machine).as_ref(), &opening);
}

/// What this visit taught.
pub(crate) fn learned(hints: &Hints, machine: &str, client: &Client) -> Opening {
    let before = hints.opening(machine);
    match client.early_number() {
        Some(number) => before.numbered(number),
        None => before,
    }
}
