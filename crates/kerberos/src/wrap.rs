//! Messages sealed with the key of a login (RFC 4121 §4.2).

use lantern_keys::{RandomSource, SystemRandom};
use subtle::ConstantTimeEq;
use zeroize::Zeroizing;

use crate::KerberosError;
use crate::encryption::{Key, usage};

/// The length of the head of a token, in bytes.
const HEAD: usize = 16;
/// One block of what is random, in front of the message, in bytes.
const CONFOUNDER: usize = 16;

const SENT_BY_ACCEPTOR: u8 = 1;
const SEALED: u8 = 2;
const ACCEPTOR_SUBKEY: u8 = 4;

/// A sealed message in two parts, the second of which is as long as the message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrapped {
    /// Everything that was added.
    pub signature: Vec<u8>,
    /// The encrypted message.
    pub data: Vec<u8>,
}

/// Seals what is sent and opens what comes, in order.
pub struct Wraps {
    key: Key,
    is_acceptor: bool,
    /// Whether the key is the one that the machine chose.
    by_acceptor: bool,
    send: u64,
    receive: u64,
    random: Box<dyn RandomSource + Sync>,
}

impl std::fmt::Debug for Wraps {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Wraps(…)")
    }
}

impl Wraps {
    pub(crate) fn new(key: Key, is_acceptor: bool, by_acceptor: bool, send: u32, receive: u32) -> Self {
        let (send, receive) = (send.into(), receive.into());
        Self { key, is_acceptor, by_acceptor, send, receive, random: Box::new(SystemRandom) }
    }

    fn flags(&self, by_acceptor: bool) -> u8 {
        u8::from(by_acceptor) * SENT_BY_ACCEPTOR + u8::from(self.by_acceptor) * ACCEPTOR_SUBKEY
    }

    fn head(&self, flags: u8, rotated: u16, sequence: u64) -> [u8; HEAD] {
        let mut head = [0; HEAD];
        head[..4].copy_from_slice(&[5, 4, flags, 0xff]);
        head[6..8].copy_from_slice(&rotated.to_be_bytes());
        head[8..].copy_from_slice(&sequence.to_be_bytes());
        head
    }

    /// Seals a message.
    pub fn seal(&mut self, message: &[u8]) -> Wrapped {
        let flags = self.flags(self.is_acceptor) | SEALED;
        let head = self.head(flags, 0, self.send);
        let plain = Zeroizing::new([message, &head].concat());
        let usage = if self.is_acceptor { usage::ACCEPTOR_SEAL } else { usage::INITIATOR_SEAL };
        let mut cipher = self.key.encrypt(usage, &plain, &mut *self.random);
        // What stands behind the message is turned to its front, so that the rest has the message's length.
        let behind = cipher.len().saturating_sub(CONFOUNDER + message.len());
        cipher.rotate_right(behind);
        let mut signature = self.head(flags, u16::try_from(behind).unwrap_or(0), self.send).to_vec();
        let data = cipher.split_off(behind + CONFOUNDER);
        signature.append(&mut cipher);
        self.send = self.send.wrapping_add(1);
        Wrapped { signature, data }
    }

    /// Opens a message, however its parts were turned.
    ///
    /// # Errors
    /// It was changed, repeated, or another was left out before it; it comes from ourselves; it is not sealed.
    pub fn open(&mut self, signature: &[u8], data: &[u8]) -> Result<Zeroizing<Vec<u8>>, KerberosError> {
        let token = [signature, data].concat();
        let (head, body) = token.split_first_chunk::<HEAD>().ok_or(KerberosError::Altered)?;
        let [5, 4, flags, 0xff, e1, e2, r1, r2, ..] = *head else { return Err(KerberosError::Altered) };
        if flags != self.flags(!self.is_acceptor) | SEALED
            || *head != {
                let mut own = self.head(flags, u16::from_be_bytes([r1, r2]), self.receive);
                own[4..6].copy_from_slice(&[e1, e2]);
                own
            }
        {
            return Err(KerberosError::Altered);
        }
        let mut body = body.to_vec();
        let turned = usize::from(u16::from_be_bytes([r1, r2])).checked_rem(body.len()).unwrap_or(0);
        body.rotate_left(turned);
        let usage = if self.is_acceptor { usage::INITIATOR_SEAL } else { usage::ACCEPTOR_SEAL };
        let mut plain = self.key.decrypt(usage, &body)?;
        let mut signed = *head;
        signed[6..8].fill(0);
        let filler = usize::from(u16::from_be_bytes([e1, e2]));
        let len = plain.len().checked_sub(HEAD + filler).ok_or(KerberosError::Altered)?;
        if plain.get(len + filler..) != Some(&signed[..]) {
            return Err(KerberosError::Altered);
        }
        plain.truncate(len);
        self.receive = self.receive.wrapping_add(1);
        Ok(plain)
    }

