//! Key exchange methods: both sides' shares and the secret that they agree on, whatever the mathematics.

mod dh;
mod ecdh;
mod groups;
mod hybrid;
pub(crate) mod schedule;

use aws_lc_rs::digest;
use lantern_keys::RandomSource;
use lantern_keys::wire::{Reader, Writer};
use zeroize::Zeroizing;

use crate::SshError;
use crate::algorithm::KexAlgorithm;
use crate::message::number;

pub(crate) use dh::{DhGroup, GroupRequest};

/// The agreed secret K, encoded as the exchange hash takes it: an mpint, or for hybrids a string.
pub(crate) struct SharedSecret(Zeroizing<Vec<u8>>);

impl SharedSecret {
    fn mpint(number: &[u8]) -> Self {
        let mut out = Zeroizing::new(Vec::with_capacity(number.len() + 8));
        out.put_mpint(number);
        Self(out)
    }

    fn string(bytes: &[u8]) -> Self {
        let mut out = Zeroizing::new(Vec::with_capacity(bytes.len() + 8));
        out.put_string(bytes);
        Self(out)
    }

    pub(crate) fn encoded(&self) -> &[u8] {
        &self.0
    }
}

/// The hash of a method: for the exchange hash and the key schedule.
pub(crate) fn hash_of(algorithm: KexAlgorithm) -> &'static digest::Algorithm {
    use lantern_keys::Curve;
    match algorithm {
        KexAlgorithm::Ecdh(Curve::P384) => &digest::SHA384,
        KexAlgorithm::Sntrup761X25519
        | KexAlgorithm::Sntrup761X25519Openssh
        | KexAlgorithm::Ecdh(Curve::P521)
        | KexAlgorithm::Group16
        | KexAlgorithm::Group18 => &digest::SHA512,
        _ => &digest::SHA256,
    }
}

/// A share as it is encoded: an mpint for finite fields, a string for everything else.
fn put_share(out: &mut impl Writer, algorithm: KexAlgorithm, share: &[u8]) {
    if is_finite_field(algorithm) { out.put_mpint(share) } else { out.put_string(share) }
}

/// Reads one share, as encoded.
fn read_share<'a>(reader: &mut Reader<'a>, algorithm: KexAlgorithm) -> Result<&'a [u8], SshError> {
    let share = match is_finite_field(algorithm) {
        true => reader.mpint("key exchange share"),
        false => reader.string("key exchange share"),
    };
    share.map_err(SshError::malformed("key exchange message"))
}

fn is_finite_field(algorithm: KexAlgorithm) -> bool {
    matches!(
        algorithm,
        KexAlgorithm::Group14 | KexAlgorithm::Group16 | KexAlgorithm::Group18 | KexAlgorithm::GroupExchange
    )
}

enum Ephemeral {
    Ecdh(ecdh::Ephemeral),
    Hybrid(Box<hybrid::Ephemeral>),
    Dh(dh::Ephemeral),
}

/// The client's half of an exchange, waiting for the server's.
pub(crate) struct ClientShare {
    algorithm: KexAlgorithm,
    ephemeral: Ephemeral,
    share: Vec<u8>,
}

impl ClientShare {
    /// Makes the client's share. For group exchange the server's group must have come first.
    pub(crate) fn new(
        algorithm: KexAlgorithm,
        group: Option<DhGroup>,
        random: &mut dyn RandomSource,
    ) -> Result<Self, SshError> {
        let (ephemeral, share) = match algorithm {
            KexAlgorithm::MlKem768X25519
            | KexAlgorithm::Sntrup761X25519
            | KexAlgorithm::Sntrup761X25519Openssh => {
                let (ephemeral, share) = hybrid::Ephemeral::new(algorithm, random)?;
                (Ephemeral::Hybrid(Box::new(ephemeral)), share)
            }
            KexAlgorithm::Curve25519 | KexAlgorithm::Curve25519Libssh | KexAlgorithm::Ecdh(_) => {
                let (ephemeral, share) = ecdh::Ephemeral::new(algorithm)?;
                (Ephemeral::Ecdh(ephemeral), share)
            }
            _ => {
                let group = match group {
                    Some(group) => group,
                    None => DhGroup::of(algorithm)?,
                };
                let (ephemeral, share) = dh::Ephemeral::new(group, random);
                (Ephemeral::Dh(ephemeral), share)
            }
        };
        Ok(Self { algorithm, ephemeral, share })
    }

    pub(crate) fn algorithm(&self) -> KexAlgorithm {
        self.algorithm
    }

