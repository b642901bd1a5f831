//! From where a machine may be reached: addresses and networks, never everybody.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

/// An address, or a network as `address/length`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Source {
    address: IpAddr,
    length: u8,
}

/// Why a text is no source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SourceError {
    /// It is neither an address nor a network.
    #[error("must be an IP address, or a network like 192.0.2.0/24")]
    Form,
    /// It is the whole world.
    #[error("is everybody; name the network that you come from")]
    Everybody,
}

impl Source {
    /// One address.
    pub fn of(address: IpAddr) -> Self {
        Self { address, length: bits(address) }
    }

    /// The address, or the first of the network.
    pub fn address(&self) -> IpAddr {
        self.address
    }

    /// Whether all of another source is in this one.
    pub fn contains(&self, other: &Self) -> bool {
        bits(self.address) == bits(other.address)
            && self.length <= other.length
            && masked(other.address, self.length) == self.address
    }
}

fn bits(address: IpAddr) -> u8 {
    if address.is_ipv4() { 32 } else { 128 }
}

fn masked(address: IpAddr, length: u8) -> IpAddr {
    let drop = u32::from(bits(address).saturating_sub(length));
    match address {
        IpAddr::V4(v4) => {
            IpAddr::V4((v4.to_bits().checked_shr(drop).unwrap_or(0).checked_shl(drop).unwrap_or(0)).into())
        }
        IpAddr::V6(v6) => {
            IpAddr::V6((v6.to_bits().checked_shr(drop).unwrap_or(0).checked_shl(drop).unwrap_or(0)).into())
        }
    }
}

impl FromStr for Source {
    type Err = SourceError;

    fn from_str(text: &str) -> Result<Self, SourceError> {
        let (address, length) =
            text.split_once('/').map_or((text, None), |(address, length)| (address, Some(length)));
        let address: IpAddr = address.trim().parse().map_err(|_| match text {
            "any" | "*" | "everybody" | "all" => SourceError::Everybody,
            _ => SourceError::Form,
        })?;
        let length = match length {
            Some(length) => {
                length.parse().ok().filter(|length| *length <= bits(address)).ok_or(SourceError::Form)?
            }
            None => bits(address),
        };
        match length == 0 || address.is_unspecified() {
            true => Err(SourceError::Everybody),
            false => Ok(Self { address: masked(address, length), length }),
        }
    }
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.length == bits(self.address) {
            true => write!(f, "{}", self.address),
            false => write!(f, "{}/{}", self.address, self.length),
        }
    }
}

/// The same without those that are in others: firewalls refuse what overlaps.
pub(super) fn without_overlaps(sources: &[Source]) -> Vec<Source> {
    let mut kept: Vec<Source> = Vec::new();
    for source in sources {
        if !kept.iter().any(|other| other.contains(source)) {
            kept.retain(|other| !source.contains(other));
            kept.push(*source);
        }
    }
    kept
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_source_is_an_address_or_a_network_and_never_everybody() {
        for (text, shown) in [
            ("192.0.2.4", "192.0.2.4"),
            ("192.0.2.4/32", "192.0.2.4"),
            ("192.0.2.77/24", "192.0.2.0/24"),
            ("2001:db8::7", "2001:db8::7"),
            ("2001:db8:1:2::7/64", "2001:db8:1:2::/64"),
        ] {
            assert_eq!(text.parse::<Source>().unwrap().to_string(), shown);
        }
        for text in ["0.0.0.0/0", "::/0", "any", "*", "10.0.0.0/0", "0.0.0.0", "::"] {
            assert_eq!(text.parse::<Source>(), Err(SourceError::Everybody), "{text}");
        }
        for text in
            ["", "lamp.example", "192.0.2.4/33", "2001:db8::/129", "192.0.2", "192.0.2.4/-1", "192.0.2.4/"]
        {
            assert_eq!(text.parse::<Source>(), Err(SourceError::Form), "{text}");
        }
    }

    proptest! {
        #[test]
        fn what_is_left_covers_the_same_and_nothing_twice(all in proptest::collection::vec((any::<[u8; 4]>(), 1u8..=32), 0..12)) {
            let near = |bytes: [u8; 4]| IpAddr::from([10, bytes[1] & 1, bytes[2] & 1, bytes[3]]);
            let all: Vec<Source> = all
                .into_iter()
                .map(|(bytes, length)| Source { address: masked(near(bytes), length), length })
                .collect();
            let kept = without_overlaps(&all);
            for source in &all {
                prop_assert!(kept.iter().any(|other| other.contains(source)));
            }
            for (at, one) in kept.iter().enumerate() {
                prop_assert!(kept.iter().enumerate().all(|(other_at, other)| at == other_at || !other.contains(one)));
            }
        }
    }
}
