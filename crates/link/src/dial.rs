//! From an address to a connected socket, and why not.

use std::io::{Error, ErrorKind};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;
use tracing::debug;

use crate::LinkError;

/// Connects to the first address of `address` that answers, within `limit` for each.
///
/// # Errors
/// The kind of failure of the last address tried: name, route, refusal, silence.
pub async fn dial(address: &str, port: u16, limit: Duration) -> Result<(TcpStream, SocketAddr), LinkError> {
    let place = lantern_book::place(address, port);
    let not_found = |source| LinkError::NameNotFound { address: address.to_owned(), source };
    let addresses: Vec<SocketAddr> = lookup_host((address, port)).await.map_err(not_found)?.collect();
    debug!(?addresses, "resolved");
    let mut last = not_found(Error::new(ErrorKind::NotFound, "the resolver knows no address"));
    for address in addresses {
        debug!(%address, "dialing");
        let start = Instant::now();
        match timeout(limit, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                // Keystrokes must not wait for more of them.
                stream.set_nodelay(true).map_err(|error| explain(error, &place, start))?;
                debug!(%address, "connected");
                return Ok((stream, address));
            }
            Ok(Err(error)) => last = explain(error, &place, start),
            Err(_) => last = LinkError::DialTimedOut { place: place.clone(), seconds: limit.as_secs() },
        }
    }
    Err(last)
}

fn explain(source: Error, place: &str, start: Instant) -> LinkError {
    let place = place.to_owned();
    match source.kind() {
        ErrorKind::ConnectionRefused => LinkError::Refused { place },
        ErrorKind::HostUnreachable | ErrorKind::NetworkUnreachable | ErrorKind::AddrNotAvailable => {
            LinkError::NoRoute { place, source }
        }
        // The kernel gave up before we did.
        ErrorKind::TimedOut => LinkError::DialTimedOut { place, seconds: start.elapsed().as_secs() },
        _ => LinkError::Dial { place, source },
    }
}
