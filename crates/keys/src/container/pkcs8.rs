//! PKCS#8: the `OneAsymmetricKey` of RFC 5958, which holds any algorithm.

use ::pkcs8::spki::AlgorithmIdentifierRef;
use ::pkcs8::{PrivateKeyInfo, PrivateKeyInfoRef};
use der::asn1::{AnyRef, Null, OctetStringRef};
use der::{Decode, Encode};
use zeroize::Zeroizing;

use super::{oids, sec1};
use crate::parts::PrivateParts;
use crate::rsa_numbers::RsaComponents;
use crate::{KeyError, PrivateKey};

/// The label of its armour.
pub(crate) const LABEL: &str = "PRIVATE KEY";

/// Reads the DER form.
pub(crate) fn decode(bytes: &[u8]) -> Result<PrivateKey, KeyError> {
    let info = PrivateKeyInfoRef::from_der(bytes)
        .map_err(|_| KeyError::Malformed("it is no PrivateKeyInfo of RFC 5958"))?;
    let content = info.private_key.as_bytes();
    let public = info.public_key.and_then(|bits| bits.as_bytes()).map(<[u8]>::to_vec);
    let parts = match info.algorithm.oid {
        oids::RSA => PrivateParts::Rsa(RsaComponents::from_pkcs1_der(content)?),
        oids::EC => {
            let curve = info.algorithm.parameters_oid().map_err(|_| sec1::spelled_out())?;
            let mut parts = sec1::decode(content, Some(oids::curve(curve)?))?;
            if let (PrivateParts::Ecdsa { point, .. }, Some(public)) = (&mut parts, public) {
                if point.as_ref().is_some_and(|point| *point != public) {
                    return Err(KeyError::Inconsistent("the two copies of the public half differ"));
                }
                *point = Some(public);
            }
            parts
        }
        oids::ED25519 => {
            // RFC 8410 §7: an OCTET STRING within the OCTET STRING.
            let seed = <&OctetStringRef>::from_der(content)
                .map_err(|_| KeyError::Malformed("it is no CurvePrivateKey of RFC 8410"))?;
            PrivateParts::Ed25519 { seed: Zeroizing::new(seed.as_bytes().to_vec()), public }
        }
        other => return Err(oids::unsupported(other)),
    };
    PrivateKey::from_parts(parts, String::new())
}

/// Writes the DER form: version 1, which every reader knows, without a copy of the public half but in ECDSA keys.
pub(crate) fn encode(key: &PrivateKey) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let refused = |_| KeyError::Refused("write down a key as PKCS#8");
    let (algorithm, content) = match key.parts()? {
        PrivateParts::Rsa(parts) => {
            (AlgorithmIdentifierRef { oid: oids::RSA, parameters: Some(Null.into()) }, parts.to_pkcs1_der()?)
        }
        PrivateParts::Ed25519 { seed, .. } => {
            let inner = OctetStringRef::new(&seed).and_then(|seed| seed.to_der()).map_err(refused)?;
            (AlgorithmIdentifierRef { oid: oids::ED25519, parameters: None }, Zeroizing::new(inner))
        }
        PrivateParts::Ecdsa { curve, scalar, point } => {
            let curve_oid = oids::of_curve(curve);
            let inner = sec1::encode_inner(&scalar, point.as_deref())?;
            let parameters = Some(AnyRef::from(&curve_oid));
            return encode_info(AlgorithmIdentifierRef { oid: oids::EC, parameters }, &inner);
        }
    };
    encode_info(algorithm, &content)
}

fn encode_info(
    algorithm: AlgorithmIdentifierRef<'_>,
    content: &[u8],
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let refused = |_| KeyError::Refused("write down a key as PKCS#8");
    let info: PrivateKeyInfoRef<'_> =
        PrivateKeyInfo::new(algorithm, OctetStringRef::new(content).map_err(refused)?);
    info.to_der().map(Zeroizing::new).map_err(refused)
}
