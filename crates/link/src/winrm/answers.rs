//! What an answer is before anybody looks at the message in it: an offer of logins, no service of ours, or a message.

use base64ct::{Base64, Encoding};
use bytes::Bytes;
use hyper::StatusCode;
use hyper::header::WWW_AUTHENTICATE;
use lantern_winrm::Challenges;

use super::failure::WinrmFailure;
use super::http::Incoming;

/// Why a post has no answer.
#[derive(Debug)]
pub(super) enum PostError {
    /// The machine, or what is between us, does not do what it should.
    Failure(WinrmFailure),
    /// The connection ended; whether the machine can have heard what was posted, and whether a part of the answer had come.
    Lost { is_sent: bool, is_amid: bool, why: String },
}

impl From<WinrmFailure> for PostError {
    fn from(failure: WinrmFailure) -> Self {
        Self::Failure(failure)
    }
}

/// Who logs in, and to what.
pub(super) struct Whom<'a> {
    pub(super) machine: &'a str,
    pub(super) place: &'a str,
    pub(super) user: &'a str,
    /// The name of the service, as it was dialed.
    pub(super) service: &'a str,
}

/// The schemes of an answer that wants a login.
pub(super) fn challenges(incoming: &Incoming, whom: &Whom<'_>) -> Result<Challenges, WinrmFailure> {
    match incoming.status {
        StatusCode::UNAUTHORIZED => Ok(offers(incoming)),
        status => Err(unlike(status, whom.place)),
    }
}

/// The schemes of any answer.
pub(super) fn offers(incoming: &Incoming) -> Challenges {
    let headers = incoming.headers.get_all(WWW_AUTHENTICATE).iter();
    Challenges::parse(headers.filter_map(|value| value.to_str().ok()))
}

/// The token that came with them.
pub(super) fn decoded(challenges: &Challenges) -> Option<Vec<u8>> {
    challenges.token.as_deref().and_then(|token| Base64::decode_vec(token).ok())
}

pub(super) fn no_login(whom: &Whom<'_>, challenges: &Challenges) -> WinrmFailure {
    WinrmFailure::NoLogin { machine: whom.machine.to_owned(), offered: challenges.offered.clone() }
}

pub(super) fn forgotten() -> PostError {
    PostError::Lost { is_sent: true, is_amid: false, why: "the machine forgot the login".into() }
}

/// A message within TLS. Faults come with status 500 (DSP0226 §14).
pub(super) fn read_plain(incoming: Incoming, place: &str) -> Result<Bytes, PostError> {
    let is_soap = incoming.content_type().to_ascii_lowercase().starts_with("application/soap+xml");
    match incoming.status {
        StatusCode::OK | StatusCode::INTERNAL_SERVER_ERROR | StatusCode::BAD_REQUEST if is_soap => {
            Ok(incoming.body)
        }
        status => Err(unlike(status, place).into()),
    }
}

/// What a status says that has no message.
pub(super) fn unlike(status: StatusCode, place: &str) -> WinrmFailure {
    let (place, number) = (place.to_owned(), status.as_u16());
    match status {
        _ if status.is_redirection() => WinrmFailure::Redirect { place, status: number },
        StatusCode::SERVICE_UNAVAILABLE | StatusCode::INTERNAL_SERVER_ERROR => {
            WinrmFailure::Status { place, status: number }
        }
        _ => WinrmFailure::NotWsman { place, status: number },
    }
}
