//! A look at a machine's certificate without logging in.

use lantern_book::TrustStore;
use lantern_keys::{CertificateFault, TlsCertificate};

use super::failure::WinrmFailure;
use super::opener::WinrmRequest;
use super::tls::shake_hands;
use super::trust::{authorities, faults};
use crate::connect::reach;
use crate::{Ask, LinkError};

/// What a TLS service showed.
#[derive(Debug, Clone)]
pub struct ShownChain {
    /// The certificate whose holder is there.
    pub certificate: TlsCertificate,
    /// Those that it sent along.
    pub above: Vec<TlsCertificate>,
    /// Everything that is wrong with it.
    pub faults: Vec<CertificateFault>,
}

/// Shakes hands, and no more: the certificate whose holder is there, and everything that is wrong with it.
///
/// # Errors
/// The step that failed; a machine without TLS has none.
pub async fn look_at_chain(request: &WinrmRequest, ask: &dyn Ask) -> Result<ShownChain, LinkError> {
    let way = &request.way;
    if !request.tls {
        let what = "certificate where there is no TLS: it proves nothing of itself";
        return Err(WinrmFailure::HasNo { machine: way.machine.clone(), what }.into());
    }
    let (line, reached) = reach(way, ask).await?;
    let names = request.names();
    let name = names.first().copied().unwrap_or_default();
    let (_, shown) = shake_hands(line, name, &reached, way.limits.handshake, None).await?;
    let authorities = authorities(way, &TrustStore::load(&way.home)?)?;
    let faults = faults(&shown.certificate, &names, || shown.is_vouched(&authorities));
    Ok(ShownChain { above: shown.above(), certificate: shown.certificate, faults })
}
