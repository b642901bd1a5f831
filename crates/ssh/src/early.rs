//! A session that is opened together with a login. A server works in order: by the time that it reads this, it has let us in. Where the login was not
//! enough, it has nothing to open (RFC 4252 §6): it answers that with UNIMPLEMENTED, or ends the connection.

use crate::SshError;
use crate::channel::{ChannelId, static_name};
use crate::connection::Connection;
use crate::message::connection::SessionRequest;
use crate::transport::Transport;

/// A session that is opened together with a signed login.
#[derive(Debug, Clone, Default)]
pub struct EarlySession {
    /// The number that the server gives its first channel, where it gave the same at every visit.
    pub number: Option<u32>,
    /// What is asked of the session, each with whether an answer is wanted; it leaves at once where the number is known, and not at all else.
    pub requests: Vec<(SessionRequest, bool)>,
    /// The identification of a server that is not to be met like this.
    pub unless: Option<String>,
}

/// What has become of it.
#[derive(Debug, Default)]
pub(crate) enum Early {
    /// Nobody wants one, or no login that was signed has left yet.
    #[default]
    Nothing,
    /// It leaves with the first signed login.
    Wanted(EarlySession),
    /// It has left.
    Sent { id: ChannelId, with_requests: bool },
    /// It has left, and the login was not enough.
    Void,
}

impl Connection {
    /// Makes requests on a channel that is not open yet, as if the peer had given it this number. Another one ends the connection.
    pub(crate) fn presume(
        &mut self,
        id: ChannelId,
        number: u32,
        requests: &[(SessionRequest, bool)],
        transport: &mut Transport,
    ) -> Result<(), SshError> {
        let Some(channel) = self.channels.get_mut(&id.0) else { return Ok(()) };
        channel.presumed = Some(number);
        for (request, want_reply) in requests {
            if *want_reply {
                channel.unanswered.push_back(static_name(request));
            }
            transport.send(|out| request.encode(number, *want_reply, out))?;
        }
        Ok(())
    }
}
