//! What a pipeline at work on a simulated machine has, and how it says something.

use std::sync::Arc;

use lantern_winrm::remoting::{HostFacts, MessageKind, Objects};
use tokio::sync::mpsc;

use super::item::Item;
use super::session::RemotingSession;
use super::stages::{Stage, feed};
use super::trouble::{End, Trouble};
use crate::windows::command::Command;

/// What a pipeline has.
pub(super) struct Runner {
    pub(super) session: Arc<RemotingSession>,
    id: [u8; 16],
    pub(super) out: Command,
    pub(super) input: mpsc::Receiver<Item>,
    pub(super) answers: mpsc::UnboundedReceiver<Objects>,
    pub(super) host: HostFacts,
    pub(super) calls: i64,
    /// What everything that is put out goes through.
    pub(super) behind: Vec<Stage>,
    /// Where it goes, if it is kept.
    pub(super) kept: Option<Vec<Item>>,
    /// Where in the script we are.
    pub(super) at: (usize, String),
}

impl Runner {
    pub(super) fn new(
        session: Arc<RemotingSession>,
        id: [u8; 16],
        out: Command,
        input: mpsc::Receiver<Item>,
        answers: mpsc::UnboundedReceiver<Objects>,
        host: HostFacts,
    ) -> Self {
        let at = (0, String::new());
        Self { session, id, out, input, answers, host, calls: 0, behind: Vec::new(), kept: None, at }
    }

    /// Says something of this pipeline.
    pub(super) async fn say(&self, kind: MessageKind, data: String) -> Result<(), End> {
        match self.session.say_to(&self.out, kind, self.id, data).await {
            true => Ok(()),
            false => Err(End::Stopped),
        }
    }

    pub(super) async fn put(&mut self, items: Vec<Item>) -> Result<(), End> {
        for item in items {
            if let Some(kept) = &mut self.kept {
                kept.push(item);
                continue;
            }
            let mut objects = Objects::default();
            let value = item.value(&mut objects);
            self.say(MessageKind::PipelineOutput, objects.write(&value)).await?;
        }
        Ok(())
    }

    /// Puts an object out, through what stands behind in its statement.
    pub(super) async fn emit(&mut self, stages: &mut [Stage], item: Item) -> Result<(), End> {
        for item in feed(stages, item) {
            let items = if self.kept.is_some() { vec![item] } else { feed(&mut self.behind, item) };
            self.put(items).await?;
        }
        Ok(())
    }

    /// Tells of an error, and goes on.
    pub(super) async fn complain(&self, trouble: Trouble) -> Result<(), End> {
        let mut objects = Objects::default();
        let trouble = trouble.at(&self.at);
        let value = trouble.value(&mut objects);
        self.say(MessageKind::ErrorRecord, objects.write(&value)).await
    }

    /// Tells of something that is a text and no more.
    pub(super) async fn remark(&self, kind: MessageKind, text: &str) -> Result<(), End> {
        let mut objects = Objects::default();
        let root = objects.bag([
            ("InformationalRecord_Message", text.into()),
            ("InformationalRecord_SerializeInvocationInfo", false.into()),
        ]);
        self.say(kind, objects.write(&root)).await
    }

    /// What comes into the pipeline next.
    pub(super) async fn next_input(&mut self) -> Result<Option<Item>, End> {
        tokio::select! {
            () = self.out.interrupted() => Err(End::Stopped),
            item = self.input.recv() => Ok(item),
        }
    }
}
