//! Global requests (RFC 4254 §4): those of ours that wait for an answer, and those of the peer.

use std::collections::VecDeque;
use std::sync::Arc;

use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PrivateKey, PublicKey, Signature};
use tracing::{debug, trace};

use crate::limits::{MAX_ANNOUNCEMENTS, MAX_GLOBAL_REQUESTS, MAX_HOST_KEYS};
use crate::message::number;
use crate::owed::{ListenTicket, OwedAnswers};
use crate::transport::Transport;
use crate::{ListenAt, Role, SshError};

/// Asks whether the peer is still there; whatever it answers will do.
const KEEPALIVE: &[u8] = b"keepalive@openssh.com";
/// The server's announcement of all its host keys (the public notes on the hostkeys extension).
const HOST_KEYS: &[u8] = b"hostkeys-00@openssh.com";
/// The client's demand that the server prove it holds some of them; also the first word of what is signed.
const PROVE_HOST_KEYS: &[u8] = b"hostkeys-prove-00@openssh.com";

/// A global request of ours, so that its answer finds whoever asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct GlobalTicket(u64);

/// What happens outside any channel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GlobalEvent {
    /// The server told which host keys it has: those of kinds that we know.
    HostKeysAnnounced(Vec<PublicKey>),
    /// It proved to hold these, which we asked for; empty when it proved nothing.
    HostKeysProven(Vec<PublicKey>),
    /// The answer to a request that it listen for us.
    Listening {
        /// Which request.
        ticket: GlobalTicket,
        /// Where it listens, with the port that it chose; none: a refusal.
        at: Option<ListenAt>,
    },
    /// The client wants our server role to listen; answered with [`crate::Server::answer_listen`].
    ListenWanted(ListenTicket, ListenAt),
    /// And to listen there no more.
    StopListening(ListenAt),
}

/// A request of ours that waits for its answer. Answers come in the order of the requests.
#[derive(Debug)]
enum Waiting {
    Keepalive,
    HostKeys(Vec<PublicKey>),
    Listen(GlobalTicket, ListenAt),
    StopListening,
}

#[derive(Debug, Default)]
pub(crate) struct GlobalRequests {
    waiting: VecDeque<Waiting>,
    pub(crate) events: VecDeque<GlobalEvent>,
    owed: OwedAnswers,
    tickets: u64,
    /// Announcements of host keys so far.
    announcements: u32,
}

fn malformed(error: lantern_keys::wire::WireError) -> SshError {
    SshError::malformed("GLOBAL_REQUEST")(error)
}

/// What a host key signs to prove that the server holds it: bound to this connection by its session identifier.
fn proof(transport: &Transport, key: &PublicKey) -> Vec<u8> {
    let mut signed = Vec::with_capacity(1024);
    signed.put_string(PROVE_HOST_KEYS);
    signed.put_string(transport.session_id().unwrap_or_default());
    signed.put_string(&key.encode());
    signed
}

impl GlobalRequests {
    fn ask(
        &mut self,
        waiting: Waiting,
        name: &[u8],
        rest: &[u8],
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        if self.waiting.len() >= MAX_GLOBAL_REQUESTS {
            return Err(SshError::LimitExceeded {
                what: "requests that it has not answered",
                limit: MAX_GLOBAL_REQUESTS as u64,
            });
        }
        self.waiting.push_back(waiting);
        transport.send(|out| {
            out.put_byte(number::GLOBAL_REQUEST);
            out.put_string(name);
            out.put_bool(true);
            out.put(rest);
        })
    }

    pub(crate) fn send_keepalive(&mut self, transport: &mut Transport) -> Result<(), SshError> {
        self.ask(Waiting::Keepalive, KEEPALIVE, b"", transport)
    }

