//! Signatures as they travel: an algorithm name and a blob (RFC 4253 §6.6).

use crate::wire::{Reader, Writer};
use crate::{KeyError, SignatureAlgorithm};

/// A signature and the algorithm that made it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signature {
    /// The algorithm.
    pub algorithm: SignatureAlgorithm,
    /// The algorithm-specific part, as RFC 5656 §3.1.2, RFC 8332 §3 and RFC 8709 §6 lay it out.
    pub blob: Vec<u8>,
}

impl Signature {
    /// Reads the wire form.
    ///
    /// # Errors
    /// Malformed bytes, or an algorithm that we refuse.
    pub fn decode(bytes: &[u8]) -> Result<Self, KeyError> {
        let mut reader = Reader::new(bytes);
        let algorithm = SignatureAlgorithm::from_name(reader.text("signature algorithm")?)?;
        let blob = reader.string("signature")?.to_vec();
        reader.finish()?;
        Ok(Self { algorithm, blob })
    }

    /// Writes the wire form.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(self.blob.len() + 32);
        out.put_string(self.algorithm.name().as_bytes());
        out.put_string(&self.blob);
        out
    }
}
