//! When keys have served long enough, and when an exchange of them has taken too long.

use std::time::{Duration, Instant};

use super::RekeyPolicy;
use crate::SshError;
use crate::packet::{PacketReceiver, PacketSender};

pub(crate) struct Lifetimes {
    policy: RekeyPolicy,
    /// When the policy's time is up.
    renew_at: Option<Instant>,
    /// Longest time for a re-exchange.
    exchange_time: Duration,
    /// When the re-exchange that goes on must be over: a peer that never answers our offer, but goes on sending, would
    /// otherwise stay on the old keys for ever.
    exchange_deadline: Option<Instant>,
    /// Exchanges that are complete.
    pub(super) exchanges: u32,
}

impl Lifetimes {
    pub(super) fn new(policy: RekeyPolicy, exchange_time: Duration) -> Self {
        Self { policy, renew_at: None, exchange_time, exchange_deadline: None, exchanges: 0 }
    }

    /// Our offer leaves. The time for the first exchange is the role's to keep: a person may have to decide in it.
    pub(super) fn on_offer(&mut self, now: Instant) {
        if self.exchanges > 0 {
            self.exchange_deadline = now.checked_add(self.exchange_time);
        }
    }

    /// Keys are in use both ways.
    pub(super) fn on_new_keys(&mut self, now: Instant) {
        self.exchanges += 1;
        self.exchange_deadline = None;
        self.renew_at = now.checked_add(self.policy.time);
    }

    /// Whether a limit of the policy is reached.
    pub(super) fn is_due(&self, sender: &PacketSender, receiver: &PacketReceiver, now: Instant) -> bool {
        let (sent, received) = (&sender.direction, &receiver.direction);
        sent.bytes.max(received.bytes) >= self.policy.bytes
            || sent.packets.max(received.packets) >= self.policy.packets
            || self.renew_at.is_some_and(|at| now >= at)
    }

    pub(super) fn renew_at(&self) -> Option<Instant> {
        self.renew_at
    }

    pub(super) fn exchange_deadline(&self) -> Option<Instant> {
        self.exchange_deadline
    }

    /// # Errors
    /// [`SshError::TimedOut`] when a re-exchange has taken too long.
    pub(super) fn check(&self, now: Instant) -> Result<(), SshError> {
        match self.exchange_deadline {
            Some(deadline) if now >= deadline => Err(SshError::TimedOut {
                seconds: self.exchange_time.as_secs(),
                during: "to our wish for new keys",
            }),
            _ => Ok(()),
        }
    }
}