    /// Asks the server to listen for us.
    pub(crate) fn listen(
        &mut self,
        at: &ListenAt,
        transport: &mut Transport,
    ) -> Result<GlobalTicket, SshError> {
        let ticket = GlobalTicket(self.tickets);
        self.tickets += 1;
        self.ask(Waiting::Listen(ticket, at.clone()), at.begin(), &at.encode(), transport)?;
        Ok(ticket)
    }

    pub(crate) fn stop_listening(
        &mut self,
        at: &ListenAt,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        self.ask(Waiting::StopListening, at.stop(), &at.encode(), transport)
    }

    /// Our server role's decision on [`GlobalEvent::ListenWanted`].
    pub(crate) fn answer_listen(
        &mut self,
        ticket: ListenTicket,
        port: Option<u16>,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        self.owed.decide(ticket, port, transport)
    }

    /// Asks the server to prove that it holds these of the keys that it announced; one proof at a time.
    pub(crate) fn prove_host_keys(
        &mut self,
        keys: Vec<PublicKey>,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        if self.awaits_proof() {
            return Err(SshError::Misuse("a proof of host keys has been asked for"));
        }
        let mut blobs = Vec::new();
        keys.iter().for_each(|key| blobs.put_string(&key.encode()));
        self.ask(Waiting::HostKeys(keys), PROVE_HOST_KEYS, &blobs, transport)
    }

    fn awaits_proof(&self) -> bool {
        self.waiting.iter().any(|waiting| matches!(waiting, Waiting::HostKeys(_)))
    }

    /// Whether an announcement is worth a look: not while a proof is awaited, nor when there have been more than a server
    /// has a reason for. A peer that repeats itself costs nothing but the reading.
    fn hears_announcement(&mut self) -> bool {
        if self.awaits_proof() || self.announcements >= MAX_ANNOUNCEMENTS {
            return false;
        }
        self.announcements += 1;
        true
    }

    /// What waits here, in bytes, about: keys of announcements.
    pub(crate) fn held_bytes(&self) -> usize {
        let keys = |event: &GlobalEvent| match event {
            GlobalEvent::HostKeysAnnounced(keys) | GlobalEvent::HostKeysProven(keys) => keys.len(),
            _ => 1,
        };
        self.events.iter().map(keys).sum::<usize>() * 1024
            + self.waiting.len() * size_of::<Waiting>()
            + self.owed.held_bytes()
    }

    /// The server role's announcement of all its host keys.
    pub(crate) fn announce_host_keys(
        &self,
        keys: &[Arc<PrivateKey>],
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        transport.send(|out| {
            out.put_byte(number::GLOBAL_REQUEST);
            out.put_string(HOST_KEYS);
            out.put_bool(false);
            for key in keys {
                out.put_string(&key.public().encode());
            }
        })
    }

    /// REQUEST_SUCCESS or REQUEST_FAILURE; whether it answered a keepalive, or came unasked.
    pub(crate) fn handle_answer(
        &mut self,
        success: bool,
        reader: &mut Reader<'_>,
        transport: &Transport,
    ) -> Result<(), SshError> {
        let event = match self.waiting.pop_front() {
            None => {
                return Err(SshError::PeerBroke { rule: "it answered a global request that was not made" });
            }
            Some(Waiting::Keepalive | Waiting::StopListening) => return Ok(()),
            Some(Waiting::Listen(ticket, _)) if !success => GlobalEvent::Listening { ticket, at: None },
            // RFC 4254 §7.1: the port comes back only when the server chose it.
            Some(Waiting::Listen(ticket, at)) if at.is_open() => {
                let port = reader.u32("bound port").map_err(malformed)?;
                let port = u16::try_from(port).ok().filter(|port| *port != 0);
                GlobalEvent::Listening { ticket, at: port.map(|port| at.chosen(port)) }
            }
            Some(Waiting::Listen(ticket, at)) => GlobalEvent::Listening { ticket, at: Some(at) },
            Some(Waiting::HostKeys(_)) if !success => GlobalEvent::HostKeysProven(Vec::new()),
            Some(Waiting::HostKeys(keys)) => GlobalEvent::HostKeysProven(proven(keys, reader, transport)),
        };
        self.events.push_back(event);
        Ok(())
    }

