//! A line that delays every byte and counts round trips.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep_until};

/// A listener that passes connections on to a target, each byte late by the same time in either direction.
#[derive(Debug)]
pub struct LatencyLink {
    /// Where it listens.
    pub address: SocketAddr,
    counter: Arc<Counter>,
}

#[derive(Debug, Default)]
struct Counter {
    /// Flights of the client: bytes that arrived after something of the server had been under way to it.
    client_flights: AtomicU32,
    server_spoke: AtomicBool,
}

impl LatencyLink {
    /// Opens a line to `target` with this delay each way.
    ///
    /// # Errors
    /// When no port can be had.
    pub async fn open(target: SocketAddr, one_way: Duration) -> std::io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let counter = Arc::new(Counter::default());
        let shared = counter.clone();
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let counter = shared.clone();
                tokio::spawn(async move {
                    if let Ok(server) = TcpStream::connect(target).await {
                        let _ = client.set_nodelay(true);
                        let _ = server.set_nodelay(true);
                        pass(client, server, one_way, counter);
                    }
                });
            }
        });
        Ok(Self { address, counter })
    }

    /// Round trips so far: the client's flights that answered something, and one for TCP's own handshake.
    pub fn round_trips(&self) -> u32 {
        self.counter.client_flights.load(Ordering::Relaxed) + 1
    }

    /// Starts counting anew.
    pub fn reset(&self) {
        self.counter.client_flights.store(0, Ordering::Relaxed);
        self.counter.server_spoke.store(true, Ordering::Relaxed);
    }
}

fn pass(client: TcpStream, server: TcpStream, one_way: Duration, counter: Arc<Counter>) {
    let (client_read, client_write) = client.into_split();
    let (server_read, server_write) = server.into_split();
    let from_client = counter.clone();
    delay(client_read, server_write, one_way, move || {
        if from_client.server_spoke.swap(false, Ordering::Relaxed) {
            from_client.client_flights.fetch_add(1, Ordering::Relaxed);
        }
    });
    delay(server_read, client_write, one_way, move || counter.server_spoke.store(true, Ordering::Relaxed));
}

/// One direction. `on_arrival` is called as bytes come out at the far end.
fn delay(
    mut from: OwnedReadHalf,
    mut to: OwnedWriteHalf,
    one_way: Duration,
    on_arrival: impl Fn() + Send + 'static,
) {
    let (sender, mut receiver) = mpsc::channel::<(Instant, Vec<u8>)>(4096);
    tokio::spawn(async move {
        let mut buffer = vec![0; 64 * 1024];
        while let Ok(len) = from.read(&mut buffer).await {
            let bytes = buffer.get(..len).unwrap_or_default().to_vec();
            if len == 0 || sender.send((Instant::now() + one_way, bytes)).await.is_err() {
                break;
            }
        }
    });
    tokio::spawn(async move {
        while let Some((arrival, bytes)) = receiver.recv().await {
            sleep_until(arrival).await;
            on_arrival();
            if to.write_all(&bytes).await.is_err() {
                break;
            }
        }
        let _ = to.shutdown().await;
    });
}
