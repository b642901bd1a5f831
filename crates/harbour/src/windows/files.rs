//! The file service that is brought along, as a simulated machine runs it: it does not compile anything, and answers from files of its own.

use std::process::Stdio;

use bytes::Bytes;
use lantern_ssh::sftp::{Extension, Extensions, Flaws, SftpServer};
use lantern_winrm::{Output, file_helper};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::process::Child;

use super::command::Command;
use crate::tree::FilesOfUser;

/// What ends a service that was told nonsense.
const NONSENSE: u32 = 97;
/// What ends one that did not get its own text.
const NO_TEXT: u32 = 96;

/// A conversation about files.
pub(super) struct Conversation {
    server: SftpServer,
    files: FilesOfUser,
}

impl Conversation {
    pub(super) fn new(files: FilesOfUser) -> Self {
        let can = [Extension::PosixRename, Extension::Fsync, Extension::Statvfs, Extension::Limits];
        let can = can.into_iter().fold(Extensions::default(), Extensions::and).and(Extension::CheckFile);
        Self { server: SftpServer::new(can, Flaws::default()), files }
    }

    /// What is answered to a piece of the conversation; nothing more where that made no sense.
    pub(super) fn answer(&mut self, piece: Bytes) -> Option<Vec<u8>> {
        self.server.feed(piece);
        let mut answer = Vec::new();
        loop {
            self.server.work(&mut self.files).ok()?;
            let before = answer.len();
            while let Some(piece) = self.server.poll_transmit() {
                answer.extend_from_slice(&piece);
            }
            if answer.len() == before {
                return Some(answer);
            }
        }
    }
}

impl Drop for Conversation {
    fn drop(&mut self) {
        self.server.end(&mut self.files);
    }
}

/// Runs the service to the end of its input; the code that it ends with.
pub(super) async fn serve(command: &Command, files: FilesOfUser, program: Option<&[String]>) -> u32 {
    let expected = file_helper::text();
    let mut text: Vec<u8> = Vec::new();
    while text.len() < expected.len() {
        let Some(piece) = command.read().await else { return NO_TEXT };
        text.extend_from_slice(&piece);
    }
    let first = text.split_off(expected.len());
    if text != expected.as_bytes() {
        command.write(Output::Error, "The term is not C#.\r\n").await;
        return NONSENSE;
    }
    match program {
        Some(words) => by_program(command, first, words).await.unwrap_or(NONSENSE),
        None => by_itself(command, first, files).await,
    }
}

async fn by_itself(command: &Command, first: Vec<u8>, files: FilesOfUser) -> u32 {
    let mut conversation = Conversation::new(files);
    let mut piece = Some(Bytes::from(first));
    while let Some(next) = piece {
        let Some(answer) = conversation.answer(next) else { return NONSENSE };
        if !answer.is_empty() && !command.write(Output::Main, answer).await {
            return 1;
        }
        piece = command.read().await;
    }
    0
}

/// A program of this system stands in for it.
async fn by_program(command: &Command, first: Vec<u8>, words: &[String]) -> std::io::Result<u32> {
    let (name, arguments) = words.split_first().ok_or(std::io::ErrorKind::NotFound)?;
    let mut child: Child = tokio::process::Command::new(name)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .kill_on_drop(true)
        .spawn()?;
    let (Some(mut input), Some(mut output)) = (child.stdin.take(), child.stdout.take()) else {
        return Ok(NONSENSE);
    };
    input.write_all(&first).await?;
    let into = async move {
        while let Some(piece) = command.read().await {
            if input.write_all(&piece).await.and(input.flush().await).is_err() {
                break;
            }
        }
    };
    let out_of = async {
        let mut piece = vec![0; 64 * 1024];
        while let Ok(len) = output.read(&mut piece).await
            && len > 0
        {
            command.write(Output::Main, piece.get(..len).unwrap_or_default().to_vec()).await;
        }
    };
    tokio::join!(into, out_of);
    Ok(child.wait().await?.code().and_then(|code| u32::try_from(code).ok()).unwrap_or(NONSENSE))
}
