//! The address that a machine sees us come from.

use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};

/// The address of this computer that a machine at this place would see. None where nobody here can know: behind a router that gives the whole
/// network another one, or without a way there.
pub(crate) fn source_address(place: &str) -> Option<IpAddr> {
    let to: SocketAddr = place.parse().ok()?;
    let any: SocketAddr = match to {
        SocketAddr::V4(_) => (Ipv4Addr::UNSPECIFIED, 0).into(),
        SocketAddr::V6(_) => (std::net::Ipv6Addr::UNSPECIFIED, 0).into(),
    };
    // Nothing is sent: the system only chooses the way.
    let socket = UdpSocket::bind(any).ok()?;
    socket.connect(to).ok()?;
    let ours = socket.local_addr().ok()?.ip();
    is_seen(to.ip(), ours).then_some(ours)
}

/// Whether an address of ours is what a machine at another one sees.
fn is_seen(theirs: IpAddr, ours: IpAddr) -> bool {
    !ours.is_unspecified() && (!is_inner(ours) || is_inner(theirs))
}

/// Whether an address counts within a network only (RFC 1918, RFC 6598, RFC 4193).
fn is_inner(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let [first, second, ..] = v4.octets();
            v4.is_private() || v4.is_loopback() || v4.is_link_local() || first == 100 && second & 0xc0 == 64
        }
        IpAddr::V6(v6) => v6.is_loopback() || v6.is_unique_local() || v6.is_unicast_link_local(),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn an_inner_address_is_not_told_for_a_machine_outside() {
        let seen = |theirs: &str, ours: &str| is_seen(theirs.parse().unwrap(), ours.parse().unwrap());
        for (theirs, ours, expected) in [
            ("10.0.0.7", "10.0.0.9", true),
            ("10.0.0.7", "192.168.1.2", true),
            ("192.0.2.7", "10.0.0.9", false),
            ("192.0.2.7", "100.64.0.9", false),
            ("192.0.2.7", "198.51.100.9", true),
            ("10.0.0.7", "198.51.100.9", true),
            ("10.0.0.7", "0.0.0.0", false),
            ("2001:db8::7", "2001:db8::9", true),
            ("2001:db8::7", "fd00::9", false),
            ("fd00::7", "fd00::9", true),
        ] {
            assert_eq!(seen(theirs, ours), expected, "{theirs} {ours}");
        }
        assert_eq!(source_address("127.0.0.1:22"), Some(Ipv4Addr::LOCALHOST.into()));
        assert_eq!(source_address("lamp.example:22"), None);
    }
}
