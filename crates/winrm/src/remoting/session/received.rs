//! What comes from the machine.

use super::{Key, PipelineEnd, Session, SessionEvent};
use crate::remoting::host_call::HostCall;
use crate::remoting::message::{Message, MessageKind};
use crate::remoting::objects::Objects;
use crate::remoting::record::{ErrorRecord, Information, Progress, Record, told};
use crate::remoting::state::{PipelineState, PoolState};
use crate::remoting::{RemotingError, limits};

impl Session {
    /// Takes bytes that came for the pool, or for the pipeline of this name. What is for a pipeline that is over is passed over.
    ///
    /// # Errors
    /// A fragment is missing or damaged, or a message makes no sense: the session cannot go on.
    pub fn handle(&mut self, pipeline: Option<&str>, bytes: &[u8]) -> Result<(), RemotingError> {
        let messages = match pipeline {
            None => self.pool.take(bytes)?,
            Some(name) => match &mut self.running {
                Some(running) if running.name.eq_ignore_ascii_case(name) => running.stream.take(bytes)?,
                _ => return Ok(()),
            },
        };
        for (number, message) in messages {
            self.numbering.note(number);
            let size = message.len();
            self.take(&Message::decode(&message)?, size)?;
        }
        Ok(())
    }

    /// Notes that something for the pipeline may have been lost on its way.
    pub fn note_loss(&mut self) {
        if let Some(running) = &mut self.running {
            running.stream.resume();
        }
    }

    /// Whether the numbers of what came leave one out. What is for the pool may have it, until that is read.
    pub fn has_gap(&self) -> bool {
        self.numbering.has_gap()
    }

    /// Notes that what is left out will not come.
    pub fn settle_gap(&mut self) {
        self.numbering.settle();
    }

    fn tell(&mut self, event: SessionEvent, size: usize) {
        self.events.push_back((event, size));
    }

    fn take(&mut self, message: &Message, size: usize) -> Result<(), RemotingError> {
        let is_ours = self.running.as_ref().is_some_and(|running| running.id == message.pipeline);
        let for_pipeline = message.kind.number() & KIND_MASK == OF_PIPELINES;
        if for_pipeline && !is_ours {
            return Err(RemotingError::Message("it is about another pipeline"));
        }
        let objects = || Objects::read(&message.data);
        let record = |record| SessionEvent::Record(record);
        let event = match message.kind {
            MessageKind::RunspacePoolState => return self.pool_is(&objects()?, size),
            MessageKind::PipelineState => return self.pipeline_is(&objects()?, size),
            MessageKind::PublicKeyRequest => return self.want_key(),
            MessageKind::EncryptedSessionKey => return self.key_came(&objects()?),
            MessageKind::PipelineHostCall | MessageKind::RunspacePoolHostCall => {
                return self.asked(&objects()?, size);
            }
            MessageKind::PipelineOutput => SessionEvent::Output(message.data.clone()),
            MessageKind::ErrorRecord => {
                let objects = objects()?;
                let root = objects.roots.first().ok_or(NO_OBJECT)?;
                record(Record::Error(Box::new(ErrorRecord::read(&objects, root))))
            }
            MessageKind::WarningRecord => record(Record::Warning(told(&objects()?))),
            MessageKind::VerboseRecord => record(Record::Verbose(told(&objects()?))),
            MessageKind::DebugRecord => record(Record::Debug(told(&objects()?))),
            MessageKind::InformationRecord => {
                let objects = objects()?;
                let root = objects.roots.first().ok_or(NO_OBJECT)?;
                record(Record::Information(Information::read(&objects, root)))
            }
            MessageKind::ProgressRecord => {
                let objects = objects()?;
                record(Record::Progress(Progress::read(&objects, objects.first().ok_or(NO_OBJECT)?)))
            }
            // What it is able to do and what it keeps for applications changes nothing; events that nobody subscribed to neither.
            MessageKind::SessionCapability
            | MessageKind::ApplicationPrivateData
            | MessageKind::RunspacePoolInitData
            | MessageKind::RunspaceAvailability
            | MessageKind::UserEvent => return Ok(()),
            _ => return Err(RemotingError::Message("it is one that only clients send")),
        };
        self.tell(event, size);
        Ok(())
    }

