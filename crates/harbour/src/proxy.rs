//! A stand-in for a proxy: HTTP CONNECT and SOCKS version 5 on one port, told apart by the first byte, with a user and a password or without.

use std::net::{IpAddr, SocketAddr};

use base64ct::{Base64, Encoding};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;

/// A proxy that connects until it is dropped.
#[derive(Debug)]
pub struct ProxyServer {
    /// Where it listens.
    pub address: SocketAddr,
    task: JoinHandle<()>,
}

impl ProxyServer {
    /// Starts on a free port of 127.77.0.60; with `login`, for that user and password only.
    ///
    /// # Errors
    /// When there is no port to be had.
    pub async fn start(login: Option<(&'static str, &'static str)>) -> std::io::Result<Self> {
        let listener = TcpListener::bind(("127.77.0.60", 0)).await?;
        let address = listener.local_addr()?;
        let task = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let _ = serve(BufReader::new(stream), login).await;
                });
            }
        });
        Ok(Self { address, task })
    }
}

impl Drop for ProxyServer {
    fn drop(&mut self) {
        self.task.abort();
    }
}

type Login = Option<(&'static str, &'static str)>;

async fn serve(mut client: BufReader<TcpStream>, login: Login) -> std::io::Result<()> {
    let target = match client.fill_buf().await?.first() {
        Some(5) => socks(&mut client, login).await?,
        _ => http(&mut client, login).await?,
    };
    let Some((target, success, failure)) = target else { return Ok(()) };
    match TcpStream::connect(target).await {
        Ok(mut machine) => {
            client.get_mut().write_all(&success).await?;
            copy_bidirectional(&mut client, &mut machine).await?;
        }
        Err(_) => client.get_mut().write_all(&failure).await?,
    }
    Ok(())
}

/// Where to connect, and what to say when that worked or did not.
type Way = Option<((String, u16), Vec<u8>, Vec<u8>)>;

async fn http(client: &mut BufReader<TcpStream>, login: Login) -> std::io::Result<Way> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if client.read_line(&mut line).await? == 0 || line.trim().is_empty() || lines.len() > 64 {
            break;
        }
        lines.push(line.trim().to_owned());
    }
    let wanted = login.map(|(user, password)| {
        format!(
            "Proxy-Authorization: Basic {}",
            Base64::encode_string(format!("{user}:{password}").as_bytes())
        )
    });
    if wanted.is_some_and(|wanted| !lines.contains(&wanted)) {
        let refusal =
            b"HTTP/1.1 407 Proxy Authentication Required\r\nProxy-Authenticate: Basic realm=\"pier\"\r\n\r\n";
        client.get_mut().write_all(refusal).await?;
        return Ok(None);
    }
    let place =
        lines.first().and_then(|line| line.split(' ').nth(1)).and_then(|place| place.rsplit_once(':'));
    let Some((host, Ok(port))) = place.map(|(host, port)| (host.trim_matches(['[', ']']), port.parse()))
    else {
        return Ok(None);
    };
    let success = b"HTTP/1.1 200 Connection established\r\n\r\n".to_vec();
    Ok(Some(((host.to_owned(), port), success, b"HTTP/1.1 502 Bad Gateway\r\n\r\n".to_vec())))
}

async fn socks(client: &mut BufReader<TcpStream>, login: Login) -> std::io::Result<Way> {
    let mut head = [0; 2];
    client.read_exact(&mut head).await?;
    let mut methods = vec![0; usize::from(head[1])];
    client.read_exact(&mut methods).await?;
    match login {
        None => client.get_mut().write_all(&[5, 0]).await?,
        Some(_) if !methods.contains(&2) => {
            client.get_mut().write_all(&[5, 0xff]).await?;
            return Ok(None);
        }
        Some((user, password)) => {
            client.get_mut().write_all(&[5, 2]).await?;
            client.read_u8().await?;
            let given = (short(client).await?, short(client).await?);
            let good = given == (user.as_bytes().to_vec(), password.as_bytes().to_vec());
            client.get_mut().write_all(&[1, u8::from(!good)]).await?;
            if !good {
                return Ok(None);
            }
        }
    }
    let mut request = [0; 4];
    client.read_exact(&mut request).await?;
    let host = match request[3] {
        1 => IpAddr::from(client.read_u32().await?.to_be_bytes()).to_string(),
        4 => IpAddr::from(client.read_u128().await?.to_be_bytes()).to_string(),
        _ => String::from_utf8_lossy(&short(client).await?).into_owned(),
    };
    let port = client.read_u16().await?;
    let reply = |status| vec![5, status, 0, 1, 0, 0, 0, 0, 0, 0];
    Ok(Some(((host, port), reply(0), reply(5))))
}

/// A length and so many bytes.
async fn short(client: &mut BufReader<TcpStream>) -> std::io::Result<Vec<u8>> {
    let mut bytes = vec![0; usize::from(client.read_u8().await?)];
    client.read_exact(&mut bytes).await?;
    Ok(bytes)
}
