//! Messages of higher layers that wait for the end of a key exchange (RFC 4253 §7.1).

use lantern_keys::SecretBuffer;

use crate::SshError;
use crate::limits::MAX_DEFERRED_BYTES;
use crate::packet::PayloadWriter;

#[derive(Debug, Default)]
pub(crate) struct Deferred {
    /// A password may be among them.
    payloads: Vec<SecretBuffer>,
    bytes: usize,
}

impl Deferred {
    pub(super) fn push(&mut self, write: impl FnOnce(&mut PayloadWriter<'_>)) -> Result<(), SshError> {
        let mut payload = SecretBuffer::default();
        write(&mut PayloadWriter::Deferred(&mut payload));
        self.bytes += payload.len() + size_of::<SecretBuffer>();
        if self.bytes > MAX_DEFERRED_BYTES {
            return Err(SshError::LimitExceeded {
                what: "bytes waiting for new keys",
                limit: MAX_DEFERRED_BYTES as u64,
            });
        }
        self.payloads.push(payload);
        Ok(())
    }

    /// All of them, oldest first.
    pub(super) fn take(&mut self) -> Vec<SecretBuffer> {
        self.bytes = 0;
        std::mem::take(&mut self.payloads)
    }

    pub(super) fn bytes(&self) -> usize {
        self.bytes
    }
}
