//! A session on a simulated machine: its pool, and the pipelines in it (MS-PSRP 3.2).

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use lantern_winrm::remoting::{
    Defragmenter, Destination, Fragmenter, HostFacts, Message, MessageKind, Objects, SessionKey, capability,
};
use lantern_winrm::{Fault, Output};
use tokio::sync::{Notify, mpsc};

use super::item::Item;
use crate::tree::FilesOfUser;
use crate::windows::command::Command;
use crate::windows::files::Conversation;
use crate::windows::programs::Place;
use crate::windows::spec::Endpoint;

/// The longest fragments of a machine, in bytes, as services have them.
const LARGEST: usize = 32 * 1024;
/// What both of a session's sides have settled, and what its pipelines share.
pub(in crate::windows) struct RemotingSession {
    id: [u8; 16],
    pub(super) endpoint: Endpoint,
    pub(super) place: Place,
    pub(super) pool: Command,
    fragmenter: Mutex<Fragmenter>,
    state: Mutex<State>,
    /// There is a key for secrets.
    pub(super) keyed: Notify,
    /// Files as the user sees them.
    pub(super) files: FilesOfUser,
    /// The file service that was brought along, once the session knows it.
    pub(super) conversation: Mutex<Option<Conversation>>,
}

#[derive(Default)]
pub(super) struct State {
    pub(super) key: Option<SessionKey>,
    pub(super) variables: HashMap<String, Item>,
    pub(super) location: String,
    pub(super) from_client: [Defragmenter; 2],
    pub(super) inboxes: HashMap<String, Inbox>,
}

/// What goes into a pipeline.
pub(super) struct Inbox {
    pub(super) streams: [Defragmenter; 2],
    pub(super) input: Option<mpsc::Sender<Item>>,
    pub(super) answers: mpsc::UnboundedSender<Objects>,
    pub(super) command: Command,
    pub(super) begun: Option<Begun>,
}

/// A pipeline whose beginning has not all come.
pub(super) struct Begun {
    pub(super) input: mpsc::Receiver<Item>,
    pub(super) answers: mpsc::UnboundedReceiver<Objects>,
}

pub(super) fn damaged(error: &impl std::fmt::Display) -> Fault {
    Fault::new(2_150_858_817, "SchemaValidationError", &error.to_string())
}

pub(super) fn gone() -> Fault {
    Fault::new(2_150_859_085, "InvalidParameter", "There is no such command.")
}

impl RemotingSession {
    /// Makes one of the fragments that came with its shell.
    pub(in crate::windows) async fn new(
        creation: &Bytes,
        endpoint: Endpoint,
        place: Place,
        files: FilesOfUser,
    ) -> Result<Arc<Self>, Fault> {
        let mut from_client = Defragmenter::default();
        let mut host = None;
        let mut id = [0; 16];
        for (_, message) in from_client.take(creation).map_err(|error| damaged(&error))? {
            let message = Message::decode(&message).map_err(|error| damaged(&error))?;
            id = message.pool;
            if message.kind == MessageKind::InitRunspacePool {
                let objects = Objects::read(&message.data).map_err(|error| damaged(&error))?;
                let told = objects.first().and_then(|root| root.get("HostInfo"));
                host = told.and_then(|told| HostFacts::read(&objects, told));
            }
        }
        if host.is_none() {
            return Err(damaged(&"no pool was asked for"));
        }
        let location = format!("C:\\Users\\{}", place.user.rsplit('\\').next().unwrap_or_default());
        let session = Arc::new(Self {
            id,
            endpoint,
            place,
            pool: Command::new(BTreeMap::new()),
            fragmenter: Mutex::default(),
            state: Mutex::new(State {
                location,
                from_client: [from_client, Defragmenter::default()],
                ..State::default()
            }),
            keyed: Notify::new(),
            files,
            conversation: Mutex::default(),
        });
        let mut objects = Objects::default();
        let state = objects.bag([("RunspaceState", 2.into())]);
        let state = objects.write(&state);
        let nothing = objects.dictionary(Vec::new());
        let private = objects.bag([("ApplicationPrivateData", nothing)]);
        let private = objects.write(&private);
        session.say_to(&session.pool, MessageKind::SessionCapability, [0; 16], capability()).await;
        session.say_to(&session.pool, MessageKind::ApplicationPrivateData, [0; 16], private).await;
        session.say_to(&session.pool, MessageKind::RunspacePoolState, [0; 16], state).await;
        Ok(session)
    }

    pub(super) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Puts a message on its way; whether anybody takes it.
    pub(super) async fn say_to(
        &self,
        stream: &Command,
        kind: MessageKind,
        pipeline: [u8; 16],
        data: String,
    ) -> bool {
        let message = Message { destination: Destination::Client, kind, pool: self.id, pipeline, data };
        let fragments = {
            let mut fragmenter = self.fragmenter.lock().unwrap_or_else(PoisonError::into_inner);
            fragmenter.cut(&message.encode(), LARGEST)
        };
        for fragment in fragments {
            if !stream.write(Output::Main, fragment).await {
                return false;
            }
        }
        true
    }

    /// Somebody joins it, with these fragments.
    pub(in crate::windows) fn join(&self, fragments: &Bytes) -> Result<(), Fault> {
        let mut state = self.lock();
        let messages = state.from_client[0].take(fragments).map_err(|error| damaged(&error))?;
        let joins = messages.iter().filter_map(|(_, message)| Message::decode(message).ok());
        match joins
            .into_iter()
            .any(|joins| joins.kind == MessageKind::ConnectRunspacePool && joins.pool == self.id)
        {
            true => Ok(()),
            false => Err(damaged(&"nobody joins by that")),
        }
    }

    /// What the pool says.
    pub(in crate::windows) fn pool(&self) -> Command {
        self.pool.clone()
    }

    /// Nobody is interested in a pipeline any more.
    pub(in crate::windows) fn forget(&self, name: &str) {
        self.lock().inboxes.remove(name);
    }
}
