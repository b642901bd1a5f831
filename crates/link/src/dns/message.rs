//! One question to a resolver, one answer (RFC 1035, RFC 6891).

use std::net::SocketAddr;
use std::time::Duration;

use lantern_keys::wire::{Reader, WireError};
use lantern_keys::{RandomSource, SystemRandom};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::time::timeout;

const TYPE_OPT: u16 = 41;
const CLASS_IN: u16 = 1;
pub(super) const FLAG_RESPONSE: u16 = 0x8000;
pub(super) const FLAG_TRUNCATED: u16 = 0x0200;
const FLAG_RECURSION_DESIRED: u16 = 0x0100;
/// The resolver validated the answer; in a question: we understand the bit (RFC 6840 §5.7).
pub(super) const FLAG_AUTHENTIC: u16 = 0x0020;
const CODE_MASK: u16 = 0x000f;
/// No such name.
pub(super) const CODE_NO_NAME: u16 = 3;
/// Largest answer that we take by UDP, in bytes (RFC 6891 §6.2.5 recommends no more).
const UDP_LEN: u16 = 1232;
/// How often a question by UDP is asked.
const TRIES: u32 = 3;
/// Most records of an answer that are looked at.
const MAX_RECORDS: usize = 64;
/// Most labels of a name that are followed through pointers: a name has 255 bytes.
const MAX_LABELS: usize = 128;

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

/// A question: a name, and the type of record that is wanted.
#[derive(Debug, Clone, Copy)]
pub(super) struct Asked<'a> {
    pub(super) id: u16,
    pub(super) name: &'a str,
    pub(super) kind: u16,
}

/// The records of an answer.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Records {
    /// Whether the resolver says that it validated them.
    pub(super) authentic: bool,
    /// The data of those that were asked for, and where in the message they begin.
    pub(super) data: Vec<(usize, Vec<u8>)>,
    /// The whole message, for names in it that point elsewhere.
    pub(super) message: Vec<u8>,
}

/// Asks a resolver.
///
/// # Errors
/// See [`DnsError`].
pub(super) async fn ask(
    resolver: SocketAddr,
    name: &str,
    kind: u16,
    limit: Duration,
) -> Result<Records, DnsError> {
    let mut id = [0; 2];
    SystemRandom.fill(&mut id);
    let asked = Asked { id: u16::from_be_bytes(id), name, kind };
    let question = question(asked).ok_or(DnsError::BadName)?;
    let any: SocketAddr = if resolver.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() };
    let socket = UdpSocket::bind(any).await?;
    socket.connect(resolver).await?;
    for _ in 0..TRIES {
        socket.send(&question).await?;
        let mut buffer = vec![0; usize::from(UDP_LEN)];
        let wait = limit / TRIES;
        let Ok(received) = timeout(wait, socket.recv(&mut buffer)).await else { continue };
        buffer.truncate(received?);
        return match answer(buffer, asked)? {
            Answer::Whole(records) => Ok(records),
            Answer::Truncated => by_tcp(resolver, &question, asked, limit).await,
        };
    }
    Err(DnsError::Silent)
}

async fn by_tcp(
    resolver: SocketAddr,
    question: &[u8],
    asked: Asked<'_>,
    limit: Duration,
) -> Result<Records, DnsError> {
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
    match answer(message, asked)? {
        Answer::Whole(records) => Ok(records),
        Answer::Truncated => Err(DnsError::Malformed(malformed("a whole answer"))),
    }
}

