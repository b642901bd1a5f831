//! A conversation about files in the pipelines of a session of PowerShell: each carries what has come together since the one before.

use bytes::{Bytes, BytesMut};
use lantern_winrm::file_helper;
use lantern_winrm::remoting::{
    Content, HostAnswer, Objects, Pipeline, PipelineEnd, Primitive, SessionEvent, Value,
};
use tokio::sync::{Mutex, mpsc};
use tokio::task::{AbortHandle, JoinHandle};

use super::FilesError;
use crate::LinkError;
use crate::remote::{InputEnded, ProcessEnd};
use crate::winrm::{RemoteSession, SessionNews, WinrmFailure};

/// Bytes that one pipeline carries at most: of a few envelopes, so that a lost link costs little.
const MOST: usize = 512 * 1024;
/// Bytes that come of one pipeline at most: more than what may be asked for at once, so that no machine fills the memory here.
const MOST_ANSWERED: usize = 256 * 1024 * 1024;
/// Pieces that wait for the next.
const WAITING: usize = 32;

/// A session that answers in pieces. When it goes, the session ends.
pub(super) struct InPieces {
    to_machine: mpsc::Sender<Bytes>,
    from_machine: Mutex<mpsc::Receiver<Bytes>>,
    task: Mutex<Option<JoinHandle<ProcessEnd>>>,
    state: AbortHandle,
}

impl InPieces {
    /// Makes a session know the service.
    ///
    /// # Errors
    /// It does not take the text, or is over.
    pub(super) async fn begin(session: RemoteSession) -> Result<Self, FilesError> {
        if let Err(end) = run(&session, &file_helper::definition()).await {
            return Err(match end {
                ProcessEnd::Failed(error) => error.into(),
                _ => FilesError::Ended { machine: session.machine().to_owned(), said: String::new() },
            });
        }
        let (to_machine, asked) = mpsc::channel(WAITING);
        let (answered, from_machine) = mpsc::channel(WAITING);
        let task = tokio::spawn(async move {
            let end = carry(&session, asked, answered).await;
            session.close();
            end
        });
        let state = task.abort_handle();
        Ok(Self { to_machine, from_machine: Mutex::new(from_machine), task: Mutex::new(Some(task)), state })
    }

    pub(super) async fn next(&self) -> Option<Bytes> {
        self.from_machine.lock().await.recv().await
    }

    pub(super) async fn send(&self, data: &mut Bytes) -> Result<(), InputEnded> {
        let place = self.to_machine.reserve().await.map_err(|_| InputEnded)?;
        place.send(data.split_off(0));
        Ok(())
    }

    pub(super) fn is_over(&self) -> bool {
        self.state.is_finished()
    }

    pub(super) async fn ended(&self) -> ProcessEnd {
        let mut task = self.task.lock().await;
        let Some(handle) = task.as_mut() else { return ProcessEnd::Closed };
        let end = handle.await;
        *task = None;
        end.unwrap_or(ProcessEnd::Closed)
    }
}

impl Drop for InPieces {
    fn drop(&mut self) {
        // Also where the machine owes an answer: the session ends with its last holder.
        self.state.abort();
    }
}

/// Asks and answers until nobody asks any more; how it ended.
async fn carry(
    session: &RemoteSession,
    mut asked: mpsc::Receiver<Bytes>,
    answered: mpsc::Sender<Bytes>,
) -> ProcessEnd {
    while let Some(first) = asked.recv().await {
        let mut piece = BytesMut::from(first);
        while piece.len() < MOST
            && let Ok(more) = asked.try_recv()
        {
            piece.extend_from_slice(&more);
        }
        match run(session, &file_helper::question(piece.into())).await {
            // An answer of no bytes is one to half a question.
            Ok(answer) if answer.is_empty() => {}
            Ok(answer) => {
                if answered.send(answer).await.is_err() {
                    break;
                }
            }
            Err(end) => return end,
        }
    }
    ProcessEnd::Closed
}

/// Runs a pipeline, and takes the bytes that it puts out.
async fn run(session: &RemoteSession, pipeline: &Pipeline) -> Result<Bytes, ProcessEnd> {
    let failed = |failure| ProcessEnd::Failed(LinkError::from(failure));
    let machine = || session.machine().to_owned();
    session.begin(pipeline, false);
    let mut answer = BytesMut::new();
    loop {
        match session.next().await {
            SessionNews::Event(SessionEvent::Output(xml)) => {
                let objects = Objects::read(&xml)
                    .map_err(|source| failed(WinrmFailure::Session { machine: machine(), source }))?;
                if let Some(bytes) = bytes_of(&objects) {
                    answer.extend_from_slice(bytes);
                }
                if answer.len() > MOST_ANSWERED {
                    let why = format!("it answers with more than {MOST_ANSWERED} bytes at once");
                    return Err(failed(WinrmFailure::SessionBroke { machine: machine(), why }));
                }
            }
            SessionNews::Event(SessionEvent::Asked(call)) if call.wants_answer() => {
                // Without a secret in it, no key is made, and nothing fails.
                let _ = session.answer(&call, HostAnswer::Refused("nobody is asked for this"));
            }
            SessionNews::Event(SessionEvent::Ended(PipelineEnd::Completed)) => return Ok(answer.freeze()),
            SessionNews::Event(SessionEvent::Ended(PipelineEnd::Failed(record))) => {
                let why = lantern_ssh::neutralize_line(&record.message, MAX_WORDS);
                return Err(failed(WinrmFailure::SessionBroke { machine: machine(), why }));
            }
            SessionNews::Event(SessionEvent::Ended(PipelineEnd::Stopped)) => return Err(ProcessEnd::Closed),
            // What it said may be missing, and what it did cannot be asked twice.
            SessionNews::MayMiss => {
                let why = "answers about files may be missing since then".to_owned();
                return Err(failed(WinrmFailure::Lost { machine: machine(), why }));
            }
            SessionNews::Over(Some(failure)) => return Err(failed(failure)),
            SessionNews::Over(None) => return Err(ProcessEnd::Closed),
            _ => {}
        }
    }
}

/// Longest words that are kept of what went wrong, in bytes.
const MAX_WORDS: usize = 400;

fn bytes_of(objects: &Objects) -> Option<&[u8]> {
    let primitive = match objects.roots.first()? {
        Value::Primitive(primitive) => primitive,
        value => match &objects.of(value)?.content {
            Content::Primitive(primitive) => primitive,
            _ => return None,
        },
    };
    match primitive {
        Primitive::Bytes(bytes) => Some(bytes),
        _ => None,
    }
}
