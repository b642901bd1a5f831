//! A certificate of ours, by which a machine knows us: the key is one of the ring, and the certificate is in a file beside it.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use lantern_keys::container::{PrivateContainer, Protect, write_private};
use lantern_keys::{PrivateKey, SystemRandom, TlsCertificate};
use lantern_ssh::neutralize_line;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::sign::CertifiedKey;

use super::failure::WinrmFailure;
use crate::own_keys::{Directly, LeftOut, own_keys};
use crate::{Ask, ConnectRequest, KeyChoice, LinkError};

/// Longest file with a certificate and those above it, in bytes.
const MAX_FILE: u64 = 256 * 1024;
/// Most certificates in it: a machine looks at no more.
const MAX_CHAIN: usize = 8;

/// A certificate with its key, and whom it names.
#[derive(Clone)]
pub(super) struct ClientCertificate {
    pub(super) certified: Arc<CertifiedKey>,
    pub(super) holder: String,
}

/// Reads the certificate, and opens the key that the book names.
///
/// # Errors
/// None or several keys are named, the key stays closed, or the two do not belong together.
pub(super) async fn client_certificate(
    way: &ConnectRequest,
    file: &Path,
    ask: &dyn Ask,
) -> Result<ClientCertificate, LinkError> {
    let failed = |why: String| {
        let (machine, file) = (way.machine.clone(), file.display().to_string());
        LinkError::from(WinrmFailure::OwnCertificate { machine, file, why })
    };
    let is_one = match &way.keys {
        KeyChoice::Named(names) => names.len() == 1,
        KeyChoice::File(_) => true,
        KeyChoice::Nothing | KeyChoice::Ring | KeyChoice::RingWithout(_) => false,
    };
    if !is_one {
        return Err(failed("`key` does not say which key of the ring it is for".to_owned()));
    }
    let chain = read(file).map_err(failed)?;
    let own = chain.first().and_then(|first| TlsCertificate::read(first).ok());
    let own = own.ok_or_else(|| failed("what it holds is no certificate".to_owned()))?;
    let key = own_keys(way, ask, &mut LeftOut::default()).await?.into_iter().next();
    let lock = key.ok_or_else(|| failed("its key is not in the ring".to_owned()))?.lock();
    let opened = lock.unlock(way, &mut Directly(ask)).await?;
    let opened = opened.map_err(|why| failed(format!("the key for it: {why}")))?;
    let certified = certified(&opened, chain).map_err(failed)?;
    Ok(ClientCertificate { certified: Arc::new(certified), holder: neutralize_line(&own.holder(), 255) })
}

/// The certificates of a file, in armour or in DER, our own first.
fn read(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let mut bytes = Vec::new();
    let opened = std::fs::File::open(file).and_then(|opened| opened.take(MAX_FILE).read_to_end(&mut bytes));
    opened.map_err(|error| error.to_string())?;
    if !bytes.windows(5).any(|window| window == b"-----") {
        return Ok(vec![CertificateDer::from(bytes)]);
    }
    let chain = CertificateDer::pem_slice_iter(&bytes).take(MAX_CHAIN).collect::<Result<Vec<_>, _>>();
    chain.map_err(|error| format!("its armour is damaged: {error}"))
}

fn certified(key: &PrivateKey, chain: Vec<CertificateDer<'static>>) -> Result<CertifiedKey, String> {
    let pkcs8 = write_private(key, PrivateContainer::Pkcs8Der, Protect::default(), &mut SystemRandom);
    let pkcs8 = pkcs8.map_err(|error| error.to_string())?;
    let signing = aws_lc_rs::sign::any_supported_type(&PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(
        pkcs8.as_slice(),
    )));
    let signing = signing.map_err(|_| "TLS has no use for a key of this kind".to_owned())?;
    let certified = CertifiedKey::new(chain, signing);
    match certified.keys_match() {
        Ok(()) => Ok(certified),
        Err(_) => Err("it is for another key than the one that `key` names".to_owned()),
    }
}
