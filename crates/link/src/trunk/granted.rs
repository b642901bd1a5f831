//! A grant in the hands of whoever takes its channels.

use std::sync::Arc;

use bytes::Bytes;
use lantern_ssh::PeerChannel;

use super::channel::Channel;
use super::grants::{Grant, Taken, Uses};
use super::state::{Offered, Shared};

/// A channel that the machine opened under a grant.
pub struct Opened {
    /// What it is.
    pub wanted: PeerChannel,
    /// The channel.
    pub channel: Channel,
    /// What was read of it to know whose it is: of a display's, its setup and what came with that. To be credited like anything that comes.
    pub first: Bytes,
}

/// A grant that stands. Dropped, it is revoked; channels that were opened under it live on.
pub struct Granted {
    shared: Arc<Shared>,
    number: u64,
    channels: Taken<Offered>,
}

impl Granted {
    pub(super) fn new(shared: Arc<Shared>, grant: Grant, uses: Uses) -> Self {
        let (number, channels) = shared.lock().grants.add(grant, uses);
        Self { shared, number, channels }
    }

    /// One that stands already.
    pub(super) fn standing(shared: Arc<Shared>, number: u64, channels: Taken<Offered>) -> Self {
        Self { shared, number, channels }
    }

    /// The next channel that the machine opens under it; none once it is used up or the connection has ended.
    pub async fn next(&mut self) -> Option<Opened> {
        let (wanted, offered) = self.channels.recv().await?;
        let (handle, id, first) = offered.take()?;
        Some(Opened { wanted, channel: Channel::new(handle, id), first })
    }
}

impl Drop for Granted {
    fn drop(&mut self) {
        // Channels that nobody took go with the receiver, after this, outside the lock that they need.
        self.shared.lock().grants.revoke(self.number);
    }
}
