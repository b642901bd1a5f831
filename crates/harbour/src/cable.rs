//! A line that can be cut and joined again, to the same machine or to another address of it.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// A listener that passes connections on to a target, as long as there is one.
#[derive(Debug)]
pub struct Cable {
    /// Where it listens.
    pub address: SocketAddr,
    target: watch::Sender<Option<SocketAddr>>,
    passed: Arc<AtomicU64>,
}

impl Cable {
    /// Lays a cable to `target`. Must be called within a runtime.
    ///
    /// # Errors
    /// When no port can be had.
    pub async fn lay(target: SocketAddr) -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let sender = watch::Sender::new(Some(target));
        let passed = Arc::new(AtomicU64::new(0));
        let (targets, count) = (sender.subscribe(), passed.clone());
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                count.fetch_add(1, Ordering::Relaxed);
                tokio::spawn(pass(client, targets.clone()));
            }
        });
        Ok(Self { address, target: sender, passed })
    }

    /// Cuts it: what goes through it breaks off, and whoever comes is turned away.
    pub fn cut(&self) {
        self.target.send_replace(None);
    }

    /// Joins it again.
    pub fn mend(&self, target: SocketAddr) {
        self.target.send_replace(Some(target));
    }

    /// How many connections have come so far.
    pub fn connections(&self) -> u64 {
        self.passed.load(Ordering::Relaxed)
    }
}

async fn pass(mut client: TcpStream, mut targets: watch::Receiver<Option<SocketAddr>>) {
    let target = *targets.borrow_and_update();
    let Some(target) = target else { return };
    let Ok(mut server) = TcpStream::connect(target).await else { return };
    let _ = (client.set_nodelay(true), server.set_nodelay(true));
    tokio::select! {
        _ = tokio::io::copy_bidirectional(&mut client, &mut server) => {}
        _ = targets.changed() => {}
    }
}
