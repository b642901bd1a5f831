//! SSHFP records from a resolver: one question, one answer (RFC 1035, RFC 4255, RFC 6891). The answer counts only when a resolver that the
//! user named as trusted says that it validated it (the AD bit, RFC 4035 §3.2.3).

use std::net::SocketAddr;
use std::time::Duration;

use lantern_keys::wire::{Reader, WireError};
use lantern_keys::{PublicKey, RandomSource, SystemRandom, sshfp};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::time::timeout;

/// RFC 4255 §5.
const TYPE_SSHFP: u16 = 44;
const TYPE_OPT: u16 = 41;
const CLASS_IN: u16 = 1;
const FLAG_RESPONSE: u16 = 0x8000;
const FLAG_TRUNCATED: u16 = 0x0200;
const FLAG_RECURSION_DESIRED: u16 = 0x0100;
/// The resolver validated the answer; in a question: we understand the bit (RFC 6840 §5.7).
const FLAG_AUTHENTIC: u16 = 0x0020;
const CODE_MASK: u16 = 0x000f;
/// No such name.
const CODE_NO_NAME: u16 = 3;
/// Largest answer that we take by UDP, in bytes (RFC 6891 §6.2.5 recommends no more).
const UDP_LEN: u16 = 1232;
/// How often a question by UDP is asked.
const TRIES: u32 = 3;
/// Most records of an answer that are looked at.
const MAX_RECORDS: usize = 64;

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

