//! TLS towards a machine. What it presents is looked at after the handshake, and before a byte of ours leaves: who it is may be for a person to say.

use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;

use ::aws_lc_rs::digest::{SHA256, SHA384, SHA512, digest};
use lantern_book::KnownCertificate;
use lantern_keys::{CertificateFault, CertificateName, TlsCertificate};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{ResolvesClientCert, WebPkiServerVerifier};
use rustls::crypto::{CryptoProvider, aws_lc_rs, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::sign::CertifiedKey;
use rustls::{AlertDescription, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::failure::WinrmFailure;
use crate::line::Line;

/// Most certificates of a chain that are looked at.
const MAX_CHAIN: usize = 8;

/// What a machine showed in the handshake, whose signature was verified with it.
#[derive(Debug, Clone)]
pub(super) struct Shown {
    pub(super) certificate: TlsCertificate,
    /// The same and those beside it, as they came.
    chain: Vec<CertificateDer<'static>>,
    /// What binds a login to this channel (RFC 5929 §4.1).
    pub(super) endpoint_hash: Vec<u8>,
}

/// Keeps what is shown; verifies that its holder is there, and decides nothing.
#[derive(Debug)]
struct Watcher {
    provider: Arc<CryptoProvider>,
    shown: Mutex<Vec<CertificateDer<'static>>>,
    /// Whether it asked for a certificate of ours.
    asks: AtomicBool,
    /// The one that it gets.
    own: Option<Arc<CertifiedKey>>,
}

impl ResolvesClientCert for Watcher {
    fn resolve(&self, _: &[&[u8]], _: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        self.asks.store(true, Ordering::Relaxed);
        self.own.clone()
    }

    fn has_certs(&self) -> bool {
        self.own.is_some()
    }
}

impl ServerCertVerifier for Watcher {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let chain = std::iter::once(end_entity).chain(intermediates).take(MAX_CHAIN);
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) =
            chain.map(|one| one.clone().into_owned()).collect();
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Shakes hands. `name` is whom the machine is asked to be.
pub(super) async fn shake_hands(
    line: Line,
    name: &str,
    place: &str,
    limit: Duration,
    own: Option<Arc<CertifiedKey>>,
) -> Result<(TlsStream<Line>, Shown), WinrmFailure> {
    let provider = Arc::new(aws_lc_rs::default_provider());
    let tls = |error: rustls::Error| WinrmFailure::Tls { place: place.to_owned(), why: error.to_string() };
    let watcher = Arc::new(Watcher {
        provider: provider.clone(),
        shown: Mutex::default(),
        asks: AtomicBool::new(false),
        own,
    });
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(tls)?
        .dangerous()
        .with_custom_certificate_verifier(watcher.clone())
        .with_client_cert_resolver(watcher.clone());
    // Each connection logs in by itself; a ticket would save nothing, and tie them together.
    config.resumption = rustls::client::Resumption::disabled();
    let server = match ServerName::try_from(name.to_owned()) {
        Ok(server) => server,
        // Not a name of DNS: then none is said.
        Err(_) => {
            config.enable_sni = false;
            ServerName::IpAddress(IpAddr::from([0, 0, 0, 0]).into())
        }
    };
    let connecting = TlsConnector::from(Arc::new(config)).connect(server, line);
    let stream = match timeout(limit, connecting).await {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => {
            return Err(too_weak(&watcher, place).unwrap_or_else(|| failure(&error, &watcher, place)));
        }
        Err(_) => {
            let seconds = limit.as_secs();
            return Err(WinrmFailure::Unanswered {
                machine: place.to_owned(),
                what: "its part of TLS",
                seconds,
            });
        }
    };
    if watcher.own.is_some() && !watcher.asks.load(Ordering::Relaxed) {
        return Err(WinrmFailure::NotAskedForCertificate { place: place.to_owned() });
    }
    let chain = std::mem::take(&mut *watcher.shown.lock().unwrap_or_else(PoisonError::into_inner));
    let unreadable =
        || WinrmFailure::Tls { place: place.to_owned(), why: "its certificate cannot be read".to_owned() };
    let first = chain.first().ok_or_else(unreadable)?;
    let certificate = TlsCertificate::read(first).map_err(|_| unreadable())?;
    let endpoint_hash = endpoint_hash(&certificate);
    Ok((stream, Shown { certificate, chain, endpoint_hash }))
}

/// Whether a handshake failed since the certificate that was shown has a key that nobody should verify with.
fn too_weak(watcher: &Watcher, place: &str) -> Option<WinrmFailure> {
    let shown = watcher.shown.lock().unwrap_or_else(PoisonError::into_inner);
    let certificate = TlsCertificate::read(shown.first()?).ok()?;
    let weak = certificate.faults(&[], 0).into_iter().find_map(|fault| match fault {
        CertificateFault::WeakKey { key } => Some(key),
        _ => None,
    })?;
    Some(WinrmFailure::Tls {
        place: place.to_owned(),
        why: format!("the key of its certificate is too weak: {weak}"),
    })
}

/// What the error of a handshake says about the machine.
fn failure(error: &std::io::Error, watcher: &Watcher, place: &str) -> WinrmFailure {
    use rustls::Error as Tls;
    let place = place.to_owned();
    match error.get_ref().and_then(|inner| inner.downcast_ref::<Tls>()) {
        Some(Tls::InvalidMessage(_)) => WinrmFailure::NotTls { place },
        Some(Tls::PeerIncompatible(_)) => WinrmFailure::TlsNothingInCommon { place },
        // To a client without a certificate, version 1.2 says no more than this (RFC 5246 §7.4.6).
        Some(Tls::AlertReceived(AlertDescription::HandshakeFailure))
            if watcher.asks.load(Ordering::Relaxed) =>
        {
            WinrmFailure::ClientCertificate { place, why: "it wants one".into() }
        }
        Some(Tls::AlertReceived(alert)) => alerted(*alert, place),
        Some(other) => WinrmFailure::Tls { place, why: other.to_string() },
        None => match error.kind() {
            std::io::ErrorKind::UnexpectedEof | std::io::ErrorKind::ConnectionReset => {
                WinrmFailure::NoCertificate { place }
            }
            _ => WinrmFailure::Tls { place, why: error.to_string() },
        },
    }
}

/// What an alert says (RFC 8446 §6).
pub(super) fn alerted(alert: AlertDescription, place: String) -> WinrmFailure {
    use AlertDescription as Alert;
    match alert {
        Alert::HandshakeFailure | Alert::ProtocolVersion | Alert::InsufficientSecurity => {
            WinrmFailure::TlsNothingInCommon { place }
        }
        Alert::CertificateRequired
        | Alert::BadCertificate
        | Alert::UnsupportedCertificate
        | Alert::CertificateRevoked
        | Alert::CertificateExpired
        | Alert::CertificateUnknown
        | Alert::UnknownCA
        | Alert::AccessDenied => WinrmFailure::ClientCertificate { place, why: format!("{alert:?}") },
        other => WinrmFailure::Tls { place, why: format!("it says {other:?}") },
    }
}

/// The authorities of this system, read once.
fn roots() -> &'static Arc<RootCertStore> {
    static ROOTS: OnceLock<Arc<RootCertStore>> = OnceLock::new();
    ROOTS.get_or_init(|| {
        let mut roots = RootCertStore::empty();
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        Arc::new(roots)
    })
}

impl Shown {
    /// Those beside the certificate, as far as they are any.
    pub(super) fn above(&self) -> Vec<TlsCertificate> {
        self.chain.iter().skip(1).filter_map(|one| TlsCertificate::read(one).ok()).collect()
    }

    /// Whether the chain leads to an authority of this system, or to one that is believed for this machine. Names and dates have reasons of their own: it is looked at as of a day and a name that are right. To be asked only where nothing else decides: it reads all that this system believes.
    pub(super) fn is_vouched(&self, authorities: &[KnownCertificate]) -> bool {
        let Some((first, others)) = self.chain.split_first().filter(|_| !self.certificate.is_self_issued())
        else {
            return false;
        };
        let mut all = roots().clone();
        for authority in authorities {
            // One that cannot be one vouches for nobody.
            let _ = Arc::make_mut(&mut all).add(CertificateDer::from(authority.der.clone()));
        }
        if all.is_empty() {
            return false;
        }
        let name = self.certificate.names().first().map(|name| match name {
            CertificateName::Dns(name) => ServerName::try_from(name.replacen('*', "any", 1)).ok(),
            CertificateName::Ip(address) => Some(ServerName::IpAddress((*address).into())),
        });
        let provider = Arc::new(aws_lc_rs::default_provider());
        let (Some(Some(name)), Ok(verifier)) =
            (name, WebPkiServerVerifier::builder_with_provider(all, provider).build())
        else {
            return false;
        };
        let (from, until) = self.certificate.validity();
        let now = i64::try_from(UnixTime::now().as_secs()).unwrap_or(i64::MAX);
        let as_of = u64::try_from(now.max(from).min(until)).unwrap_or_default();
        let as_of = UnixTime::since_unix_epoch(Duration::from_secs(as_of));
        verifier.verify_server_cert(first, others, &name, &[], as_of).is_ok()
    }
}

/// The hash of a certificate by its signature's hash, by SHA-256 where that is weaker (RFC 5929 §4.1).
fn endpoint_hash(certificate: &TlsCertificate) -> Vec<u8> {
    let algorithm = match certificate.signature_bits() {
        Some(384) => &SHA384,
        Some(512) => &SHA512,
        _ => &SHA256,
    };
    digest(algorithm, certificate.der()).as_ref().to_vec()
}
