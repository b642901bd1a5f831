//! What happens to this computer that says "try again": a network that comes or goes, and waking from sleep.

use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::io::Errno;
use rustix::net::netlink::SocketAddrNetlink;
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, socket_with};
use rustix::time::{ClockId, clock_gettime};
use tokio::net::UnixDatagram;
use tokio::time::sleep;
use tracing::debug;

/// Groups of rtnetlink(7): links, and addresses and routes of both kinds of IP.
const GROUPS: u32 = 0x1 | 0x10 | 0x40 | 0x100 | 0x400;
/// What belongs together comes within this time.
const SETTLING: Duration = Duration::from_millis(200);
/// How often the clocks are compared.
const LOOK: Duration = Duration::from_secs(2);
/// By how much they part where a computer has slept.
const ASLEEP: Duration = Duration::from_secs(3);

/// What has happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Happened {
    /// An address, a route or a link came or went.
    NetworkChanged,
    /// The computer has slept for this time.
    Slept(Duration),
}

/// Tells when the surroundings change.
#[derive(Debug)]
pub struct Surroundings {
    /// None where the system tells nothing. It is no unix socket: nothing but receiving is asked of it, which is the same for all.
    network: Option<UnixDatagram>,
    /// Tells how far the clock that stops in sleep is behind the one that does not.
    clocks: fn() -> Duration,
    /// How often they are compared.
    look: Duration,
    behind: Duration,
}

/// The clock that goes on in sleep less the one that does not (clock_gettime(2)).
fn time_asleep() -> Duration {
    let read = |clock| {
        let time = clock_gettime(clock);
        let seconds = u64::try_from(time.tv_sec).unwrap_or_default();
        Duration::new(seconds, u32::try_from(time.tv_nsec).unwrap_or_default())
    };
    let stopping = read(ClockId::Monotonic);
    read(ClockId::Boottime).saturating_sub(stopping)
}

fn open() -> rustix::io::Result<OwnedFd> {
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    // No protocol is NETLINK_ROUTE, whose number is 0.
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, flags, None)?;
    bind(&socket, &SocketAddrNetlink::new(0, GROUPS))?;
    Ok(socket)
}

impl Surroundings {
    /// Begins to watch. Must be called within a runtime.
    pub fn watch() -> Self {
        let network = open().map_err(std::io::Error::from);
        let network = network.and_then(|socket| UnixDatagram::from_std(socket.into()));
        if let Err(error) = &network {
            debug!(%error, "the system does not tell of its networks");
        }
        Self::by(network.ok(), time_asleep, LOOK)
    }

    fn by(network: Option<UnixDatagram>, clocks: fn() -> Duration, look: Duration) -> Self {
        Self { network, clocks, look, behind: clocks() }
    }

    /// Waits until something happens. Dropped before that, nothing is lost.
    pub async fn changed(&mut self) -> Happened {
        loop {
            tokio::select! {
                () = news(self.network.as_ref()) => {
                    debug!("the network has changed");
                    return Happened::NetworkChanged;
                }
                () = sleep(self.look) => {
                    let asleep = (self.clocks)();
                    let slept = asleep.saturating_sub(self.behind);
                    self.behind = asleep;
                    if slept >= ASLEEP {
                        debug!(seconds = slept.as_secs(), "this computer has slept");
                        return Happened::Slept(slept);
                    }
                }
            }
        }
    }
}

/// Ends when there is news, and what follows at once has come too. What it says does not matter: whoever waits looks for himself.
async fn news(network: Option<&UnixDatagram>) {
    let Some(network) = network else { return std::future::pending().await };
    let mut any = false;
    loop {
        let ready = tokio::select! {
            ready = network.readable() => ready,
            () = sleep(SETTLING), if any => return,
        };
        let mut buffer = [0; 8192];
        match ready.and_then(|()| network.try_recv(&mut buffer)) {
            Ok(_) => any = true,
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            // More than the system keeps for us is told as an error: that, too, is news (netlink(7), ENOBUFS).
            Err(error) if error.raw_os_error() == Some(Errno::NOBUFS.raw_os_error()) => any = true,
            Err(_) => return std::future::pending().await,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};

    use super::*;

    static ASLEEP_SO_FAR: AtomicU64 = AtomicU64::new(7);

    fn clocks() -> Duration {
        Duration::from_secs(ASLEEP_SO_FAR.load(Ordering::SeqCst))
    }

    #[tokio::test]
    async fn sleep_is_told_once_with_how_long_it_was() {
        let mut surroundings = Surroundings::by(None, clocks, Duration::from_millis(2));
        let quiet = tokio::time::timeout(Duration::from_millis(50), surroundings.changed());
        assert!(quiet.await.is_err());
        ASLEEP_SO_FAR.store(7 + 3600, Ordering::SeqCst);
        assert_eq!(surroundings.changed().await, Happened::Slept(Duration::from_secs(3600)));
        let quiet = tokio::time::timeout(Duration::from_millis(50), surroundings.changed());
        assert!(quiet.await.is_err());
        // Clocks that are a little apart are no sleep.
        ASLEEP_SO_FAR.fetch_add(2, Ordering::SeqCst);
        let quiet = tokio::time::timeout(Duration::from_millis(50), surroundings.changed());
        assert!(quiet.await.is_err());
    }

    #[test]
    fn a_computer_that_is_awake_has_not_slept() {
        let before = time_asleep();
        std::thread::sleep(Duration::from_millis(20));
        assert!(time_asleep().saturating_sub(before) < ASLEEP);
    }
}
