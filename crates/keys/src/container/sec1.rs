//! SEC 1 private keys: the `ECPrivateKey` of RFC 5915, alone or within PKCS#8.

use der::{Decode, Encode};
use sec1::{EcParameters, EcPrivateKey};
use zeroize::Zeroizing;

use super::oids;
use crate::parts::PrivateParts;
use crate::{Curve, KeyError};

/// The label of its armour.
pub(crate) const LABEL: &str = "EC PRIVATE KEY";
/// DER of id-prime-field: it stands in a key that spells its curve out instead of naming it.
const PRIME_FIELD: &[u8] = &[0x06, 0x07, 0x2a, 0x86, 0x48, 0xce, 0x3d, 0x01, 0x01];

/// Writes an `ECPrivateKey` that names its curve.
pub(crate) fn encode(
    curve: Curve,
    scalar: &[u8],
    point: Option<&[u8]>,
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    encode_with(Some(EcParameters::NamedCurve(oids::of_curve(curve))), scalar, point)
}

/// The same for PKCS#8, which names the curve outside of it.
pub(super) fn encode_inner(scalar: &[u8], point: Option<&[u8]>) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    encode_with(None, scalar, point)
}

fn encode_with(
    parameters: Option<EcParameters>,
    scalar: &[u8],
    point: Option<&[u8]>,
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    EcPrivateKey { private_key: scalar, parameters, public_key: point }
        .to_der()
        .map(Zeroizing::new)
        .map_err(|_| KeyError::Refused("write down an ECDSA key"))
}

/// Reads an `ECPrivateKey`. Within PKCS#8 the curve is named outside, and may be named here again.
pub(crate) fn decode(bytes: &[u8], outer: Option<Curve>) -> Result<PrivateParts, KeyError> {
    let key = EcPrivateKey::from_der(bytes).map_err(|_| {
        match bytes.windows(PRIME_FIELD.len()).any(|window| window == PRIME_FIELD) {
            true => spelled_out(),
            false => KeyError::Malformed("it is no ECPrivateKey of RFC 5915"),
        }
    })?;
    let inner =
        key.parameters.and_then(|parameters| parameters.named_curve()).map(oids::curve).transpose()?;
    let curve = match (outer, inner) {
        (Some(outer), Some(inner)) if outer != inner => {
            return Err(KeyError::Inconsistent("the key names two curves"));
        }
        (outer, inner) => outer.or(inner).ok_or(KeyError::Malformed("the key does not name its curve"))?,
    };
    let point = key.public_key.map(<[u8]>::to_vec);
    Ok(PrivateParts::Ecdsa { curve, scalar: Zeroizing::new(key.private_key.to_vec()), point })
}

/// A curve given by its equation: the door of a known attack, and nothing that SSH could name.
pub(super) fn spelled_out() -> KeyError {
    KeyError::Unsupported {
        what: "elliptic curve",
        met: "spelled out".into(),
        why: "we take curves by name (RFC 5480 §2.1.1)",
    }
}