    /// Whether this is the other side's integrity code over a message (§4.2.6.1).
    pub fn is_signed(&mut self, message: &[u8], token: &[u8]) -> bool {
        let Some((head, code)) = token.split_first_chunk::<HEAD>() else { return false };
        let flags = self.flags(!self.is_acceptor);
        if *head != signing_head(flags, self.receive) {
            return false;
        }
        let usage = if self.is_acceptor { usage::INITIATOR_SIGN } else { usage::ACCEPTOR_SIGN };
        self.receive = self.receive.wrapping_add(1);
        self.key.checksum(usage, &[message, head]).ct_eq(code).into()
    }

    /// An integrity code over a message.
    pub fn sign(&mut self, message: &[u8]) -> Vec<u8> {
        let head = signing_head(self.flags(self.is_acceptor), self.send);
        let usage = if self.is_acceptor { usage::ACCEPTOR_SIGN } else { usage::INITIATOR_SIGN };
        self.send = self.send.wrapping_add(1);
        [&head[..], &self.key.checksum(usage, &[message, &head])].concat()
    }
}

fn signing_head(flags: u8, sequence: u64) -> [u8; HEAD] {
    let mut head = [0xff; HEAD];
    head[..3].copy_from_slice(&[4, 4, flags]);
    head[8..].copy_from_slice(&sequence.to_be_bytes());
    head
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use crate::EncryptionType;
    use proptest::prelude::*;

    fn pair(kind: EncryptionType, by_acceptor: bool) -> (Wraps, Wraps) {
        let key = Key::generate(kind, &mut SystemRandom);
        (
            Wraps::new(key.clone(), false, by_acceptor, 7, u32::MAX),
            Wraps::new(key, true, by_acceptor, u32::MAX, 7),
        )
    }

    proptest! {
        #[test]
        fn parts_may_be_turned_in_any_way_and_cut_anywhere(message in proptest::collection::vec(any::<u8>(), 0..200), turn: u16, cut: prop::sample::Index, by_acceptor: bool) {
            for kind in EncryptionType::ALL {
                let (mut client, mut machine) = pair(kind, by_acceptor);
                let Wrapped { signature, data } = client.seal(&message);
                prop_assert_eq!(data.len(), message.len());
                let mut token = [signature, data].concat();
                let own = u16::from_be_bytes([token[6], token[7]]);
                let len = token.len() - HEAD;
                token[HEAD..].rotate_left(usize::from(own));
                token[HEAD..].rotate_right(usize::from(turn) % len);
                token[6..8].copy_from_slice(&turn.to_be_bytes());
                let at = cut.index(token.len());
                prop_assert_eq!(&*machine.open(&token[..at], &token[at..]).unwrap(), &message);
                // What the machine says has another number, and the client takes nothing of its own.
                let Wrapped { signature, data } = machine.seal(&message);
                prop_assert_eq!(machine.open(&signature, &data), Err(KerberosError::Altered));
                prop_assert_eq!(&*client.open(&signature, &data).unwrap(), &message);
            }
        }

        #[test]
        fn a_changed_token_does_not_open(message in proptest::collection::vec(any::<u8>(), 0..60), at: prop::sample::Index, flip in 1u8.., bytes: Vec<u8>) {
            let (mut client, mut machine) = pair(EncryptionType::Aes256Sha1, true);
            let Wrapped { signature, data } = client.seal(&message);
            let mut token = [signature, data].concat();
            let at = at.index(token.len());
            token[at] ^= flip;
            let opened = machine.open(&token, &[]);
            // Turned by whole lengths, it is the same.
            let is_turn = (6..8).contains(&at);
            prop_assert!(opened.is_err() || is_turn && *opened.unwrap() == message, "{}", at);
            prop_assert!(machine.open(&bytes, &[]).is_err());
            prop_assert!(!machine.is_signed(&message, &bytes));
        }
    }
}
