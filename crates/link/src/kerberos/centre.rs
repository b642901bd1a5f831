//! Questions to the key distribution centres of a realm, by TCP (RFC 4120 §7.2.2): messages with large groups are too long for anything else.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use lantern_kerberos::Configuration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::timeout;
use tracing::debug;

use super::failure::KerberosFailure;
use super::places::KerberosPlaces;
use super::system::resolvers;
use crate::ask::Nobody;
use crate::dial::{Dial, dial};
use crate::dns::{Place, service_places};

/// The port of a centre (§7.2.1).
const PORT: u16 = 88;
/// Longest answer that is read, in bytes: a ticket with all that a domain says of a user has up to 64 KiB.
const MAX_ANSWER: u32 = 256 * 1024;
/// How long a centre has to take a connection.
const CONNECT_LIMIT: Duration = Duration::from_secs(4);
/// And to answer.
const ANSWER_LIMIT: Duration = Duration::from_secs(10);
/// How long a resolver has.
const RESOLVER_LIMIT: Duration = Duration::from_secs(3);
/// Most centres of a realm that are tried.
const MOST_TRIED: usize = 8;

/// The centres of realms, as far as they were looked for.
pub(super) struct Centres {
    places: KerberosPlaces,
    pub(super) configuration: Configuration,
    /// By realm; the one that answered last comes first.
    found: Mutex<BTreeMap<String, Vec<Place>>>,
}

impl Centres {
    pub(super) fn new(places: KerberosPlaces, configuration: Configuration) -> Self {
        Self { places, configuration, found: Mutex::default() }
    }

    /// Sends a message to a realm's centres, one after the other until one answers.
    ///
    /// # Errors
    /// Nobody says where they are, or none answers.
    pub(super) async fn ask(&self, realm: &str, message: &[u8]) -> Result<Vec<u8>, KerberosFailure> {
        self.ask_some(realm, message, MOST_TRIED).await
    }

    /// Sends a message to the centre that answered last, and to no other: what proves a password is counted by each that hears it.
    ///
    /// # Errors
    /// It does not answer.
    pub(super) async fn ask_once(&self, realm: &str, message: &[u8]) -> Result<Vec<u8>, KerberosFailure> {
        self.ask_some(realm, message, 1).await
    }

    async fn ask_some(&self, realm: &str, message: &[u8], most: usize) -> Result<Vec<u8>, KerberosFailure> {
        let mut found = self.find(realm).await?;
        let mut tried = Vec::new();
        for at in 0..found.len().min(most) {
            let Some(place) = found.get(at) else { break };
            match exchange(place, message).await {
                Ok(answer) => {
                    // What did not answer is not waited for again.
                    found.rotate_left(at);
                    self.keep(realm, found);
                    return Ok(answer);
                }
                Err(why) => {
                    debug!(place.host, place.port, why, "a key distribution centre does not answer");
                    tried.push(format!("{}: {why}", lantern_book::place(&place.host, place.port)));
                }
            }
        }
        Err(KerberosFailure::Unreached { realm: realm.to_owned(), tried })
    }

    fn keep(&self, realm: &str, found: Vec<Place>) {
        self.found.lock().unwrap_or_else(PoisonError::into_inner).insert(realm.to_owned(), found);
    }

    /// The places of a realm's centres.
    ///
    /// # Errors
    /// Nobody says where they are.
    pub(super) async fn find(&self, realm: &str) -> Result<Vec<Place>, KerberosFailure> {
        let known = self.found.lock().unwrap_or_else(PoisonError::into_inner).get(realm).cloned();
        let found = match known {
            Some(known) => known,
            None => self.named(realm).await,
        };
        if found.is_empty() {
            return Err(KerberosFailure::NoCentre { realm: realm.to_owned() });
        }
        self.keep(realm, found.clone());
        Ok(found)
    }

    async fn named(&self, realm: &str) -> Vec<Place> {
        let named: Vec<Place> =
            self.configuration.centres(realm).iter().filter_map(|text| place(text)).collect();
        if !named.is_empty() || self.configuration.by_dns == Some(false) {
            return named;
        }
        // A name that ends is not looked for in the domains of this computer.
        let name = format!("_kerberos._tcp.{}", realm.to_lowercase());
        for resolver in resolvers(&self.places) {
            match service_places(resolver, &name, RESOLVER_LIMIT).await {
                Ok(places) => return places,
                Err(error) => {
                    debug!(%resolver, error = crate::error::chain(&error), "no centres by this resolver")
                }
            }
        }
        Vec::new()
    }
}

/// A centre as configurations write it: `host`, `host:port`, `[address]:port`, perhaps with the way there in front.
fn place(text: &str) -> Option<Place> {
    let text = text.trim();
    let text = text.strip_prefix("tcp/").unwrap_or(text);
    // Others, like a proxy by HTTPS, are ways that are not known here.
    if text.contains('/') || text.is_empty() {
        return None;
    }
    let (host, port) = match text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        Some((host, rest)) => (host, rest.strip_prefix(':')),
        None if text.matches(':').count() == 1 => {
            text.split_once(':').map(|(host, port)| (host, Some(port)))?
        }
        None => (text, None),
    };
    let port = port.map_or(Some(PORT), |port| port.parse().ok())?;
    Some(Place { host: host.to_owned(), port })
}

