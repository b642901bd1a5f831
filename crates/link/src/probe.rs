//! A look at a machine's host key without logging in.

use std::time::Instant;

use lantern_keys::{PublicKey, SignatureAlgorithm, SystemRandom};
use lantern_ssh::{Client, ClientConfig, ClientEvent};

use crate::pump::{Pump, PumpError};
use crate::{LinkError, TimeLimits, dial, our_offer};

/// Connects just far enough to see the host key.
///
/// # Errors
/// The step that failed.
pub async fn probe_host_key(
    address: &str,
    port: u16,
    host_key: Option<SignatureAlgorithm>,
    limits: TimeLimits,
) -> Result<PublicKey, LinkError> {
    let (stream, place) = dial(address, port, limits.connect).await?;
    let mut offer = our_offer();
    if let Some(only) = host_key {
        offer.host_keys.retain(|algorithm| *algorithm == only);
    }
    let mut config = ClientConfig::new(String::new(), offer, Box::new(SystemRandom));
    config.handshake_time = limits.handshake;
    let handshake = |source| LinkError::Handshake { place: place.to_string(), source };
    let mut client = Client::new(config, Instant::now()).map_err(handshake)?;
    let mut pump = Pump::new(stream);
    loop {
        while let Some(event) = client.poll_event() {
            if let ClientEvent::HostKey(key) = event {
                client.disconnect();
                pump.finish(&mut client).await;
                return Ok(key);
            }
        }
        pump.turn(&mut client).await.map_err(|error| match error {
            PumpError::Ssh(error) => handshake(error),
            PumpError::Io(source) => LinkError::Dial { place: place.to_string(), source },
        })?;
    }
}