pub(super) fn malformed(field: &'static str) -> WireError {
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

/// A question that wants validation.
pub(super) fn question(asked: Asked<'_>) -> Option<Vec<u8>> {
    let mut message = Vec::new();
    for field in [asked.id, FLAG_RECURSION_DESIRED | FLAG_AUTHENTIC, 1, 0, 0, 1] {
        message.extend(field.to_be_bytes());
    }
    message.extend(encode_name(asked.name)?);
    message.extend(asked.kind.to_be_bytes());
    message.extend(CLASS_IN.to_be_bytes());
    // EDNS: how much we take (RFC 6891 §6.1.2); the DO bit, without which many resolvers don't validate.
    message.push(0);
    message.extend(TYPE_OPT.to_be_bytes());
    message.extend(UDP_LEN.to_be_bytes());
    message.extend([0, 0, 0x80, 0, 0, 0]);
    Some(message)
}

#[derive(Debug)]
pub(super) enum Answer {
    Whole(Records),
    Truncated,
}

pub(super) fn u16_of(reader: &mut Reader<'_>, field: &'static str) -> Result<u16, WireError> {
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

/// A name at this place of a message, wherever it goes on.
pub(super) fn name_at(message: &[u8], at: usize) -> Option<String> {
    let (mut at, mut labels) = (at, Vec::new());
    for _ in 0..MAX_LABELS {
        let len = *message.get(at)?;
        match len & 0xc0 {
            0 if len == 0 => return Some(labels.join(".")),
            0 => {
                let label = message.get(at + 1..at + 1 + usize::from(len))?;
                labels.push(str::from_utf8(label).ok()?.to_owned());
                at += 1 + usize::from(len);
            }
            // A pointer leads back, or nowhere (RFC 1035 §4.1.4).
            0xc0 => {
                let to = usize::from(len & 0x3f) << 8 | usize::from(*message.get(at + 1)?);
                at = (to < at).then_some(to)?;
            }
            _ => return None,
        }
    }
    None
}

pub(super) fn answer(message: Vec<u8>, asked: Asked<'_>) -> Result<Answer, DnsError> {
    let mut reader = Reader::new(&message);
    let met_id = u16_of(&mut reader, "id")?;
    let flags = u16_of(&mut reader, "flags")?;
    let [questions, answers] = [u16_of(&mut reader, "questions")?, u16_of(&mut reader, "answers")?];
    reader.take(4, "counts")?;
    let wanted = encode_name(asked.name).ok_or(DnsError::BadName)?;
    if met_id != asked.id || flags & FLAG_RESPONSE == 0 || questions != 1 {
        return Err(malformed("an answer to our question").into());
    }
    let met = reader.take(wanted.len(), "question")?;
    if !met.eq_ignore_ascii_case(&wanted) || u16_of(&mut reader, "type")? != asked.kind {
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
    let (authentic, mut data) = (flags & FLAG_AUTHENTIC != 0, Vec::new());
    for _ in 0..usize::from(answers).min(MAX_RECORDS) {
        skip_name(&mut reader)?;
        let kind = u16_of(&mut reader, "type")?;
        reader.take(6, "class and time to live")?;
        let len = u16_of(&mut reader, "length")?;
        let at = message.len() - reader.rest().len();
        let bytes = reader.take(len.into(), "data")?;
        if kind == asked.kind {
            data.push((at, bytes.to_vec()));
        }
    }
    Ok(Answer::Whole(Records { authentic, data, message }))
}

#[cfg(test)]
pub(super) mod tests {
    #![allow(clippy::unwrap_used, clippy::panic)]
    use super::*;
    use proptest::prelude::*;

    const ASKED: Asked<'_> = Asked { id: 7, name: "lamp-01.example", kind: 44 };

    /// An answer with these data.
    pub(in super::super) fn reply(asked: Asked<'_>, flags: u16, data: &[Vec<u8>]) -> Vec<u8> {
        let mut message = question(asked).unwrap();
        message.truncate(message.len() - 11);
        message[2..4].copy_from_slice(&(FLAG_RESPONSE | flags).to_be_bytes());
        message[6..8].copy_from_slice(&(data.len() as u16).to_be_bytes());
        message[10..12].copy_from_slice(&[0, 0]);
        for data in data {
            message.extend([0xc0, 12]);
            message.extend(asked.kind.to_be_bytes());
            message.extend([0, 1, 0, 0, 0, 60]);
            message.extend((data.len() as u16).to_be_bytes());
            message.extend(data);
        }
        message
    }

    pub(in super::super) fn whole(message: Vec<u8>, asked: Asked<'_>) -> Records {
        match answer(message, asked).unwrap() {
            Answer::Whole(records) => records,
            Answer::Truncated => panic!("truncated"),
        }
    }

    #[test]
    fn only_an_answer_to_the_question_counts() {
        assert!(matches!(answer(reply(ASKED, FLAG_TRUNCATED, &[]), ASKED), Ok(Answer::Truncated)));
        assert!(matches!(answer(reply(ASKED, 2, &[]), ASKED), Err(DnsError::Failed(2))));
        for other in [
            Asked { id: 8, ..ASKED },
            Asked { name: "lamp-02.example", ..ASKED },
            Asked { kind: 33, ..ASKED },
        ] {
            assert!(answer(reply(ASKED, 0, &[]), other).is_err());
        }
        for name in ["a..b", &"x".repeat(64)] {
            assert!(question(Asked { name, ..ASKED }).is_none());
        }
    }

    #[test]
    fn pointers_that_go_around_end() {
        assert_eq!(name_at(b"\x01a\x00\x01b\xc0\x00", 3).as_deref(), Some("b.a"));
        for (message, at) in
            [(&b"\xc0\x00"[..], 0), (b"\x01a\xc0\x00", 0), (b"\x05abc", 0), (b"", 0), (b"\xc0", 0)]
        {
            assert_eq!(name_at(message, at), None);
        }
    }

    proptest! {
        #[test]
        fn any_answer_is_read_or_refused(mut message in prop::collection::vec(any::<u8>(), 0..200), at in 0usize..80, byte: u8) {
            let _ = answer(message.clone(), ASKED);
            let _ = name_at(&message, at);
            message = reply(ASKED, FLAG_AUTHENTIC, &[vec![1; 34]]);
            if let Some(place) = message.get_mut(at) { *place = byte; }
            let _ = answer(message.clone(), ASKED);
            message.truncate(at);
            let _ = answer(message, ASKED);
        }
    }
}