    /// A request of the peer's.
    pub(crate) fn handle_request(
        &mut self,
        role: Role,
        mut reader: Reader<'_>,
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let name = reader.string("request name").map_err(malformed)?;
        let want_reply = reader.bool("want reply").map_err(malformed)?;
        trace!(name = %crate::neutralize(&String::from_utf8_lossy(name), 64), want_reply, "global request");
        if role == Role::Client && name == HOST_KEYS && self.hears_announcement() {
            let mut keys = Vec::new();
            while !reader.rest().is_empty() {
                let blob = reader.string("host key").map_err(malformed)?;
                if keys.len() >= MAX_HOST_KEYS {
                    return Err(SshError::LimitExceeded {
                        what: "announced host keys",
                        limit: MAX_HOST_KEYS as u64,
                    });
                }
                // Kinds that we don't know, certificates among them, are read over.
                keys.extend(PublicKey::decode(blob).ok());
            }
            self.events.push_back(GlobalEvent::HostKeysAnnounced(keys));
        } else if role == Role::Server && want_reply && name == PROVE_HOST_KEYS {
            return prove(reader, transport).and_then(|answer| self.owed.answer(answer, transport));
        } else if role == Role::Server
            && let Some((at, begins)) = ListenAt::decode(name, &mut reader).map_err(malformed)?
        {
            if begins && want_reply {
                let ticket = self.owed.leave_open(at.clone())?;
                self.events.push_back(GlobalEvent::ListenWanted(ticket, at));
                return Ok(());
            }
            if !begins {
                self.events.push_back(GlobalEvent::StopListening(at));
                let answer = vec![number::REQUEST_SUCCESS];
                return if want_reply { self.owed.answer(answer, transport) } else { Ok(()) };
            }
        }
        if want_reply {
            // RFC 4254 §4: what is not known is refused, which is also how one answers a keepalive.
            self.owed.answer(vec![number::REQUEST_FAILURE], transport)?;
        }
        Ok(())
    }
}

/// The keys, when each has signed as it should; else none. What is missing or malformed proves nothing, and costs nothing
/// but that: the session has no part in it.
fn proven(keys: Vec<PublicKey>, reader: &mut Reader<'_>, transport: &Transport) -> Vec<PublicKey> {
    for key in &keys {
        let verified = reader
            .string("signature")
            .map_err(|_| lantern_keys::KeyError::Inconsistent("no signature where one belongs"))
            .and_then(Signature::decode)
            .and_then(|signature| key.verify(&proof(transport, key), &signature));
        if let Err(error) = verified {
            debug!(%error, key = %key.fingerprint(), "a host key was announced and not proven");
            return Vec::new();
        }
    }
    keys
}

/// The server role's answer: a signature of each key that was asked for, or a refusal.
fn prove(mut reader: Reader<'_>, transport: &Transport) -> Result<Vec<u8>, SshError> {
    let mut signatures = Vec::new();
    let mut complete = true;
    while !reader.rest().is_empty() && complete && signatures.len() < MAX_HOST_KEYS {
        let blob = reader.string("host key").map_err(malformed)?;
        let own = transport.host_keys().iter().find(|key| key.public().encode() == blob).cloned();
        let signature = own.and_then(|key| {
            let algorithm = key.signature_algorithms().first().copied()?;
            key.sign(&proof(transport, key.public()), algorithm).ok()
        });
        match signature {
            Some(signature) => signatures.push(signature.encode()),
            None => complete = false,
        }
    }
    let mut answer = Vec::new();
    match complete {
        true => {
            answer.put_byte(number::REQUEST_SUCCESS);
            signatures.iter().for_each(|signature| answer.put_string(signature));
        }
        false => answer.put_byte(number::REQUEST_FAILURE),
    }
    Ok(answer)
}
