//! A session: a pool of one runspace on a machine, pipelines in it one after the other, and what they say (MS-PSRP 3.1).
//!
//! It does not know who carries its messages. What leaves comes from [`Session::creation`], [`Session::begin`] and [`Session::poll_said`]; what comes is handed to
//! [`Session::handle`]; what came of it is told by [`Session::poll_event`].

mod answers;
mod received;

use std::collections::VecDeque;

use lantern_keys::{RandomSource, SecretString};

use super::fragment::{Defragmenter, Fragmenter};
use super::host::HostFacts;
use super::host_call::{CallNumber, HostCall};
use super::message::{Destination, Message, MessageKind};
use super::numbering::Numbering;
use super::objects::{Objects, Primitive, Value};
use super::pipeline::{Pipeline, apartment};
use super::record::{ErrorRecord, Record};
use super::session_key::{KeyExchange, SessionKey};
use super::{RemotingError, capability};

pub use answers::{FieldAnswer, HostAnswer};

/// What is to be known of a session to join it again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    id: [u8; 16],
    /// The number of the next message to the machine.
    next: u64,
    /// The pipeline that ran.
    pub running: Option<String>,
}

/// Something to be carried to the machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// The pipeline that it is for; none: the pool.
    pub pipeline: Option<String>,
    /// Whether it answers what the machine asked: that goes before input.
    pub is_answer: bool,
    /// A fragment.
    pub bytes: Vec<u8>,
}

/// What happened in a session.
#[derive(Debug, Clone, PartialEq)]
pub enum SessionEvent {
    /// It takes pipelines.
    Opened,
    /// The pipeline put an object out: as it is written, for [`Objects::read`].
    Output(String),
    /// The pipeline said something else.
    Record(Record),
    /// The machine wants something of our terminal.
    Asked(HostCall),
    /// The pipeline has ended, and all that it said came before.
    Ended(PipelineEnd),
    /// The session is over: it was closed, or broke.
    Broken(String),
}

/// How a pipeline ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PipelineEnd {
    /// By itself, whatever errors it told.
    Completed,
    /// Since it was stopped.
    Stopped,
    /// By an error.
    Failed(Box<ErrorRecord>),
}

/// A pipeline under way.
struct Running {
    id: [u8; 16],
    name: String,
    stream: Defragmenter,
    /// Questions that it waits for.
    asks: usize,
}

/// The key for secrets.
enum Key {
    None,
    /// Ours is on its way, or was.
    Asked(Box<KeyExchange>),
    Known(SessionKey),
}

/// A session.
pub struct Session {
    host: HostFacts,
    random: Box<dyn RandomSource + Send>,
    id: [u8; 16],
    fragmenter: Fragmenter,
    /// The longest fragment, in bytes.
    largest: usize,
    pool: Defragmenter,
    numbering: Numbering,
    is_open: bool,
    running: Option<Running>,
    key: Key,
    /// Answers with secrets, which wait for the key.
    unsealed: Vec<(CallNumber, i32, HostAnswer)>,
    said: VecDeque<Said>,
    events: VecDeque<(SessionEvent, usize)>,
}

impl std::fmt::Debug for Session {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Session").field("id", &self.id()).finish_non_exhaustive()
    }
}

impl Session {
    /// A session that nobody has heard of; its fragments have `largest` bytes at most.
    pub fn new(host: HostFacts, largest: usize, mut random: Box<dyn RandomSource + Send>) -> Self {
        let id = new_id(random.as_mut());
        Self {
            host,
            random,
            id,
            fragmenter: Fragmenter::default(),
            largest,
            pool: Defragmenter::default(),
            numbering: Numbering::default(),
            is_open: false,
            running: None,
            key: Key::None,
            unsealed: Vec::new(),
            said: VecDeque::new(),
            events: VecDeque::new(),
        }
    }

