//! The identification strings that open a connection (RFC 4253 §4.2).

use bytes::{Buf, BytesMut};

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
            self.first_line.get_or_insert_with(|| String::from_utf8_lossy(text).into_owned());
            self.lines_seen += 1;
            if self.lines_seen > MAX_PROLOGUE_LINES {
                return Err(SshError::LimitExceeded {
                    what: "lines before the identification",
                    limit: MAX_PROLOGUE_LINES as u64,
                });
            }
        }
    }

    /// What to say when the peer goes silent or away before it identified itself.
    pub(crate) fn not_ssh(&self, rest: &[u8]) -> SshError {
        let mut rest = rest;
        let shown = rest.copy_to_bytes(rest.len().min(200));
        let rest = String::from_utf8_lossy(&shown).into_owned();
        SshError::NotSsh { answered: self.first_line.clone().unwrap_or(rest) }
    }
}
