//! One HTTP connection: a request, its answer, the next one. A login belongs to it, so nothing is shared between connections and nothing is retried.

use std::time::Duration;

use bytes::Bytes;
use http_body_util::{BodyExt, Full, LengthLimitError, Limited};
use hyper::client::conn::http1::{self, SendRequest};
use hyper::header::{AUTHORIZATION, CONTENT_LENGTH, CONTENT_TYPE, HOST, HeaderMap, HeaderValue, USER_AGENT};
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use lantern_winrm::limits::MAX_MESSAGE;
use rustls::AlertDescription;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use tracing::debug;

use crate::line::Line;

/// Most bytes of a head: tokens of Kerberos have up to 64 KiB in base64 with large groups, and answers hold one.
const MAX_HEAD: usize = 128 * 1024;
/// Sealed or in UTF-16, a message is up to twice as long as what we read of it.
const MAX_BODY: usize = 2 * MAX_MESSAGE + 64 * 1024;

/// What a post is made of.
pub(super) struct Outgoing {
    pub(super) content_type: String,
    pub(super) body: Bytes,
    pub(super) authorization: Option<HeaderValue>,
}

/// What came back.
#[derive(Debug)]
pub(super) struct Incoming {
    pub(super) status: StatusCode,
    pub(super) headers: HeaderMap,
    pub(super) body: Bytes,
}

impl Incoming {
    pub(super) fn content_type(&self) -> &str {
        self.headers.get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default()
    }
}

/// Why there is no answer.
#[derive(Debug)]
pub(super) enum Broken {
    /// It was not HTTP.
    NotHttp,
    /// The connection ended; whether the request had left, and whether a part of the answer had come.
    Ended { is_sent: bool, is_amid: bool, why: String },
    /// TLS was ended by the machine, after the handshake: so it is where version 1.3 wants a client's certificate.
    Alert(AlertDescription),
    /// Nothing came in time.
    TimedOut(Duration),
    /// More came than we read.
    TooLong,
}

/// A connection. Dropped, it is closed.
pub(super) struct Http {
    sender: SendRequest<Full<Bytes>>,
    driver: JoinHandle<()>,
    host: HeaderValue,
    path: String,
}

impl Drop for Http {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl Http {
    /// Takes over a connected line. `host` is the name for the header, as it was dialed.
    pub(super) async fn start(line: Line, host: &str, path: &str) -> Result<Self, Broken> {
        let ended = |error: hyper::Error| Broken::Ended {
            is_sent: false,
            is_amid: false,
            why: crate::error::chain(&error),
        };
        let (sender, connection) = http1::Builder::new()
            .max_buf_size(MAX_HEAD)
            .handshake(TokioIo::new(line))
            .await
            .map_err(ended)?;
        let driver = tokio::spawn(async move {
            if let Err(error) = connection.await {
                debug!(error = crate::error::chain(&error), "the HTTP connection ended");
            }
        });
        let host = HeaderValue::from_str(host).unwrap_or(HeaderValue::from_static("localhost"));
        Ok(Self { sender, driver, host, path: path.to_owned() })
    }

    /// Whether another request can be made.
    pub(super) fn is_open(&self) -> bool {
        !self.sender.is_closed()
    }

    /// Posts, and waits for the whole answer, each part of it at most this long.
    pub(super) async fn post(&mut self, outgoing: Outgoing, limit: Duration) -> Result<Incoming, Broken> {
        let length = outgoing.body.len();
        let mut request = Request::builder().method(Method::POST).uri(&self.path).header(HOST, &self.host);
        if let Some(headers) = request.headers_mut() {
            headers.insert(USER_AGENT, HeaderValue::from_static("lantern"));
            headers.insert(CONTENT_LENGTH, length.into());
            if let Ok(kind) = HeaderValue::from_str(&outgoing.content_type) {
                headers.insert(CONTENT_TYPE, kind);
            }
            if let Some(authorization) = outgoing.authorization {
                headers.insert(AUTHORIZATION, authorization);
            }
        }
        let Ok(request) = request.body(Full::new(outgoing.body)) else { return Err(Broken::NotHttp) };
        let head = async {
            self.sender.ready().await?;
            self.sender.send_request(request).await
        };
        let response = match timeout(limit, head).await {
            Ok(Ok(response)) => response,
            Ok(Err(error)) if error.is_parse() => return Err(Broken::NotHttp),
            Ok(Err(error)) => {
                if let Some(alert) = alert(&error) {
                    return Err(Broken::Alert(alert));
                }
                return Err(Broken::Ended {
                    // Nothing of it was written where the connection was found closed.
                    is_sent: !error.is_canceled() && !error.is_closed(),
                    is_amid: error.is_incomplete_message(),
                    why: crate::error::chain(&error),
                });
            }
            Err(_) => return Err(Broken::TimedOut(limit)),
        };
        let (head, body) = response.into_parts();
        match timeout(limit, Limited::new(body, MAX_BODY).collect()).await {
            Ok(Ok(whole)) => {
                Ok(Incoming { status: head.status, headers: head.headers, body: whole.to_bytes() })
            }
            Ok(Err(error)) if error.is::<LengthLimitError>() => Err(Broken::TooLong),
            Ok(Err(error)) => Err(Broken::Ended { is_sent: true, is_amid: true, why: error.to_string() }),
            Err(_) => Err(Broken::TimedOut(limit)),
        }
    }
}

/// The alert of TLS behind an error, where there is one.
fn alert(error: &hyper::Error) -> Option<AlertDescription> {
    let mut cause = std::error::Error::source(error);
    while let Some(error) = cause {
        let inner = error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
        if let Some(rustls::Error::AlertReceived(alert)) = inner.and_then(|inner| inner.downcast_ref()) {
            return Some(*alert);
        }
        cause = error.source();
    }
    None
}
