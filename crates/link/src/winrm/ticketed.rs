//! A login by a ticket on one connection: the token that goes, and what the answer to it is worth.

use hyper::StatusCode;
use lantern_kerberos::{Initiator, KerberosError, Refusal, Wraps, spnego};
use lantern_winrm::ntlm::channel_binding;
use lantern_winrm::sealed::SealedBy;
use lantern_winrm::{Challenges, LoginKeys, Scheme};

use super::answers::{Whom, decoded, no_login, offers, unlike};
use super::failure::WinrmFailure;
use super::http::Incoming;
use crate::kerberos::{KerberosFailure, ServiceTicket};

/// A login that has begun.
pub(super) struct Ticketed {
    initiator: Initiator,
    pub(super) scheme: Scheme,
    pub(super) token: Vec<u8>,
}

/// What follows a refusal.
pub(super) enum Again {
    /// Another try, in another way.
    With(Ticketed),
    /// None; why, where the machine said so, and how far its clock is ahead, in seconds, where that is much.
    Never { why: Option<Box<Refusal>>, clock: Option<i64> },
}

impl Ticketed {
    pub(super) fn begin(
        ticket: &ServiceTicket,
        scheme: Scheme,
        endpoint: Option<&[u8]>,
        whom: &Whom<'_>,
    ) -> Result<Self, WinrmFailure> {
        let begun = ticket.begin(endpoint.map(channel_binding)).and_then(|(initiator, token)| {
            let token = if scheme == Scheme::Kerberos { token } else { spnego::begin(&token)? };
            Ok(Self { initiator, scheme, token })
        });
        begun.map_err(|source| failed(ticket, source, whom))
    }

    /// Takes a refusal.
    pub(super) fn refused(
        self,
        ticket: &ServiceTicket,
        offers: &Challenges,
        endpoint: Option<&[u8]>,
        whom: &Whom<'_>,
    ) -> Result<Again, WinrmFailure> {
        if offers.has(self.scheme) {
            let scheme = self.scheme;
            let said = decoded(offers).and_then(|token| establish(self.initiator, &token, scheme).err());
            let (why, clock) = match said {
                Some(KerberosError::Refused(refusal)) => {
                    let clock = ticket.clock(&refusal);
                    (Some(refusal), clock)
                }
                // What makes no sense says nothing.
                _ => (None, None),
            };
            return Ok(Again::Never { why, clock });
        }
        // Kerberos by itself, where the negotiation around it is switched off.
        match offers.has(Scheme::Kerberos) {
            true => Ok(Again::With(Self::begin(ticket, Scheme::Kerberos, endpoint, whom)?)),
            false => Err(no_login(whom, offers)),
        }
    }

    /// Takes the answer by which the machine proves itself.
    pub(super) fn established(
        self,
        incoming: &Incoming,
        ticket: &ServiceTicket,
        whom: &Whom<'_>,
    ) -> Result<(LoginKeys, SealedBy), WinrmFailure> {
        let Some(answer) = decoded(&offers(incoming)) else {
            let said = incoming.content_type().starts_with("application/soap+xml");
            // What is no service of ours proves nothing either.
            return Err(match incoming.status {
                StatusCode::OK => failed(ticket, NOTHING, whom),
                _ if said => failed(ticket, NOTHING, whom),
                status => unlike(status, whom.place),
            });
        };
        let by = if self.scheme == Scheme::Kerberos { SealedBy::Kerberos } else { SealedBy::Negotiate };
        match establish(self.initiator, &answer, self.scheme) {
            Ok(wraps) => Ok((LoginKeys::Kerberos(Box::new(wraps)), by)),
            Err(source) => Err(failed(ticket, source, whom)),
        }
    }
}

const NOTHING: KerberosError = KerberosError::NotProven("the machine: it said nothing to the ticket");

fn failed(ticket: &ServiceTicket, source: KerberosError, whom: &Whom<'_>) -> WinrmFailure {
    let source = KerberosFailure::Machine { service: ticket.service(), source };
    WinrmFailure::Kerberos { machine: whom.machine.to_owned(), source: Box::new(source) }
}

fn establish(initiator: Initiator, answer: &[u8], scheme: Scheme) -> Result<Wraps, KerberosError> {
    if scheme == Scheme::Kerberos {
        return initiator.established(answer);
    }
    let answer = spnego::answered(answer)?;
    let token = answer.token.ok_or(NOTHING)?;
    let mut wraps = initiator.established(&token)?;
    if answer.state != spnego::State::Completed {
        return Err(KerberosError::NotProven("content with the ticket: it wants more to be said"));
    }
    match answer.mic {
        Some(mic) if !wraps.is_signed(&spnego::mechanisms()?, &mic) => Err(KerberosError::Altered),
        _ => Ok(wraps),
    }
}
