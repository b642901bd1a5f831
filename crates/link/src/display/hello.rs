//! The beginning of a conversation with a display, as a program of ours holds it, and the requests of its SECURITY extension.

use super::DisplayAuthorization;

/// Longest answer to a set-up that is taken, in bytes: real ones have some kilobytes.
const MAX_ANSWER: usize = 256 * 1024;
/// Longest reason of a refusal that is kept, in bytes.
const MAX_REASON: usize = 200;
/// The head of an answer, and the whole of most replies.
const HEAD: usize = 8;
pub(super) const REPLY: usize = 32;
/// QueryExtension (X Window System Protocol, opcode 98).
const QUERY_EXTENSION: u8 = 98;
/// SecurityGenerateAuthorization (Security Extension Protocol).
const GENERATE_AUTHORIZATION: u8 = 1;
/// The values that it is made with: a time limit, and how far it is trusted.
const TIMEOUT: u32 = 1;
const TRUST_LEVEL: u32 = 2;
const UNTRUSTED: u32 = 1;

/// What a display answers to a set-up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum SetupAnswer {
    /// It takes us.
    Welcome,
    /// It does not, in its words.
    Refused(String),
}

fn padded(len: usize) -> usize {
    len.next_multiple_of(4)
}

fn u16_at(bytes: &[u8], at: usize) -> Option<usize> {
    Some(u16::from_le_bytes(*bytes.get(at..)?.first_chunk()?).into())
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

/// Reads the answer to a set-up off the front, and how long it is; none until it is all there.
///
/// # Errors
/// What answers is no display.
pub(super) fn answer(bytes: &[u8]) -> Result<Option<(SetupAnswer, usize)>, &'static str> {
    let Some(head) = bytes.get(..HEAD) else { return Ok(None) };
    let kind = head.first().copied().unwrap_or(u8::MAX);
    let len = HEAD + u16_at(head, 6).unwrap_or(0) * 4;
    if kind > 2 || len > MAX_ANSWER {
        return Err("it does not answer as a display does");
    }
    let Some(rest) = bytes.get(HEAD..len) else { return Ok(None) };
    let reason = |bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes);
        lantern_ssh::neutralize_line(text.trim_matches(['\0', '\n', ' ']), MAX_REASON)
    };
    Ok(Some(match kind {
        1 => (SetupAnswer::Welcome, len),
        0 => {
            let said = rest.get(..usize::from(head.get(1).copied().unwrap_or(0)).min(rest.len()));
            (SetupAnswer::Refused(reason(said.unwrap_or_default())), len)
        }
        _ => (SetupAnswer::Refused(reason(rest)), len),
    }))
}

/// Asks whether the display has an extension.
pub(super) fn query_extension(name: &str) -> Vec<u8> {
    let len = padded(name.len());
    let mut out = vec![QUERY_EXTENSION, 0];
    out.extend(u16::try_from(2 + len / 4).unwrap_or(2).to_le_bytes());
    out.extend(u16::try_from(name.len()).unwrap_or(0).to_le_bytes());
    out.extend([0, 0]);
    out.extend(name.as_bytes());
    out.resize(8 + len, 0);
    out
}

/// The extension's number, when there is one. The reply has [`REPLY`] bytes.
pub(super) fn extension(reply: &[u8]) -> Option<u8> {
    (reply.first() == Some(&1) && reply.get(8) == Some(&1)).then(|| reply.get(9).copied()).flatten()
}

/// Asks for an authorization that is not trusted, and goes when nobody has used it for this time, in seconds.
pub(super) fn generate_authorization(extension: u8, protocol: &str, seconds: u32) -> Vec<u8> {
    let len = padded(protocol.len());
    let mut out = vec![extension, GENERATE_AUTHORIZATION];
    // The fixed part has three words, and two values follow.
    out.extend(u16::try_from(3 + len / 4 + 2).unwrap_or(5).to_le_bytes());
    out.extend(u16::try_from(protocol.len()).unwrap_or(0).to_le_bytes());
    out.extend(0u16.to_le_bytes());
    out.extend((TIMEOUT | TRUST_LEVEL).to_le_bytes());
    out.extend(protocol.as_bytes());
    out.resize(12 + len, 0);
    out.extend(seconds.to_le_bytes());
    out.extend(UNTRUSTED.to_le_bytes());
    out
}

/// The authorization, once it is all there.
///
/// # Errors
/// The display makes none.
pub(super) fn authorization(
    reply: &[u8],
    protocol: &str,
) -> Result<Option<DisplayAuthorization>, &'static str> {
    let Some(head) = reply.get(..REPLY) else { return Ok(None) };
    if head.first() != Some(&1) {
        return Err("it makes no authorization for us");
    }
    let words = u32_at(head, 4).and_then(|words| usize::try_from(words).ok()).unwrap_or(usize::MAX);
    let len = u16_at(head, 12).unwrap_or(0);
    if words > 1024 || len == 0 || len > words * 4 {
        return Err("its authorization has a form that is not known here");
    }
    match (reply.get(REPLY..REPLY + len), reply.len() >= REPLY + words * 4) {
        (Some(data), true) => Ok(Some(DisplayAuthorization {
            protocol: protocol.into(),
            data: zeroize::Zeroizing::new(data.to_vec()),
        })),
        _ => Ok(None),
    }
}

/// Answers of a display from any bytes.
#[cfg(fuzzing)]
pub fn fuzz_reply(bytes: &[u8]) {
    let _ = answer(bytes);
    let _ = extension(bytes);
    let _ = authorization(bytes, "MIT-MAGIC-COOKIE-1");
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn answers_are_taken_once_they_are_whole() {
        let mut refused = vec![0, 12, 11, 0, 0, 0, 3, 0];
        refused.extend(b"not\x1ball\nowed");
        for cut in 0..refused.len() {
            assert_eq!(answer(&refused[..cut]).unwrap(), None);
        }
        let (met, len) = answer(&refused).unwrap().unwrap();
        assert_eq!(len, 20);
        assert!(
            matches!(met, SetupAnswer::Refused(words) if words.starts_with("not") && !words.contains('\x1b'))
        );
        assert_eq!(answer(&[1, 0, 11, 0, 0, 0, 0, 0]).unwrap(), Some((SetupAnswer::Welcome, 8)));
        assert!(answer(b"SSH-2.0-lamp").is_err());
    }

    #[test]
    fn requests_have_the_length_that_they_say() {
        for request in [query_extension("SECURITY"), generate_authorization(140, "MIT-MAGIC-COOKIE-1", 1200)]
        {
            assert_eq!(u16_at(&request, 2).unwrap() * 4, request.len());
        }
    }

    proptest! {
        #[test]
        fn any_answer_is_survived(kind in 0..4u8, bytes: Vec<u8>) {
            for bytes in [bytes.clone(), [&[kind][..], &bytes].concat()] {
                let _ = answer(&bytes);
                let _ = extension(&bytes);
                let _ = authorization(&bytes, "x");
            }
        }
    }
}
