//! Finite-field Diffie-Hellman: fixed groups (RFC 4253 §8, RFC 8268) and groups that the server chooses (RFC 4419).

use crypto_bigint::modular::{BoxedMontyForm, BoxedMontyParams};
use crypto_bigint::{BoxedUint, Odd, Resize};
use lantern_keys::RandomSource;
use lantern_keys::wire::{Reader, Writer, trim_leading_zeros};
use zeroize::{Zeroize, Zeroizing};

use super::SharedSecret;
use super::groups::{GROUP14, GROUP15, GROUP16, GROUP18, Group};
use crate::SshError;
use crate::algorithm::KexAlgorithm;
use crate::message::number;

/// Smallest modulus we accept, in bits: RFC 8270 raised the floor of RFC 4419 to this.
pub(crate) const MIN_MODULUS_BITS: u32 = 2048;
/// The modulus we wish for, in bits: about as strong as the ciphers' 128 bits.
pub(crate) const WISHED_MODULUS_BITS: u32 = 3072;
/// Largest modulus we accept, in bits: larger ones only cost time (RFC 4419 §3).
pub(crate) const MAX_MODULUS_BITS: u32 = 8192;
/// Length of our secret exponents, in bits: twice the strength of the strongest group (RFC 4419 §6.2).
const EXPONENT_BITS: u32 = 512;

/// A group to exchange in: an odd prime and a generator.
#[derive(Clone)]
pub(crate) struct DhGroup {
    prime: Odd<BoxedUint>,
    generator: BoxedUint,
}

impl DhGroup {
    fn fixed(group: Group) -> Result<Self, SshError> {
        let refused = || SshError::Crypto("load a Diffie-Hellman group");
        let prime = BoxedUint::from_be_hex(group.prime_hex, group.bits).into_option().ok_or_else(refused)?;
        let generator = BoxedUint::from(2u8).resize(group.bits);
        Ok(Self { prime: prime.into_odd().into_option().ok_or_else(refused)?, generator })
    }

    /// The group of a method that has a fixed one.
    pub(crate) fn of(algorithm: KexAlgorithm) -> Result<Self, SshError> {
        match algorithm {
            KexAlgorithm::Group14 => Self::fixed(GROUP14),
            KexAlgorithm::Group16 => Self::fixed(GROUP16),
            KexAlgorithm::Group18 => Self::fixed(GROUP18),
            _ => Err(SshError::Misuse("this method has no group of its own")),
        }
    }

    /// What our server role chooses for a client's request: the smallest of ours that is as large as wished.
    pub(crate) fn choose(request: GroupRequest) -> Result<Self, SshError> {
        let fits = |group: &&Group| (request.min..=request.max).contains(&group.bits);
        let ours = [&GROUP14, &GROUP15, &GROUP16, &GROUP18];
        let wished = ours.iter().filter(|g| fits(g)).find(|g| g.bits >= request.wished);
        match wished.or_else(|| ours.iter().rev().find(|g| fits(g))) {
            Some(group) => Self::fixed(**group),
            None => Err(SshError::PeerBroke { rule: "its limits must allow 2048 to 8192 bits (RFC 8270)" }),
        }
    }

    /// KEX_DH_GEX_GROUP: checks what a server chose.
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, SshError> {
        let malformed = SshError::malformed("KEX_DH_GEX_GROUP");
        let prime = reader.mpint("prime").map_err(&malformed)?;
        let generator = reader.mpint("generator").map_err(&malformed)?;
        reader.finish().map_err(malformed)?;
        let bits = prime.first().map_or(0, |first| prime.len() * 8 - first.leading_zeros() as usize) as u32;
        if !(MIN_MODULUS_BITS..=MAX_MODULUS_BITS).contains(&bits) {
            return Err(SshError::PeerBroke {
                rule: "its group must have 2048 to 8192 bits (RFC 4419 §3, RFC 8270)",
            });
        }
        let bad =
            || SshError::PeerBroke { rule: "its group must have an odd prime and a generator below it" };
        let precision = bits.next_multiple_of(64);
        let prime = BoxedUint::from_be_slice(prime, precision).map_err(|_| bad())?;
        let prime = prime.into_odd().into_option().ok_or_else(bad)?;
        let generator = BoxedUint::from_be_slice(generator, precision).map_err(|_| bad())?;
        if !is_inside(&generator, &prime) {
            return Err(bad());
        }
        Ok(Self { prime, generator })
    }

