//! Tunnels of a simulated machine that has services of its own.

// Each test file uses its part of this.
#![allow(dead_code, unreachable_pub)]

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_book::{Tunnel, TunnelEnd};
use lantern_harbour::Service;
use lantern_link::{Ask, Nobody};
use lantern_operations::ReachOptions;
use lantern_operations::login::Way;
use lantern_operations::tunnel::{
    Board, Connect, LinkStatus, Persistence, TunnelPlan, TunnelState, Tunnels, TunnelsRequest, open,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use super::desk::{Scene, any_way};

pub const SERVICES: [(u16, Service); 6] = [
    (80, Service::Page),
    (443, Service::SecurePage),
    (7, Service::Echo),
    (9, Service::Silent),
    (25, Service::Greeting("220 lamp-01.lights.example ESMTP\r\n")),
    (22, Service::Greeting("SSH-2.0-another_lamp\r\n")),
];

pub async fn scene() -> Scene {
    Scene::like(|spec, key| {
        spec.users[0].rule = any_way();
        spec.users[0].keys.push(key);
        spec.services = SERVICES.to_vec();
        spec.listens = true;
    })
    .await
}

/// Logs in to the scene's machine at this address.
pub fn connect_at(scene: &Scene, address: SocketAddr) -> Connect {
    let (home, mut target) = (scene.home.clone(), scene.target());
    target.addresses = vec![address.ip().to_string()];
    target.port = address.port();
    target.keys = vec!["harbour".into()];
    Arc::new(move || {
        let (home, target) = (home.clone(), target.clone());
        Box::pin(async move {
            let options = ReachOptions::default();
            let ask: &dyn Ask = &Nobody;
            Way { home: &home, target: &target, options: &options, ask }.log_in_as_usual().await
        })
    })
}

pub fn request(connect: Connect, forms: &[&str]) -> TunnelsRequest {
    let plan = |(number, form): (usize, &&str)| TunnelPlan {
        name: format!("t{number}"),
        tunnel: Tunnel::parse(form).unwrap(),
    };
    TunnelsRequest {
        plans: forms.iter().enumerate().map(plan).collect(),
        connect,
        persistence: Persistence::default(),
        hold: None,
        login: None,
        probe: false,
    }
}

pub async fn opened(scene: &Scene, forms: &[&str]) -> Tunnels {
    let address = scene.harbour.machines()[0].address;
    open(request(connect_at(scene, address), forms)).await.unwrap().0
}

pub async fn until<T>(board: &Board, found: impl Fn(&LinkStatus) -> Option<T>) -> T {
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        let status = board.status();
        if let Some(found) = found(&status) {
            return found;
        }
        assert!(Instant::now() < deadline, "{status:?}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

pub fn address(end: &TunnelEnd) -> SocketAddr {
    let TunnelEnd::Tcp { host, port } = end else { panic!("{end}") };
    SocketAddr::new(host.parse().unwrap(), *port)
}

/// Where the tunnel listens once it carries.
pub async fn carries(tunnels: &Tunnels, index: usize) -> SocketAddr {
    until(tunnels.board(), |status| {
        let tunnel = &status.tunnels[index];
        (tunnel.state == TunnelState::Carries).then(|| address(&tunnel.listens().unwrap()))
    })
    .await
}

pub async fn exchange(stream: &mut TcpStream, said: &[u8]) -> Vec<u8> {
    stream.write_all(said).await.unwrap();
    stream.shutdown().await.unwrap();
    let mut met = Vec::new();
    stream.read_to_end(&mut met).await.unwrap();
    met
}

pub const GET: &[u8] = b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n";
