//! A file of a machine as its bytes, in order.

use std::collections::HashMap;
use std::time::Instant;

use bytes::Bytes;
use lantern_ssh::sftp::{
    Answer, Attributes, Departure, FileHandle, OpenFlags, ReadAhead, SftpRequest, Ticket,
};
use tokio::sync::mpsc;

use super::shared::{Outcome, Waiter, close_unheard, is_end, put};
use super::{Files, FilesError};

/// Most bytes that are taken of a file that has no size, as those of `/proc`: what has more has no end.
const MOST_WITHOUT_SIZE: u64 = 256 * 1024 * 1024;

/// A file that is read. Dropped, it is closed.
pub struct FileReader {
    files: Files,
    path: Vec<u8>,
    handle: Option<FileHandle>,
    reads: ReadAhead,
    attributes: Attributes,
    under_way: HashMap<u64, (Ticket, Departure)>,
    answers: mpsc::UnboundedReceiver<(u64, Outcome)>,
    sender: mpsc::UnboundedSender<(u64, Outcome)>,
}

impl Files {
    /// Opens a file to read it, from this byte on.
    ///
    /// # Errors
    /// It is not there, or may not be read; no answer.
    pub async fn read(&self, path: &[u8], from: u64) -> Result<FileReader, FilesError> {
        let handle = self.open("read", path, OpenFlags::READ, Attributes::default()).await?;
        let (sender, answers) = mpsc::unbounded_channel();
        let mut reader = FileReader {
            files: self.clone(),
            path: path.to_vec(),
            handle: Some(handle),
            reads: ReadAhead::new(from, Some(0), 1),
            attributes: Attributes::default(),
            under_way: HashMap::new(),
            answers,
            sender,
        };
        reader.attributes = reader.look().await?;
        let piece = u32::try_from(self.shared().lock().limits.read).unwrap_or(u32::MAX);
        let end = reader.attributes.size.filter(|size| *size > 0);
        reader.reads = ReadAhead::new(from, end, piece);
        Ok(reader)
    }
}

impl FileReader {
    /// What was known of it when it was opened.
    pub fn attributes(&self) -> Attributes {
        self.attributes
    }

    /// What is known of it now.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn look(&self) -> Result<Attributes, FilesError> {
        let Some(handle) = &self.handle else { return Err(self.files.misfit()) };
        match put(self.files.shared(), &SftpRequest::look_at(handle)).await? {
            Ok(Answer::Attributes(attributes)) => Ok(attributes),
            Ok(_) => Err(self.files.misfit()),
            Err(refusal) => Err(self.files.refused("look at", &self.path, refusal)),
        }
    }

    /// The next bytes, with where they are in the file; none at its end. Dropped, it loses nothing.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn next(&mut self) -> Result<Option<(u64, Vec<Bytes>)>, FilesError> {
        loop {
            self.ask_ahead();
            if let Some(bytes) = self.reads.next_bytes() {
                let read = bytes.0 + bytes.1.iter().map(|piece| piece.len() as u64).sum::<u64>();
                if self.attributes.size.unwrap_or(0) == 0 && read > MOST_WITHOUT_SIZE {
                    let (machine, path) = (self.files.machine().to_owned(), self.path.clone());
                    return Err(FilesError::Endless { machine, path, most: MOST_WITHOUT_SIZE });
                }
                return Ok(Some(bytes));
            }
            if self.reads.is_finished() {
                return Ok(None);
            }
            let answered = tokio::select! {
                biased;
                answered = self.answers.recv() => answered,
                error = self.files.shared().over() => return Err(error),
            };
            let Some((offset, outcome)) = answered else { return Err(self.files.misfit()) };
            if let Some((_, departure)) = self.under_way.remove(&offset) {
                self.files.shared().lock().flight.arrives(departure, Instant::now());
            }
            let brought = match outcome {
                Ok(Answer::Data(pieces)) => Some(pieces),
                Ok(_) => return Err(self.files.misfit()),
                Err(refusal) if is_end(&refusal) => None,
                Err(refusal) => return Err(self.files.refused("read", &self.path, refusal)),
            };
            self.reads.answered(offset, brought).map_err(|_| FilesError::Stalled {
                machine: self.files.machine().to_owned(),
                path: self.path.clone(),
            })?;
        }
    }

    /// Asks for as much as the line holds.
    fn ask_ahead(&mut self) {
        let Some(handle) = &self.handle else { return };
        let mut state = self.files.shared().lock();
        if state.ended.is_some() {
            return;
        }
        let mut asked = false;
        while self.under_way.is_empty() || state.flight.has_room(self.reads.piece().into()) {
            let Some((offset, len)) = self.reads.next_read() else { break };
            let waiter = Waiter::Several(self.sender.clone(), offset);
            let ticket = state.ask(&SftpRequest::read(handle, offset, len), waiter);
            let departure = state.flight.leaves(len.into(), Instant::now());
            self.under_way.insert(offset, (ticket, departure));
            asked = true;
        }
        drop(state);
        if asked {
            self.files.shared().wake.notify_one();
        }
    }
}

impl Drop for FileReader {
    fn drop(&mut self) {
        {
            let mut state = self.files.shared().lock();
            for (ticket, departure) in self.under_way.values() {
                state.waiters.remove(ticket);
                state.client.give_up(*ticket);
                state.flight.forget(*departure);
            }
        }
        if let Some(handle) = self.handle.take() {
            close_unheard(self.files.shared(), &SftpRequest::close(handle));
        }
    }
}