    /// The message that carries the share.
    pub(crate) fn message(&self, out: &mut impl Writer) {
        out.put_byte(match self.algorithm {
            KexAlgorithm::GroupExchange => number::KEX_DH_GEX_INIT,
            _ => number::KEX_INIT_SHARE,
        });
        put_share(out, self.algorithm, &self.share);
    }

    /// Agrees with the server's share.
    pub(crate) fn agree(self, server_share: &[u8]) -> Result<SharedSecret, SshError> {
        match self.ephemeral {
            Ephemeral::Ecdh(ephemeral) => ephemeral.agree(server_share),
            Ephemeral::Hybrid(ephemeral) => ephemeral.agree(server_share),
            Ephemeral::Dh(ephemeral) => ephemeral.agree(server_share),
        }
    }
}

/// The server's half: its share and the secret, from the client's share.
pub(crate) fn server_agree(
    algorithm: KexAlgorithm,
    group: Option<DhGroup>,
    client_share: &[u8],
    random: &mut dyn RandomSource,
) -> Result<(Vec<u8>, SharedSecret), SshError> {
    match algorithm {
        KexAlgorithm::MlKem768X25519
        | KexAlgorithm::Sntrup761X25519
        | KexAlgorithm::Sntrup761X25519Openssh => hybrid::server_agree(algorithm, client_share, random),
        _ => {
            let own = ClientShare::new(algorithm, group, random)?;
            let share = own.share.clone();
            Ok((share, own.agree(client_share)?))
        }
    }
}

/// The server's reply: host key, share, signature (KEX_*_REPLY).
pub(crate) struct Reply<'a> {
    pub(crate) host_key: &'a [u8],
    pub(crate) share: &'a [u8],
    pub(crate) signature: &'a [u8],
}

impl<'a> Reply<'a> {
    pub(crate) fn decode(mut reader: Reader<'a>, algorithm: KexAlgorithm) -> Result<Self, SshError> {
        let malformed = SshError::malformed("key exchange reply");
        let host_key = reader.string("host key").map_err(&malformed)?;
        let share = read_share(&mut reader, algorithm)?;
        let signature = reader.string("signature").map_err(&malformed)?;
        reader.finish().map_err(malformed)?;
        Ok(Self { host_key, share, signature })
    }

    pub(crate) fn encode(&self, algorithm: KexAlgorithm, out: &mut impl Writer) {
        out.put_byte(match algorithm {
            KexAlgorithm::GroupExchange => number::KEX_DH_GEX_REPLY,
            _ => number::KEX_REPLY,
        });
        out.put_string(self.host_key);
        put_share(out, algorithm, self.share);
        out.put_string(self.signature);
    }
}

/// The client's share out of its message.
pub(crate) fn decode_client_share<'a>(
    mut reader: Reader<'a>,
    algorithm: KexAlgorithm,
) -> Result<&'a [u8], SshError> {
    let share = read_share(&mut reader, algorithm)?;
    reader.finish().map_err(SshError::malformed("key exchange message"))?;
    Ok(share)
}

/// What the exchange hash covers (RFC 4253 §8), one side's view of it.
pub(crate) struct HashInputs<'a> {
    pub(crate) client_identification: &'a str,
    pub(crate) server_identification: &'a str,
    pub(crate) client_kexinit: &'a [u8],
    pub(crate) server_kexinit: &'a [u8],
    pub(crate) host_key: &'a [u8],
    /// Limits, prime and generator of a group exchange (RFC 4419 §3), encoded.
    pub(crate) group_exchange: &'a [u8],
    pub(crate) client_share: &'a [u8],
    pub(crate) server_share: &'a [u8],
}

impl HashInputs<'_> {
    /// The exchange hash H.
    pub(crate) fn hash(&self, algorithm: KexAlgorithm, secret: &SharedSecret) -> Vec<u8> {
        let mut head = Vec::with_capacity(4096);
        head.put_string(self.client_identification.as_bytes());
        head.put_string(self.server_identification.as_bytes());
        head.put_string(self.client_kexinit);
        head.put_string(self.server_kexinit);
        head.put_string(self.host_key);
        head.put(self.group_exchange);
        put_share(&mut head, algorithm, self.client_share);
        put_share(&mut head, algorithm, self.server_share);
        let mut context = digest::Context::new(hash_of(algorithm));
        context.update(&head);
        context.update(secret.encoded());
        context.finish().as_ref().to_vec()
    }
}

impl ClientShare {
    /// The bare share, for [`HashInputs`].
    pub(crate) fn share(&self) -> &[u8] {
        &self.share
    }
}

#[cfg(test)]
mod tests;
