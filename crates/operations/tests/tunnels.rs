//! Tunnels against simulated machines: what goes through, and what is behind.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]
#![allow(clippy::disallowed_methods)]

mod desk;
mod rig;

use std::io::ErrorKind;
use std::time::Duration;

use desk::{Scene, on_this_thread};
use lantern_book::TunnelEnd;
use lantern_link::TunnelLogin;
use lantern_operations::tunnel::{Behind, LinkPhase, TunnelState, open, probe_here};
use rig::{GET, SERVICES, carries, connect_at, exchange, opened, request, scene, until};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

#[test]
fn a_page_on_the_machine_is_at_hand_here_and_is_counted() {
    on_this_thread(async {
        let scene = scene().await;
        let tunnels = opened(&scene, &["local 0 to 127.0.0.1:80", "local [::1]:0 to localhost:7"]).await;
        let page = exchange(&mut TcpStream::connect(carries(&tunnels, 0).await).await.unwrap(), GET).await;
        let page = String::from_utf8(page).unwrap();
        assert!(page.starts_with("HTTP/1.1 200 OK") && page.contains("Main lamp: lit"), "{page}");
        let echo = carries(&tunnels, 1).await;
        assert!(echo.is_ipv6());
        assert_eq!(
            exchange(&mut TcpStream::connect(echo).await.unwrap(), b"who is there").await,
            b"who is there"
        );
        let status =
            until(tunnels.board(), |status| (status.tunnels[0].open == 0).then(|| status.clone())).await;
        let counted = &status.tunnels[0];
        assert_eq!((counted.total, counted.to_machine), (1, GET.len() as u64));
        assert_eq!(counted.from_machine, page.len() as u64);
        assert!(status.round_trip.is_some() && status.losses == 0 && status.phase == LinkPhase::Up);
        // Closed, nothing listens any more, and the machine has nobody left.
        drop(tunnels);
        tokio::time::sleep(Duration::from_millis(50)).await;
        assert!(TcpStream::connect(echo).await.is_err());
    });
}

#[test]
fn what_the_machine_refuses_is_refused_here_with_its_reason() {
    on_this_thread(async {
        let scene = scene().await;
        let tunnels = opened(&scene, &["local 0 to 127.0.0.1:81", "dynamic 0"]).await;
        let mut caller = TcpStream::connect(carries(&tunnels, 0).await).await.unwrap();
        assert_eq!(caller.read(&mut [0; 8]).await.unwrap_err().kind(), ErrorKind::ConnectionReset);
        let error = until(tunnels.board(), |status| status.tunnels[0].last_error.clone()).await;
        assert!(error.contains("127.0.0.1:81") && error.contains("refused"), "{error}");
        // In the caller's own protocol, where it has one.
        let at = carries(&tunnels, 1).await;
        let socks = exchange(
            &mut TcpStream::connect(at).await.unwrap(),
            b"\x05\x01\x00\x05\x01\x00\x01\x7f\0\0\x01\0\x51",
        )
        .await;
        assert_eq!(&socks[..4], b"\x05\x00\x05\x05");
        let http =
            exchange(&mut TcpStream::connect(at).await.unwrap(), b"CONNECT 127.0.0.1:81 HTTP/1.1\r\n\r\n")
                .await;
        assert!(http.starts_with(b"HTTP/1.1 502"), "{}", String::from_utf8_lossy(&http));
        let none = exchange(&mut TcpStream::connect(at).await.unwrap(), b"hello").await;
        assert!(none.is_empty());
        let error = until(tunnels.board(), |status| {
            status.tunnels[1].last_error.clone().filter(|error| error.contains("neither"))
        });
        assert!(error.await.contains("SOCKS"));
    });
}

#[test]
fn programs_say_where_they_want_to_go_and_a_login_keeps_others_out() {
    on_this_thread(async {
        let scene = scene().await;
        let lit = scene.harbour.machines()[0].address;
        let mut wanted = request(connect_at(&scene, lit), &["dynamic 0"]);
        let password = lantern_keys::SecretString::new("fog".into());
        wanted.login = Some(TunnelLogin { user: "keeper".into(), password });
        let (guarded, _ending) = open(wanted).await.unwrap();
        let tunnels = opened(&scene, &["dynamic 0"]).await;
        for (at, greeting, answer) in [
            (
                carries(&tunnels, 0).await,
                &b"\x05\x01\x00\x05\x01\x00\x03\x09localhost\0\x07"[..],
                &b"\x05\x00\x05\x00\x00\x01\0\0\0\0\0\0"[..],
            ),
            (carries(&tunnels, 0).await, b"\x04\x01\0\x07\0\0\0\x01me\0localhost\0", b"\0\x5a\0\0\0\0\0\0"),
            (
                carries(&tunnels, 0).await,
                b"CONNECT localhost:7 HTTP/1.1\r\n\r\n",
                b"HTTP/1.1 200 Connected\r\n\r\n",
            ),
            (
                carries(&guarded, 0).await,
                b"\x05\x01\x02\x01\x06keeper\x03fog\x05\x01\x00\x03\x09localhost\0\x07",
                b"\x05\x02\x01\x00\x05\x00\x00\x01\0\0\0\0\0\0",
            ),
        ] {
            // What is said behind the wish, before any answer, arrives too.
            let said = [greeting, b"the fog lifts"].concat();
            let met = exchange(&mut TcpStream::connect(at).await.unwrap(), &said).await;
            assert_eq!(met, [answer, b"the fog lifts"].concat(), "{}", String::from_utf8_lossy(greeting));
        }
        let at = carries(&guarded, 0).await;
        let met = exchange(&mut TcpStream::connect(at).await.unwrap(), b"\x05\x01\x00").await;
        assert_eq!(met, b"\x05\xff");
    });
}

