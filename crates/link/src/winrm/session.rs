//! A connection that is logged in, or will be with the first thing that is posted on it.

use std::time::{Duration, Instant};

use base64ct::{Base64, Encoding};
use bytes::Bytes;
use hyper::StatusCode;
use hyper::header::{HeaderValue, WWW_AUTHENTICATE};
use jiff::Timestamp;
use lantern_keys::{SecretString, SystemRandom};
use lantern_winrm::ntlm::{Challenged, Initiator, NtlmError, SIGNATURE_LEN, Seals, channel_binding};
use lantern_winrm::sealed::{Sealed, SealedBy};
use lantern_winrm::{Challenges, Scheme};
use zeroize::Zeroizing;

use super::failure::{LoginRefused, WinrmFailure};
use super::http::{Broken, Http, Incoming, Outgoing};
use super::tls::alerted;
use super::user::UserForm;

/// The type of messages that nobody has sealed.
const PLAIN: &str = "application/soap+xml;charset=UTF-8";
/// Clocks that differ by less than this are as good as one, in seconds: RFC 4120 §1.6 usually allows five minutes.
const CLOCKS_AGREE: i64 = 300;

/// Why a post has no answer.
#[derive(Debug)]
pub(super) enum PostError {
    /// The machine, or what is between us, does not do what it should.
    Failure(WinrmFailure),
    /// The connection ended; whether a part of the answer had come.
    Lost { is_amid: bool, why: String },
}

impl From<WinrmFailure> for PostError {
    fn from(failure: WinrmFailure) -> Self {
        Self::Failure(failure)
    }
}

/// How one may log in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LoginWay {
    /// By a password that is not sent.
    Ntlm,
    /// By a password that is sent as it is, within TLS.
    Basic,
}

/// Who logs in, and to what.
pub(super) struct Whom<'a> {
    pub(super) machine: &'a str,
    pub(super) place: &'a str,
    pub(super) user: &'a str,
    /// The name of the service, as it was dialed.
    pub(super) service: &'a str,
    pub(super) way: LoginWay,
}

/// What a connection has come to.
enum State {
    /// Nobody has said who we are; the hash of the certificate, where there is TLS.
    New,
    /// The machine has said who it is.
    Challenged(Box<Challenged>, Vec<String>),
    /// What is posted goes as it is, since TLS is around it.
    In,
    /// The same, and the password goes with each post.
    InByBasic(HeaderValue),
    /// What is posted is sealed.
    Sealed(Box<Seals>),
    /// It cannot be used any more.
    Spoiled,
}

/// A connection with its login.
pub(super) struct Session {
    http: Http,
    state: State,
    /// The hash of the certificate, where there is TLS.
    endpoint: Option<Vec<u8>>,
    since: Instant,
}

impl Session {
    pub(super) fn new(http: Http, endpoint: Option<Vec<u8>>) -> Self {
        Self { http, state: State::New, endpoint, since: Instant::now() }
    }

    /// Whether it can still be posted on.
    pub(super) fn is_open(&self) -> bool {
        self.http.is_open() && !matches!(self.state, State::Spoiled)
    }

    /// The ways to log in that it offers, once it was asked.
    pub(super) fn offered(&self) -> Option<&[String]> {
        match &self.state {
            State::Challenged(_, offered) => Some(offered),
            _ => None,
        }
    }

    /// How long the machine has waited for the password since it said who it is.
    pub(super) fn waited(&self) -> Duration {
        self.since.elapsed()
    }

    /// Whether a password is to be handed over with the first post.
    pub(super) fn wants_password(&self) -> bool {
        matches!(self.state, State::New | State::Challenged(..))
    }

    /// Asks the machine who it is, and whether it takes the way that is meant: before anybody is asked for a password.
    pub(super) async fn greet(&mut self, whom: &Whom<'_>, limit: Duration) -> Result<(), PostError> {
        if whom.way == LoginWay::Basic || !matches!(self.state, State::New) {
            return Ok(());
        }
        let initiator = Initiator::new();
        let outgoing = Outgoing {
            content_type: PLAIN.to_owned(),
            body: Bytes::new(),
            authorization: Some(token(initiator.message())),
        };
        let incoming = self.exchange(outgoing, whom, "its part of the login", limit).await?;
        let challenges = self.challenges(&incoming, whom)?;
        let no_login = || WinrmFailure::NoLogin {
            machine: whom.machine.to_owned(),
            offered: challenges.offered.clone(),
        };
        if !challenges.has(Scheme::Negotiate) {
            return Err(no_login().into());
        }
        let refused = |source| WinrmFailure::Ntlm { machine: whom.machine.to_owned(), source };
        let token = challenges.token.as_deref().and_then(|token| Base64::decode_vec(token).ok());
        let token = token.ok_or_else(|| refused(NtlmError::Damaged("it has no challenge")))?;
        let challenged = initiator.challenged(&token).map_err(refused)?;
        (self.state, self.since) =
            (State::Challenged(Box::new(challenged), challenges.offered), Instant::now());
        Ok(())
    }

