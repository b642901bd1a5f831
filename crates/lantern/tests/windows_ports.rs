//! Machines of Windows that are not reached: a listener that is missing, a firewall, a name.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod support;

use lantern_harbour::WindowsSpec;
use support::windows::{Windows, chart_room, check, desk_for, trust};

#[test]
fn the_other_port_is_looked_at_where_the_right_one_does_not_answer() {
    let address = std::net::IpAddr::V4(std::net::Ipv4Addr::new(127, 77, 1, 40));
    let spec = WindowsSpec { certificate: None, address, port: 5985, ..chart_room() };
    let windows = Windows::light(spec);
    let desk = desk_for(&windows, &[]);
    desk.lantern(&["machine", "set", "chart-room", "port="]).expect(0);
    let account = check(&desk, 244);
    assert_eq!(account["failed_step"], "port");
    for words in ["5985 answers: the service runs, and this listener is missing", "New-Item WSMan"] {
        assert!(account.to_string().contains(words), "{words}: {account:#}");
    }
    // The port of plain HTTP asked for TLS, and mended as it is advised: then nothing listens there, as before.
    desk.lantern(&["machine", "set", "chart-room", "port=5985"]).expect(0);
    let account = check(&desk, 246);
    let advice = "lantern machine set chart-room port=5986";
    assert_eq!((account["failed_step"].as_str(), account["next"].as_str()), (Some("TLS"), Some(advice)));
    desk.lantern(&advice.split(' ').skip(1).collect::<Vec<_>>()).expect(0);
    assert_eq!(check(&desk, 244)["failed_step"], "port");
    desk.lantern(&["machine", "set", "chart-room", "port=", "plain=private-network"]).expect(0);
    check(&desk, 1);
    desk.lantern(&["machine", "set", "chart-room", "plain=", "port=5985"]).expect(0);
}

/// A port whose packets nobody answers: its queue is full, and the system drops what comes.
fn filtered(address: std::net::SocketAddr) -> (socket2::Socket, Vec<std::net::TcpStream>) {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
    socket.set_reuse_address(true).unwrap();
    socket.bind(&address.into()).unwrap();
    socket.listen(0).unwrap();
    let limit = std::time::Duration::from_millis(300);
    let mut waiting = Vec::new();
    while let Ok(stream) = std::net::TcpStream::connect_timeout(&address, limit) {
        waiting.push(stream);
        assert!(waiting.len() < 10, "the queue does not fill");
    }
    (socket, waiting)
}

#[test]
fn a_firewall_that_lets_one_port_in_and_not_the_other_is_told_as_such() {
    let address = std::net::IpAddr::V4(std::net::Ipv4Addr::new(127, 77, 1, 41));
    let plain = WindowsSpec { certificate: None, address, port: 5985, ..chart_room() };
    let windows = Windows::light(plain);
    let desk = desk_for(&windows, &[]);
    desk.lantern(&["machine", "set", "chart-room", "port="]).expect(0);
    let firewall = filtered((address, 5986).into());
    let account = check(&desk, 245);
    assert_eq!(account["failed_step"], "port");
    for words in [
        "5985 answers: the firewall lets that port in, and not 5986",
        "New-NetFirewallRule -DisplayName 'WinRM 5986'",
        "-LocalPort 5986 -RemoteAddress 127.",
    ] {
        assert!(account.to_string().contains(words), "{words}: {account:#}");
    }
    // With the rule that is advised, the port is reached.
    drop(firewall);
    let windows = Windows::light(WindowsSpec { address, port: 5986, ..chart_room() });
    trust(&desk, &windows);
    check(&desk, 0);
}

#[test]
fn a_name_that_is_not_found_need_not_be_one() {
    let windows = Windows::light(chart_room());
    let desk = desk_for(&windows, &[]);
    trust(&desk, &windows);
    desk.lantern(&["machine", "set", "chart-room", "address=chart-room.invalid"]).expect(0);
    let account = check(&desk, 242);
    assert_eq!(account["failed_step"], "name");
    let text = account.to_string();
    assert!(text.contains("certificate-name=chart-room.invalid"), "{account:#}");
    // As it is advised: the address that is known, and the name for the certificate.
    let address = format!("address={}", windows.address.ip());
    desk.lantern(&["machine", "set", "chart-room", &address, "certificate-name=chart-room.invalid"])
        .expect(0);
    check(&desk, 0);
}
