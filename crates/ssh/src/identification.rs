//! The identification strings that open a connection (RFC 4253 §4.2).

use bytes::BytesMut;

use crate::limits::{MAX_IDENTIFICATION_LEN, MAX_PROLOGUE_LINE_LEN, MAX_PROLOGUE_LINES};
use crate::{Role, SshError};

/// What we call ourselves, without the line end. The version tells a server's log what spoke to it.
pub const OURS: &str = concat!("SSH-2.0-BrassLantern_", env!("CARGO_PKG_VERSION"));

/// Looks for the peer's identification at the front of what it sent.
#[derive(Debug, Default)]
pub(crate) struct ExpectIdentification {
    lines_seen: usize,
    first_line: Option<String>,
    /// Only servers may send lines ahead of their identification.
    prologue_allowed: bool,
}

impl ExpectIdentification {
    pub(crate) fn new(our_role: Role) -> Self {
        Self { prologue_allowed: our_role == Role::Client, ..Self::default() }
    }

    /// Takes lines off `input`; the identification without its line end, once it is there.
    pub(crate) fn poll(&mut self, input: &mut BytesMut) -> Result<Option<String>, SshError> {
        loop {
            // SSH-1.99 is a server that speaks 2.0 too (RFC 4253 §5.1).
            let ours = [b"SSH-2.0-".as_slice(), b"SSH-1.99-"];
            let is_identification = ours.iter().any(|prefix| input.starts_with(prefix));
            let limit = if is_identification { MAX_IDENTIFICATION_LEN } else { MAX_PROLOGUE_LINE_LEN };
            let Some(end) = input.iter().take(limit).position(|byte| *byte == b'\n') else {
                if input.len() >= limit {
                    return Err(self.not_ssh(input));
                }
                return Ok(None);
            };
            let line = input.split_to(end + 1);
            let text = line.strip_suffix(b"\n").unwrap_or(&line);
            let text = text.strip_suffix(b"\r").unwrap_or(text);
            if is_identification {
                return match std::str::from_utf8(text) {
                    Ok(text) if !text.contains('\0') => Ok(Some(text.to_owned())),
                    _ => {
                        Err(SshError::PeerBroke { rule: "the identification must be text (RFC 4253 §4.2)" })
                    }
                };
            }
            if !self.prologue_allowed || text.starts_with(b"SSH-") {
                return Err(self.not_ssh(text));
            }
            self.first_line.get_or_insert_with(|| {
                let shown = text.get(..text.len().min(SHOWN_LEN)).unwrap_or_default();
                String::from_utf8_lossy(shown).into_owned()
            });
            self.lines_seen += 1;
            if self.lines_seen > MAX_PROLOGUE_LINES {
                return Err(SshError::LimitExceeded {
                    what: "lines before the identification",
                    limit: MAX_PROLOGUE_LINES as u64,
                });
            }
        }
    }

    /// Whether what has come so far is no identification, nor the start of one.
    pub(crate) fn is_something_else(&self, rest: &[u8]) -> bool {
        self.first_line.is_some()
            || (!rest.is_empty() && !b"SSH-".starts_with(rest) && !rest.starts_with(b"SSH-"))
    }

    /// What it is that answered, going by what it said.
    pub(crate) fn not_ssh(&self, rest: &[u8]) -> SshError {
        let rest = rest.get(..rest.len().min(SHOWN_LEN)).unwrap_or_default();
        let rest = String::from_utf8_lossy(rest).into_owned();
        let answered = self.first_line.clone().unwrap_or(rest);
        match BUSY.iter().any(|start| answered.starts_with(start)) {
            true => SshError::Busy { answered },
            false => SshError::NotSsh { answered },
        }
    }

    /// What it means that the peer closed the line before it had identified itself.
    pub(crate) fn ended(&self, rest: &[u8]) -> SshError {
        match self.is_something_else(rest) {
            true => self.not_ssh(rest),
            false if rest.is_empty() => SshError::Closed { during: "before it said what it is" },
            false => SshError::Closed { during: "in the middle of its identification" },
        }
    }
}

/// How much of an answer is kept to be shown, in bytes.
const SHOWN_LEN: usize = 200;
/// What servers say in place of an identification when they have too many visitors, or too many failures from this
/// address. No standard has words for it; these are in use.
const BUSY: [&str; 2] = ["Exceeded MaxStartups", "Not allowed at this time"];
