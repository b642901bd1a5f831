//! Where a service is, by SRV records (RFC 2782).

use std::net::SocketAddr;
use std::time::Duration;

use super::message::{DnsError, Records, ask, name_at};

const TYPE_SRV: u16 = 33;

/// Where a service is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Place {
    /// The name of the host.
    pub(crate) host: String,
    /// The port.
    pub(crate) port: u16,
}

/// Asks a resolver where a service is, by a name like `_kerberos._tcp.coast.example`; the likeliest place first.
///
/// # Errors
/// See [`DnsError`].
pub(crate) async fn service_places(
    resolver: SocketAddr,
    name: &str,
    limit: Duration,
) -> Result<Vec<Place>, DnsError> {
    Ok(found(&ask(resolver, name, TYPE_SRV, limit).await?))
}

fn found(records: &Records) -> Vec<Place> {
    let mut found: Vec<(u16, u16, Place)> = records
        .data
        .iter()
        .filter_map(|(at, data)| {
            let [a, b, c, d, e, f, ..] = *data.as_slice() else { return None };
            let number = |high, low| u16::from_be_bytes([high, low]);
            // Some let the name point elsewhere in the message, which the standard forbids.
            let host = name_at(&records.message, at + 6)?;
            // A dot alone says that there is no such service.
            let place = (!host.is_empty()).then(|| Place { host, port: number(e, f) })?;
            Some((number(a, b), number(c, d), place))
        })
        .collect();
    // By priority; of one priority the heaviest first, which is near enough to the drawing of lots that the standard describes.
    found.sort_by_key(|(priority, weight, _)| (*priority, u16::MAX - *weight));
    found.into_iter().map(|(_, _, place)| place).collect()
}

/// For the fuzz target: an answer, as it came.
#[cfg(fuzzing)]
pub(super) fn fuzz_answer(message: &[u8]) {
    let id = message.first().map_or(0, |a| u16::from(*a) << 8 | message.get(1).map_or(0, |b| u16::from(*b)));
    let asked = super::message::Asked { id, name: "lamp-01.example", kind: TYPE_SRV };
    if let Ok(super::message::Answer::Whole(records)) = super::message::answer(message.to_vec(), asked) {
        let _ = found(&records);
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]
    use super::super::message::Asked;
    use super::super::message::tests::{reply, whole};
    use super::*;

    const ASKED: Asked<'_> = Asked { id: 7, name: "_kerberos._tcp.coast.example", kind: TYPE_SRV };

    #[test]
    fn places_come_in_order_and_names_may_point_elsewhere() {
        let data = [
            b"\x00\x02\x00\x00\x00\x58\x04last\x00".to_vec(),
            b"\x00\x01\x00\x01\x22\xb8\x05light\x00".to_vec(),
            // `coast.example` stands in the question.
            b"\x00\x01\x00\x09\x00\x58\x04tide\xc0\x1b".to_vec(),
            b"\x00\x01\x00\x09\x00\x58\x00".to_vec(),
            b"\x00\x01".to_vec(),
        ];
        let places = found(&whole(reply(ASKED, 0, &data), ASKED));
        let places: Vec<(&str, u16)> = places.iter().map(|place| (place.host.as_str(), place.port)).collect();
        assert_eq!(places, [("tide.coast.example", 88), ("light", 8888), ("last", 88)]);
    }
}
