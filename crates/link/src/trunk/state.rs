//! What stands behind the trunk's lock: the protocol machine, and who waits for what.

use std::collections::{HashMap, VecDeque};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::task::{Context, Poll, Waker};

use bytes::Bytes;
use lantern_book::Rotation;
use lantern_ssh::{
    ChannelEvent, ChannelId, Client, ClientEvent, GlobalEvent, Machine, OpenFailure, PeerChannel,
    SessionRequest, SshError, Stream,
};
use tokio::sync::mpsc;

use super::grants::{Grants, Taker};
use super::listen_requests::ListenRequests;
use super::{Destination, Handle};
use crate::LinkError;

pub(super) struct Shared {
    state: Mutex<State>,
    /// The driver's, behind a lock of its own: a handle that goes may do so where the other one is held.
    driver: Mutex<Option<Waker>>,
    /// Nobody has a handle any more, or somebody wants it closed.
    is_abandoned: AtomicBool,
    pub(super) to: Destination,
}

impl Shared {
    pub(super) fn new(client: Client, to: Destination) -> Self {
        let state = State {
            client,
            handle: Weak::new(),
            channels: HashMap::new(),
            grants: Grants::default(),
            displays: None,
            listening: ListenRequests::default(),
            announcements: None,
            rotations: Vec::new(),
            lost: None,
            is_over: false,
            global_waiters: Vec::new(),
            over_waiters: Vec::new(),
        };
        let state = Mutex::new(state);
        Self { state, driver: Mutex::default(), is_abandoned: AtomicBool::new(false), to }
    }

    /// Has the driver look at what has changed.
    pub(super) fn wake_driver(&self) {
        let waker = self.driver.lock().unwrap_or_else(PoisonError::into_inner).take();
        waker.into_iter().for_each(Waker::wake);
    }

    pub(super) fn wait_to_drive(&self, cx: &Context<'_>) {
        set(&mut self.driver.lock().unwrap_or_else(PoisonError::into_inner), cx);
    }

    /// Ends the connection with a goodbye.
    pub(super) fn abandon(&self) {
        self.is_abandoned.store(true, Ordering::Release);
        self.wake_driver();
    }

    pub(super) fn is_abandoned(&self) -> bool {
        self.is_abandoned.load(Ordering::Acquire)
    }

    /// Never held while waiting. A panic elsewhere leaves the state as whole as any error does.
    pub(super) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn lost(&self, source: SshError) -> LinkError {
        LinkError::Lost { machine: self.to.machine.clone(), source }
    }

    pub(super) fn unanswered(&self, what: &'static str) -> LinkError {
        let (machine, seconds) = (self.to.machine.clone(), self.to.answer_time.as_secs());
        LinkError::Unanswered { machine, what, seconds }
    }
}

/// What a future of the trunk as a whole waits for.
#[derive(Clone, Copy)]
pub(super) enum Waits {
    /// An answer to a global request.
    Global,
    /// The end of the driver.
    Over,
}

pub(super) struct State {
    pub(super) client: Client,
    /// For channels that the peer opens; does not keep the connection alive.
    pub(super) handle: Weak<Handle>,
    pub(super) channels: HashMap<ChannelId, ChannelState>,
    pub(super) grants: Grants<Offered>,
    /// Who finds out whose a channel to a display is.
    pub(super) displays: Option<Taker<Offered>>,
    /// Requests that the machine listen for us, and what it answered.
    pub(super) listening: ListenRequests<Offered>,
    pub(super) announcements: Option<mpsc::UnboundedSender<GlobalEvent>>,
    pub(super) rotations: Vec<Rotation>,
    /// What ended the connection.
    pub(super) lost: Option<SshError>,
    /// The driver has said goodbye.
    pub(super) is_over: bool,
    global_waiters: Vec<Waker>,
    over_waiters: Vec<Waker>,
}

/// A channel as its handle sees it.
#[derive(Default)]
pub(super) struct ChannelState {
    pub(super) opened: Option<Result<(), OpenFailure>>,
    pub(super) eof: bool,
    pub(super) closed: bool,
    /// How the program ended.
    pub(super) exit: Option<SessionRequest>,
    /// Requests that wait for an answer, oldest first, and the answers that nobody has fetched.
    pub(super) asked: VecDeque<u64>,
    pub(super) next_request: u64,
    pub(super) answers: HashMap<u64, Option<bool>>,
    readers: [Option<Waker>; 2],
    writer: Option<Waker>,
    /// Whoever waits for its opening, an answer or its end.
    watchers: Vec<Waker>,
}