    /// One that stands on the machine, and was left or lost: what joins it is [`Self::rejoining`].
    pub fn joined(
        kept: &Kept,
        host: HostFacts,
        largest: usize,
        random: Box<dyn RandomSource + Send>,
    ) -> Self {
        Self {
            id: kept.id,
            fragmenter: Fragmenter::going_on(kept.next),
            numbering: Numbering::of_joiner(),
            ..Self::new(host, largest, random)
        }
    }

    /// What is to be known of it to join it again.
    pub fn kept(&self) -> Kept {
        let running = self.running.as_ref().map(|running| running.name.clone());
        Kept { id: self.id, next: self.fragmenter.next(), running }
    }

    /// The machine has taken us for the one who joins.
    pub fn handle_joined(&mut self) {
        if !self.is_open {
            self.is_open = true;
            self.events.push_back((SessionEvent::Opened, 0));
        }
    }

    /// Its name, which is that of its pool.
    pub fn id(&self) -> String {
        id_text(&self.id)
    }

    /// What makes it: what we are able to do, and what it is to be (MS-PSRP 3.1.5.4.1, 3.1.5.4.2).
    pub fn creation(&mut self) -> Vec<u8> {
        let mut objects = Objects::default();
        let host = self.host.value(&mut objects);
        let apartment = apartment(&mut objects);
        let threads =
            objects.enumeration("System.Management.Automation.Runspaces.PSThreadOptions", "Default", 0);
        let root = objects.bag([
            ("MinRunspaces", 1.into()),
            ("MaxRunspaces", 1.into()),
            ("PSThreadOptions", threads),
            ("ApartmentState", apartment),
            ("HostInfo", host),
            ("ApplicationArguments", Value::Nil),
        ]);
        let mut fragments = self.fragments(MessageKind::SessionCapability, None, capability());
        fragments.extend(self.fragments(MessageKind::InitRunspacePool, None, objects.write(&root)));
        fragments.concat()
    }

    /// What joins one of this name that was left (MS-PSRP 3.1.5.4.14).
    pub fn rejoining(&mut self) -> Vec<u8> {
        let mut objects = Objects::default();
        let root = objects.bag([("MinRunspaces", 1.into()), ("MaxRunspaces", 1.into())]);
        let mut fragments = self.fragments(MessageKind::SessionCapability, None, capability());
        fragments.extend(self.fragments(MessageKind::ConnectRunspacePool, None, objects.write(&root)));
        fragments.concat()
    }

    /// Begins a pipeline: its name, and the fragments that make it. There is one at a time; the one before is forgotten.
    pub fn begin(&mut self, pipeline: &Pipeline) -> (String, Vec<Vec<u8>>) {
        let id = new_id(self.random.as_mut());
        let name = id_text(&id);
        self.running = Some(Running { id, name: name.clone(), stream: Defragmenter::default(), asks: 0 });
        let message = pipeline.written(&self.host);
        (name, self.fragments(MessageKind::CreatePipeline, Some(id), message))
    }

    /// Sends an object into the pipeline.
    pub fn input(&mut self, objects: &Objects) {
        for root in &objects.roots {
            self.say_to_pipeline(MessageKind::PipelineInput, objects.write(root), false);
        }
    }

    /// The pipeline gets no more.
    pub fn end_input(&mut self) {
        self.say_to_pipeline(MessageKind::EndOfPipelineInput, String::new(), false);
    }

    /// Text is shown in another size from now on: the next pipeline hears of it.
    pub fn resize(&mut self, width: u16, height: u16) {
        (self.host.width, self.host.height) = (width, height);
    }

    /// Whether the pipeline waits for an answer of somebody's.
    pub fn is_asking(&self) -> bool {
        self.running.as_ref().is_some_and(|running| running.asks > 0)
    }

    /// What the pipeline asked is not answered any more: what it says next is listened to.
    pub fn give_up_questions(&mut self) {
        if let Some(running) = &mut self.running {
            running.asks = 0;
        }
    }

    /// Whether the machine owes the pool something: its half of a key.
    pub fn awaits_pool(&self) -> bool {
        matches!(self.key, Key::Asked(_)) || !self.is_open
    }

