//! Frames both ways on one socket, read so that a wait for one can be given up at any point.

use std::io::{self, ErrorKind};

use lantern_keys::{SecretBuffer, SecretString};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

/// Longest frame, in bytes: ten thousand tunnels with everything there is to tell of each.
const MAX_FRAME: usize = 8 * 1024 * 1024;
/// Most secrets behind one answer: as many as a server may ask for at once.
const MAX_SECRETS: u32 = lantern_ssh::limits::MAX_PROMPTS;

/// One end of a conversation.
pub(crate) struct Talk {
    stream: UnixStream,
    /// What has come and was not taken: it may hold a secret.
    buffer: SecretBuffer,
}

/// A message, and the secrets that it announces.
pub(crate) struct Received<T> {
    pub(crate) message: T,
    pub(super) secrets: Vec<SecretString>,
}

fn broken(words: &'static str) -> io::Error {
    io::Error::new(ErrorKind::InvalidData, words)
}

impl Talk {
    pub(crate) fn new(stream: UnixStream) -> Self {
        Self { stream, buffer: SecretBuffer::with_capacity(8 * 1024) }
    }

    /// The socket, and what had come on it behind the last message.
    pub(crate) fn into_parts(self) -> (UnixStream, Vec<u8>) {
        let rest = self.buffer.to_vec();
        (self.stream, rest)
    }

    /// The process at the other end.
    pub(crate) fn peer(&self) -> Option<i32> {
        self.stream.peer_cred().ok()?.pid()
    }

    /// Writes a message, and secrets behind it.
    ///
    /// # Errors
    /// What the system says.
    pub(crate) async fn write(
        &mut self,
        message: &impl Serialize,
        secrets: &[SecretString],
    ) -> io::Result<()> {
        let json = serde_json::to_vec(message).map_err(io::Error::other)?;
        let mut out = SecretBuffer::with_capacity(
            json.len() + 8 + secrets.iter().map(|secret| secret.expose_secret().len() + 4).sum::<usize>(),
        );
        let len = |len: usize| u32::try_from(len).map_err(|_| broken("too long")).map(u32::to_be_bytes);
        out.extend_from_slice(&len(json.len())?);
        out.extend_from_slice(&len(secrets.len())?);
        out.extend_from_slice(&json);
        for secret in secrets {
            out.extend_from_slice(&len(secret.expose_secret().len())?);
            out.extend_from_slice(secret.expose_secret().as_bytes());
        }
        self.stream.write_all(&out).await?;
        self.stream.flush().await
    }

    /// The next message; none at the end. Given up, nothing is lost.
    ///
    /// # Errors
    /// What is longer than any, or no message of this kind.
    pub(crate) async fn read<T: DeserializeOwned>(&mut self) -> io::Result<Option<Received<T>>> {
        loop {
            if let Some((received, len)) = parse(&self.buffer)? {
                self.buffer.drop_front(len);
                return Ok(Some(received));
            }
            let mut chunk = zeroize::Zeroizing::new([0; 4096]);
            match self.stream.read(chunk.as_mut_slice()).await? {
                0 => return Ok(None),
                len => self.buffer.extend_from_slice(chunk.get(..len).unwrap_or_default()),
            }
        }
    }
}

/// The message at the front, and how many bytes it takes; none where it is not all there.
fn parse<T: DeserializeOwned>(bytes: &[u8]) -> io::Result<Option<(Received<T>, usize)>> {
    let number = |at: usize| -> Option<u32> { Some(u32::from_be_bytes(*bytes.get(at..)?.first_chunk()?)) };
    let (Some(len), Some(count)) = (number(0), number(4)) else { return Ok(None) };
    if len as usize > MAX_FRAME || count > MAX_SECRETS {
        return Err(broken("a message that is longer than any"));
    }
    let mut at = 8 + len as usize;
    let Some(json) = bytes.get(8..at) else { return Ok(None) };
    let mut secrets = Vec::new();
    for _ in 0..count {
        let Some(len) = number(at) else { return Ok(None) };
        if len as usize > MAX_FRAME {
            return Err(broken("a secret that is longer than any"));
        }
        let end = at + 4 + len as usize;
        let Some(secret) = bytes.get(at + 4..end) else { return Ok(None) };
        let text = std::str::from_utf8(secret).map_err(|_| broken("a secret that is no text"))?;
        secrets.push(SecretString::new(text.to_owned()));
        at = end;
    }
    let message =
        serde_json::from_slice(json).map_err(|error| io::Error::new(ErrorKind::InvalidData, error))?;
    Ok(Some((Received { message, secrets }, at)))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::super::forms::{Reply, Said};
    use super::*;

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>, len in 0..40u32, count in 0..3u32) {
            let framed = [&len.to_be_bytes()[..], &count.to_be_bytes(), &bytes].concat();
            for bytes in [bytes, framed] {
                let _ = parse::<Reply>(&bytes);
                let _ = parse::<Said>(&bytes);
            }
        }

        #[test]
        fn what_is_written_is_read_however_it_is_cut(texts in proptest::collection::vec("\\PC{0,30}", 0..4), number: u32) {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let (near, far) = UnixStream::pair().unwrap();
                let (mut near, mut far) = (Talk::new(near), Talk::new(far));
                let secrets: Vec<SecretString> = texts.iter().map(|text| SecretString::new(text.clone())).collect();
                let reply = Reply::secrets(number);
                near.write(&reply, &secrets).await.unwrap();
                near.write(&reply, &[]).await.unwrap();
                let first = far.read::<Reply>().await.unwrap().unwrap();
                assert_eq!((first.message, first.secrets), (reply.clone(), secrets));
                let second = far.read::<Reply>().await.unwrap().unwrap();
                assert!(second.message == reply && second.secrets.is_empty());
                drop(near);
                assert!(far.read::<Reply>().await.unwrap().is_none());
            });
        }
    }

    #[test]
    fn what_is_announced_too_long_is_refused_before_it_comes() {
        for (len, count) in [(u32::MAX, 0), (0, u32::MAX), (MAX_FRAME as u32 + 1, 0)] {
            let head = [len.to_be_bytes(), count.to_be_bytes()].concat();
            assert!(parse::<Reply>(&head).is_err());
        }
    }
}
