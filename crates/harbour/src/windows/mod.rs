//! Simulated machines of Windows: WS-Management over HTTP and TLS, logins, and a command shell with a few made-up programs.

mod certificate;
mod command;
mod connection;
mod kerberos;
mod login;
mod programs;
mod service;
mod spec;

use std::net::SocketAddr;
use std::sync::Arc;

use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tracing::debug;

pub use certificate::ServerCertificate;
pub use service::Seen;
pub use spec::{Rights, WindowsFault, WindowsRealm, WindowsSpec, WindowsUser};

use service::Service;

/// A machine that listens; it goes dark when this is dropped.
#[derive(Debug)]
pub struct LitWindows {
    /// Where it listens.
    pub address: SocketAddr,
    service: Arc<Service>,
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
        let asks = !spec.client_certificates.is_empty() && spec.fault != Some(WindowsFault::AsksLate);
        let tls = spec.certificate.as_ref().map(|own| own.acceptor(asks)).transpose()?;
        let service = Arc::new(Service::new(spec));
        let serving = service.clone();
        let task = tokio::spawn(async move {
            while let Ok((stream, peer)) = listener.accept().await {
                debug!(machine = serving.spec.name, %peer, "visitor");
                let _ = stream.set_nodelay(true);
                tokio::spawn(connection::serve(serving.clone(), tls.clone(), stream));
            }
        });
        Ok(Self { address, service, task })
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

impl Drop for LitWindows {
    fn drop(&mut self) {
        self.task.abort();
        self.service.cut();
    }
}
