//! A file of a machine that is written.

use std::collections::HashMap;
use std::time::Instant;

use bytes::Bytes;
use lantern_ssh::sftp::{
    Answer, Attributes, Departure, Extension, FileHandle, OpenFlags, SftpRequest, Ticket,
};
use tokio::sync::mpsc;

use super::shared::{Outcome, Waiter, close_unheard, put};
use super::{Files, FilesError};

/// A file that is written. Dropped before its end, it is closed as it is.
pub struct FileWriter {
    files: Files,
    path: Vec<u8>,
    handle: Option<FileHandle>,
    piece: usize,
    next: u64,
    under_way: HashMap<u64, (Ticket, Departure)>,
    answers: mpsc::UnboundedReceiver<(u64, Outcome)>,
    sender: mpsc::UnboundedSender<(u64, Outcome)>,
}

impl Files {
    /// Opens a file to write it.
    ///
    /// # Errors
    /// The machine's refusal; no answer.
    pub async fn write(
        &self,
        path: &[u8],
        flags: OpenFlags,
        permissions: Option<u32>,
    ) -> Result<FileWriter, FilesError> {
        let attributes = Attributes { mode: permissions, ..Attributes::default() };
        let handle = self.open("write", path, flags, attributes).await?;
        let (sender, answers) = mpsc::unbounded_channel();
        let piece = usize::try_from(self.shared().lock().limits.write).unwrap_or(usize::MAX);
        Ok(FileWriter {
            files: self.clone(),
            path: path.to_vec(),
            handle: Some(handle),
            piece,
            next: 0,
            under_way: HashMap::new(),
            answers,
            sender,
        })
    }
}

impl FileWriter {
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

    /// Hands bytes over that are to be there from this offset on; it waits while too many are under way. That they are written is known at the end.
    ///
    /// # Errors
    /// What was handed over before could not be written; no answer.
    pub async fn write(&mut self, mut offset: u64, mut data: Bytes) -> Result<(), FilesError> {
        while !data.is_empty() {
            let part = data.split_to(data.len().min(self.piece));
            while !self.may_send(part.len() as u64) {
                self.hear().await?;
            }
            // What has been answered meanwhile makes room, and says early what cannot be written.
            while let Ok(answered) = self.answers.try_recv() {
                self.take(answered)?;
            }
            let len = part.len() as u64;
            self.send(offset, part)?;
            offset += len;
        }
        Ok(())
    }

    fn may_send(&self, len: u64) -> bool {
        self.under_way.is_empty() || self.files.shared().lock().flight.has_room(len)
    }

    fn send(&mut self, offset: u64, part: Bytes) -> Result<(), FilesError> {
        let Some(handle) = &self.handle else { return Err(self.files.misfit()) };
        let shared = self.files.shared();
        let mut state = shared.lock();
        if let Some(ended) = &state.ended {
            return Err(ended.clone());
        }
        let number = self.next;
        self.next += 1;
        let departure = state.flight.leaves(part.len() as u64, Instant::now());
        let waiter = Waiter::Several(self.sender.clone(), number);
        let ticket = state.ask(&SftpRequest::write(handle, offset, part), waiter);
        self.under_way.insert(number, (ticket, departure));
        drop(state);
        shared.wake.notify_one();
        Ok(())
    }

    async fn hear(&mut self) -> Result<(), FilesError> {
        let answered = tokio::select! {
            biased;
            answered = self.answers.recv() => answered,
            error = self.files.shared().over() => return Err(error),
        };
        match answered {
            Some(answered) => self.take(answered),
            None => Err(self.files.misfit()),
        }
    }

    fn take(&mut self, (number, outcome): (u64, Outcome)) -> Result<(), FilesError> {
        if let Some((_, departure)) = self.under_way.remove(&number) {
            self.files.shared().lock().flight.arrives(departure, Instant::now());
        }
        outcome.map(drop).map_err(|refusal| self.files.refused("write", &self.path, refusal))
    }

    /// Waits until everything is written, gives the file these attributes, brings it to disk where the machine can and `sync` says so, and closes it.
    ///
    /// # Errors
    /// Something could not be written; the machine's refusal; no answer.
    pub async fn finish(mut self, attributes: Attributes, sync: bool) -> Result<(), FilesError> {
        while !self.under_way.is_empty() {
            self.hear().await?;
        }
        let Some(handle) = self.handle.take() else { return Err(self.files.misfit()) };
        let shared = self.files.shared();
        let mut asked = Vec::new();
        if attributes != Attributes::default() {
            asked.push(("change", put(shared, &SftpRequest::change(&handle, attributes))));
        }
        if sync && self.files.has(Extension::Fsync) {
            asked.push(("bring to disk", put(shared, &SftpRequest::sync(&handle))));
        }
        // On full disks and quotas, some servers say only here that it was not written.
        asked.push(("close", put(shared, &SftpRequest::close(handle))));
        let mut outcome = Ok(());
        for (what, asked) in asked {
            let answered = asked.await?;
            if let Err(refusal) = answered {
                outcome = outcome.and(Err(self.files.refused(what, &self.path, refusal)));
            }
        }
        outcome
    }
}

impl Drop for FileWriter {
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
