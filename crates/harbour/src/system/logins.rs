//! The lists of keys that may log in, one for each user, and the two commands that read and replace them.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use lantern_keys::{PublicKey, login_list, public_line};
use lantern_link::remote_logins::{LIST_FOLLOWS, READ_COMMAND, WRITE_COMMAND, cksum};

use super::{Exit, Program, ProgramIo, Progress};
use crate::UserSpec;

/// What every user's list holds, shared by all sessions of a machine.
#[derive(Debug, Clone, Default)]
pub(crate) struct LoginLists(Arc<Mutex<BTreeMap<String, Vec<u8>>>>);

impl LoginLists {
    pub(crate) fn new(users: &[UserSpec]) -> Self {
        let list = |user: &UserSpec| {
            let lines = user
                .keys
                .iter()
                .map(|key| format!("{}\n", public_line::format(key, "set up with the machine")));
            (user.name.clone(), lines.collect::<String>().into_bytes())
        };
        Self(Arc::new(Mutex::new(users.iter().map(list).collect())))
    }

    pub(crate) fn read(&self, user: &str) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(user).cloned().unwrap_or_default()
    }

    /// Replaces the list, whatever it is.
    pub(crate) fn put(&self, user: &str, list: Vec<u8>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(user.to_owned(), list);
    }

    /// Replaces the list that has this checksum and this length.
    fn replace(&self, user: &str, (sum, len): (u32, usize), list: &[u8]) -> bool {
        let mut lists = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let place = lists.entry(user.to_owned()).or_default();
        if place.len() != len || cksum(place) != sum {
            return false;
        }
        *place = list.to_vec();
        true
    }

    pub(crate) fn contains(&self, user: &str, key: &PublicKey) -> bool {
        login_list::keys(&self.read(user)).iter().any(|line| line.key == *key)
    }
}

/// The program for one of the two commands.
pub(super) fn start(line: &str) -> Option<Box<dyn Program>> {
    match line {
        READ_COMMAND => Some(Box::new(ReadList)),
        WRITE_COMMAND => Some(Box::new(WriteList)),
        _ => None,
    }
}

struct ReadList;

impl Program for ReadList {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        io.out.extend_from_slice(LIST_FOLLOWS);
        io.out.extend_from_slice(&io.surroundings.logins.read(&io.surroundings.user));
        Progress::Ended(Exit::Status(0))
    }
}

struct WriteList;

impl Program for WriteList {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress {
        if !io.input_ended {
            return Progress::Waiting(None);
        }
        let mut parts = io.input.splitn(2, |byte| *byte == b'\n');
        let (head, list) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        let words: Vec<&str> = std::str::from_utf8(head).unwrap_or_default().split(' ').collect();
        let replaced = match words.as_slice() {
            [sum, len, new] if new.parse() == Ok(list.len()) => match (sum.parse(), len.parse()) {
                (Ok(sum), Ok(len)) => io.surroundings.logins.replace(&io.surroundings.user, (sum, len), list),
                _ => false,
            },
            _ => false,
        };
        io.input.clear();
        match replaced {
            true => ReadList.advance(io, now),
            false => Progress::Ended(Exit::Status(96)),
        }
    }
}
