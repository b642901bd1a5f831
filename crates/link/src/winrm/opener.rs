//! Connections to one machine: the first, which decides whom we trust and as whom we log in, and more of the same.

use std::path::PathBuf;
use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{TrustStore, Uses};
use lantern_keys::TlsCertificate;
use tracing::debug;

use super::answers::{PostError, Whom};
use super::client_certificate::ClientCertificate;
use super::failure::WinrmFailure;
use super::http::{Broken, Http};
use super::login::{LoginWay, Proof};
use super::session::Session;
use super::tls::{Shown, shake_hands};
use super::trust::{decide, weigh};
use crate::ask::{Ask, Question};
use crate::connect::open_line;
use crate::kerberos::KerberosPlaces;
use crate::step::Step;
use crate::{ConnectRequest, LinkError, Trunk};

/// Everything that a connection to a machine that is spoken to by WinRM needs to know beforehand.
#[derive(Debug, Clone)]
pub struct WinrmRequest {
    /// The way there, and who it is.
    pub way: ConnectRequest,
    /// Whether TLS is around it; else its messages are sealed.
    pub tls: bool,
    /// The path of the service.
    pub path: String,
    /// The names that its certificate may have instead of those that are dialed.
    pub certificate_names: Vec<String>,
    /// The name of the service for logins, where it is not the one that is dialed.
    pub service_name: Option<String>,
    /// How to log in.
    pub login: LoginWay,
    /// Where the system keeps what it says of Kerberos.
    pub kerberos: KerberosPlaces,
    /// Whether somebody said which user it is: else the owner of a ticket is as good.
    pub user_is_said: bool,
    /// Whether the machine gets a ticket to go on with.
    pub delegate: bool,
    /// The file with a certificate of ours, where that is how to log in.
    pub own_certificate: Option<PathBuf>,
    /// The language of the machine's messages.
    pub language: String,
}

/// Where the service is, unless the book says otherwise (MS-WSMV 2.1).
const USUAL_PATH: &str = "/wsman";
/// The language of machines' messages: what we know, we say in our own words, and the rest is looked up in this one.
const LANGUAGE: &str = "en-US";

impl WinrmRequest {
    /// A request with the defaults: TLS, and the best way to log in; Kerberos is nowhere.
    pub fn new(way: ConnectRequest) -> Self {
        Self {
            way,
            tls: true,
            path: USUAL_PATH.to_owned(),
            certificate_names: Vec::new(),
            service_name: None,
            login: LoginWay::default(),
            kerberos: KerberosPlaces::default(),
            user_is_said: true,
            delegate: false,
            own_certificate: None,
            language: LANGUAGE.to_owned(),
        }
    }

    /// The host as it is dialed.
    pub(super) fn host(&self) -> &str {
        self.way.addresses.first().map_or("localhost", String::as_str)
    }

    /// The names that the machine's certificate may have.
    pub(super) fn names(&self) -> Vec<&str> {
        match self.certificate_names.as_slice() {
            [] => self.way.addresses.iter().map(String::as_str).collect(),
            names => names.iter().map(String::as_str).collect(),
        }
    }

    /// The URL of the service.
    pub(super) fn url(&self) -> String {
        let scheme = if self.tls { "https" } else { "http" };
        format!("{scheme}://{}{}", self.way.place(), self.path)
    }
}

/// Makes connections, all to the machine that the first one was made to, as the same user.
pub(super) struct Opener {
    pub(super) request: WinrmRequest,
    pub(super) behind: Option<Trunk>,
    /// Where it is dialed.
    pub(super) place: String,
    pub(super) certificate: Option<TlsCertificate>,
    /// Ours.
    pub(super) own: Option<ClientCertificate>,
    pub(super) proof: Proof,
}

impl Opener {
    /// Another connection to the same machine.
    pub(super) async fn again(&self) -> Result<Session, LinkError> {
        let quiet = Quiet;
        let (session, shown) = self.connect(&quiet).await?;
        let same = shown.map(|shown| shown.certificate) == self.certificate;
        match same {
            true => Ok(session),
            false => {
                let why = "another connection to it showed another certificate".to_owned();
                Err(WinrmFailure::Lost { machine: self.request.way.machine.clone(), why }.into())
            }
        }
    }

