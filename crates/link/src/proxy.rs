//! Through a proxy: the CONNECT method of HTTP (RFC 9110 §9.3.6), and SOCKS version 5 (RFC 1928, RFC 1929).

use std::time::Duration;

use base64ct::{Base64, Encoding};
use lantern_book::{Proxy, ProxyKind};
use lantern_keys::SecretString;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;
use zeroize::Zeroizing;

use crate::error::{LinkError, ProxyError};

/// Longest head of an HTTP answer, in bytes.
const MAX_HEAD: usize = 16 * 1024;
/// Most header lines of an HTTP answer.
const MAX_HEADERS: usize = 64;

/// Has the proxy at the other end of `stream` connect it with a host.
///
/// # Errors
/// [`LinkError::Proxy`].
pub(crate) async fn pass(
    stream: &mut TcpStream,
    proxy: &Proxy,
    password: Option<SecretString>,
    (host, port): (&str, u16),
    limit: Duration,
) -> Result<(), LinkError> {
    let failed =
        |source| LinkError::Proxy { proxy: proxy.place(), to: lantern_book::place(host, port), source };
    let login =
        proxy.user.as_deref().map(|user| (user, password.as_ref().map_or("", SecretString::expose_secret)));
    let passing = async {
        match proxy.kind {
            ProxyKind::Http => http(stream, host, port, login).await,
            ProxyKind::Socks5 => socks5(stream, host, port, login).await,
        }
    };
    match timeout(limit, passing).await {
        Ok(outcome) => outcome.map_err(failed),
        Err(_) => Err(failed(ProxyError::TimedOut(limit.as_secs()))),
    }
}

async fn http(
    stream: &mut TcpStream,
    host: &str,
    port: u16,
    login: Option<(&str, &str)>,
) -> Result<(), ProxyError> {
    let place = lantern_book::place(host, port);
    let mut request = Zeroizing::new(format!("CONNECT {place} HTTP/1.1\r\nHost: {place}\r\n"));
    if let Some((user, password)) = login {
        // RFC 7617: basic authentication, for the proxy.
        let pair = Zeroizing::new(format!("{user}:{password}"));
        request.push_str("Proxy-Authorization: Basic ");
        request.push_str(&Zeroizing::new(Base64::encode_string(pair.as_bytes())));
        request.push_str("\r\n");
    }
    request.push_str("\r\n");
    stream.write_all(request.as_bytes()).await?;
    let mut head = Vec::new();
    loop {
        // A byte at a time: what follows the head belongs to the machine behind.
        let byte = stream.read_u8().await?;
        head.push(byte);
        if head.ends_with(b"\r\n\r\n") {
            break;
        }
        if head.len() >= MAX_HEAD || head.len() == 5 && !head.starts_with(b"HTTP/") {
            return Err(ProxyError::NotAProxy("HTTP"));
        }
    }
    let mut headers = [httparse::EMPTY_HEADER; MAX_HEADERS];
    let mut answer = httparse::Response::new(&mut headers);
    answer.parse(&head).map_err(|_| ProxyError::NotAProxy("HTTP"))?;
    match (answer.code, login) {
        (Some(200..=299), _) => Ok(()),
        (Some(407), None) => Err(ProxyError::LoginWanted),
        (Some(407), Some(_)) => Err(ProxyError::LoginRefused),
        (Some(code), _) => {
            let words = lantern_ssh::neutralize(answer.reason.unwrap_or_default(), 100);
            Err(ProxyError::Refused(format!("{code} {words}").trim().to_owned()))
        }
        (None, _) => Err(ProxyError::NotAProxy("HTTP")),
    }
}

/// A length and the bytes, as SOCKS has its strings.
fn short(text: &str) -> Result<Vec<u8>, ProxyError> {
    let len = u8::try_from(text.len()).map_err(|_| ProxyError::TooLong)?;
    Ok([&[len], text.as_bytes()].concat())
}

async fn socks5(
    stream: &mut TcpStream,
    host: &str,
    port: u16,
    login: Option<(&str, &str)>,
) -> Result<(), ProxyError> {
    const NO_AUTHENTICATION: u8 = 0;
    const USER_AND_PASSWORD: u8 = 2;
    let no_proxy = || ProxyError::NotAProxy("SOCKS version 5");
    let method = if login.is_some() { USER_AND_PASSWORD } else { NO_AUTHENTICATION };
    // RFC 1928 §3: one who can log in leaves it to the proxy.
    let methods: &[u8] =
        if login.is_some() { &[NO_AUTHENTICATION, USER_AND_PASSWORD] } else { &[NO_AUTHENTICATION] };
    stream.write_all(&[&[5, methods.len() as u8], methods].concat()).await?;
    let mut answer = [0; 2];
    stream.read_exact(&mut answer).await?;
    match (answer, login) {
        ([5, NO_AUTHENTICATION], _) => {}
        ([5, USER_AND_PASSWORD], Some((user, password))) if method == USER_AND_PASSWORD => {
            // RFC 1929 §2.
            let request = Zeroizing::new([vec![1], short(user)?, short(password)?].concat());
            stream.write_all(&request).await?;
            stream.read_exact(&mut answer).await?;
            if answer[1] != 0 {
                return Err(ProxyError::LoginRefused);
            }
        }
        ([5, _], None) => return Err(ProxyError::LoginWanted),
        ([5, _], Some(_)) => return Err(ProxyError::LoginRefused),
        _ => return Err(no_proxy()),
    }
    // RFC 1928 §4: CONNECT, to an address or to a name that the proxy looks up.
    let mut request = vec![5, 1, 0];
    match host.parse() {
        Ok(std::net::IpAddr::V4(v4)) => request.extend([&[1], &v4.octets()[..]].concat()),
        Ok(std::net::IpAddr::V6(v6)) => request.extend([&[4], &v6.octets()[..]].concat()),
        Err(_) => request.extend([vec![3], short(host)?].concat()),
    }
    request.extend(port.to_be_bytes());
    stream.write_all(&request).await?;
    let mut reply = [0; 4];
    stream.read_exact(&mut reply).await?;
    let [5, status, _, kind] = reply else { return Err(no_proxy()) };
    // Where the proxy is bound: read over, so that the next byte is the machine's.
    let len = match kind {
        1 => 4,
        4 => 16,
        3 => usize::from(stream.read_u8().await?),
        _ => return Err(no_proxy()),
    };
    let mut bound = vec![0; len + 2];
    stream.read_exact(&mut bound).await?;
    let refused = |words: &str| Err(ProxyError::Refused(words.to_owned()));
    match status {
        0 => Ok(()),
        1 => refused("general failure"),
        2 => refused("its rules do not allow it"),
        3 => refused("network unreachable"),
        4 => refused("host unreachable"),
        5 => refused("connection refused by the machine"),
        6 => refused("time to live expired"),
        7 => refused("it does not connect"),
        8 => refused("it does not take this kind of address"),
        other => refused(&format!("code {other}")),
    }
}
