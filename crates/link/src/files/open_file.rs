//! An open file of a machine, with what has been asked about it and not been answered. Dropped, it is closed, and what is under way is given up.

use std::collections::HashMap;
use std::time::Instant;

use lantern_ssh::sftp::{Answer, Attributes, Departure, FileHandle, SftpRequest, Ticket};
use tokio::sync::mpsc;

use super::shared::{Outcome, Waiter, close_unheard, put};
use super::{Files, FilesError};

/// An open file.
pub(super) struct OpenFile {
    pub(super) files: Files,
    pub(super) path: Vec<u8>,
    handle: Option<FileHandle>,
    under_way: HashMap<u64, (Ticket, Departure)>,
    answers: mpsc::UnboundedReceiver<(u64, Outcome)>,
    sender: mpsc::UnboundedSender<(u64, Outcome)>,
}

impl OpenFile {
    pub(super) fn new(files: &Files, path: &[u8], handle: FileHandle) -> Self {
        let (sender, answers) = mpsc::unbounded_channel();
        Self {
            files: files.clone(),
            path: path.to_vec(),
            handle: Some(handle),
            under_way: HashMap::new(),
            answers,
            sender,
        }
    }

    /// Its handle, until it is closed.
    pub(super) fn handle(&self) -> Result<&FileHandle, FilesError> {
        self.handle.as_ref().ok_or_else(|| self.files.misfit())
    }

    /// Its handle, to be closed by whoever takes it.
    pub(super) fn take_handle(&mut self) -> Result<FileHandle, FilesError> {
        self.handle.take().ok_or_else(|| self.files.misfit())
    }

    /// Whether nothing is under way.
    pub(super) fn is_quiet(&self) -> bool {
        self.under_way.is_empty()
    }

    /// Whether so many bytes more may be asked about; something always may.
    pub(super) fn has_room(&self, bytes: u64) -> bool {
        self.is_quiet() || self.files.shared().lock().flight.has_room(bytes)
    }

    /// Asks something about so many bytes; the number comes back with the answer.
    pub(super) fn ask(&mut self, number: u64, request: &SftpRequest, bytes: u64) -> Result<(), FilesError> {
        let shared = self.files.shared();
        let mut state = shared.lock();
        if let Some(ended) = &state.ended {
            return Err(ended.clone());
        }
        let departure = state.flight.leaves(bytes, Instant::now());
        let ticket = state.ask(request, Waiter::Several(self.sender.clone(), number));
        drop(state);
        self.under_way.insert(number, (ticket, departure));
        shared.wake.notify_one();
        Ok(())
    }

    /// The next answer, in whatever order they come. Dropped, it loses nothing.
    pub(super) async fn hear(&mut self) -> Result<(u64, Outcome), FilesError> {
        let answered = tokio::select! {
            biased;
            answered = self.answers.recv() => answered,
            error = self.files.shared().over() => return Err(error),
        };
        let (number, outcome) = answered.ok_or_else(|| self.files.misfit())?;
        self.arrived(number);
        Ok((number, outcome))
    }

    /// An answer that is there already.
    pub(super) fn try_hear(&mut self) -> Option<(u64, Outcome)> {
        let (number, outcome) = self.answers.try_recv().ok()?;
        self.arrived(number);
        Some((number, outcome))
    }

    fn arrived(&mut self, number: u64) {
        if let Some((_, departure)) = self.under_way.remove(&number) {
            self.files.shared().lock().flight.arrives(departure, Instant::now());
        }
    }

    /// What is known of it now.
    pub(super) async fn look(&self) -> Result<Attributes, FilesError> {
        match put(self.files.shared(), &SftpRequest::look_at(self.handle()?)).await? {
            Ok(Answer::Attributes(attributes)) => Ok(attributes),
            Ok(_) => Err(self.files.misfit()),
            Err(refusal) => Err(self.files.refused("look at", &self.path, refusal)),
        }
    }
}

impl Drop for OpenFile {
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