    /// The schemes of an answer that wants a login.
    fn challenges(&self, incoming: &Incoming, whom: &Whom<'_>) -> Result<Challenges, WinrmFailure> {
        if incoming.status != StatusCode::UNAUTHORIZED {
            return Err(unlike(incoming.status, whom.place));
        }
        let headers = incoming.headers.get_all(WWW_AUTHENTICATE).iter();
        Ok(Challenges::parse(headers.filter_map(|value| value.to_str().ok())))
    }

    /// Posts a message, logging in with it where that has not been done; the message that came back.
    pub(super) async fn post(
        &mut self,
        message: &str,
        what: &'static str,
        password: Option<&SecretString>,
        whom: &Whom<'_>,
        limit: Duration,
    ) -> Result<Bytes, PostError> {
        let is_first = self.wants_password();
        self.greet(whom, limit).await?;
        let no_password =
            || WinrmFailure::NoPassword { machine: whom.machine.to_owned(), user: whom.user.to_owned() };
        let (mut seals, mut authorization, mut met) = (None, None, (Vec::new(), None, None));
        // While nobody knows what came of it, it is good for nothing.
        match std::mem::replace(&mut self.state, State::Spoiled) {
            State::New => {
                let password = password.ok_or_else(no_password)?;
                authorization = Some(basic(whom.user, password));
            }
            State::Challenged(challenged, offered) => {
                let password = password.ok_or_else(no_password)?;
                let (third, keys);
                (third, keys, met) = answer(*challenged, offered, password, whom, self.endpoint.as_deref())?;
                authorization = Some(token(&third));
                seals = Some(Box::new(keys));
            }
            State::In => {}
            State::InByBasic(header) => authorization = Some(header),
            State::Sealed(keys) => seals = Some(keys),
            State::Spoiled => {
                return Err(PostError::Lost { is_amid: false, why: "it was given up".into() });
            }
        }
        let mut seals = seals.filter(|_| self.endpoint.is_none());
        let (content_type, body) = match &mut seals {
            Some(seals) => (SealedBy::Negotiate.content_type(), seal(seals, message)),
            None => (PLAIN.to_owned(), Bytes::copy_from_slice(message.as_bytes())),
        };
        let by_basic = authorization.clone().filter(|_| whom.way == LoginWay::Basic);
        let incoming =
            self.exchange(Outgoing { content_type, body, authorization }, whom, what, limit).await?;
        if incoming.status == StatusCode::UNAUTHORIZED {
            if !is_first {
                return Err(PostError::Lost { is_amid: false, why: "the machine forgot the login".into() });
            }
            let challenges = self.challenges(&incoming, whom)?;
            let (mut offered, computer, clock) = met;
            offered.extend(challenges.offered.into_iter().filter(|_| whom.way == LoginWay::Basic));
            let refused = LoginRefused {
                machine: whom.machine.to_owned(),
                user: whom.user.to_owned(),
                by: if whom.way == LoginWay::Basic { "Basic" } else { "NTLM" },
                offered,
                computer,
                clock,
            };
            return Err(WinrmFailure::Refused(Box::new(refused)).into());
        }
        let Some(mut keys) = seals else {
            self.state = by_basic.map_or(State::In, State::InByBasic);
            return read_plain(incoming, whom.place);
        };
        let opened = open(&mut keys, &incoming, whom)?;
        self.state = State::Sealed(keys);
        Ok(opened)
    }

