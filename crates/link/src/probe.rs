//! A look at a machine's host keys without logging in.

use std::time::Instant;

use lantern_keys::{PublicKey, SignatureAlgorithm, SystemRandom};
use lantern_ssh::{Client, ClientConfig, ClientEvent};

use crate::connect::reach;
use crate::pump::{Pump, PumpError};
use crate::{Ask, ConnectRequest, LinkError};

/// Connects just far enough to see the host key: the one that the server prefers, or that of one algorithm. Also the algorithms that it has
/// host keys for. Gateways on the way are logged in to, the machine is not.
///
/// # Errors
/// The step that failed.
pub async fn probe_host_key(
    request: &ConnectRequest,
    only: Option<SignatureAlgorithm>,
    ask: &dyn Ask,
) -> Result<(PublicKey, Vec<SignatureAlgorithm>), LinkError> {
    let (line, _) = reach(request, ask).await?;
    let place = request.place();
    let mut offer = request.offer.clone();
    if let Some(only) = only {
        offer.host_keys.retain(|algorithm| *algorithm == only);
    }
    let mut config = ClientConfig::new(String::new(), offer, Box::new(SystemRandom));
    config.handshake_time = request.limits.handshake;
    let handshake = |source| LinkError::Handshake { place: place.clone(), source };
    let mut client = Client::new(config, Instant::now()).map_err(handshake)?;
    let mut pump = Pump::new(line);
    loop {
        while let Some(event) = client.poll_event() {
            if let ClientEvent::HostKey(key) = event {
                let algorithms = client.server_host_key_algorithms().to_vec();
                client.disconnect();
                let last_words = client.take_unsent();
                pump.finish(&last_words).await;
                return Ok((key, algorithms));
            }
        }
        pump.turn(&mut client).await.map_err(|error| match error {
            PumpError::Ssh(error) => handshake(error),
            PumpError::Io(source) => LinkError::Dial { place: place.clone(), source },
        })?;
    }
}

/// One host key of each kind that the machine has, the one that it prefers first.
///
/// # Errors
/// The step that failed before the first key was seen; a kind that fails later is left out.
pub async fn probe_host_keys(request: &ConnectRequest, ask: &dyn Ask) -> Result<Vec<PublicKey>, LinkError> {
    let (first, algorithms) = probe_host_key(request, None, ask).await?;
    let mut keys = vec![first];
    for algorithm in algorithms {
        let is_covered = |key: &PublicKey| key.signature_algorithms().contains(&algorithm);
        if keys.iter().any(is_covered) {
            continue;
        }
        if let Ok((key, _)) = probe_host_key(request, Some(algorithm), ask).await {
            keys.push(key);
        }
    }
    Ok(keys)
}