    /// The next thing that is to be carried to the machine; answers come first.
    pub fn poll_said(&mut self) -> Option<Said> {
        let answer = self.said.iter().position(|said| said.is_answer);
        self.said.remove(answer.unwrap_or(0))
    }

    /// The next thing that is to be carried as well, where it goes the same way and has no more than `room` bytes.
    pub fn poll_said_with(
        &mut self,
        pipeline: Option<&str>,
        is_answer: bool,
        room: usize,
    ) -> Option<Vec<u8>> {
        let next = self.said.front()?;
        let fits =
            next.pipeline.as_deref() == pipeline && next.is_answer == is_answer && next.bytes.len() <= room;
        if !fits {
            return None;
        }
        self.said.pop_front().map(|said| said.bytes)
    }

    /// Puts something before all else that is to be carried.
    pub fn say_first(&mut self, said: Said) {
        self.said.push_front(said);
    }

    /// How many bytes are to be carried.
    pub fn unsent(&self) -> usize {
        self.said.iter().map(|said| said.bytes.len()).sum()
    }

    /// Whether something of the pipeline may be lost, which what comes next will tell.
    pub fn fears_loss(&self) -> bool {
        self.running.as_ref().is_some_and(|running| running.stream.fears_loss())
    }

    /// Whether anything is to be carried to the machine.
    pub fn has_said(&self) -> bool {
        !self.said.is_empty()
    }

    /// The next thing that happened, and how many bytes it came in.
    pub fn poll_event(&mut self) -> Option<(SessionEvent, usize)> {
        self.events.pop_front()
    }

    fn fragments(&mut self, kind: MessageKind, pipeline: Option<[u8; 16]>, data: String) -> Vec<Vec<u8>> {
        let pipeline = pipeline.unwrap_or_default();
        let message = Message { destination: Destination::Server, kind, pool: self.id, pipeline, data };
        self.fragmenter.cut(&message.encode(), self.largest)
    }

    fn say_to_pipeline(&mut self, kind: MessageKind, data: String, is_answer: bool) {
        let Some((id, name)) = self.running.as_ref().map(|running| (running.id, running.name.clone())) else {
            return;
        };
        for bytes in self.fragments(kind, Some(id), data) {
            self.said.push_back(Said { pipeline: Some(name.clone()), is_answer, bytes });
        }
    }

    /// Has the machine make a key for secrets, if there is none yet.
    fn want_key(&mut self) -> Result<(), RemotingError> {
        if !matches!(self.key, Key::None) {
            return Ok(());
        }
        let ours = KeyExchange::new()?;
        let mut objects = Objects::default();
        let root = objects.bag([("PublicKey", ours.public().into())]);
        for bytes in self.fragments(MessageKind::PublicKey, None, objects.write(&root)) {
            self.said.push_back(Said { pipeline: None, is_answer: true, bytes });
        }
        self.key = Key::Asked(Box::new(ours));
        Ok(())
    }

    /// A secret as an object of this session holds it; none as long as there is no key.
    fn sealed(&self, secret: &SecretString) -> Option<Value> {
        match &self.key {
            Key::Known(key) => Some(Value::Primitive(Primitive::Secure(key.seal(secret)))),
            Key::None | Key::Asked(_) => None,
        }
    }
}

/// A random identifier (RFC 9562 §5.4), in the order of its bytes in messages.
fn new_id(random: &mut dyn RandomSource) -> [u8; 16] {
    let mut id = [0; 16];
    random.fill(&mut id);
    // Of the first eight bytes, the numbers that they make stand with their lowest byte first.
    id[7] = id[7] & 0x0f | 0x40;
    id[8] = id[8] & 0x3f | 0x80;
    id
}

/// An identifier as text has it.
pub(super) fn id_text(id: &[u8; 16]) -> String {
    let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
    let hex: String = order.iter().filter_map(|at| id.get(*at)).map(|byte| format!("{byte:02X}")).collect();
    let part = |from: usize, to: usize| hex.get(from..to).unwrap_or_default();
    [part(0, 8), part(8, 12), part(12, 16), part(16, 20), part(20, 32)].join("-")
}
