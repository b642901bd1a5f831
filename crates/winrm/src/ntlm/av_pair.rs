//! What a machine says of itself in its challenge: attributes and values (MS-NLMP 2.2.2.1).

use super::NtlmError;
use super::message::utf16;

/// Most pairs that are read: there are ten kinds.
const MAX_PAIRS: usize = 32;

const END: u16 = 0;
const COMPUTER: u16 = 1;
const DOMAIN: u16 = 2;
const DNS_COMPUTER: u16 = 3;
const DNS_DOMAIN: u16 = 4;
const FLAGS: u16 = 6;
const TIMESTAMP: u16 = 7;
const TARGET_NAME: u16 = 9;
const CHANNEL_BINDING: u16 = 10;
/// In the flags: the third message has an integrity code.
const HAS_MIC: u32 = 2;

/// From 1601 to 1970, in seconds: the calendar of time stamps begins with the first year of a cycle of leap years.
pub(super) const EPOCH: i64 = 11_644_473_600;

/// A time in seconds since 1970, in tenths of microseconds since 1601.
pub(super) fn file_time(seconds: i64) -> u64 {
    u64::try_from(seconds.saturating_add(EPOCH).saturating_mul(10_000_000)).unwrap_or_default()
}

/// What a machine says of itself. Text from outside.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TargetInfo {
    /// The name of the computer, as old networks have it.
    pub computer: String,
    /// The name of its domain; of the computer, where it is in none.
    pub domain: String,
    /// The computer's name in DNS.
    pub dns_computer: String,
    /// The domain's name in DNS.
    pub dns_domain: String,
}

/// The pairs as they came.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(super) struct Pairs(Vec<(u16, Vec<u8>)>);

impl Pairs {
    pub(super) fn read(mut bytes: &[u8]) -> Result<Self, NtlmError> {
        let damaged = NtlmError::Damaged("its target information ends early");
        let mut pairs = Vec::new();
        loop {
            let ([a, b, c, d], rest) = bytes.split_first_chunk::<4>().ok_or(damaged)?;
            let (id, len) = (u16::from_le_bytes([*a, *b]), usize::from(u16::from_le_bytes([*c, *d])));
            if id == END {
                return Ok(Self(pairs));
            }
            let (value, rest) = rest.split_at_checked(len).ok_or(damaged)?;
            if pairs.len() == MAX_PAIRS {
                return Err(NtlmError::Damaged("its target information has no end"));
            }
            pairs.push((id, value.to_vec()));
            bytes = rest;
        }
    }

    pub(super) fn encode(&self) -> Vec<u8> {
        let mut out = Vec::new();
        for (id, value) in &self.0 {
            out.extend(id.to_le_bytes());
            out.extend(u16::try_from(value.len()).unwrap_or(u16::MAX).to_le_bytes());
            out.extend(value);
        }
        out.extend([0; 4]);
        out
    }

    fn get(&self, id: u16) -> Option<&[u8]> {
        self.0.iter().find(|(of, _)| *of == id).map(|(_, value)| value.as_slice())
    }

    fn set(&mut self, id: u16, value: Vec<u8>) {
        self.0.retain(|(of, _)| *of != id);
        self.0.push((id, value));
    }

    /// When the machine says that it is, in tenths of microseconds since 1601.
    pub(super) fn timestamp(&self) -> Option<u64> {
        Some(u64::from_le_bytes(*self.get(TIMESTAMP)?.first_chunk::<8>()?))
    }

    pub(super) fn info(&self) -> TargetInfo {
        let text = |id| {
            let units = self
                .get(id)
                .unwrap_or_default()
                .as_chunks::<2>()
                .0
                .iter()
                .map(|pair| u16::from_le_bytes(*pair));
            char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
        };
        TargetInfo {
            computer: text(COMPUTER),
            domain: text(DOMAIN),
            dns_computer: text(DNS_COMPUTER),
            dns_domain: text(DNS_DOMAIN),
        }
    }

    /// What goes back: the same, with what the client adds (3.1.5.1.2).
    pub(super) fn answered(mut self, service: &str, binding: Option<[u8; 16]>) -> Self {
        let flags = self
            .get(FLAGS)
            .and_then(|value| value.first_chunk::<4>())
            .map_or(0, |value| u32::from_le_bytes(*value));
        self.set(FLAGS, (flags | HAS_MIC).to_le_bytes().to_vec());
        self.set(TARGET_NAME, utf16(service));
        // Zeros say that there is no channel around it.
        self.set(CHANNEL_BINDING, binding.unwrap_or_default().to_vec());
        self
    }

    pub(super) fn has_mic(&self) -> bool {
        self.get(FLAGS)
            .and_then(|value| value.first_chunk::<4>())
            .is_some_and(|flags| u32::from_le_bytes(*flags) & HAS_MIC != 0)
    }

    pub(super) fn binding(&self) -> Option<&[u8]> {
        self.get(CHANNEL_BINDING)
    }

    /// What a machine says of itself.
    pub(super) fn of_machine(info: &TargetInfo, now: u64) -> Self {
        let mut pairs = vec![(DOMAIN, utf16(&info.domain)), (COMPUTER, utf16(&info.computer))];
        for (id, text) in [(DNS_DOMAIN, &info.dns_domain), (DNS_COMPUTER, &info.dns_computer)] {
            if !text.is_empty() {
                pairs.push((id, utf16(text)));
            }
        }
        pairs.push((TIMESTAMP, now.to_le_bytes().to_vec()));
        Self(pairs)
    }
}
