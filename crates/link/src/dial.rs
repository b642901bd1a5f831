//! From addresses to a connected socket, and why not: in turn, or raced as RFC 8305 says.

use std::collections::VecDeque;
use std::io::{Error, ErrorKind};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tokio::net::{TcpStream, lookup_host};
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};
use tracing::debug;

use crate::step::Step;
use crate::{Ask, LinkError};

/// How long an address is given before the next one is tried beside it (RFC 8305 §8).
const ATTEMPT_DELAY: Duration = Duration::from_millis(250);

/// Bytes that the kernel may hold before they are sent, before it says that it takes no more.
const NOT_SENT_LOW_WATER: u32 = 32 * 1024;

/// What to dial.
#[derive(Debug, Clone, Copy)]
pub struct Dial<'a> {
    /// Host names and IP addresses, the likeliest first.
    pub addresses: &'a [String],
    /// The port.
    pub port: u16,
    /// Whether a slow address is overtaken by the next.
    pub race: bool,
    /// Longest wait for the resolver, and for each address.
    pub limit: Duration,
}

impl Dial<'_> {
    fn place(&self) -> String {
        lantern_book::place(self.addresses.first().map_or("", String::as_str), self.port)
    }
}

/// Connects to the first address that answers.
///
/// # Errors
/// The kind of failure of the address that came furthest: name, route, refusal, silence.
pub async fn dial(what: Dial<'_>, ask: &dyn Ask) -> Result<(TcpStream, SocketAddr), LinkError> {
    let addresses = resolve(what, ask).await?;
    let start = Instant::now();
    let mut waiting: VecDeque<SocketAddr> = addresses.into();
    let mut attempts = JoinSet::new();
    let mut last: Option<LinkError> = None;
    loop {
        // The next address starts when none is under way, or when those under way have had their head start.
        if attempts.is_empty() {
            let Some(address) = waiting.pop_front() else { break };
            start_attempt(&mut attempts, address, what.limit);
        }
        let finished = tokio::select! {
            finished = attempts.join_next() => finished,
            () = sleep(ATTEMPT_DELAY), if what.race && !waiting.is_empty() => {
                if let Some(address) = waiting.pop_front() {
                    start_attempt(&mut attempts, address, what.limit);
                }
                continue;
            }
        };
        let Some(Ok((address, took, outcome))) = finished else { continue };
        match outcome {
            Ok(stream) => {
                // Keystrokes must not wait for more of them.
                stream.set_nodelay(true).map_err(|error| explain(error, &what.place(), took))?;
                // Little waits in the kernel where it cannot be overtaken any more; a system without this setting goes without.
                let _ = socket2::SockRef::from(&stream).set_tcp_notsent_lowat(NOT_SENT_LOW_WATER);
                let place = address.to_string();
                ask.step(&Step::Reached { place: &place, took: start.elapsed() });
                return Ok((stream, address));
            }
            Err(error) => {
                let failure =
                    explain(error, &lantern_book::place(&address.ip().to_string(), address.port()), took);
                ask.step(&Step::AddressFailed { address, why: &crate::error::chain(&failure), took });
                // A refusal says more than a silence, and a silence more than a missing route.
                if last.as_ref().is_none_or(|before| telling(&failure) > telling(before)) {
                    last = Some(failure);
                }
            }
        }
    }
    Err(last.unwrap_or_else(|| nothing_found(what)))
}

fn telling(error: &LinkError) -> u8 {
    match error {
        LinkError::Refused { .. } => 3,
        LinkError::DialTimedOut { .. } => 2,
        LinkError::NoRoute { .. } => 1,
        _ => 0,
    }
}

type Attempt = (SocketAddr, Duration, Result<TcpStream, Error>);

fn start_attempt(attempts: &mut JoinSet<Attempt>, address: SocketAddr, limit: Duration) {
    attempts.spawn(async move {
        debug!(%address, "dialing");
        let start = Instant::now();
        let outcome = timeout(limit, TcpStream::connect(address)).await;
        let outcome = outcome.unwrap_or_else(|_| Err(ErrorKind::TimedOut.into()));
        debug!(%address, connected = outcome.is_ok(), "dialed");
        (address, start.elapsed(), outcome)
    });
}

