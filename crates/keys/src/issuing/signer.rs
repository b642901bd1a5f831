//! Our keys as the library that lays out certificates wants them: an algorithm identifier and a signature in DER (RFC 3279, RFC 5758, RFC 8410, RFC 8017).

use ::signature::Keypair;
use der::asn1::{BitString, Null, ObjectIdentifier, UintRef};
use der::{Any, Document, Encode, Sequence};
use x509_cert::spki::{
    self, AlgorithmIdentifierOwned, DynSignatureAlgorithmIdentifier, EncodePublicKey,
    SignatureBitStringEncoding,
};

use crate::wire::Reader;
use crate::{Curve, KeyError, PrivateKey, PublicKey, SignatureAlgorithm};

const ED25519: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.101.112");
const RSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11");
const ECDSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2");
const ECDSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3");
const ECDSA_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4");

/// By which algorithm a key signs certificates, in both worlds.
fn algorithm(key: &PublicKey) -> (SignatureAlgorithm, ObjectIdentifier) {
    match key {
        PublicKey::Ed25519(_) => (SignatureAlgorithm::Ed25519, ED25519),
        PublicKey::Ecdsa { curve: Curve::P256, .. } => (SignatureAlgorithm::Ecdsa(Curve::P256), ECDSA_SHA256),
        PublicKey::Ecdsa { curve: Curve::P384, .. } => (SignatureAlgorithm::Ecdsa(Curve::P384), ECDSA_SHA384),
        PublicKey::Ecdsa { curve: Curve::P521, .. } => (SignatureAlgorithm::Ecdsa(Curve::P521), ECDSA_SHA512),
        PublicKey::Rsa { .. } => (SignatureAlgorithm::RsaSha256, RSA_SHA256),
    }
}

/// A signature, as it stands in a certificate.
pub(super) struct DerSignature(Vec<u8>);

impl SignatureBitStringEncoding for DerSignature {
    fn to_bitstring(&self) -> der::Result<BitString> {
        BitString::from_bytes(&self.0)
    }
}

/// The two numbers of ECDSA (RFC 3279 §2.2.3).
#[derive(Sequence)]
struct EcdsaSigValue<'a> {
    r: UintRef<'a>,
    s: UintRef<'a>,
}

/// Who signs.
pub(super) struct Signer<'a> {
    key: &'a PrivateKey,
    info: &'a [u8],
}

impl<'a> Signer<'a> {
    /// A key, and its public half in DER.
    pub(super) fn new(key: &'a PrivateKey, info: &'a [u8]) -> Self {
        Self { key, info }
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let (algorithm, _) = algorithm(self.key.public());
        let signature = self.key.sign(message, algorithm)?;
        if !matches!(self.key.public(), PublicKey::Ecdsa { .. }) {
            return Ok(signature.blob);
        }
        let refused = |_| KeyError::Refused("sign a certificate");
        let mut reader = Reader::new(&signature.blob);
        let (r, s) = (reader.string("r")?, reader.string("s")?);
        let value =
            EcdsaSigValue { r: UintRef::new(r).map_err(refused)?, s: UintRef::new(s).map_err(refused)? };
        value.to_der().map_err(refused)
    }
}

/// The public half of who signs.
#[derive(Clone)]
pub(super) struct Verifying(Vec<u8>);

impl EncodePublicKey for Verifying {
    fn to_public_key_der(&self) -> spki::Result<Document> {
        Ok(Document::try_from(self.0.as_slice())?)
    }
}

impl Keypair for Signer<'_> {
    type VerifyingKey = Verifying;

    fn verifying_key(&self) -> Verifying {
        Verifying(self.info.to_vec())
    }
}

impl DynSignatureAlgorithmIdentifier for Signer<'_> {
    fn signature_algorithm_identifier(&self) -> spki::Result<AlgorithmIdentifierOwned> {
        let (_, oid) = algorithm(self.key.public());
        // RFC 4055 §5: RSA has its parameters, and they are nothing; the others have none.
        let parameters = (oid == RSA_SHA256).then(|| Any::from(Null));
        Ok(AlgorithmIdentifierOwned { oid, parameters })
    }
}

impl ::signature::Signer<DerSignature> for Signer<'_> {
    fn try_sign(&self, message: &[u8]) -> Result<DerSignature, ::signature::Error> {
        self.sign(message).map(DerSignature).map_err(|_| ::signature::Error::new())
    }
}