async fn exchange(place: &Place, message: &[u8]) -> Result<Vec<u8>, String> {
    let addresses = [place.host.clone()];
    let what = Dial { addresses: &addresses, port: place.port, race: true, limit: CONNECT_LIMIT };
    let (mut stream, _) = dial(what, &Nobody).await.map_err(|error| crate::error::chain(&error))?;
    let said = async {
        let len = u32::try_from(message.len()).map_err(std::io::Error::other)?;
        stream.write_all(&[&len.to_be_bytes()[..], message].concat()).await?;
        let len = stream.read_u32().await?;
        if len > MAX_ANSWER {
            return Err(std::io::Error::other("its answer is longer than any"));
        }
        let mut answer = vec![0; usize::try_from(len).map_err(std::io::Error::other)?];
        stream.read_exact(&mut answer).await?;
        Ok(answer)
    };
    match timeout(ANSWER_LIMIT, said).await {
        Ok(said) => said.map_err(|error| error.to_string()),
        Err(_) => Err(format!("no answer within {} s", ANSWER_LIMIT.as_secs())),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use std::net::UdpSocket;
    use tokio::net::TcpListener;

    /// A resolver that answers one question with where a service is: at this port of this computer.
    fn resolver(port: u16) -> (String, std::thread::JoinHandle<Vec<u8>>) {
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        let address = socket.local_addr().unwrap().to_string();
        let answering = std::thread::spawn(move || {
            let mut question = [0; 512];
            let (len, asker) = socket.recv_from(&mut question).unwrap();
            let name_ends = 12 + question[12..len].iter().position(|byte| *byte == 0).unwrap() + 5;
            let mut answer = question[..name_ends].to_vec();
            answer[2..12].copy_from_slice(&[0x81, 0x80, 0, 1, 0, 1, 0, 0, 0, 0]);
            let [high, low] = port.to_be_bytes();
            answer.extend([0xc0, 12, 0, 33, 0, 1, 0, 0, 0, 60, 0, 17, 0, 1, 0, 1, high, low, 9]);
            answer.extend(b"localhost\0");
            socket.send_to(&answer, asker).unwrap();
            question[12..name_ends].to_vec()
        });
        (address, answering)
    }

    #[tokio::test]
    async fn a_realm_that_no_configuration_knows_is_found_by_dns_and_asked_there() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let len = stream.read_u32().await.unwrap();
            stream.read_exact(&mut vec![0; len as usize]).await.unwrap();
            stream.write_all(b"\0\0\0\x06answer").await.unwrap();
        });
        let (address, answering) = resolver(port);
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), format!("nameserver {address}\n")).unwrap();
        let places = KerberosPlaces { resolvers: Some(file.path().to_owned()), ..KerberosPlaces::default() };
        let centres = Centres::new(places.clone(), Configuration::default());
        assert_eq!(centres.ask("COAST.EXAMPLE", b"question").await.unwrap(), b"answer");
        let asked = answering.join().unwrap();
        assert_eq!(asked[..asked.len() - 4], *b"\x09_kerberos\x04_tcp\x05coast\x07example\0");
        // Nobody is asked where the configuration says that nobody is.
        let mut closed = Configuration::default();
        closed.read("[libdefaults]\ndns_lookup_kdc = false\n", &mut |_| Vec::new());
        let failure = Centres::new(places, closed).ask("COAST.EXAMPLE", b"question").await.unwrap_err();
        assert_eq!(failure, KerberosFailure::NoCentre { realm: "COAST.EXAMPLE".into() });
    }

    #[tokio::test]
    async fn one_that_does_not_answer_is_not_waited_for_again() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                let len = stream.read_u32().await.unwrap();
                stream.read_exact(&mut vec![0; len as usize]).await.unwrap();
                stream.write_all(b"\0\0\0\x02ok").await.unwrap();
            }
        });
        let gone = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port();
        let mut configuration = Configuration::default();
        let text = format!("[realms]\nA = {{\nkdc = 127.0.0.1:{gone}\nkdc = 127.0.0.1:{port}\n}}\n");
        configuration.read(&text, &mut |_| Vec::new());
        let centres = Centres::new(KerberosPlaces::default(), configuration);
        assert_eq!(centres.ask("A", b"x").await.unwrap(), b"ok");
        assert_eq!(centres.find("A").await.unwrap().first().unwrap().port, port);
        assert_eq!(centres.ask_once("A", b"x").await.unwrap(), b"ok");
        // Before any has answered, one is asked and not the next.
        let anew = Centres::new(KerberosPlaces::default(), centres.configuration.clone());
        let KerberosFailure::Unreached { tried, .. } = anew.ask_once("A", b"x").await.unwrap_err() else {
            panic!("another failure");
        };
        assert_eq!(tried.len(), 1);
    }

    #[test]
    fn places_are_read_as_they_are_written() {
        for (text, host, port) in [
            ("tide-gauge", "tide-gauge", 88),
            ("tide-gauge:8888", "tide-gauge", 8888),
            ("tcp/tide-gauge:8888", "tide-gauge", 8888),
            ("192.0.2.7", "192.0.2.7", 88),
            ("[2001:db8::7]:89", "2001:db8::7", 89),
            ("[2001:db8::7]", "2001:db8::7", 88),
            ("2001:db8::7", "2001:db8::7", 88),
        ] {
            assert_eq!(place(text), Some(Place { host: host.into(), port }), "{text}");
        }
        for text in ["", "https://tide-gauge/proxy", "udp/tide-gauge", "tide-gauge:x", "tide-gauge:70000"] {
            assert_eq!(place(text), None, "{text}");
        }
    }
}