impl ChannelState {
    /// A request is out; the number of its answer.
    pub(super) fn expect_answer(&mut self) -> u64 {
        let number = self.next_request;
        self.next_request += 1;
        self.asked.push_back(number);
        self.answers.insert(number, None);
        number
    }

    pub(super) fn wait_to_read(&mut self, stream: Stream, cx: &Context<'_>) {
        set(&mut self.readers[index(stream)], cx);
    }

    pub(super) fn wait_to_write(&mut self, cx: &Context<'_>) {
        set(&mut self.writer, cx);
    }

    pub(super) fn watch(&mut self, cx: &Context<'_>) {
        add(&mut self.watchers, cx);
    }

    fn wake_all(&mut self) {
        self.readers.iter_mut().filter_map(Option::take).for_each(Waker::wake);
        self.writer.take().into_iter().for_each(Waker::wake);
        self.watchers.drain(..).for_each(Waker::wake);
    }

    fn wake_readers(&mut self) {
        self.readers.iter_mut().filter_map(Option::take).for_each(Waker::wake);
    }

    fn wake_watchers(&mut self) {
        self.watchers.drain(..).for_each(Waker::wake);
    }
}

fn index(stream: Stream) -> usize {
    match stream {
        Stream::Main => 0,
        Stream::Stderr => 1,
    }
}

fn set(place: &mut Option<Waker>, cx: &Context<'_>) {
    match place {
        Some(waker) => waker.clone_from(cx.waker()),
        None => *place = Some(cx.waker().clone()),
    }
}

fn add(places: &mut Vec<Waker>, cx: &Context<'_>) {
    if !places.iter().any(|waker| waker.will_wake(cx.waker())) {
        places.push(cx.waker().clone());
    }
}

impl State {
    /// What ended the connection: told by the driver, or found by someone else a moment before it looks.
    pub(super) fn ended_by(&self) -> Option<SshError> {
        self.lost.clone().or_else(|| self.client.failure().cloned())
    }

    /// The session that was opened with the login, and whether its requests have left.
    pub(super) fn early(&self) -> Option<(ChannelId, bool)> {
        self.client.early_session()
    }

    pub(super) fn add_channel(&mut self, id: ChannelId) {
        self.channels.insert(id, ChannelState::default());
    }

    pub(super) fn wait(&mut self, cx: &Context<'_>, what: Waits) {
        match what {
            Waits::Global => add(&mut self.global_waiters, cx),
            Waits::Over => add(&mut self.over_waiters, cx),
        }
    }

    /// The next piece of what comes on a stream of a channel; none at its end.
    pub(super) fn poll_piece(
        &mut self,
        id: ChannelId,
        stream: Stream,
        cx: &Context<'_>,
    ) -> Poll<Option<Bytes>> {
        if let Some(piece) = self.client.channel_take(id, stream) {
            return Poll::Ready(Some(piece));
        }
        let lost = self.ended_by().is_some();
        match self.channels.get_mut(&id) {
            Some(channel) if !lost && !channel.eof && !channel.closed => {
                channel.wait_to_read(stream, cx);
                Poll::Pending
            }
            _ => Poll::Ready(None),
        }
    }