    async fn exchange(
        &mut self,
        outgoing: Outgoing,
        whom: &Whom<'_>,
        what: &'static str,
        limit: Duration,
    ) -> Result<Incoming, PostError> {
        let (machine, place) = (whom.machine.to_owned(), whom.place.to_owned());
        self.http.post(outgoing, limit).await.map_err(|broken| match broken {
            // The first bytes of TLS are no HTTP either.
            Broken::NotHttp if self.endpoint.is_none() && self.wants_password() => {
                WinrmFailure::WantsTls { place }.into()
            }
            Broken::NotHttp => WinrmFailure::NotHttp { place }.into(),
            Broken::Ended { is_amid, why } => PostError::Lost { is_amid, why },
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

/// What is known of the machine when it refuses a login: what it offers, its names, how far its clock is off.
type Met = (Vec<String>, Option<(String, String)>, Option<i64>);

fn answer(
    challenged: Challenged,
    offered: Vec<String>,
    password: &SecretString,
    whom: &Whom<'_>,
    endpoint: Option<&[u8]>,
) -> Result<(Vec<u8>, Seals, Met), WinrmFailure> {
    let target = challenged.target();
    let now = Timestamp::now().as_second();
    let off = challenged.time_there().map(|there| there.saturating_sub(now));
    let met = (offered, Some((target.computer, target.domain)), off.filter(|off| off.abs() > CLOCKS_AGREE));
    let user = UserForm::of(whom.user).with_password(password.clone());
    let binding = endpoint.map(channel_binding);
    let (third, seals) = challenged
        .authenticate(&user, whom.service, binding, now, &mut SystemRandom)
        .map_err(|source| WinrmFailure::Ntlm { machine: whom.machine.to_owned(), source })?;
    Ok((third, seals, met))
}

/// The header with a token of `Negotiate`.
fn token(token: &[u8]) -> HeaderValue {
    let text = format!("{} {}", Scheme::Negotiate.name(), Base64::encode_string(token));
    secret_header(&text)
}

/// The header of a password as it is (RFC 7617).
fn basic(user: &str, password: &SecretString) -> HeaderValue {
    let both = Zeroizing::new(format!("{user}:{}", password.expose_secret()));
    let base64 = Zeroizing::new(Base64::encode_string(both.as_bytes()));
    let text = Zeroizing::new(format!("{} {}", Scheme::Basic.name(), *base64));
    secret_header(&text)
}

fn secret_header(text: &str) -> HeaderValue {
    // Base64 is text that a header can hold.
    let mut header = HeaderValue::from_str(text).unwrap_or(HeaderValue::from_static(""));
    header.set_sensitive(true);
    header
}

fn seal(seals: &mut Seals, message: &str) -> Bytes {
    let mut data = message.as_bytes().to_vec();
    let signature = seals.seal(&mut data).to_vec();
    let plain_len = data.len();
    Sealed { signature, data, plain_len }.encode(SealedBy::Negotiate).into()
}

fn open(seals: &mut Seals, incoming: &Incoming, whom: &Whom<'_>) -> Result<Bytes, WinrmFailure> {
    let unsealed = || WinrmFailure::Unsealed { machine: whom.machine.to_owned() };
    let Some((SealedBy::Negotiate, boundary)) = SealedBy::parse(incoming.content_type()) else {
        return Err(match incoming.status {
            StatusCode::UNSUPPORTED_MEDIA_TYPE => {
                WinrmFailure::WantsClear { machine: whom.machine.to_owned() }
            }
            StatusCode::OK => unsealed(),
            // What is not ours does not seal either.
            status => unlike(status, whom.place),
        });
    };
    let sealed = Sealed::decode(&incoming.body, SealedBy::Negotiate, boundary).map_err(|source| {
        WinrmFailure::Answer { machine: whom.machine.to_owned(), what: "a sealed message", source }
    })?;
    let mut data = sealed.data;
    match sealed.signature.len() == SIGNATURE_LEN {
        true => seals.open(&mut data, &sealed.signature).map_err(|_| unsealed())?,
        false => return Err(unsealed()),
    }
    Ok(data.into())
}

/// A message within TLS. Faults come with status 500 (DSP0226 §14).
fn read_plain(incoming: Incoming, place: &str) -> Result<Bytes, PostError> {
    let is_soap = incoming.content_type().to_ascii_lowercase().starts_with("application/soap+xml");
    match incoming.status {
        StatusCode::OK | StatusCode::INTERNAL_SERVER_ERROR | StatusCode::BAD_REQUEST if is_soap => {
            Ok(incoming.body)
        }
        status => Err(unlike(status, place).into()),
    }
}

/// What a status says that has no message.
fn unlike(status: StatusCode, place: &str) -> WinrmFailure {
    let (place, number) = (place.to_owned(), status.as_u16());
    match status {
        _ if status.is_redirection() => WinrmFailure::Redirect { place, status: number },
        StatusCode::SERVICE_UNAVAILABLE | StatusCode::INTERNAL_SERVER_ERROR => {
            WinrmFailure::Status { place, status: number }
        }
        _ => WinrmFailure::NotWsman { place, status: number },
    }
}
