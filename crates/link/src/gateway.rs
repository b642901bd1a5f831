//! Through a gateway: a channel of one connection as the line of the next, within this process.

use bytes::{Buf, Bytes, BytesMut};
use lantern_ssh::{ChannelEvent, ChannelId, DirectTcpip, OpenFailure, Stream};
use std::collections::VecDeque;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, duplex, split};

use crate::line::Line;
use crate::{Link, LinkError};

/// Bytes on their way between the connections, each way: several of the largest packets.
const PIPE_LEN: usize = 256 * 1024;

/// Opens a channel from the machine of `link` to the first of these hosts that it reaches, and carries it for as long as the line lives.
///
/// # Errors
/// [`LinkError::GatewayRefused`], or the connection to the gateway was lost.
pub(crate) async fn through(
    mut link: Link,
    hosts: &[String],
    port: u16,
) -> Result<(Line, String), LinkError> {
    let mut last = None;
    for host in hosts {
        // RFC 4254 §7.2 wants to know on whose behalf: our own.
        let to = DirectTcpip { host: host.clone(), port, originator: ("127.0.0.1".to_owned(), 0) };
        match link.open_direct(&to).await {
            Ok(id) => {
                let place = format!("{} via {}", lantern_book::place(host, port), link.machine());
                let (near, far) = duplex(PIPE_LEN);
                tokio::spawn(carry(link, id, near));
                return Ok((Box::new(far), place));
            }
            Err(error @ LinkError::GatewayRefused { .. }) => last = Some(error),
            Err(error) => return Err(error),
        }
    }
    let gateway = link.machine().to_owned();
    link.close().await;
    Err(last.unwrap_or(LinkError::GatewayRefused {
        gateway,
        to: String::new(),
        source: OpenFailure { code: OpenFailure::CONNECT_FAILED, description: "no address is known".into() },
    }))
}

/// Moves bytes both ways until one side ends; a gateway that is lost ends the line like a peer that closes.
async fn carry(mut link: Link, id: ChannelId, near: DuplexStream) {
    let (mut read, mut write) = split(near);
    let mut outgoing = BytesMut::with_capacity(PIPE_LEN / 4);
    let mut incoming: VecDeque<Bytes> = VecDeque::new();
    let (mut near_open, mut far_open) = (true, true);
    while far_open || !incoming.is_empty() {
        tokio::select! {
            event = link.event(), if far_open => match event {
                Ok((event_id, event)) if event_id == id => match event {
                    ChannelEvent::Data(Stream::Main, data) => incoming.push_back(data),
                    ChannelEvent::Data(Stream::Stderr, data) => link.consumed(id, data.len()),
                    ChannelEvent::Eof | ChannelEvent::Closed => far_open = false,
                    _ => {}
                },
                Ok(_) => {}
                Err(error) => {
                    tracing::debug!(%error, "the connection to the gateway ended");
                    far_open = false;
                }
            },
            len = read.read_buf(&mut outgoing), if near_open && outgoing.len() < PIPE_LEN => {
                if matches!(len, Ok(0) | Err(_)) {
                    near_open = false;
                }
            }
            written = write_front(&mut write, &incoming), if !incoming.is_empty() => match written {
                Ok(len) => {
                    link.consumed(id, len);
                    if let Some(front) = incoming.front_mut() {
                        front.advance(len);
                        if front.is_empty() {
                            incoming.pop_front();
                        }
                    }
                }
                // Nobody listens to what comes.
                Err(_) => break,
            },
        }
        if far_open && !outgoing.is_empty() {
            match link.send(id, &outgoing) {
                Ok(taken) => outgoing.advance(taken),
                Err(_) => far_open = false,
            }
        }
        if !near_open && outgoing.is_empty() {
            link.send_eof(id);
            // The connection within is over: its machine has been told, and the gateway need not wait for its goodbye.
            break;
        }
    }
    drop((read, write));
    link.close_channel(id);
    link.close().await;
}

async fn write_front(
    write: &mut (impl AsyncWriteExt + Unpin),
    incoming: &VecDeque<Bytes>,
) -> std::io::Result<usize> {
    match incoming.front() {
        Some(front) => write.write(front).await,
        None => Ok(0),
    }
}
