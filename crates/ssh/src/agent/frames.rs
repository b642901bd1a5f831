//! Messages out of a stream: a length of four bytes in front of each (draft-ietf-sshm-ssh-agent §3).

use lantern_keys::SecretBuffer;
use lantern_keys::wire::Writer;
use zeroize::Zeroizing;

/// Longest message, in bytes: a request to sign carries what is signed, which for a login is a few hundred bytes.
pub const MAX_FRAME_LEN: usize = 256 * 1024;

/// Collects bytes and hands out whole messages. What is collected may be a private key, so it is wiped, also where it was before
/// there was too little room.
#[derive(Debug, Default)]
pub struct Frames {
    buffer: SecretBuffer,
}

impl Frames {
    /// Adds bytes as they came.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.buffer.extend_from_slice(bytes);
    }

    /// The next whole message without its length; none until it is there.
    ///
    /// # Errors
    /// The length that was announced, when it is above [`MAX_FRAME_LEN`] or nothing: the stream is of no use any more.
    pub fn next_frame(&mut self) -> Result<Option<Zeroizing<Vec<u8>>>, usize> {
        let Some((length, rest)) = self.buffer.split_first_chunk::<4>() else { return Ok(None) };
        let length = u32::from_be_bytes(*length) as usize;
        if length == 0 || length > MAX_FRAME_LEN {
            return Err(length);
        }
        let Some(frame) = rest.get(..length) else { return Ok(None) };
        let frame = Zeroizing::new(frame.to_vec());
        self.buffer.drop_front(4 + length);
        Ok(Some(frame))
    }

    /// A message with its length in front.
    pub fn wrap(message: &[u8]) -> Zeroizing<Vec<u8>> {
        let mut out = Zeroizing::new(Vec::with_capacity(message.len() + 4));
        out.put_string(message);
        out
    }
}
