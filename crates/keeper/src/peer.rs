//! Who is at the other end of a socket.

use tokio::net::UnixStream;

/// Whether the other end is a process of the same user. The socket's mode says so too; this holds where a mode is not
/// looked at.
pub(crate) fn is_ours(stream: &UnixStream) -> bool {
    let us = rustix::process::geteuid().as_raw();
    stream.peer_cred().is_ok_and(|peer| peer.uid() == us || peer.uid() == 0)
}
