//! A command on a machine whose output we read ourselves.

use bytes::{Buf, Bytes};
use lantern_ssh::{ChannelEvent, SessionRequest, Stream};

use crate::{Link, LinkError};

/// Most output that is kept of either stream, in bytes; the rest is dropped, and the command goes on.
pub(crate) const MAX_CAPTURED: usize = 1024 * 1024;

/// What a command left behind.
#[derive(Debug, Default)]
pub struct Captured {
    /// Its exit status; none when a signal ended it or it was refused.
    pub status: Option<u32>,
    /// Standard output.
    pub out: Vec<u8>,
    /// Standard error.
    pub err: Vec<u8>,
}

/// Runs a command with this input.
///
/// # Errors
/// No session, or the connection was lost.
pub async fn capture(link: &mut Link, command: &str, input: &[u8]) -> Result<Captured, LinkError> {
    let id = link.open_session().await?;
    link.request(id, &SessionRequest::Exec(command.as_bytes().to_vec()), true)?;
    let mut input = Bytes::copy_from_slice(input);
    let mut captured = Captured::default();
    send(link, id, &mut input)?;
    loop {
        let (event_id, event) = link.event().await?;
        if event_id != id {
            continue;
        }
        match event {
            ChannelEvent::Data(stream, data) => {
                link.consumed(id, data.len());
                let kept = if stream == Stream::Main { &mut captured.out } else { &mut captured.err };
                let room = MAX_CAPTURED.saturating_sub(kept.len());
                kept.extend_from_slice(data.get(..room).unwrap_or(&data));
            }
            ChannelEvent::Writable => send(link, id, &mut input)?,
            ChannelEvent::Request { request: SessionRequest::ExitStatus(status), .. } => {
                captured.status = Some(status);
            }
            ChannelEvent::Reply { granted: false, .. } => link.close_channel(id),
            ChannelEvent::Closed => return Ok(captured),
            _ => {}
        }
    }
}

/// Sends what there is room for, and the end after all of it.
fn send(link: &mut Link, id: lantern_ssh::ChannelId, input: &mut Bytes) -> Result<(), LinkError> {
    let taken = link.send(id, input)?;
    input.advance(taken);
    if input.is_empty() {
        link.send_eof(id);
    }
    Ok(())
}