/// Why there is no answer.
#[derive(Debug, thiserror::Error)]
pub enum DnsError {
    /// The name cannot be asked for.
    #[error("the name cannot be asked for in DNS")]
    BadName,
    /// The line to the resolver.
    #[error("the resolver cannot be reached")]
    Io(#[from] std::io::Error),
    /// Nothing came back.
    #[error("the resolver did not answer")]
    Silent,
    /// What came back is no answer to the question.
    #[error("the resolver's answer is malformed")]
    Malformed(#[from] WireError),
    /// It could not find out.
    #[error("the resolver answered with code {0}")]
    Failed(u16),
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
    let mut id = [0; 2];
    SystemRandom.fill(&mut id);
    let id = u16::from_be_bytes(id);
    let question = question(id, name).ok_or(DnsError::BadName)?;
    let any: SocketAddr = if resolver.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() };
    let socket = UdpSocket::bind(any).await?;
    socket.connect(resolver).await?;
    for _ in 0..TRIES {
        socket.send(&question).await?;
        let mut buffer = vec![0; usize::from(UDP_LEN)];
        let wait = limit / TRIES;
        let Ok(received) = timeout(wait, socket.recv(&mut buffer)).await else { continue };
        buffer.truncate(received?);
        return match answer(&buffer, id, name)? {
            Answer::Whole(answer) => Ok(answer),
            Answer::Truncated => by_tcp(resolver, &question, id, name, limit).await,
        };
    }
    Err(DnsError::Silent)
}

async fn by_tcp(
    resolver: SocketAddr,
    question: &[u8],
    id: u16,
    name: &str,
    limit: Duration,
) -> Result<SshfpAnswer, DnsError> {
    let exchange = async {
        let mut stream = TcpStream::connect(resolver).await?;
        // RFC 1035 §4.2.2: a length before each message.
        stream.write_all(&(question.len() as u16).to_be_bytes()).await?;
        stream.write_all(question).await?;
        let mut message = vec![0; usize::from(stream.read_u16().await?)];
        stream.read_exact(&mut message).await?;
        Ok::<_, std::io::Error>(message)
    };
    let message = timeout(limit, exchange).await.map_err(|_| DnsError::Silent)??;
    match answer(&message, id, name)? {
        Answer::Whole(answer) => Ok(answer),
        Answer::Truncated => Err(DnsError::Malformed(malformed("a whole answer"))),
    }
}

fn malformed(field: &'static str) -> WireError {
    WireError::Invalid { field, rule: "is not what was asked for" }
}

fn encode_name(name: &str) -> Option<Vec<u8>> {
    let mut encoded = Vec::new();
    for label in name.trim_end_matches('.').split('.') {
        let len = u8::try_from(label.len()).ok().filter(|len| (1..=63).contains(len))?;
        encoded.push(len);
        encoded.extend(label.bytes());
    }
    encoded.push(0);
    (encoded.len() <= 255 && name.is_ascii()).then_some(encoded)
}

/// A question for SSHFP records that wants validation.
fn question(id: u16, name: &str) -> Option<Vec<u8>> {
    let mut message = Vec::new();
    for field in [id, FLAG_RECURSION_DESIRED | FLAG_AUTHENTIC, 1, 0, 0, 1] {
        message.extend(field.to_be_bytes());
    }
    message.extend(encode_name(name)?);
    message.extend(TYPE_SSHFP.to_be_bytes());
    message.extend(CLASS_IN.to_be_bytes());
    // EDNS: how much we take (RFC 6891 §6.1.2); the DO bit, without which many resolvers don't validate.
    message.push(0);
    message.extend(TYPE_OPT.to_be_bytes());
    message.extend(UDP_LEN.to_be_bytes());
    message.extend([0, 0, 0x80, 0, 0, 0]);
    Some(message)
}

enum Answer {
    Whole(SshfpAnswer),
    Truncated,
}

fn u16_of(reader: &mut Reader<'_>, field: &'static str) -> Result<u16, WireError> {
    let bytes = reader.take(2, field)?;
    Ok(bytes.iter().fold(0, |number, byte| number << 8 | u16::from(*byte)))
}

/// Reads over a name. A pointer (RFC 1035 §4.1.4) ends it: where it points to is of no interest.
fn skip_name(reader: &mut Reader<'_>) -> Result<(), WireError> {
    loop {
        match reader.u8("name")? {
            0 => return Ok(()),
            len if len & 0xc0 == 0xc0 => return reader.take(1, "pointer").map(drop),
            len if len & 0xc0 == 0 => drop(reader.take(len.into(), "label")?),
            _ => return Err(malformed("label")),
        }
    }
}

fn answer(message: &[u8], id: u16, name: &str) -> Result<Answer, DnsError> {
    let mut reader = Reader::new(message);
    let met_id = u16_of(&mut reader, "id")?;
    let flags = u16_of(&mut reader, "flags")?;
    let [questions, answers] = [u16_of(&mut reader, "questions")?, u16_of(&mut reader, "answers")?];
    reader.take(4, "counts")?;
    let asked = encode_name(name).ok_or(DnsError::BadName)?;
    if met_id != id || flags & FLAG_RESPONSE == 0 || questions != 1 {
        return Err(malformed("an answer to our question").into());
    }
    let met = reader.take(asked.len(), "question")?;
    if !met.eq_ignore_ascii_case(&asked) || u16_of(&mut reader, "type")? != TYPE_SSHFP {
        return Err(malformed("our question").into());
    }
    reader.take(2, "class")?;
    match flags & CODE_MASK {
        0 | CODE_NO_NAME => {}
        code => return Err(DnsError::Failed(code)),
    }
    if flags & FLAG_TRUNCATED != 0 {
        return Ok(Answer::Truncated);
    }
    let mut found = SshfpAnswer { authentic: flags & FLAG_AUTHENTIC != 0, records: Vec::new() };
    for _ in 0..usize::from(answers).min(MAX_RECORDS) {
        skip_name(&mut reader)?;
        let kind = u16_of(&mut reader, "type")?;
        reader.take(6, "class and time to live")?;
        let len = u16_of(&mut reader, "length")?;
        let data = reader.take(len.into(), "data")?;
        if kind == TYPE_SSHFP
            && let [algorithm, hash, bytes @ ..] = data
        {
            found.records.push((*algorithm, *hash, bytes.to_vec()));
        }
    }
    Ok(Answer::Whole(found))
}

/// For the fuzz target: an answer to a question for `lamp-01.example`, as it came.
#[cfg(fuzzing)]
pub fn fuzz_answer(message: &[u8]) {
    let id = message.first().map_or(0, |a| u16::from(*a) << 8 | message.get(1).map_or(0, |b| u16::from(*b)));
    let _ = answer(message, id, "lamp-01.example");
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::*;
    use proptest::prelude::*;

    fn reply(flags: u16, records: &[(u8, u8, &[u8])]) -> Vec<u8> {
        let mut message = question(7, "lamp-01.example").unwrap();
        message.truncate(message.len() - 11);
        message[2..4].copy_from_slice(&(FLAG_RESPONSE | flags).to_be_bytes());
        message[6..8].copy_from_slice(&(records.len() as u16).to_be_bytes());
        message[10..12].copy_from_slice(&[0, 0]);
        for (algorithm, hash, bytes) in records {
            message.extend([0xc0, 12, 0, 44, 0, 1, 0, 0, 0, 60]);
            message.extend(((bytes.len() + 2) as u16).to_be_bytes());
            message.extend([*algorithm, *hash]);
            message.extend(*bytes);
        }
        message
    }

    #[test]
    fn records_are_read_and_believed_only_with_the_bit() {
        let key = PublicKey::Ed25519([3; 32]);
        let print = *key.fingerprint().as_bytes();
        let whole = |message: &[u8]| match answer(message, 7, "lamp-01.example").unwrap() {
            Answer::Whole(answer) => answer,
            Answer::Truncated => panic!("truncated"),
        };
        let good = whole(&reply(FLAG_AUTHENTIC, &[(1, 2, &[9; 32]), (4, 2, &print)]));
        assert!(good.authentic && good.names(&key) && good.speaks_of(&key));
        assert!(!whole(&reply(0, &[(4, 2, &print)])).authentic);
        // SHA-1, and another algorithm's number, say nothing of this key.
        let other = whole(&reply(FLAG_AUTHENTIC, &[(4, 1, &print[..20]), (3, 2, &print)]));
        assert!(!other.names(&key) && !other.speaks_of(&key));
        assert!(matches!(answer(&reply(FLAG_TRUNCATED, &[]), 7, "lamp-01.example"), Ok(Answer::Truncated)));
        assert!(whole(&reply(CODE_NO_NAME, &[])).records.is_empty());
        assert!(matches!(answer(&reply(2, &[]), 7, "lamp-01.example"), Err(DnsError::Failed(2))));
        // Another question's answer, and another name's.
        assert!(answer(&reply(0, &[]), 8, "lamp-01.example").is_err());
        assert!(answer(&reply(0, &[]), 7, "lamp-02.example").is_err());
        assert!(question(1, "a..b").is_none() && question(1, &"x".repeat(64)).is_none());
    }

    proptest! {
        #[test]
        fn any_answer_is_read_or_refused(mut message in prop::collection::vec(any::<u8>(), 0..200), at in 0usize..80, byte: u8) {
            let _ = answer(&message, 7, "lamp-01.example");
            message = reply(FLAG_AUTHENTIC, &[(4, 2, &[1; 32])]);
            if let Some(place) = message.get_mut(at) { *place = byte; }
            let _ = answer(&message, 7, "lamp-01.example");
            message.truncate(at);
            let _ = answer(&message, 7, "lamp-01.example");
        }
    }
}
