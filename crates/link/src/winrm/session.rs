//! A connection that is logged in, or will be with the first thing that is posted on it.

use std::time::Duration;

use bytes::Bytes;
use hyper::StatusCode;
use hyper::header::HeaderValue;
use jiff::Timestamp;
use lantern_keys::{SecretString, SystemRandom};
use lantern_winrm::ntlm::{self, Challenged, NtlmError, channel_binding};
use lantern_winrm::sealed::{Sealed, SealedBy};
use lantern_winrm::{LoginKeys, Scheme};
use tokio::time::Instant;

use super::answers::{PostError, Whom, challenges, decoded, forgotten, no_login, offers, read_plain, unlike};
use super::failure::{LoginRefused, WinrmFailure};
use super::http::{Broken, Http, Incoming, Outgoing};
use super::login::{Proof, basic, by_certificate, token};
use super::ticketed::{Again, Ticketed};
use super::tls::alerted;
use super::user::UserForm;
use crate::kerberos::ServiceTicket;

/// The type of messages that nobody has sealed.
const PLAIN: &str = "application/soap+xml;charset=UTF-8";
/// Clocks that differ by less than this are as good as one, in seconds: RFC 4120 §1.6 usually allows five minutes.
const CLOCKS_AGREE: i64 = 300;

/// What a connection has come to.
enum State {
    /// Nobody has said who we are.
    New,
    /// The machine has said who it is.
    Challenged(Box<Challenged>),
    /// What is posted goes as it is, since TLS is around it.
    In,
    /// The same, and this goes with each post: a password, or that TLS has proven who we are.
    InSaying(HeaderValue),
    /// What is posted is sealed.
    Sealed(LoginKeys, SealedBy),
    /// It cannot be used any more.
    Spoiled,
}

/// A connection with its login.
pub(super) struct Session {
    http: Http,
    state: State,
    /// The ways to log in that it offers, once it was asked.
    offered: Option<Vec<String>>,
    /// The hash of the certificate, where there is TLS.
    endpoint: Option<Vec<u8>>,
    since: Instant,
    /// Whether anything in HTTP came back yet.
    has_answered: bool,
}

impl Session {
    pub(super) fn new(http: Http, endpoint: Option<Vec<u8>>) -> Self {
        Self { http, state: State::New, offered: None, endpoint, since: Instant::now(), has_answered: false }
    }

    /// Whether it can still be posted on.
    pub(super) fn is_open(&self) -> bool {
        self.http.is_open() && !matches!(self.state, State::Spoiled)
    }

    /// The ways to log in that it offers, once it was asked.
    pub(super) fn offered(&self) -> Option<&[String]> {
        self.offered.as_deref()
    }

    /// How long the machine has waited for the password since it said who it is.
    pub(super) fn waited(&self) -> Duration {
        self.since.elapsed()
    }

    /// Whether nobody is logged in yet.
    fn is_first(&self) -> bool {
        matches!(self.state, State::New | State::Challenged(_))
    }

    /// Asks the machine which ways to log in it takes, without beginning one.
    pub(super) async fn look(&mut self, whom: &Whom<'_>, limit: Duration) -> Result<(), PostError> {
        let outgoing = Outgoing { content_type: PLAIN.to_owned(), body: Bytes::new(), authorization: None };
        let incoming = self.exchange(outgoing, whom, "its part of the login", limit).await?;
        self.offered = Some(challenges(&incoming, whom)?.offered);
        Ok(())
    }

    /// Asks the machine who it is, and whether it takes NTLM: before anybody is asked for a password.
    pub(super) async fn greet(&mut self, whom: &Whom<'_>, limit: Duration) -> Result<(), PostError> {
        if !matches!(self.state, State::New) {
            return Ok(());
        }
        let initiator = ntlm::Initiator::new();
        let outgoing = Outgoing {
            content_type: PLAIN.to_owned(),
            body: Bytes::new(),
            authorization: Some(token(Scheme::Negotiate, initiator.message())),
        };
        let incoming = self.exchange(outgoing, whom, "its part of the login", limit).await?;
        let challenges = challenges(&incoming, whom)?;
        if !challenges.has(Scheme::Negotiate) {
            return Err(no_login(whom, &challenges).into());
        }
        let refused = |source| WinrmFailure::Ntlm { machine: whom.machine.to_owned(), source };
        let challenge =
            decoded(&challenges).ok_or_else(|| refused(NtlmError::Damaged("it has no challenge")))?;
        let challenged = initiator.challenged(&challenge).map_err(refused)?;
        (self.state, self.since) = (State::Challenged(Box::new(challenged)), Instant::now());
        self.offered = Some(challenges.offered);
        Ok(())
    }

