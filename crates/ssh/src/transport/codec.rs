//! Packets both ways: what seals and opens them, and the random bytes that fill their padding.

use lantern_keys::RandomSource;

use crate::SshError;
use crate::packet::{PacketReceiver, PacketSender, PayloadWriter};

pub(crate) struct Codec {
    pub(super) sender: PacketSender,
    pub(super) receiver: PacketReceiver,
    pub(super) random: Box<dyn RandomSource>,
}

impl Codec {
    pub(super) fn new(random: Box<dyn RandomSource>) -> Self {
        Self { sender: PacketSender::new(), receiver: PacketReceiver::new(), random }
    }

    /// Builds and seals one packet.
    pub(super) fn send(&mut self, write: impl FnOnce(&mut PayloadWriter<'_>)) -> Result<(), SshError> {
        self.sender.packet(&mut *self.random, write)
    }
}
