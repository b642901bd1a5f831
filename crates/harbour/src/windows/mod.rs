//! Simulated machines of Windows: WS-Management over HTTP and TLS, logins, and a command shell with a few made-up programs.

mod certificate;
mod command;
mod connection;
mod files;
mod kerberos;
mod login;
mod programs;
mod remoting;
mod service;
mod spec;

use std::net::SocketAddr;
use std::sync::Arc;

use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;
use tracing::debug;

pub use certificate::ServerCertificate;
pub use service::Seen;
pub use spec::{Endpoint, Rights, WindowsFault, WindowsRealm, WindowsSpec, WindowsUser};

use service::Service;

/// A machine that is visited by lines that are there already; it goes dark when this is dropped.
#[derive(Debug)]
pub struct WindowsMachine {
    service: Arc<Service>,
    tls: Tls,
}

/// What takes TLS connections, where the machine has a certificate.
#[derive(Clone)]
struct Tls(Option<TlsAcceptor>);

impl std::fmt::Debug for Tls {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Tls").field(&self.0.is_some()).finish()
    }
}

impl WindowsMachine {
    /// A machine that nobody visits yet.
    ///
    /// # Errors
    /// Its certificate makes no sense.
    pub fn new(spec: WindowsSpec) -> std::io::Result<Self> {
        let asks = !spec.client_certificates.is_empty() && spec.fault != Some(WindowsFault::AsksLate);
        let tls = Tls(spec.certificate.as_ref().map(|own| own.acceptor(asks)).transpose()?);
        Ok(Self { service: Arc::new(Service::new(spec)), tls })
    }

    /// What a file holds; nothing where it is none.
    pub fn file(&self, user: &str, path: &str) -> Option<Vec<u8>> {
        self.service.files_of(user).whole(path.as_bytes())
    }

    /// Writes a file, as the user does it.
    pub fn put_file(&self, user: &str, path: &str, content: &[u8]) {
        self.service.files_of(user).put_file(path.as_bytes(), content, 0o644);
    }

    /// The names in a folder.
    pub fn names(&self, user: &str, path: &str) -> Vec<String> {
        self.service.files_of(user).names(path.as_bytes())
    }

    /// How many files visitors have open.
    pub fn open_files(&self) -> u32 {
        self.service.tree.open_files()
    }

    /// Serves a visitor. Must be called within a runtime.
    pub fn visit<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(&self, stream: S) {
        tokio::spawn(connection::serve(self.service.clone(), self.tls.0.clone(), stream));
    }

    /// Its own name, in small letters.
    pub fn name(&self) -> String {
        self.service.spec.name.to_lowercase()
    }

    /// Its certificate in DER, where it has one.
    pub fn certificate(&self) -> Option<Vec<u8>> {
        self.service.spec.certificate.as_ref().and_then(|own| own.chain.first().cloned())
    }

    /// What it has seen.
    pub fn seen(&self) -> Seen {
        self.service.seen()
    }

    /// Cuts all its connections, and takes new ones.
    pub fn cut(&self) {
        self.service.cut();
    }
}

impl Drop for WindowsMachine {
    fn drop(&mut self) {
        self.service.cut();
    }
}

/// A machine that listens; it goes dark when this is dropped.
#[derive(Debug)]
pub struct LitWindows {
    /// Where it listens.
    pub address: SocketAddr,
    machine: Arc<WindowsMachine>,
    task: JoinHandle<()>,
}

impl LitWindows {
    /// Opens a machine. Must be called within a runtime.
    ///
    /// # Errors
    /// When the address or the port cannot be had, or its certificate makes no sense.
    pub async fn light(spec: WindowsSpec) -> std::io::Result<Self> {
        let listener = TcpListener::bind((spec.address, spec.port)).await?;
        let address = listener.local_addr()?;
        let machine = Arc::new(WindowsMachine::new(spec)?);
        let serving = machine.clone();
        let task = tokio::spawn(async move {
            while let Ok((stream, peer)) = listener.accept().await {
                debug!(machine = serving.name(), %peer, "visitor");
                let _ = stream.set_nodelay(true);
                serving.visit(stream);
            }
        });
        Ok(Self { address, machine, task })
    }
}

impl std::ops::Deref for LitWindows {
    type Target = WindowsMachine;

    fn deref(&self) -> &WindowsMachine {
        &self.machine
    }
}

impl Drop for LitWindows {
    fn drop(&mut self) {
        self.task.abort();
        self.machine.cut();
    }
}
