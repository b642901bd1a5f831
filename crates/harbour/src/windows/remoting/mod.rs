//! PowerShell remoting on a simulated machine: sessions, pipelines, and a small language of its own (MS-PSRP, the machine's side).

mod commands;
mod item;
mod language;
mod prompts;
mod run;
mod runner;
mod session;
mod stages;
mod trouble;

use std::sync::Arc;

use bytes::Bytes;
use lantern_keys::SystemRandom;
use lantern_winrm::remoting::{HostFacts, Message, MessageKind, Objects, Pipeline, SessionKey};
use lantern_winrm::{Fault, Sent};
use tokio::sync::mpsc;

pub(super) use session::RemotingSession;

use super::command::Command;
use item::Item;
use run::run;
use runner::Runner;
use session::{Begun, Inbox, damaged, gone};

/// Objects that wait for a pipeline to take them.
const WAITING: usize = 64;

/// What is brought to a session.
impl RemotingSession {
    /// A pipeline begins.
    pub(in crate::windows) async fn begin(
        self: &Arc<Self>,
        name: &str,
        fragments: &Bytes,
        command: &Command,
    ) -> Result<(), Fault> {
        let (sender, input) = mpsc::channel(WAITING);
        let (answers, answered) = mpsc::unbounded_channel();
        let inbox = Inbox {
            streams: Default::default(),
            input: Some(sender),
            answers,
            command: command.clone(),
            begun: Some(Begun { input, answers: answered }),
        };
        self.lock().inboxes.insert(name.to_owned(), inbox);
        self.take_for(name, false, fragments).await
    }

    /// Takes what is sent to it.
    pub(in crate::windows) async fn take(self: &Arc<Self>, sent: &Sent) -> Result<(), Fault> {
        for piece in &sent.pieces {
            match &sent.command {
                Some(name) => self.take_for(name, sent.is_answer, piece).await?,
                None => self.take_for_pool(sent.is_answer, piece).await?,
            }
        }
        Ok(())
    }

    async fn take_for_pool(self: &Arc<Self>, is_answer: bool, piece: &Bytes) -> Result<(), Fault> {
        let messages = {
            let mut state = self.lock();
            let [main, answers] = &mut state.from_client;
            let stream = if is_answer { answers } else { main };
            stream.take(piece).map_err(|error| damaged(&error))?
        };
        for (_, message) in messages {
            let message = Message::decode(&message).map_err(|error| damaged(&error))?;
            if message.kind != MessageKind::PublicKey {
                continue;
            }
            let objects = Objects::read(&message.data).map_err(|error| damaged(&error))?;
            let public = objects.first().and_then(|root| objects.text_of(root, "PublicKey"));
            let (key, answer) = SessionKey::answer(&public.unwrap_or_default(), &mut SystemRandom)
                .map_err(|error| damaged(&error))?;
            self.lock().key = Some(key);
            let mut objects = Objects::default();
            let root = objects.bag([("EncryptedSessionKey", answer.into())]);
            let data = objects.write(&root);
            self.say_to(&self.pool, MessageKind::EncryptedSessionKey, [0; 16], data).await;
            self.keyed.notify_waiters();
        }
        Ok(())
    }

    async fn take_for(self: &Arc<Self>, name: &str, is_answer: bool, piece: &Bytes) -> Result<(), Fault> {
        let messages = {
            let mut state = self.lock();
            let inbox = state.inboxes.get_mut(name).ok_or_else(gone)?;
            inbox.streams[usize::from(is_answer)].take(piece).map_err(|error| damaged(&error))?
        };
        for (_, message) in messages {
            let message = Message::decode(&message).map_err(|error| damaged(&error))?;
            let objects = match message.data.is_empty() {
                true => Objects::default(),
                false => Objects::read(&message.data).map_err(|error| damaged(&error))?,
            };
            let input = {
                let mut state = self.lock();
                let inbox = state.inboxes.get_mut(name).ok_or_else(gone)?;
                match message.kind {
                    MessageKind::CreatePipeline => {
                        let pipeline =
                            Pipeline::read(&objects).ok_or_else(|| damaged(&"it is no pipeline"))?;
                        if !pipeline.has_input {
                            inbox.input = None;
                        }
                        let begun = inbox.begun.take().ok_or_else(|| damaged(&"it begins twice"))?;
                        let told = objects.first().and_then(|root| root.get("HostInfo"));
                        let host = told.and_then(|told| HostFacts::read(&objects, told)).unwrap_or_default();
                        let runner = Runner::new(
                            self.clone(),
                            message.pipeline,
                            inbox.command.clone(),
                            begun.input,
                            begun.answers,
                            host,
                        );
                        tokio::spawn(run(runner, pipeline));
                        None
                    }
                    MessageKind::PipelineInput => inbox.input.clone(),
                    MessageKind::EndOfPipelineInput => {
                        inbox.input = None;
                        None
                    }
                    MessageKind::PipelineHostResponse => {
                        let _ = inbox.answers.send(objects);
                        continue;
                    }
                    _ => None,
                }
            };
            if let (Some(input), Some(root)) = (input, objects.roots.first()) {
                input.send(Item::of(&objects, root)).await.map_err(|_| gone())?;
            }
        }
        Ok(())
    }
}
