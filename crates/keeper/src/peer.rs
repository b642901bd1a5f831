//! Who is at the other end of a socket.

use rustix::net::RecvFlags;
use tokio::net::UnixStream;

/// Whether the other end is a process of the same user. The socket's mode says so too; this holds where a mode is not
/// looked at.
pub(crate) fn is_ours(stream: &UnixStream) -> bool {
    let us = rustix::process::geteuid().as_raw();
    stream.peer_cred().is_ok_and(|peer| peer.uid() == us || peer.uid() == 0)
}

/// Whether whoever asked still listens for the answer. What was sent meanwhile stays where it is.
pub(crate) fn is_there(stream: &UnixStream) -> bool {
    let flags = RecvFlags::PEEK | RecvFlags::DONTWAIT;
    !matches!(rustix::net::recv(stream, &mut [0u8], flags), Ok((_, 0)))
}

/// Ends when whoever asked has gone.
pub(crate) async fn has_gone(stream: &UnixStream) {
    while is_there(stream) {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
}
