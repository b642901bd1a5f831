//! Through a gateway: a channel of one connection is the line of the next.

use lantern_ssh::{DirectTcpip, OpenFailure};

use crate::line::Line;
use crate::{LinkError, Trunk};

/// Opens a channel from the gateway to the first of these hosts that it reaches, and how that place is called. The line keeps
/// the connection to the gateway alive.
///
/// # Errors
/// [`LinkError::GatewayRefused`], or the connection to the gateway was lost.
pub(crate) async fn through(
    gateway: &Trunk,
    hosts: &[String],
    port: u16,
) -> Result<(Line, String), LinkError> {
    let mut last = None;
    for host in hosts {
        // RFC 4254 §7.2 wants to know on whose behalf: our own.
        let to = DirectTcpip { host: host.clone(), port, originator: ("127.0.0.1".to_owned(), 0) };
        match gateway.open_direct(&to).await {
            Ok(channel) => {
                let place = format!("{} via {}", lantern_book::place(host, port), gateway.machine());
                return Ok((Box::new(channel), place));
            }
            Err(error @ LinkError::GatewayRefused { .. }) => last = Some(error),
            Err(error) => return Err(error),
        }
    }
    Err(last.unwrap_or_else(|| LinkError::GatewayRefused {
        gateway: gateway.machine().to_owned(),
        to: String::new(),
        source: OpenFailure { code: OpenFailure::CONNECT_FAILED, description: "no address is known".into() },
    }))
}
