//! A logged-in connection.

use std::time::Instant;

use lantern_book::Rotation;
use lantern_ssh::{
    ChannelEvent, ChannelId, Client, ClientEvent, DirectTcpip, GlobalEvent, Machine, OpenFailure,
    SessionRequest, SshError,
};

use crate::LinkError;
use crate::line::Line;
use crate::pump::{Pump, PumpError};
use crate::rotation::RotationWatch;

/// A connection that is logged in. Events come from [`Link::event`]; everything else is immediate.
pub struct Link {
    pub(crate) client: Client,
    pub(crate) pump: Pump<Line>,
    pub(crate) machine: String,
    pub(crate) user: String,
    pub(crate) ended: Option<LinkError>,
    pub(crate) rotation: RotationWatch,
    /// The answer to a request that the machine listen for us.
    pub(crate) listening: Option<Option<u16>>,
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
                match event {
                    ClientEvent::Channel(id, event) => return Ok((id, event)),
                    ClientEvent::Global(event) => self.note_global(event),
                    _ => {}
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

    /// Works until something happened, leaving events of channels where they are.
    async fn turn(&mut self) -> Result<(), LinkError> {
        self.pump.turn(&mut self.client).await.map_err(|error| self.lost(error))?;
        while let Some(event) = self.client.poll_global_event() {
            self.note_global(event);
        }
        Ok(())
    }

    fn note_global(&mut self, event: GlobalEvent) {
        match event {
            GlobalEvent::Listening(port) => self.listening = Some(port),
            event => self.rotation.handle(event, &mut self.client),
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
        let machine = self.machine.clone();
        self.opened(id).await?.map_err(|source| LinkError::ChannelRefused { machine, source })
    }

    /// Opens a channel to a place that the machine reaches, and waits for it.
    ///
    /// # Errors
    /// [`LinkError::GatewayRefused`] or [`LinkError::Lost`].
    pub async fn open_direct(&mut self, to: &DirectTcpip) -> Result<ChannelId, LinkError> {
        let id = self.client.open_direct(to, Instant::now()).map_err(|error| self.lost(error.into()))?;
        let (gateway, to) = (self.machine.clone(), lantern_book::place(&to.host, to.port));
        self.opened(id).await?.map_err(|source| LinkError::GatewayRefused { gateway, to, source })
    }

    async fn opened(&mut self, id: ChannelId) -> Result<Result<ChannelId, OpenFailure>, LinkError> {
        loop {
            match self.event().await? {
                (opened, ChannelEvent::Opened) if opened == id => return Ok(Ok(id)),
                (refused, ChannelEvent::OpenFailed(source)) if refused == id => return Ok(Err(source)),
                _ => {}
            }
        }
    }

    /// Whether the machine would listen for us on a port of its own; it stops at once.
    ///
    /// # Errors
    /// [`LinkError::Lost`].
    pub async fn listens_for_us(&mut self) -> Result<bool, LinkError> {
        const LOOPBACK: &str = "127.0.0.1";
        self.listening = None;
        self.client.listen(LOOPBACK, 0).map_err(|error| self.lost(error.into()))?;
        loop {
            if let Some(port) = self.listening.take() {
                if let Some(port) = port {
                    self.client.stop_listening(LOOPBACK, port).map_err(|error| self.lost(error.into()))?;
                }
                return Ok(port.is_some());
            }
            self.turn().await?;
        }
    }

    /// What the machine's announcements of host keys have changed in the trust store, told once.
    pub fn take_rotations(&mut self) -> Vec<Rotation> {
        std::mem::take(&mut self.rotation.done)
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
