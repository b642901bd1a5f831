//! The asking side: many questions at once, answers in any order.

use std::collections::{HashMap, VecDeque};

use bytes::Bytes;

use super::check_file;
use super::extensions::Extensions;
use super::file_handles::{FileHandle, OpenHandles};
use super::frames::Frames;
use super::{
    Attributes, NameEntry, Refusal, ServerLimits, SftpError, SftpRequest, SftpResponse, Space, StatusCode,
    VERSION,
};

/// A question that was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Ticket(u32);

/// What was answered, in the form that the question wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// It was done.
    Done,
    /// A file or a folder is open.
    Opened(FileHandle),
    /// Bytes; fewer than were asked for does not mean the end.
    Data(Vec<Bytes>),
    /// Names.
    Names(Vec<NameEntry>),
    /// What is known of a file.
    Attributes(Attributes),
    /// How much room there is.
    Space(Space),
    /// What the server takes.
    Limits(ServerLimits),
    /// What a file holds, by SHA-256.
    Digest([u8; 32]),
}

/// What an answer must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Expected {
    Done,
    Handle,
    Data(u32),
    Names,
    Attributes,
    Space,
    Limits,
    Digest,
}

impl Expected {
    fn of(request: &SftpRequest) -> Self {
        match request {
            SftpRequest::Open { .. } | SftpRequest::OpenFolder(_) => Self::Handle,
            SftpRequest::Read { len, .. } => Self::Data(*len),
            SftpRequest::ReadFolder(_)
            | SftpRequest::RealPath(_)
            | SftpRequest::ExpandPath(_)
            | SftpRequest::ReadLink(_) => Self::Names,
            SftpRequest::Stat(_) | SftpRequest::LinkStat(_) | SftpRequest::HandleStat(_) => Self::Attributes,
            SftpRequest::Space(_) => Self::Space,
            SftpRequest::Limits => Self::Limits,
            SftpRequest::Digest { .. } => Self::Digest,
            _ => Self::Done,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::Done => "a status",
            Self::Handle => "a handle",
            Self::Data(_) => "data",
            Self::Names => "names",
            Self::Attributes => "attributes",
            Self::Space => "the room that there is",
            Self::Limits => "limits",
            Self::Digest => "a digest",
        }
    }
}

/// A question that waits.
#[derive(Debug, Clone, Copy)]
struct Waiting {
    expected: Expected,
    /// Nobody wants the answer any more.
    is_given_up: bool,
}

/// The asking side of a conversation about files.
#[derive(Debug, Default)]
pub struct SftpClient {
    frames: Frames,
    extensions: Option<Extensions>,
    waiting: HashMap<u32, Waiting>,
    next: u32,
    open: OpenHandles,
    out: VecDeque<Bytes>,
    answers: VecDeque<(Ticket, Result<Answer, Refusal>)>,
    failed: Option<SftpError>,
}

impl SftpClient {
    /// A conversation that begins.
    pub fn new() -> Self {
        let mut client = Self::default();
        client.send(&SftpRequest::init(), 0);
        client
    }

    /// What the server can do, once it has said so.
    pub fn extensions(&self) -> Option<Extensions> {
        self.extensions
    }

    /// Why nothing can be asked any more.
    pub fn failed(&self) -> Option<&SftpError> {
        self.failed.as_ref()
    }

    /// Questions without an answer.
    pub fn unanswered(&self) -> usize {
        self.waiting.len()
    }

