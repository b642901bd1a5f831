//! What listens on a simulated machine's own loopback: pages that only a tunnel reaches, and ports that say little.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, OnceLock};

use lantern_link::Line;
use rustls::ServerConfig;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, duplex};
use tokio_rustls::TlsAcceptor;

/// Bytes under way to or from a service.
const IN_BETWEEN: usize = 64 * 1024;
/// Longest head of a request, in bytes.
const MAX_HEAD: usize = 16 * 1024;

/// How long a machine's certificate holds, in days.
const YEAR: i32 = 365;

/// Something that listens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Service {
    /// A web page over HTTP.
    Page,
    /// The same over TLS, with a certificate that the machine made for itself.
    SecurePage,
    /// It takes connections, and never says a word.
    Silent,
    /// It says this at once, and then nothing.
    Greeting(&'static str),
    /// It sends back what it gets.
    Echo,
}

impl Service {
    /// A connection to it.
    pub(crate) fn connect(self, machine: &str) -> Line {
        let (near, far) = duplex(IN_BETWEEN);
        tokio::spawn(serve(self, machine.to_owned(), far));
        Box::new(near)
    }
}

async fn serve(service: Service, machine: String, mut stream: tokio::io::DuplexStream) {
    // Whoever goes away in the middle is missed by nobody.
    let _ = match service {
        Service::Page => page(stream, &machine, "http").await,
        Service::SecurePage => match acceptor(&machine) {
            Some(acceptor) => match acceptor.accept(stream).await {
                Ok(stream) => page(stream, &machine, "https").await,
                Err(error) => Err(error),
            },
            None => Ok(()),
        },
        Service::Silent => swallow(stream).await,
        Service::Greeting(words) => match stream.write_all(words.as_bytes()).await {
            Ok(()) => swallow(stream).await,
            Err(error) => Err(error),
        },
        Service::Echo => {
            let (mut read, mut write) = tokio::io::split(stream);
            match tokio::io::copy(&mut read, &mut write).await {
                Ok(_) => write.shutdown().await,
                Err(error) => Err(error),
            }
        }
    };
}

async fn swallow(mut stream: tokio::io::DuplexStream) -> std::io::Result<()> {
    tokio::io::copy(&mut stream, &mut tokio::io::sink()).await.map(drop)
}

/// A certificate for the machine's name, made once for each: it is the same at every visit.
fn acceptor(machine: &str) -> Option<TlsAcceptor> {
    static MADE: OnceLock<Mutex<HashMap<String, Arc<ServerConfig>>>> = OnceLock::new();
    let mut made = MADE.get_or_init(Mutex::default).lock().ok()?;
    if let Some(config) = made.get(machine) {
        return Some(config.clone().into());
    }
    let name = format!("{machine}.lights.example");
    let pair = rcgen::KeyPair::generate().ok()?;
    let mut params = rcgen::CertificateParams::new(vec![name]).ok()?;
    let end = jiff::Zoned::now().date().checked_add(jiff::Span::new().days(YEAR)).ok()?;
    let number = |part: i8| u8::try_from(part).unwrap_or(1);
    params.not_after = rcgen::date_time_ymd(end.year().into(), number(end.month()), number(end.day()));
    let certificate = params.self_signed(&pair).ok()?;
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(pair.serialize_der()));
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions().ok()?;
    let config = config.with_no_client_auth().with_single_cert(vec![certificate.der().clone()], key).ok()?;
    let config = Arc::new(config);
    made.insert(machine.to_owned(), config.clone());
    Some(config.into())
}

/// Answers requests, one after the other, until the other side has had enough.
async fn page<S: AsyncRead + AsyncWrite + Unpin>(
    mut stream: S,
    machine: &str,
    scheme: &str,
) -> std::io::Result<()> {
    let mut head = Vec::new();
    let mut buffer = [0; 4096];
    loop {
        while let Some(end) = head.windows(4).position(|four| four == b"\r\n\r\n") {
            let request: Vec<u8> = head.drain(..end + 4).collect();
            let answer = answer(&String::from_utf8_lossy(&request), machine, scheme);
            stream.write_all(answer.as_bytes()).await?;
        }
        let is_tls = head.first() == Some(&0x16);
        if is_tls || head.len() > MAX_HEAD {
            stream.write_all(response("400 Bad Request", "This is no HTTP request.\n").as_bytes()).await?;
            return stream.shutdown().await;
        }
        match stream.read(&mut buffer).await? {
            0 => return stream.shutdown().await,
            len => head.extend_from_slice(buffer.get(..len).unwrap_or_default()),
        }
    }
}

fn response(status: &str, text: &str) -> String {
    let kind = if text.starts_with('<') { "text/html" } else { "text/plain" };
    format!(
        "HTTP/1.1 {status}\r\nContent-Type: {kind}; charset=utf-8\r\nContent-Length: {}\r\n\r\n{text}",
        text.len()
    )
}

fn answer(request: &str, machine: &str, scheme: &str) -> String {
    let path = request.split(' ').nth(1).unwrap_or("/");
    match path.strip_prefix("/bytes/").and_then(|count| count.parse::<usize>().ok()) {
        Some(count) => response("200 OK", &"~".repeat(count.min(8 << 20))),
        None if path == "/" => {
            let text = format!(
                "<!doctype html><title>{machine}</title>\n<h1>{machine}</h1>\n<p>Main lamp: lit, group (2) every 10 s. Fog horn: silent.</p>\n<p>This page is served over {scheme} on the machine's own loopback.</p>\n"
            );
            let whole = response("200 OK", &text);
            match request.starts_with("HEAD ") {
                true => whole.split_inclusive("\r\n\r\n").next().unwrap_or_default().to_owned(),
                false => whole,
            }
        }
        None => response("404 Not Found", "No such page.\n"),
    }
}
