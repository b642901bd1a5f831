//! SSHFP records from a resolver (RFC 4255). The answer counts only when a resolver that the user named as trusted says that it validated it (the AD bit,
//! RFC 4035 §3.2.3).

use std::net::SocketAddr;
use std::time::Duration;

use lantern_keys::{PublicKey, sshfp};

use super::message::{DnsError, Records, ask};

/// RFC 4255 §5.
const TYPE_SSHFP: u16 = 44;

/// What a resolver knows.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SshfpAnswer {
    /// Whether it says that it validated it.
    pub authentic: bool,
    /// Records: the number of the key's algorithm, of the hash, and the hash.
    pub records: Vec<(u8, u8, Vec<u8>)>,
}

impl SshfpAnswer {
    /// Whether a record is of this key. Only SHA-256 counts: SHA-1 can be imitated.
    pub fn names(&self, key: &PublicKey) -> bool {
        let number = sshfp::algorithm_number(key);
        let hash = key.fingerprint();
        self.records.iter().any(|(algorithm, kind, bytes)| {
            *algorithm == number && *kind == sshfp::SHA256 && bytes == hash.as_bytes()
        })
    }

    /// Whether there is any record that could be compared with a key of this kind.
    pub fn speaks_of(&self, key: &PublicKey) -> bool {
        let number = sshfp::algorithm_number(key);
        self.records.iter().any(|(algorithm, kind, _)| *algorithm == number && *kind == sshfp::SHA256)
    }
}

/// Asks a resolver for the SSHFP records of a name.
///
/// # Errors
/// See [`DnsError`].
pub async fn sshfp_records(
    resolver: SocketAddr,
    name: &str,
    limit: Duration,
) -> Result<SshfpAnswer, DnsError> {
    Ok(found(&ask(resolver, name, TYPE_SSHFP, limit).await?))
}

fn found(records: &Records) -> SshfpAnswer {
    let each = records.data.iter().filter_map(|(_, data)| match data.as_slice() {
        [algorithm, hash, bytes @ ..] => Some((*algorithm, *hash, bytes.to_vec())),
        _ => None,
    });
    SshfpAnswer { authentic: records.authentic, records: each.collect() }
}

/// For the fuzz target: an answer, as it came.
#[cfg(fuzzing)]
pub(super) fn fuzz_answer(message: &[u8]) {
    let id = message.first().map_or(0, |a| u16::from(*a) << 8 | message.get(1).map_or(0, |b| u16::from(*b)));
    let asked = super::message::Asked { id, name: "lamp-01.example", kind: TYPE_SSHFP };
    if let Ok(super::message::Answer::Whole(records)) = super::message::answer(message.to_vec(), asked) {
        let _ = found(&records);
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::super::message::tests::{reply, whole};
    use super::super::message::{Asked, CODE_NO_NAME, FLAG_AUTHENTIC};
    use super::*;

    const ASKED: Asked<'_> = Asked { id: 7, name: "lamp-01.example", kind: TYPE_SSHFP };

    fn answer(flags: u16, records: &[(u8, u8, &[u8])]) -> SshfpAnswer {
        let data = records.iter().map(|(algorithm, hash, bytes)| [&[*algorithm, *hash], *bytes].concat());
        found(&whole(reply(ASKED, flags, &data.collect::<Vec<_>>()), ASKED))
    }

    #[test]
    fn records_are_read_and_believed_only_with_the_bit() {
        let key = PublicKey::Ed25519([3; 32]);
        let print = *key.fingerprint().as_bytes();
        let good = answer(FLAG_AUTHENTIC, &[(1, 2, &[9; 32]), (4, 2, &print)]);
        assert!(good.authentic && good.names(&key) && good.speaks_of(&key));
        assert!(!answer(0, &[(4, 2, &print)]).authentic);
        // SHA-1, and another algorithm's number, say nothing of this key.
        let other = answer(FLAG_AUTHENTIC, &[(4, 1, &print[..20]), (3, 2, &print)]);
        assert!(!other.names(&key) && !other.speaks_of(&key));
        assert!(answer(CODE_NO_NAME, &[]).records.is_empty());
    }
}
