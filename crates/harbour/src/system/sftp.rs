//! The program behind the subsystem for files.

use std::time::Instant;

use bytes::Bytes;
use lantern_ssh::sftp::{FileStore, SftpServer};

use super::{Exit, OUTPUT_HIGH_WATER, Program, ProgramIo, Progress};
use crate::tree::FilesOfUser;

/// A conversation about files.
pub(crate) struct Sftp {
    server: SftpServer,
    files: FilesOfUser,
}

impl Sftp {
    pub(crate) fn new(server: SftpServer, files: FilesOfUser) -> Self {
        Self { server, files }
    }
}

impl Program for Sftp {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        loop {
            if self.server.wants_input() && !io.input.is_empty() {
                self.server.feed(Bytes::from(std::mem::take(&mut io.input)));
            }
            let store: &mut dyn FileStore = &mut self.files;
            if let Err(error) = self.server.work(store) {
                io.err.extend_from_slice(format!("files: {error}\n").as_bytes());
                return Progress::Ended(Exit::Status(1));
            }
            let mut wrote = false;
            while io.out.len() < OUTPUT_HIGH_WATER
                && let Some(piece) = self.server.poll_transmit()
            {
                io.out.extend_from_slice(&piece);
                wrote = true;
            }
            if !wrote {
                let is_over = io.input_ended && io.input.is_empty() && io.out.len() < OUTPUT_HIGH_WATER;
                return if is_over { Progress::Ended(Exit::Status(0)) } else { Progress::Waiting(None) };
            }
            if io.out.len() >= OUTPUT_HIGH_WATER {
                return Progress::Waiting(None);
            }
        }
    }
}

impl Drop for Sftp {
    fn drop(&mut self) {
        self.server.end(&mut self.files);
    }
}