    /// The next bytes for the server, in order.
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        self.out.pop_front()
    }

    /// The next answer.
    pub fn poll_answer(&mut self) -> Option<(Ticket, Result<Answer, Refusal>)> {
        self.answers.pop_front()
    }

    /// Asks something. The server must have said what it is, and must have the extension that this needs, if any.
    pub fn ask(&mut self, request: &SftpRequest) -> Ticket {
        let id = self.free_number();
        if let SftpRequest::Close(handle) = request {
            self.open.let_go(handle);
        }
        self.waiting.insert(id, Waiting { expected: Expected::of(request), is_given_up: false });
        self.send(request, id);
        Ticket(id)
    }

    /// A number that no question has which still waits.
    fn free_number(&mut self) -> u32 {
        while self.waiting.contains_key(&self.next) {
            self.next = self.next.wrapping_add(1);
        }
        let id = self.next;
        self.next = self.next.wrapping_add(1);
        id
    }

    /// Nobody wants that answer any more. A file that it opens is closed again.
    pub fn give_up(&mut self, ticket: Ticket) {
        if let Some(waiting) = self.waiting.get_mut(&ticket.0) {
            waiting.is_given_up = true;
            return;
        }
        // It has come, and nobody has taken it.
        let taken = self.answers.iter().position(|(answered, _)| *answered == ticket);
        if let Some((_, Ok(Answer::Opened(FileHandle(handle))))) =
            taken.and_then(|at| self.answers.remove(at))
        {
            self.close_unwanted(handle);
        }
    }

    fn close_unwanted(&mut self, handle: Bytes) {
        let ticket = self.ask(&SftpRequest::Close(handle));
        self.give_up(ticket);
    }

    /// Takes what the server sent.
    ///
    /// # Errors
    /// What it said makes no sense: nothing that it says from then on counts, and [`Self::failed`] says so to whoever waits.
    pub fn handle_input(&mut self, piece: Bytes) -> Result<(), SftpError> {
        if let Some(error) = &self.failed {
            return Err(error.clone());
        }
        self.frames.feed(piece);
        let heard = self.hear();
        if let Err(error) = &heard {
            self.failed = Some(error.clone());
            self.frames = Frames::default();
            self.out.clear();
        }
        heard
    }

    fn hear(&mut self) -> Result<(), SftpError> {
        while let Some(frame) = self.frames.next_frame().map_err(SftpError::Length)? {
            let (id, response) = SftpResponse::decode(frame)?;
            let Some(id) = id else {
                self.begin(response)?;
                continue;
            };
            let waiting = self.waiting.remove(&id).ok_or(SftpError::ToNobody(id))?;
            let answer = self.fit(waiting.expected, response)?;
            if !waiting.is_given_up {
                self.answers.push_back((Ticket(id), answer));
            } else if let Ok(Answer::Opened(FileHandle(handle))) = answer {
                self.close_unwanted(handle);
            }
        }
        Ok(())
    }

    fn begin(&mut self, response: SftpResponse) -> Result<(), SftpError> {
        match response {
            SftpResponse::Version { version: VERSION, extensions } if self.extensions.is_none() => {
                self.extensions = Some(extensions);
                Ok(())
            }
            SftpResponse::Version { version, .. } if self.extensions.is_none() => {
                Err(SftpError::Version(version))
            }
            other => Err(SftpError::OtherAnswer { asked: "nothing", answered: other.kind() }),
        }
    }

    /// The answer as the question wants it.
    fn fit(
        &mut self,
        expected: Expected,
        response: SftpResponse,
    ) -> Result<Result<Answer, Refusal>, SftpError> {
        let answer = match (expected, response) {
            (Expected::Done, SftpResponse::Status(status)) if status.code == StatusCode::Ok => Answer::Done,
            // Done, where something was to be brought: nothing that anybody could use.
            (_, SftpResponse::Status(status)) if status.code != StatusCode::Ok => return Ok(Err(status)),
            (Expected::Handle, SftpResponse::Handle(handle)) => {
                self.open.take_in(&handle)?;
                Answer::Opened(FileHandle(handle))
            }
            (Expected::Data(asked), SftpResponse::Data(pieces)) => {
                let came = pieces.iter().map(Bytes::len).sum();
                if came > asked as usize {
                    return Err(SftpError::TooMuch { asked, came });
                }
                Answer::Data(pieces)
            }
            (Expected::Names, SftpResponse::Names(names)) => Answer::Names(names),
            (Expected::Attributes, SftpResponse::Attributes(attributes)) => Answer::Attributes(attributes),
            (Expected::Space, SftpResponse::Extended(content)) => Answer::Space(Space::decode(&content)?),
            (Expected::Limits, SftpResponse::Extended(content)) => {
                Answer::Limits(ServerLimits::read(&content)?)
            }
            (Expected::Digest, SftpResponse::Extended(content)) => {
                Answer::Digest(check_file::read(&content)?)
            }
            (_, other) => {
                return Err(SftpError::OtherAnswer { asked: expected.words(), answered: other.kind() });
            }
        };
        Ok(Ok(answer))
    }

    fn send(&mut self, request: &SftpRequest, id: u32) {
        let reversed = self.extensions.is_some_and(Extensions::links_reversed);
        let (message, data) = request.encode(id, reversed);
        self.out.push_back(message.into());
        self.out.extend(data);
    }
}