fn nothing_found(what: Dial<'_>) -> LinkError {
    LinkError::NameNotFound {
        address: what.addresses.join(", "),
        source: Error::new(ErrorKind::NotFound, "the resolver knows no address"),
    }
}

/// The addresses behind all names, in the order in which they are to be tried: families alternate where they are raced (RFC 8305 §4), and
/// each configured address keeps its rank.
async fn resolve(what: Dial<'_>, ask: &dyn Ask) -> Result<Vec<SocketAddr>, LinkError> {
    let mut all: Vec<SocketAddr> = Vec::new();
    let mut failed = None;
    // All at once: a name that no resolver answers for must not hold up the others one after the other.
    let lookups: Vec<_> =
        what.addresses.iter().map(|name| (name, tokio::spawn(look_up(name.clone(), what)))).collect();
    for (name, lookup) in lookups {
        let (found, took) = lookup.await.unwrap_or_else(|error| (Err(Error::other(error)), Duration::ZERO));
        ask.step(&Step::Resolved { name, found: found.as_deref(), took });
        match found {
            Ok(found) => all.extend(found),
            Err(source) => failed = Some(LinkError::NameNotFound { address: name.clone(), source }),
        }
    }
    let mut seen = std::collections::BTreeSet::new();
    all.retain(|address| seen.insert(*address));
    let addresses: Vec<String> = all.iter().map(ToString::to_string).collect();
    debug!(addresses = addresses.join(", "), "resolved");
    match all.is_empty() {
        true => Err(failed.unwrap_or_else(|| nothing_found(what))),
        false => Ok(all),
    }
}

/// The addresses behind one name, and how long that took.
fn look_up(
    name: String,
    Dial { port, race, limit, .. }: Dial<'_>,
) -> impl Future<Output = (Result<Vec<SocketAddr>, Error>, Duration)> + use<> {
    async move {
        let start = Instant::now();
        let found = timeout(limit, lookup_host((name.as_str(), port))).await;
        let found =
            found.unwrap_or_else(|_| Err(Error::new(ErrorKind::TimedOut, "the resolver did not answer")));
        let found = found.map(|found| if race { alternate(found.collect()) } else { found.collect() });
        (found, start.elapsed())
    }
}

/// One of each family in turn, beginning with the resolver's first.
fn alternate(found: Vec<SocketAddr>) -> Vec<SocketAddr> {
    let first_is_v6 = found.first().is_some_and(SocketAddr::is_ipv6);
    let len = found.len();
    let (one, other): (Vec<_>, Vec<_>) =
        found.into_iter().partition(|address| address.is_ipv6() == first_is_v6);
    let (mut one, mut other) = (one.into_iter(), other.into_iter());
    let mut mixed = Vec::with_capacity(len);
    while mixed.len() < len {
        mixed.extend(one.next());
        mixed.extend(other.next());
    }
    mixed
}

fn explain(source: Error, place: &str, took: Duration) -> LinkError {
    let place = place.to_owned();
    match source.kind() {
        ErrorKind::ConnectionRefused => LinkError::Refused { place },
        ErrorKind::HostUnreachable | ErrorKind::NetworkUnreachable | ErrorKind::AddrNotAvailable => {
            LinkError::NoRoute { place, source }
        }
        // The kernel gave up, or we did.
        ErrorKind::TimedOut => LinkError::DialTimedOut { place, seconds: took.as_secs_f64().round() as u64 },
        _ => LinkError::Dial { place, source },
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::alternate;

    #[test]
    fn families_alternate_and_each_keeps_its_order() {
        let addresses = |list: &[&str]| list.iter().map(|text| text.parse().unwrap()).collect::<Vec<_>>();
        let found = addresses(&["[2001:db8::1]:22", "[2001:db8::2]:22", "[2001:db8::3]:22", "192.0.2.1:22"]);
        let mixed = addresses(&["[2001:db8::1]:22", "192.0.2.1:22", "[2001:db8::2]:22", "[2001:db8::3]:22"]);
        assert_eq!(alternate(found), mixed);
        assert!(alternate(Vec::new()).is_empty());
    }
}
