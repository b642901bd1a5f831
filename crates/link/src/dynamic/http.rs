//! HTTP CONNECT (RFC 9110 §9.3.6).

use base64ct::{Base64, Encoding};

use super::{Dialect, Look, Next, Outcome, TunnelLogin, Wish};

/// Most headers of a request.
const MAX_HEADERS: usize = 64;

fn response(status: &str, more: &str, text: &str) -> Vec<u8> {
    format!(
        "HTTP/1.1 {status}\r\n{more}Content-Type: text/plain\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{text}\n",
        text.len() + 1
    )
    .into_bytes()
}

pub(super) fn answer(outcome: Outcome) -> Vec<u8> {
    match outcome {
        // RFC 9110 §9.3.6: no content follows.
        Outcome::Connected => b"HTTP/1.1 200 Connected\r\n\r\n".to_vec(),
        Outcome::NotAllowed => response("403 Forbidden", "", "The machine does not allow this connection."),
        Outcome::Refused => response("502 Bad Gateway", "", "Nothing listens there."),
        Outcome::Unreachable => response("504 Gateway Timeout", "", "The place was not reached."),
    }
}

/// The head of a request, once it is all there.
pub(super) fn request(bytes: &[u8], login: Option<&TunnelLogin>) -> Option<Look> {
    let refuse = |answer, why| Some(Look::Took(0, Next::Refuse(answer, why)));
    let mut headers = [httparse::EMPTY_HEADER; MAX_HEADERS];
    let mut head = httparse::Request::new(&mut headers);
    let len = match head.parse(bytes) {
        Ok(httparse::Status::Complete(len)) => len,
        Ok(httparse::Status::Partial) => return None,
        Err(_) => {
            return refuse(response("400 Bad Request", "", "This is no request."), "it says no HTTP request");
        }
    };
    if head.method != Some("CONNECT") {
        let text = "This tunnel takes CONNECT only: set it as the proxy for https, or as a SOCKS proxy.";
        return refuse(response("405 Method Not Allowed", "Allow: CONNECT\r\n", text), "it is no CONNECT");
    }
    if let Some(login) = login {
        let said = head.headers.iter().find(|header| header.name.eq_ignore_ascii_case("proxy-authorization"));
        if !said.is_some_and(|header| admits(login, header.value)) {
            let more = "Proxy-Authenticate: Basic realm=\"tunnel\"\r\n";
            let answer = response("407 Proxy Authentication Required", more, "A login is wanted.");
            return refuse(answer, "its login is not the one that is wanted");
        }
    }
    let place = head.path.and_then(|path| {
        let (host, port) = path.rsplit_once(':')?;
        let port = port.parse::<u16>().ok().filter(|port| *port != 0)?;
        let host = host.strip_prefix('[').and_then(|host| host.strip_suffix(']')).unwrap_or(host);
        (!host.is_empty() && host.len() <= 255).then(|| (host.to_owned(), port))
    });
    let Some((host, port)) = place else {
        return refuse(response("400 Bad Request", "", "CONNECT takes HOST:PORT."), "it names no place");
    };
    Some(Look::Took(len, Next::Go(Wish { host, port, dialect: Dialect::Http })))
}

/// RFC 7617 §2.
fn admits(login: &TunnelLogin, said: &[u8]) -> bool {
    let basic = said.get(..6).filter(|scheme| scheme.eq_ignore_ascii_case(b"basic "));
    let encoded = basic.and(said.get(6..)).and_then(|rest| std::str::from_utf8(rest).ok());
    let decoded = encoded.and_then(|text| Base64::decode_vec(text.trim()).ok()).map(zeroize::Zeroizing::new);
    let Some(decoded) = decoded else { return false };
    match decoded.iter().position(|byte| *byte == b':') {
        Some(at) => {
            login.admits(decoded.get(..at).unwrap_or_default(), decoded.get(at + 1..).unwrap_or_default())
        }
        None => false,
    }
}