/// What says that another try would come to the same ends the trying; all else does not.
#[test]
fn what_is_behind_is_found_out() {
    on_this_thread(async {
        let scene = scene().await;
        let forms: Vec<String> =
            [80, 443, 9, 25, 22, 81].iter().map(|port| format!("local 0 to 127.0.0.1:{port}")).collect();
        let forms: Vec<&str> = forms.iter().map(String::as_str).collect();
        let mut wanted = request(connect_at(&scene, scene.harbour.machines()[0].address), &forms);
        wanted.probe = true;
        let (tunnels, _ending) = open(wanted).await.unwrap();
        let behind = until(tunnels.board(), |status| {
            status.tunnels.iter().map(|tunnel| tunnel.behind.clone()).collect::<Option<Vec<_>>>()
        })
        .await;
        assert_eq!((&behind[0], behind[0].scheme()), (&Behind::Http { status: 200 }, Some("http")));
        let Behind::Tls { certificate: Some(certificate), is_web: true } = &behind[1] else {
            panic!("{behind:?}")
        };
        assert_eq!((certificate.name.as_str(), &certificate.issuer), ("lamp-01.lights.example", &None));
        assert_eq!(behind[1].scheme(), Some("https"));
        assert_eq!(behind[2], Behind::Silent);
        assert!(matches!(&behind[3], Behind::Mail(greeting) if greeting.contains("ESMTP")));
        assert!(matches!(&behind[4], Behind::Ssh(greeting) if greeting.contains("another_lamp")));
        assert!(matches!(&behind[5], Behind::Refused(words) if words.contains("refused")));
        assert!(!behind[5].answers() && behind[2].answers());
        // https asked of http, and the reverse: noticed by what callers begin with.
        for (index, said, words) in
            [(0, &b"\x16\x03\x01\x00\x05hello"[..], "speaks http"), (1, GET, "speaks https")]
        {
            let mut caller = TcpStream::connect(carries(&tunnels, index).await).await.unwrap();
            caller.write_all(said).await.unwrap();
            let error = until(tunnels.board(), |status| status.tunnels[index].last_error.clone()).await;
            assert!(error.ends_with(words), "{error}");
        }
    });
}

#[test]
fn a_machine_that_forbids_forwarding_says_so_of_every_kind() {
    on_this_thread(async {
        let scene = Scene::like(|spec, key| {
            spec.users[0].keys.push(key);
            spec.services = SERVICES.to_vec();
            spec.forbids_forwarding = true;
        })
        .await;
        let mut wanted = request(
            connect_at(&scene, scene.harbour.machines()[0].address),
            &["local 0 to 127.0.0.1:80", "remote 0 to 127.0.0.1:80"],
        );
        wanted.probe = true;
        let (tunnels, _ending) = open(wanted).await.unwrap();
        let behind = until(tunnels.board(), |status| status.tunnels[0].behind.clone()).await;
        assert!(matches!(behind, Behind::NotAllowed(words) if words.contains("passes nothing on")));
        let settled = tunnels.board().settled().await;
        assert!(
            matches!(&settled.tunnels[1].state, TunnelState::Fails(why) if why.contains("does not listen"))
        );
        assert_eq!(settled.tunnels[0].state, TunnelState::Carries);
    });
}

#[test]
fn hundreds_of_callers_at_once_each_get_their_own() {
    on_this_thread(async {
        let scene = scene().await;
        let tunnels = opened(&scene, &["local 0 to 127.0.0.1:7"]).await;
        let at = carries(&tunnels, 0).await;
        let mut callers = tokio::task::JoinSet::new();
        for number in 0..400u32 {
            callers.spawn(async move {
                let said: Vec<u8> = number.to_be_bytes().repeat(1 + number as usize * 7);
                let mut stream = TcpStream::connect(at).await.unwrap();
                let (mut read, mut write) = stream.split();
                let mut met = Vec::new();
                let writes = async {
                    write.write_all(&said).await.unwrap();
                    write.shutdown().await.unwrap();
                };
                let (_, read) = tokio::join!(writes, read.read_to_end(&mut met));
                read.unwrap();
                assert!(met == said, "{number}");
            });
        }
        while let Some(done) = callers.join_next().await {
            done.unwrap();
        }
        let status =
            until(tunnels.board(), |status| (status.tunnels[0].open == 0).then(|| status.clone())).await;
        assert_eq!(status.tunnels[0].total, 400);
    });
}

#[test]
fn what_is_here_is_looked_at_from_here() {
    on_this_thread(async {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let end = |port| TunnelEnd::Tcp { host: "127.0.0.1".into(), port };
        let port = listener.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                stream.write_all(b"\x5b\0\0\0\x0a10.11.6-pier\0").await.unwrap();
            }
        });
        assert_eq!(probe_here(&end(port)).await, Behind::Database("MySQL 10.11.6-pier".into()));
        assert!(matches!(probe_here(&TunnelEnd::Unix("/nowhere".into())).await, Behind::NotReached(_)));
    });
}