    /// Posts a message, logging in with it where that has not been done; the message that came back.
    pub(super) async fn post(
        &mut self,
        message: &str,
        what: &'static str,
        proof: &Proof,
        whom: &Whom<'_>,
        limit: Duration,
    ) -> Result<Bytes, PostError> {
        if self.is_first() {
            match proof {
                Proof::Ticket(ticket) => {
                    return self.post_with_ticket(message, what, ticket, whom, limit).await;
                }
                Proof::Ntlm(_) => self.greet(whom, limit).await?,
                Proof::Basic(_) | Proof::Certificate(_) | Proof::None => {}
            }
        }
        let is_first = self.is_first();
        let (mut authorization, mut met) = (None, Met::default());
        // While nobody knows what came of it, it is good for nothing.
        let keys = match (std::mem::replace(&mut self.state, State::Spoiled), proof) {
            (State::Challenged(challenged), Proof::Ntlm(password)) => {
                let (third, keys);
                (third, keys, met) = answer(*challenged, password, whom, self.endpoint.as_deref())?;
                authorization = Some(token(Scheme::Negotiate, &third));
                Some((keys, SealedBy::Negotiate)).filter(|_| self.endpoint.is_none())
            }
            (State::InSaying(header), _) => {
                authorization = Some(header);
                None
            }
            (State::New, Proof::Basic(password)) => {
                authorization = Some(basic(whom.user, password));
                None
            }
            (State::New, Proof::Certificate(_)) => {
                authorization = Some(by_certificate());
                None
            }
            (State::Sealed(keys, by), _) => Some((keys, by)),
            (State::In, _) => None,
            (State::Spoiled | State::New | State::Challenged(_), _) => {
                return Err(PostError::Lost { is_sent: true, is_amid: false, why: "it was given up".into() });
            }
        };
        let said = authorization.clone().filter(|_| matches!(proof, Proof::Basic(_) | Proof::Certificate(_)));
        let (incoming, keys) = self.send(message, what, keys, authorization, whom, limit).await?;
        if incoming.status == StatusCode::UNAUTHORIZED {
            if !is_first {
                return Err(forgotten());
            }
            let mut refused = self.refused(&incoming, proof.name(), met, whom)?;
            if let Proof::Certificate(holder) = proof {
                refused.user.clone_from(holder);
            }
            return Err(WinrmFailure::Refused(Box::new(refused)).into());
        }
        let Some((keys, by)) = keys else {
            self.state = said.map_or(State::In, State::InSaying);
            return read_plain(incoming, whom.place);
        };
        self.opened(keys, by, &incoming, whom)
    }

    /// The first post of a connection where there is a ticket. Without TLS it is sealed, and so the login goes ahead of it.
    async fn post_with_ticket(
        &mut self,
        message: &str,
        what: &'static str,
        ticket: &ServiceTicket,
        whom: &Whom<'_>,
        limit: Duration,
    ) -> Result<Bytes, PostError> {
        self.state = State::Spoiled;
        let is_sealed = self.endpoint.is_none();
        let mut login = Ticketed::begin(ticket, Scheme::Negotiate, self.endpoint.as_deref(), whom)?;
        let incoming = loop {
            let header = Some(token(login.scheme, &login.token));
            let (text, asked) = if is_sealed { ("", "its part of the login") } else { (message, what) };
            let (incoming, _) = self.send(text, asked, None, header, whom, limit).await?;
            if incoming.status != StatusCode::UNAUTHORIZED {
                break incoming;
            }
            let offers = offers(&incoming);
            login = match login.refused(ticket, &offers, self.endpoint.as_deref(), whom)? {
                Again::With(login) => login,
                Again::Never { why, clock } => {
                    let refused = self.refused(&incoming, "Kerberos", Met { computer: None, clock }, whom)?;
                    let (user, service) = (ticket.client(), Some(ticket.service()));
                    let refused = LoginRefused { why, user, service, ..refused };
                    return Err(WinrmFailure::Refused(Box::new(refused)).into());
                }
            };
        };
        let (keys, by) = login.established(&incoming, ticket, whom)?;
        if !is_sealed {
            self.state = State::In;
            return read_plain(incoming, whom.place);
        }
        let (incoming, keys) = self.send(message, what, Some((keys, by)), None, whom, limit).await?;
        match keys {
            Some((keys, by)) if incoming.status != StatusCode::UNAUTHORIZED => {
                self.opened(keys, by, &incoming, whom)
            }
            _ => Err(forgotten()),
        }
    }

    /// Sends a message, sealed where there are keys.
    async fn send(
        &mut self,
        message: &str,
        what: &'static str,
        mut keys: Option<(LoginKeys, SealedBy)>,
        authorization: Option<HeaderValue>,
        whom: &Whom<'_>,
        limit: Duration,
    ) -> Result<(Incoming, Option<(LoginKeys, SealedBy)>), PostError> {
        let (content_type, body) = match &mut keys {
            Some((keys, by)) => (by.content_type(), keys.seal(message.as_bytes(), *by).into()),
            None => (PLAIN.to_owned(), Bytes::copy_from_slice(message.as_bytes())),
        };
        let incoming =
            self.exchange(Outgoing { content_type, body, authorization }, whom, what, limit).await?;
        Ok((incoming, keys))
    }

