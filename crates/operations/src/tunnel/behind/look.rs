//! Looking: what says nothing by itself is greeted, first as TLS, then as HTTP.

use std::time::Duration;

use lantern_book::TunnelEnd;
use lantern_link::{Line, LinkError, LocalStream, Trunk, chain};
use lantern_ssh::{DirectTcpip, OpenFailure};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::time::timeout;

use super::greeting::{http_status, of_service};
use super::{Behind, tls};

/// How long a service may take to greet by itself: those that do, do so at once; what comes from afar has a round trip more.
const GREETING_TIME: Duration = Duration::from_millis(700);
/// How long it may take to answer.
const ANSWER_TIME: Duration = Duration::from_secs(4);
/// Most that is read of an answer, in bytes.
const MAX_READ: usize = 512;
/// Where databases listen that say nothing until they are asked for TLS in their own way.
const POSTGRESQL: u16 = 5432;
/// That question: its length, and its number.
const SSL_REQUEST: [u8; 8] = [0, 0, 0, 8, 4, 210, 22, 47];

/// From where a place is tried.
enum From<'a> {
    /// From the machine.
    There(&'a Trunk),
    /// From this computer.
    Here,
}

/// What answers at a place that the machine reaches.
pub async fn probe_there(trunk: &Trunk, to: &TunnelEnd) -> Behind {
    look(From::There(trunk), to).await.unwrap_or_else(|behind| behind)
}

/// What answers at a place that this computer reaches.
pub async fn probe_here(to: &TunnelEnd) -> Behind {
    look(From::Here, to).await.unwrap_or_else(|behind| behind)
}

/// A line to the place, or why there is none.
async fn line(from: &From<'_>, to: &TunnelEnd) -> Result<Line, Behind> {
    let opened = match (from, to) {
        (From::There(trunk), TunnelEnd::Tcp { host, port }) => {
            let to = DirectTcpip { host: host.clone(), port: *port, originator: ("127.0.0.1".into(), 0) };
            trunk.open_direct(&to).await
        }
        (From::There(trunk), TunnelEnd::Unix(path)) => trunk.open_streamlocal(path).await,
        (From::Here, to) => {
            return match LocalStream::connect(to, ANSWER_TIME).await {
                Ok(LocalStream::Tcp(stream)) => Ok(Box::new(stream)),
                Ok(LocalStream::Unix(stream)) => Ok(Box::new(stream)),
                Err(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
                    Err(Behind::Refused("connection refused, here".into()))
                }
                Err(error) => Err(Behind::NotReached(error.to_string())),
            };
        }
    };
    match opened {
        Ok(channel) => Ok(Box::new(channel)),
        Err(LinkError::GatewayRefused { source, .. }) => Err(match source.code {
            OpenFailure::PROHIBITED => Behind::NotAllowed(source.description),
            OpenFailure::CONNECT_FAILED => Behind::Refused(source.description),
            _ => Behind::NotReached(source.description),
        }),
        Err(error) => Err(Behind::NotReached(chain(&error))),
    }
}

async fn look(from: From<'_>, to: &TunnelEnd) -> Result<Behind, Behind> {
    let mut first = line(&from, to).await?;
    if let Some(said) = read(&mut first, GREETING_TIME).await {
        return Ok(of_service(&said));
    }
    let host = match to {
        TunnelEnd::Tcp { host, .. } => host.as_str(),
        TunnelEnd::Unix(_) => "localhost",
    };
    if matches!(to, TunnelEnd::Tcp { port: POSTGRESQL, .. })
        && let Some(database) = ask_postgresql(&mut first).await
    {
        return Ok(database);
    }
    // Whoever was greeted wrongly is not greeted again on the same line. It is closed first: there are services that take one at a time.
    drop(first);
    let tls = line(&from, to).await?;
    if let Ok(Ok((certificate, mut stream))) = timeout(ANSWER_TIME, tls::shake_hands(tls, host)).await {
        let is_web = ask_for_page(&mut stream, host).await.is_some();
        return Ok(Behind::Tls { certificate, is_web });
    }
    let mut http = line(&from, to).await?;
    Ok(match ask_for_page(&mut http, host).await {
        Some(status) => Behind::Http { status },
        None => Behind::Silent,
    })
}

/// What is said within this time; none: nothing, or the end.
async fn read(line: &mut (impl AsyncRead + Unpin), within: Duration) -> Option<Vec<u8>> {
    let mut buffer = vec![0; MAX_READ];
    let len = timeout(within, line.read(&mut buffer)).await.ok()?.ok()?;
    buffer.truncate(len);
    (len > 0).then_some(buffer)
}

/// The status of the page's answer.
async fn ask_for_page<S: AsyncRead + AsyncWrite + Unpin>(line: &mut S, host: &str) -> Option<u16> {
    let host = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    let request = format!("HEAD / HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n");
    timeout(ANSWER_TIME, line.write_all(request.as_bytes())).await.ok()?.ok()?;
    timeout(ANSWER_TIME, line.flush()).await.ok()?.ok()?;
    http_status(&read(line, ANSWER_TIME).await?)
}

async fn ask_postgresql(line: &mut Line) -> Option<Behind> {
    line.write_all(&SSL_REQUEST).await.ok()?;
    line.flush().await.ok()?;
    match read(line, ANSWER_TIME).await?.first()? {
        b'S' => Some(Behind::Database("PostgreSQL, with TLS".into())),
        b'N' => Some(Behind::Database("PostgreSQL, without TLS".into())),
        _ => None,
    }
}
