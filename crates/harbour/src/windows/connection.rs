//! One connection to a simulated machine: TLS, HTTP, a login, and messages.

use std::convert::Infallible;
use std::sync::Arc;

use bytes::Bytes;
use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full, Limited, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HeaderValue, LOCATION, WWW_AUTHENTICATE};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use lantern_winrm::LoginKeys;
use lantern_winrm::sealed::{Sealed, SealedBy};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite};
use tokio::sync::Mutex;
use tokio_rustls::TlsAcceptor;

use super::login::{Login, Step};
use super::service::{Answer, Service};
use super::spec::WindowsFault;

/// Most bytes of a request.
const MAX_BODY: usize = 4 * 1024 * 1024;
const PLAIN: &str = "application/soap+xml;charset=UTF-8";

type Body = BoxBody<Bytes, std::io::Error>;

/// Serves a visitor.
pub(super) async fn serve<S>(service: Arc<Service>, tls: Option<TlsAcceptor>, mut stream: S)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    service.note(|seen| seen.connections += 1);
    if service.has_fault(WindowsFault::NoCertificate) {
        // As the system's web listener does: it reads the greeting, and hangs up.
        let _ = stream.read(&mut [0; 1024]).await;
        return;
    }
    match tls {
        Some(tls) => {
            if let Ok(stream) = tls.accept(stream).await {
                let shown = stream.get_ref().1.peer_certificates();
                let shown = shown.and_then(|chain| chain.first()).map(|own| own.to_vec());
                converse(service, stream, shown).await;
            }
        }
        None => converse(service, stream, None).await,
    }
}

/// `shown` is the client's certificate.
async fn converse<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
    service: Arc<Service>,
    stream: S,
    shown: Option<Vec<u8>>,
) {
    let state = Arc::new(Mutex::new(State { shown, ..State::default() }));
    let answering = service.clone();
    let handler = service_fn(move |request| {
        let (service, state) = (answering.clone(), state.clone());
        async move { respond(&service, &state, request).await }
    });
    let connection =
        http1::Builder::new().max_buf_size(256 * 1024).serve_connection(TokioIo::new(stream), handler);
    tokio::select! {
        _ = connection => {}
        () = service.cut.notified() => {}
    }
}

#[derive(Default)]
struct State {
    /// The client's certificate in DER.
    shown: Option<Vec<u8>>,
    login: Login,
    /// The last sealed answer, for a machine that says it again.
    last: Option<Vec<u8>>,
}

fn full(body: impl Into<Bytes>) -> Body {
    Full::new(body.into()).map_err(|never: Infallible| match never {}).boxed()
}

fn with(status: StatusCode, content_type: &str, body: Body) -> Response<Body> {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    if let Ok(kind) = HeaderValue::from_str(content_type) {
        response.headers_mut().insert(CONTENT_TYPE, kind);
    }
    response
}

fn refusal(service: &Service, token: Option<&str>) -> Response<Body> {
    let mut response = with(StatusCode::UNAUTHORIZED, "text/html", full(""));
    for scheme in &service.spec.offers {
        let text = match (*scheme, token) {
            ("Negotiate" | "Kerberos", Some(token)) => format!("{scheme} {token}"),
            ("Basic", _) => "Basic realm=\"WSMAN\"".to_owned(),
            (scheme, _) => scheme.to_owned(),
        };
        if let Ok(value) = HeaderValue::from_str(&text) {
            response.headers_mut().append(WWW_AUTHENTICATE, value);
        }
    }
    response
}

fn cut() -> std::io::Error {
    std::io::ErrorKind::ConnectionAborted.into()
}

