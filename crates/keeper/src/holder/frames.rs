//! Messages on a holder's socket: a length of four bytes, and JSON.

use std::io::{self, ErrorKind};

use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

/// Longest message, in bytes: ten thousand tunnels with everything there is to tell of each.
const MAX_LEN: usize = 8 * 1024 * 1024;

/// Reads a message; none at the end.
///
/// # Errors
/// One that is longer than any, or no message of this kind.
pub(super) async fn read<T: DeserializeOwned>(from: &mut (impl AsyncRead + Unpin)) -> io::Result<Option<T>> {
    let mut len = [0; 4];
    match from.read_exact(&mut len).await {
        Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    };
    let len = u32::from_be_bytes(len);
    if usize::try_from(len).is_ok_and(|len| len > MAX_LEN) {
        return Err(io::Error::new(ErrorKind::InvalidData, "a message that is longer than any"));
    }
    // It grows with what really comes, whatever length was announced.
    let mut bytes = Vec::new();
    from.take(len.into()).read_to_end(&mut bytes).await?;
    if bytes.len() != len as usize {
        return Err(ErrorKind::UnexpectedEof.into());
    }
    serde_json::from_slice(&bytes).map(Some).map_err(|error| io::Error::new(ErrorKind::InvalidData, error))
}

/// Writes a message.
///
/// # Errors
/// What the system says.
pub(super) async fn write(to: &mut (impl AsyncWrite + Unpin), message: &impl Serialize) -> io::Result<()> {
    let bytes = serde_json::to_vec(message).map_err(io::Error::other)?;
    let len = u32::try_from(bytes.len()).map_err(|_| io::Error::from(ErrorKind::FileTooLarge))?;
    to.write_all(&len.to_be_bytes()).await?;
    to.write_all(&bytes).await?;
    to.flush().await
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::super::messages::{HolderAnswer, HolderRequest, Versioned};
    use super::*;

    fn now<T>(future: impl Future<Output = T>) -> T {
        tokio::runtime::Builder::new_current_thread().build().unwrap().block_on(future)
    }

    proptest! {
        #[test]
        fn any_bytes_are_survived(bytes: Vec<u8>, len in 0..64u32) {
            let framed = [&len.to_be_bytes()[..], &bytes].concat();
            for bytes in [bytes, framed] {
                let _ = now(read::<Versioned<HolderRequest>>(&mut bytes.as_slice()));
                let _ = now(read::<HolderAnswer>(&mut bytes.as_slice()));
            }
        }

        #[test]
        fn what_is_written_is_read(machine in "\\PC{0,9}", names in proptest::collection::vec("\\PC{0,9}", 0..4)) {
            let request = HolderRequest::Close { machine: Some(machine), names };
            let mut bytes = Vec::new();
            now(write(&mut bytes, &request)).unwrap();
            prop_assert_eq!(now(read::<HolderRequest>(&mut bytes.as_slice())).unwrap(), Some(request));
            prop_assert!(now(read::<HolderRequest>(&mut &bytes[..bytes.len() - 1])).is_err());
        }
    }

    #[test]
    fn a_length_that_is_announced_costs_nothing() {
        let huge = [0xff; 16];
        assert!(now(read::<HolderAnswer>(&mut huge.as_slice())).is_err());
        let long = (MAX_LEN as u32).to_be_bytes();
        assert!(now(read::<HolderAnswer>(&mut long.as_slice())).is_err());
        assert!(now(read::<HolderAnswer>(&mut [].as_slice())).unwrap().is_none());
    }
}