    fn opened(
        &mut self,
        mut keys: LoginKeys,
        by: SealedBy,
        incoming: &Incoming,
        whom: &Whom<'_>,
    ) -> Result<Bytes, PostError> {
        let opened = open(&mut keys, by, incoming, whom)?;
        self.state = State::Sealed(keys, by);
        Ok(opened)
    }

    /// What is told of a login that was refused.
    fn refused(
        &self,
        incoming: &Incoming,
        by: &'static str,
        met: Met,
        whom: &Whom<'_>,
    ) -> Result<LoginRefused, WinrmFailure> {
        let challenges = challenges(incoming, whom)?;
        Ok(LoginRefused {
            machine: whom.machine.to_owned(),
            user: whom.user.to_owned(),
            by,
            offered: self.offered.clone().unwrap_or(challenges.offered),
            computer: met.computer,
            clock: met.clock,
            service: None,
            why: None,
        })
    }

    async fn exchange(
        &mut self,
        outgoing: Outgoing,
        whom: &Whom<'_>,
        what: &'static str,
        limit: Duration,
    ) -> Result<Incoming, PostError> {
        let (machine, place) = (whom.machine.to_owned(), whom.place.to_owned());
        let posted = self.http.post(outgoing, limit).await;
        let is_new = !std::mem::replace(&mut self.has_answered, true);
        posted.map_err(|broken| match broken {
            // The first bytes of TLS are no HTTP either.
            Broken::NotHttp if self.endpoint.is_none() && is_new => WinrmFailure::WantsTls { place }.into(),
            Broken::NotHttp => WinrmFailure::NotHttp { place }.into(),
            Broken::Ended { is_sent, is_amid, why } => PostError::Lost { is_sent, is_amid, why },
            Broken::Alert(alert) => alerted(alert, place).into(),
            Broken::TimedOut(limit) => {
                WinrmFailure::Unanswered { machine, what, seconds: limit.as_secs() }.into()
            }
            Broken::TooLong => {
                WinrmFailure::TooLong { machine, limit: lantern_winrm::limits::MAX_MESSAGE }.into()
            }
        })
    }
}

/// What is known of the machine when it refuses a login.
#[derive(Default)]
pub(super) struct Met {
    /// Its name and that of its domain.
    pub(super) computer: Option<(String, String)>,
    /// How far its clock is ahead, in seconds, where that is much.
    pub(super) clock: Option<i64>,
}

fn answer(
    challenged: Challenged,
    password: &SecretString,
    whom: &Whom<'_>,
    endpoint: Option<&[u8]>,
) -> Result<(Vec<u8>, LoginKeys, Met), WinrmFailure> {
    let target = challenged.target();
    let now = Timestamp::now().as_second();
    let off = challenged.time_there().map(|there| there.saturating_sub(now));
    let clock = off.filter(|off| off.abs() > CLOCKS_AGREE);
    let met = Met { computer: Some((target.computer, target.domain)), clock };
    let user = UserForm::of(whom.user).with_password(password.clone());
    let binding = endpoint.map(channel_binding);
    let (third, seals) = challenged
        .authenticate(&user, whom.service, binding, now, &mut SystemRandom)
        .map_err(|source| WinrmFailure::Ntlm { machine: whom.machine.to_owned(), source })?;
    Ok((third, LoginKeys::Ntlm(Box::new(seals)), met))
}

fn open(
    keys: &mut LoginKeys,
    by: SealedBy,
    incoming: &Incoming,
    whom: &Whom<'_>,
) -> Result<Bytes, WinrmFailure> {
    let unsealed = || WinrmFailure::Unsealed { machine: whom.machine.to_owned() };
    let boundary = match SealedBy::parse(incoming.content_type()) {
        Some((other, boundary)) if other == by => boundary,
        _ => {
            return Err(match incoming.status {
                StatusCode::UNSUPPORTED_MEDIA_TYPE => {
                    WinrmFailure::WantsClear { machine: whom.machine.to_owned() }
                }
                StatusCode::OK => unsealed(),
                // What is not ours does not seal either.
                status => unlike(status, whom.place),
            });
        }
    };
    let sealed = Sealed::decode(&incoming.body, by, boundary).map_err(|source| WinrmFailure::Answer {
        machine: whom.machine.to_owned(),
        what: "a sealed message",
        source,
    })?;
    keys.open(sealed).map(Bytes::from).ok_or_else(unsealed)
}