    pub(super) async fn connect(&self, ask: &dyn Ask) -> Result<(Session, Option<Shown>), LinkError> {
        let (request, way) = (&self.request, &self.request.way);
        let (line, reached) = open_line(way, self.behind.as_ref(), ask).await?;
        let host = &self.place;
        let started = |http: Result<Http, Broken>| {
            http.map_err(|broken| {
                self.told(PostError::Lost { is_sent: false, is_amid: false, why: format!("{broken:?}") })
            })
        };
        if !request.tls {
            let http = started(Http::start(line, host, &request.path).await)?;
            return Ok((Session::new(http, None), None));
        }
        let since = Instant::now();
        let names = request.names();
        let name = names.first().copied().unwrap_or(request.host());
        let own = self.own.as_ref().map(|own| own.certified.clone());
        let (stream, shown) = shake_hands(line, name, &reached, way.limits.handshake, own).await?;
        let took = since.elapsed();
        let tls = words(&stream);
        if self.certificate.is_none() {
            let store = TrustStore::load(&way.home)?;
            let worth = weigh(way, &store, &shown, &names)?;
            let (certificate, faults) = (&shown.certificate, worth.faults.as_slice());
            ask.step(&Step::Secured { tls: &tls, certificate, faults, took });
            let trust = decide(way, &store, &shown, &worth, &reached, ask).await?;
            ask.step(&Step::Certified { certificate, faults, trust: &trust });
        }
        let http = started(Http::start(Box::new(stream), host, &request.path).await)?;
        Ok((Session::new(http, Some(shown.endpoint_hash.clone())), Some(shown)))
    }

    /// The name of the service for logins (RFC 4559 §4).
    pub(super) fn service(&self) -> String {
        self.request.service_name.clone().unwrap_or_else(|| format!("HTTP/{}", self.request.host()))
    }

    pub(super) fn whom<'a>(&'a self, service: &'a str) -> Whom<'a> {
        Whom { machine: &self.request.way.machine, place: &self.place, user: &self.request.way.user, service }
    }

    /// What proves who we are.
    pub(super) fn proof(&self) -> &Proof {
        &self.proof
    }

    pub(super) fn certificate(&self) -> Option<&TlsCertificate> {
        self.certificate.as_ref()
    }

    /// What came of a post, for whoever cannot go on with less.
    pub(super) fn told(&self, error: PostError) -> LinkError {
        match error {
            PostError::Failure(failure) => failure.into(),
            PostError::Lost { why, .. } => {
                WinrmFailure::Lost { machine: self.request.way.machine.clone(), why }.into()
            }
        }
    }

    /// Notes that the machine was used.
    pub(super) fn note_used(&self) {
        let now = Some(Timestamp::now());
        let way = &self.request.way;
        if way.only_looking {
            return;
        }
        let noted = Uses::of(&way.home).note(&way.machine, |noted| (noted.used, noted.seen) = (now, now));
        if let Err(error) = noted {
            debug!(error = crate::error::chain(&error), "the use of a machine was not noted");
        }
    }
}

/// The version and the cipher of a connection.
fn words(stream: &tokio_rustls::client::TlsStream<crate::line::Line>) -> String {
    let connection = stream.get_ref().1;
    let version = match connection.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
        Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2",
        _ => "TLS",
    };
    let suite = connection.negotiated_cipher_suite().and_then(|suite| suite.suite().as_str());
    let group = connection.negotiated_key_exchange_group().and_then(|group| group.name().as_str());
    let parts = [Some(version), suite, group];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// Nobody is asked a second time, and nothing is told twice.
struct Quiet;

impl Ask for Quiet {
    fn ask(&self, _question: Question) -> crate::ask::Answering {
        Box::pin(std::future::ready(crate::Answer::NoOne))
    }
}
