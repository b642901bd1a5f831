//! Certificates of simulated machines.

use std::io::{Error, ErrorKind};
use std::sync::Arc;

use rcgen::{CertificateParams, KeyPair};
use rustls::client::danger::HandshakeSignatureValid;
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::{DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme};
use tokio_rustls::TlsAcceptor;

/// How long a certificate holds, in days.
const YEAR: i32 = 365;

/// A certificate, the chain behind it, and its key.
#[derive(Clone)]
pub struct ServerCertificate {
    /// In DER, the machine's own first.
    pub chain: Vec<Vec<u8>>,
    /// The key in PKCS#8.
    pub key: Vec<u8>,
}

impl std::fmt::Debug for ServerCertificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ServerCertificate").finish_non_exhaustive()
    }
}

fn failed(error: impl std::error::Error + Send + Sync + 'static) -> Error {
    Error::new(ErrorKind::InvalidData, error)
}

/// Takes any certificate whose holder is there: whom it stands for is looked up later.
#[derive(Debug)]
struct AnyCertificate(Arc<CryptoProvider>);

impl ClientCertVerifier for AnyCertificate {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn client_auth_mandatory(&self) -> bool {
        false
    }

    fn verify_client_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        Ok(ClientCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

impl ServerCertificate {
    /// One that signed itself, for these names, for a year from now.
    ///
    /// # Errors
    /// A name that is none.
    pub fn self_signed(names: &[&str]) -> std::io::Result<Self> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        let mut params = CertificateParams::new(names.clone()).map_err(failed)?;
        if let Some(first) = names.first() {
            params.distinguished_name = rcgen::DistinguishedName::new();
            params.distinguished_name.push(rcgen::DnType::CommonName, first.as_str());
        }
        let now = jiff::Zoned::now().date();
        let end = now.checked_add(jiff::Span::new().days(YEAR)).map_err(failed)?;
        let date = |date: jiff::civil::Date| {
            let number = |part: i8| u8::try_from(part).unwrap_or(1);
            rcgen::date_time_ymd(date.year().into(), number(date.month()), number(date.day()))
        };
        (params.not_before, params.not_after) = (date(now.yesterday().unwrap_or(now)), date(end));
        Self::of(params)
    }

    /// One that signed itself, as these parameters say.
    ///
    /// # Errors
    /// They make no sense.
    pub fn of(params: CertificateParams) -> std::io::Result<Self> {
        let key = KeyPair::generate().map_err(failed)?;
        let certificate = params.self_signed(&key).map_err(failed)?;
        Ok(Self { chain: vec![certificate.der().to_vec()], key: key.serialize_der() })
    }

    /// What takes TLS connections. `asks`: for a certificate of the client's, which need not have one.
    pub(super) fn acceptor(&self, asks: bool) -> std::io::Result<TlsAcceptor> {
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let chain = self.chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(self.key.clone()));
        let builder = ServerConfig::builder_with_provider(provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(failed)?;
        let builder = match asks {
            true => builder.with_client_cert_verifier(Arc::new(AnyCertificate(provider))),
            false => builder.with_no_client_auth(),
        };
        let config = builder.with_single_cert(chain, key).map_err(failed)?;
        Ok(Arc::new(config).into())
    }

    /// What binds a login to a channel with this certificate: it is signed with SHA-256 (RFC 5929 §4.1).
    pub(super) fn endpoint_hash(&self) -> Vec<u8> {
        let own = self.chain.first().map(Vec::as_slice).unwrap_or_default();
        aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, own).as_ref().to_vec()
    }
}
