//! A TLS handshake that is only made to see what is there: nothing is believed, and nothing that matters is said.

use std::io;
use std::net::IpAddr;
use std::sync::Arc;

use lantern_link::Line;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, SignatureScheme};
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::CertificateFacts;

/// Takes any certificate: who is there is what is to be found out.
#[derive(Debug)]
struct AnyoneWillDo(Arc<CryptoProvider>);

impl ServerCertVerifier for AnyoneWillDo {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// Shakes hands over a line; the certificate that was shown, and the line to say something over.
///
/// # Errors
/// What answers is no TLS, or breaks off.
pub(super) async fn shake_hands(
    line: Line,
    host: &str,
) -> io::Result<(Option<CertificateFacts>, TlsStream<Line>)> {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(AnyoneWillDo(provider)))
        .with_no_client_auth();
    let name = ServerName::try_from(host.to_owned())
        .unwrap_or_else(|_| ServerName::from(IpAddr::from([127, 0, 0, 1])));
    let stream = TlsConnector::from(Arc::new(config)).connect(name, line).await?;
    let shown = stream.get_ref().1.peer_certificates().and_then(<[_]>::first);
    let facts = shown.and_then(|certificate| CertificateFacts::read(certificate));
    Ok((facts, stream))
}