    /// Takes what has happened to those who wait for it.
    pub(super) fn distribute(&mut self) {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Channel(id, event) => self.on_channel(id, event),
                ClientEvent::Global(GlobalEvent::Listening { ticket, at }) => {
                    if let Some(at) = self.listening.answer(ticket, at, &mut self.grants) {
                        let _ = self.client.stop_listening(&at);
                    }
                    self.global_waiters.drain(..).for_each(Waker::wake);
                }
                ClientEvent::Global(event) => {
                    if let Some(announcements) = &self.announcements {
                        let _ = announcements.send(event);
                    }
                }
                ClientEvent::HostKey(_) | ClientEvent::Established | ClientEvent::Auth(_) => {}
            }
        }
    }

    fn on_channel(&mut self, id: ChannelId, event: ChannelEvent) {
        if let ChannelEvent::OpenWanted(wanted) = event {
            return self.answer_wanted(id, wanted);
        }
        let Some(channel) = self.channels.get_mut(&id) else { return };
        match event {
            ChannelEvent::Opened => {
                channel.opened = Some(Ok(()));
                channel.wake_watchers();
            }
            ChannelEvent::OpenFailed(failure) => {
                channel.opened = Some(Err(failure));
                channel.closed = true;
                channel.wake_all();
            }
            ChannelEvent::Readable(stream) => {
                channel.readers[index(stream)].take().into_iter().for_each(Waker::wake);
            }
            ChannelEvent::Eof => {
                channel.eof = true;
                channel.wake_readers();
            }
            ChannelEvent::Request { request, .. } => {
                // The first word about the end counts; nothing else that a server asks of a session means anything.
                if matches!(request, SessionRequest::ExitStatus(_) | SessionRequest::ExitSignal { .. }) {
                    channel.exit.get_or_insert(request);
                }
            }
            ChannelEvent::Reply { granted, .. } => {
                let number = channel.asked.pop_front();
                if let Some(answer) = number.and_then(|number| channel.answers.get_mut(&number)) {
                    *answer = Some(granted);
                }
                channel.wake_watchers();
            }
            ChannelEvent::Writable => channel.writer.take().into_iter().for_each(Waker::wake),
            ChannelEvent::Closed => {
                channel.closed = true;
                channel.wake_all();
            }
            ChannelEvent::OpenWanted(_) => {}
        }
    }

    /// A channel that the peer wants: opened where a grant stands for it, and someone takes it.
    fn answer_wanted(&mut self, id: ChannelId, wanted: PeerChannel) {
        let is_display = matches!(wanted, PeerChannel::Display { .. });
        // Whose a display is shows by the cookie, which comes once it is open.
        let taker = match is_display {
            true => self.displays.clone().filter(|_| self.grants.has_display()),
            false => self.grants.claim(&wanted),
        };
        let refusal = match (taker, self.handle.upgrade()) {
            (Some(taker), Some(handle)) => match taker.try_reserve() {
                Ok(place) => {
                    if self.client.answer_open(id, Ok(())).is_ok() {
                        let channel = ChannelState { opened: Some(Ok(())), ..ChannelState::default() };
                        self.channels.insert(id, channel);
                        place.send((wanted, Offered::new(handle, id)));
                    }
                    return;
                }
                Err(_) => (OpenFailure::RESOURCE_SHORTAGE, "too many wait already"),
            },
            _ => (OpenFailure::PROHIBITED, "nothing of that kind was forwarded"),
        };
        let failure = OpenFailure { code: refusal.0, description: refusal.1.to_owned() };
        let _ = self.client.answer_open(id, Err(failure));
    }

    /// The connection has ended: everybody hears of it.
    pub(super) fn lose(&mut self, error: SshError) {
        self.lost.get_or_insert(error);
        self.channels.values_mut().for_each(ChannelState::wake_all);
        self.global_waiters.drain(..).for_each(Waker::wake);
        self.grants.clear();
        self.displays = None;
        self.announcements = None;
    }

    pub(super) fn finish(&mut self) {
        self.is_over = true;
        self.over_waiters.drain(..).for_each(Waker::wake);
    }
}

/// Gives up a channel whose last handle is gone.
pub(super) fn release(shared: &Shared, id: ChannelId) {
    let mut state = shared.lock();
    state.channels.remove(&id);
    state.client.channel_release(id);
    drop(state);
    shared.wake_driver();
}

/// A channel that the peer opened and nobody has taken yet. Dropped, it is given up.
pub(super) struct Offered {
    channel: Option<(Arc<Handle>, ChannelId)>,
    /// What was read of it to know whose it is.
    pub(super) first: Bytes,
}

impl Offered {
    fn new(handle: Arc<Handle>, id: ChannelId) -> Self {
        Self { channel: Some((handle, id)), first: Bytes::new() }
    }

    /// The connection that it belongs to.
    pub(super) fn shared(&self) -> Option<&Shared> {
        self.channel.as_ref().map(|(handle, _)| &*handle.shared)
    }

    /// The next piece of its main stream; none at its end.
    pub(super) fn poll_piece(&self, cx: &Context<'_>) -> Poll<Option<Bytes>> {
        match &self.channel {
            Some((handle, id)) => handle.shared.lock().poll_piece(*id, Stream::Main, cx),
            None => Poll::Ready(None),
        }
    }

    /// Takes it, with what was read of it.
    pub(super) fn take(mut self) -> Option<(Arc<Handle>, ChannelId, Bytes)> {
        let first = std::mem::take(&mut self.first);
        self.channel.take().map(|(handle, id)| (handle, id, first))
    }
}

impl Drop for Offered {
    fn drop(&mut self) {
        if let Some((handle, id)) = self.channel.take() {
            release(&handle.shared, id);
        }
    }
}
