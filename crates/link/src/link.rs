//! A logged-in connection.

use std::time::Instant;

use lantern_ssh::{ChannelEvent, ChannelId, Client, ClientEvent, Machine, SessionRequest, SshError};
use tokio::net::TcpStream;

use crate::LinkError;
use crate::pump::{Pump, PumpError};

/// A connection that is logged in. Events come from [`Link::event`]; everything else is immediate.
pub struct Link {
    pub(crate) client: Client,
    pub(crate) pump: Pump<TcpStream>,
    pub(crate) machine: String,
    pub(crate) user: String,
    pub(crate) ended: Option<LinkError>,
}

impl Link {
    /// The machine, as the user calls it.
    pub fn machine(&self) -> &str {
        &self.machine
    }

    /// The user logged in as.
    pub fn user(&self) -> &str {
        &self.user
    }

    /// The protocol machine, for its counters and algorithms.
    pub fn client(&self) -> &Client {
        &self.client
    }

    /// The next event. Dropping the future loses nothing. Events that came before the end of the connection are
    /// delivered before the error.
    ///
    /// # Errors
    /// [`LinkError::Lost`].
    pub async fn event(&mut self) -> Result<(ChannelId, ChannelEvent), LinkError> {
        loop {
            while let Some(event) = self.client.poll_event() {
                if let ClientEvent::Channel(id, event) = event {
                    return Ok((id, event));
                }
            }
            if let Some(error) = self.ended.take() {
                return Err(error);
            }
            if let Err(error) = self.pump.turn(&mut self.client).await {
                self.ended = Some(self.lost(error));
            }
        }
    }

    fn lost(&self, error: PumpError) -> LinkError {
        let source = match error {
            PumpError::Ssh(error) => error,
            PumpError::Io(_) => SshError::Closed { during: "as the network failed" },
        };
        LinkError::Lost { machine: self.machine.clone(), source }
    }

    /// Opens a session channel and waits for it.
    ///
    /// # Errors
    /// [`LinkError::ChannelRefused`] or [`LinkError::Lost`].
    pub async fn open_session(&mut self) -> Result<ChannelId, LinkError> {
        let id = self.client.open_session(Instant::now()).map_err(|error| self.lost(error.into()))?;
        loop {
            match self.event().await? {
                (opened, ChannelEvent::Opened) if opened == id => return Ok(id),
                (refused, ChannelEvent::OpenFailed(source)) if refused == id => {
                    return Err(LinkError::ChannelRefused { machine: self.machine.clone(), source });
                }
                _ => {}
            }
        }
    }

    /// Makes a channel request.
    ///
    /// # Errors
    /// [`LinkError::Lost`] when the channel is not open any more.
    pub fn request(
        &mut self,
        id: ChannelId,
        request: &SessionRequest,
        want_reply: bool,
    ) -> Result<(), LinkError> {
        self.client.channel_request(id, request, want_reply).map_err(|error| self.lost(error.into()))
    }

    /// Sends data, as much as there is room for; the number of bytes taken.
    ///
    /// # Errors
    /// [`LinkError::Lost`] when the channel is not open any more.
    pub fn send(&mut self, id: ChannelId, data: &[u8]) -> Result<usize, LinkError> {
        self.client.channel_send(id, data, Instant::now()).map_err(|error| self.lost(error.into()))
    }

    /// Says that no more data follows; harmless on a channel that is gone.
    pub fn send_eof(&mut self, id: ChannelId) {
        let _ = self.client.channel_eof(id);
    }

    /// Closes a channel; harmless on one that is gone.
    pub fn close_channel(&mut self, id: ChannelId) {
        let _ = self.client.channel_close(id);
    }

    /// Notes that received data has been used; harmless on a channel that is gone.
    pub fn consumed(&mut self, id: ChannelId, bytes: usize) {
        let _ = self.client.channel_consumed(id, bytes, Instant::now());
    }

    /// Says goodbye and closes, within a second.
    pub async fn close(mut self) {
        self.client.disconnect();
        self.pump.finish(&mut self.client).await;
    }

    /// How much waits to be sent, in bytes.
    pub fn unsent(&self) -> usize {
        self.client.pending().len()
    }
}