    /// Prime and generator as mpints: the body of KEX_DH_GEX_GROUP and part of the exchange hash.
    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_mpint(&self.prime.to_be_bytes());
        out.put_mpint(&self.generator.to_be_bytes());
    }

    fn power(&self, base: &BoxedUint, exponent: &BoxedUint) -> BoxedUint {
        let params = BoxedMontyParams::new_vartime(self.prime.clone());
        BoxedMontyForm::new(base.clone(), &params).pow_bounded_exp(exponent, EXPONENT_BITS).retrieve()
    }
}

/// Whether 1 < number < prime − 1 (RFC 4253 §8). Shares are public: variable time is fine.
fn is_inside(number: &BoxedUint, prime: &Odd<BoxedUint>) -> bool {
    let one = BoxedUint::one_with_precision(prime.bits_precision());
    *number > one && *number < prime.wrapping_sub(&one)
}

/// KEX_DH_GEX_REQUEST (RFC 4419 §3): smallest, wished and largest modulus, in bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct GroupRequest {
    pub(crate) min: u32,
    pub(crate) wished: u32,
    pub(crate) max: u32,
}

impl GroupRequest {
    pub(crate) const OURS: Self =
        Self { min: MIN_MODULUS_BITS, wished: WISHED_MODULUS_BITS, max: MAX_MODULUS_BITS };

    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, SshError> {
        let malformed = SshError::malformed("KEX_DH_GEX_REQUEST");
        let min = reader.u32("min").map_err(&malformed)?;
        let wished = reader.u32("n").map_err(&malformed)?;
        let max = reader.u32("max").map_err(&malformed)?;
        reader.finish().map_err(malformed)?;
        Ok(Self { min, wished, max })
    }

    /// The numbers, as they enter the exchange hash.
    pub(crate) fn encode(self, out: &mut impl Writer) {
        for bits in [self.min, self.wished, self.max] {
            out.put_uint32(bits);
        }
    }

    pub(crate) fn message(self, out: &mut impl Writer) {
        out.put_byte(number::KEX_DH_GEX_REQUEST);
        self.encode(out);
    }
}

pub(super) struct Ephemeral {
    group: DhGroup,
    exponent: BoxedUint,
}

impl Drop for Ephemeral {
    fn drop(&mut self) {
        self.exponent.zeroize();
    }
}

impl Ephemeral {
    pub(super) fn new(group: DhGroup, random: &mut dyn RandomSource) -> (Self, Vec<u8>) {
        let mut bytes = Zeroizing::new([0; EXPONENT_BITS as usize / 8]);
        random.fill(&mut *bytes);
        let exponent = BoxedUint::from_be_slice_truncated(&*bytes, EXPONENT_BITS);
        let share = group.power(&group.generator, &exponent);
        (Self { group, exponent }, trim_leading_zeros(&share.to_be_bytes()).to_vec())
    }

    pub(super) fn agree(self, peer: &[u8]) -> Result<SharedSecret, SshError> {
        let bad = SshError::PeerBroke { rule: "its share must lie between 1 and p − 1 (RFC 4253 §8)" };
        let precision = self.group.prime.bits_precision();
        let Ok(peer) = BoxedUint::from_be_slice(peer, precision) else { return Err(bad) };
        if !is_inside(&peer, &self.group.prime) {
            return Err(bad);
        }
        let mut secret = self.group.power(&peer, &self.exponent);
        let bytes = Zeroizing::new(secret.to_be_bytes().to_vec());
        secret.zeroize();
        Ok(SharedSecret::mpint(&bytes))
    }
}