async fn respond(
    service: &Arc<Service>,
    state: &Mutex<State>,
    request: Request<Incoming>,
) -> Result<Response<Body>, std::io::Error> {
    match service.spec.fault {
        Some(WindowsFault::Redirect) => {
            let mut response = with(StatusCode::FOUND, "text/html", full(""));
            response.headers_mut().insert(LOCATION, HeaderValue::from_static("http://192.0.2.66/"));
            return Ok(response);
        }
        Some(WindowsFault::NotFound) => {
            return Ok(with(StatusCode::NOT_FOUND, "text/html", full("nothing here")));
        }
        Some(WindowsFault::Stopped) => {
            return Ok(with(StatusCode::SERVICE_UNAVAILABLE, "text/html", full("")));
        }
        Some(WindowsFault::Silent) => tokio::time::sleep(Service::SILENCE).await,
        _ => {}
    }
    if request.uri().path() != "/wsman" {
        return Ok(with(StatusCode::NOT_FOUND, "text/html", full("")));
    }
    let mut state = state.lock().await;
    let header =
        request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let is_new = !matches!(state.login, Login::In { .. });
    let State { login, shown, .. } = &mut *state;
    let step = match login.take(header.as_deref(), shown.as_deref(), &service.spec) {
        Step::Proceed(_) if is_new && service.is_locked() => Step::Refuse(None),
        step => step,
    };
    let proof = match step {
        Step::Challenge(token) => return Ok(refusal(service, Some(&token))),
        Step::Refuse(said) => {
            if header.is_some() {
                service.note(|seen| seen.refused += 1);
            }
            return Ok(refusal(service, said.as_deref()));
        }
        Step::Proceed(proof) => {
            if is_new {
                let is_delegated = matches!(state.login, Login::In { is_delegated: true, .. });
                service.note(|seen| {
                    (seen.logins, seen.delegated) =
                        (seen.logins + 1, seen.delegated + usize::from(is_delegated))
                });
            }
            proof
        }
    };
    let scheme = header.as_deref().and_then(|header| header.split(' ').next()).unwrap_or_default();
    let proof = match service.spec.fault {
        Some(WindowsFault::NoProof) => None,
        // Of the same length, and made by nobody who has the key.
        Some(WindowsFault::ForgedProof) => proof.map(|proof| {
            let mut chars: Vec<char> = proof.chars().collect();
            let middle = chars.len() / 2;
            chars.get_mut(middle..middle + 8).unwrap_or_default().fill('A');
            chars.into_iter().collect()
        }),
        _ => proof,
    };
    let proof = proof.and_then(|proof| HeaderValue::from_str(&format!("{scheme} {proof}")).ok());
    let content_type = request
        .headers()
        .get(CONTENT_TYPE)
        .and_then(|value| value.to_str().ok())
        .unwrap_or_default()
        .to_owned();
    let body = Limited::new(request.into_body(), MAX_BODY).collect().await.map_err(|_| cut())?.to_bytes();
    let State { login, last, .. } = &mut *state;
    let Login::In { user, keys, .. } = login else { return Ok(refusal(service, None)) };
    let is_login = is_new && keys.as_ref().is_some_and(|(keys, _)| matches!(keys, LoginKeys::Kerberos(_)));
    if is_login {
        // Nothing can be sealed before both have the keys: what comes with the login is empty.
        let mut response = with(StatusCode::OK, "text/html", full(""));
        if let Some(proof) = proof {
            response.headers_mut().insert(WWW_AUTHENTICATE, proof);
        }
        return Ok(response);
    }
    let message = match keys {
        None => body.to_vec(),
        Some(_) if service.has_fault(WindowsFault::WantsClear) => {
            return Ok(with(StatusCode::UNSUPPORTED_MEDIA_TYPE, "text/html", full("")));
        }
        Some((keys, expected)) => {
            let opened = SealedBy::parse(&content_type).and_then(|(by, boundary)| {
                (by == *expected).then_some(())?;
                keys.open(Sealed::decode(&body, by, boundary).ok()?)
            });
            match opened {
                Some(message) => message,
                None => return Ok(with(StatusCode::BAD_REQUEST, "text/html", full(""))),
            }
        }
    };
    if service.seen().shells > 0 && service.fails_now(WindowsFault::ForgetLogin) {
        *login = Login::None;
        return Ok(refusal(service, None));
    }
    let envelope = match service.answer(&message, user).await {
        Answer::Envelope(envelope) => envelope,
        Answer::Cut(None) => return Err(cut()),
        Answer::Cut(Some(envelope)) => {
            let half = envelope.len() / 2;
            let begun = Bytes::copy_from_slice(envelope.as_bytes().get(..half).unwrap_or_default());
            return Ok(with(StatusCode::OK, PLAIN, broken(begun)));
        }
    };
    let is_fault = envelope.contains("<s:Fault>");
    let status = if is_fault { StatusCode::INTERNAL_SERVER_ERROR } else { StatusCode::OK };
    let bytes = match service.has_fault(WindowsFault::Utf16) {
        true => [0xfeff].into_iter().chain(envelope.encode_utf16()).flat_map(u16::to_le_bytes).collect(),
        false => envelope.into_bytes(),
    };
    let (kind, bytes) = match keys {
        Some((keys, by)) if !service.has_fault(WindowsFault::Clear) => {
            let sealed = keys.seal(&bytes, *by);
            let repeated = last.replace(sealed.clone()).filter(|_| service.has_fault(WindowsFault::Repeat));
            (by.content_type(), repeated.unwrap_or(sealed))
        }
        _ => (PLAIN.to_owned(), bytes),
    };
    let body = if service.has_fault(WindowsFault::Chunked) { chunked(bytes) } else { full(bytes) };
    let mut response = with(status, &kind, body);
    if let Some(proof) = proof {
        response.headers_mut().insert(WWW_AUTHENTICATE, proof);
    }
    Ok(response)
}

/// A body in pieces of a few bytes.
fn chunked(bytes: Vec<u8>) -> Body {
    let pieces: Vec<_> =
        bytes.chunks(7).map(|piece| Ok(Frame::data(Bytes::copy_from_slice(piece)))).collect();
    BodyExt::boxed(StreamBody::new(futures(pieces)))
}

/// A body that begins, and never ends well.
fn broken(begun: Bytes) -> Body {
    BodyExt::boxed(StreamBody::new(futures(vec![Ok(Frame::data(begun)), Err(cut())])))
}

/// A stream of what is there already.
fn futures(
    items: Vec<Result<Frame<Bytes>, std::io::Error>>,
) -> impl futures_core::Stream<Item = Result<Frame<Bytes>, std::io::Error>> + Send + Sync + 'static {
    Items(items.into_iter())
}

struct Items(std::vec::IntoIter<Result<Frame<Bytes>, std::io::Error>>);

impl futures_core::Stream for Items {
    type Item = Result<Frame<Bytes>, std::io::Error>;

    fn poll_next(
        self: std::pin::Pin<&mut Self>,
        _: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Option<Self::Item>> {
        std::task::Poll::Ready(self.get_mut().0.next())
    }
}
