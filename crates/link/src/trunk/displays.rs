//! Channels to a display: opened as long as any display is granted, and given to whoever's cookie they present. One that presents none of them is
//! refused as a display would, which says nothing about which there are.

use std::future::poll_fn;
use std::sync::Arc;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use lantern_ssh::{DisplaySetup, PeerChannel};
use tokio::sync::Semaphore;
use tokio::time::timeout;

use super::channel::Channel;
use super::grants::{Taken, WAITING};
use super::state::Offered;

/// How long a program may take to begin: it does so at once.
const PATIENCE: Duration = Duration::from_secs(10);

/// Finds out whose each channel is, several at a time.
pub(super) async fn admit(mut opened: Taken<Offered>) {
    let places = Arc::new(Semaphore::new(WAITING));
    while let Some((wanted, offered)) = opened.recv().await {
        // One too many is given up.
        let Ok(place) = places.clone().try_acquire_owned() else { continue };
        tokio::spawn(async move {
            let _ = timeout(PATIENCE, give(wanted, offered)).await;
            drop(place);
        });
    }
}

async fn give(wanted: PeerChannel, mut offered: Offered) {
    let mut first = BytesMut::new();
    let setup = loop {
        match DisplaySetup::read(&first) {
            Ok(Some(setup)) => break setup,
            Ok(None) => {}
            Err(_) => return,
        }
        match poll_fn(|cx| offered.poll_piece(cx)).await {
            Some(piece) => first.extend_from_slice(&piece),
            None => return,
        }
    };
    let taker = offered.shared().and_then(|shared| shared.lock().grants.claim_display(&setup));
    offered.first = first.freeze();
    match taker {
        // More than are taken are given up.
        Some(taker) => drop(taker.try_send((wanted, offered))),
        None => {
            let Some((handle, id, _)) = offered.take() else { return };
            refuse_display(Channel::new(handle, id), &setup, "what you present is not known here").await;
        }
    }
}

/// Answers a program that begins like this as a display does that does not take it, and ends the channel.
pub async fn refuse_display(channel: Channel, setup: &DisplaySetup, reason: &str) {
    let mut refusal = Bytes::from(setup.refusal(reason));
    let _ = channel.send(&mut refusal).await;
    channel.send_eof();
    channel.close();
    let _ = timeout(PATIENCE, channel.ended()).await;
}