    fn pool_is(&mut self, objects: &Objects, size: usize) -> Result<(), RemotingError> {
        let root = objects.first().ok_or(NO_OBJECT)?;
        let state = objects.number_of(root, "RunspaceState").ok_or(NO_STATE)?;
        let why = || {
            let error = root.get("ExceptionAsErrorRecord").map(|error| ErrorRecord::read(objects, error));
            error.map(|error| error.message).unwrap_or_default()
        };
        match PoolState::of(state) {
            PoolState::Opened if !self.is_open => {
                self.is_open = true;
                self.tell(SessionEvent::Opened, size);
            }
            PoolState::Closed | PoolState::Broken => self.tell(SessionEvent::Broken(why()), size),
            PoolState::Opened | PoolState::Other(_) => {}
        }
        Ok(())
    }

    fn pipeline_is(&mut self, objects: &Objects, size: usize) -> Result<(), RemotingError> {
        let root = objects.first().ok_or(NO_OBJECT)?;
        let state = objects.number_of(root, "PipelineState").ok_or(NO_STATE)?;
        let error = root.get("ExceptionAsErrorRecord").map(|error| ErrorRecord::read(objects, error));
        let end = match PipelineState::of(state) {
            PipelineState::Completed => PipelineEnd::Completed,
            PipelineState::Stopped => PipelineEnd::Stopped,
            PipelineState::Failed => PipelineEnd::Failed(Box::new(error.unwrap_or_default())),
            PipelineState::Other(_) => return Ok(()),
        };
        // What it was to hear, nobody hears any more.
        let name = self.running.take().map(|running| running.name);
        self.said.retain(|said| said.pipeline.is_none() || said.pipeline != name);
        self.unsealed.clear();
        self.tell(SessionEvent::Ended(end), size);
        Ok(())
    }

    fn key_came(&mut self, objects: &Objects) -> Result<(), RemotingError> {
        let root = objects.first().ok_or(NO_OBJECT)?;
        let answer = objects.text_of(root, "EncryptedSessionKey").ok_or(NO_KEY)?;
        let Key::Asked(ours) = &self.key else { return Err(NO_KEY) };
        self.key = Key::Known(ours.finish(&answer)?);
        for (number, method, answer) in std::mem::take(&mut self.unsealed) {
            self.write_answer(number, method, answer);
        }
        Ok(())
    }

    fn asked(&mut self, objects: &Objects, size: usize) -> Result<(), RemotingError> {
        let call = HostCall::read(objects).ok_or(RemotingError::Message("it asks for nothing"))?;
        if self.answers_itself(&call) {
            return Ok(());
        }
        if call.wants_answer() {
            let asks = self.running.as_mut().map(|running| {
                running.asks += 1;
                running.asks
            });
            // One pipeline asks one thing after the other.
            if asks.is_none_or(|asks| asks > limits::MAX_ASKED) {
                return Err(RemotingError::TooMuch { what: "questions at once", limit: limits::MAX_ASKED });
            }
        }
        self.tell(SessionEvent::Asked(call), size);
        Ok(())
    }
}

const NO_OBJECT: RemotingError = RemotingError::Message("it has no object");
const NO_STATE: RemotingError = RemotingError::Message("it has no state");
const NO_KEY: RemotingError = RemotingError::Message("it brings a key that nobody asked for");
/// Which numbers of messages are about pipelines (MS-PSRP 2.2.1).
const KIND_MASK: u32 = 0xffff_0000;
const OF_PIPELINES: u32 = 0x0004_0000;
