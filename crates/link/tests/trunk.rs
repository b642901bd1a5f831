//! The trunk between many users and one peer: futures dropped at every poll, channels that end in every way, grants, and losses.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod scene;

use std::time::Duration;

use bytes::Bytes;
use lantern_link::{ChannelEnd, Grant, LinkError, Nobody, Opened, Uses, capture, connect_over};
use lantern_ssh::{
    COOKIE_PROTOCOL, Cookie, DirectTcpip, Forwarded, ListenAt, OpenFailure, PeerChannel, SessionRequest,
    SshError, Stream, limits,
};
use scene::{Do, Scene, on_this_thread, poll_times};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

fn exec(words: &str) -> SessionRequest {
    SessionRequest::Exec(words.as_bytes().to_vec())
}

/// A connection being made, dropped at each poll that it takes: the machine sees its end, and the next one works.
#[test]
fn connecting_can_be_dropped_at_every_poll() {
    on_this_thread(async {
        let scene = Scene::new();
        for polls in 1.. {
            let (machine, line) = scene.machine();
            let connecting = connect_over(&scene.request, Box::new(line), "a line in memory", &Nobody);
            match poll_times(connecting, polls).await {
                None => drop(machine.until(|heard| heard.end.clone()).await),
                Some(trunk) => {
                    let trunk = trunk.unwrap();
                    assert_eq!(capture(&trunk, "exit 5", b"").await.unwrap().status, Some(5));
                    assert!(polls > 3, "{polls} polls were all that it took");
                    return;
                }
            }
        }
    });
}

/// Requests whose answer nobody waits for any more do not give their answer to the next one.
#[test]
fn requests_and_openings_can_be_dropped_at_every_poll() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let channel = trunk.open_session().await.unwrap();
        for polls in 1..8 {
            let dropped = poll_times(channel.request(&exec("refuse this")), polls).await;
            assert!(dropped.is_none_or(|granted| !granted.unwrap()));
            assert!(channel.request(&exec("echo")).await.unwrap(), "{polls}: the answer was another's");
            assert!(!channel.request(&exec("refuse that")).await.unwrap());
        }
        drop(channel);
        for polls in 1..8 {
            drop(poll_times(trunk.open_session(), polls).await);
            let to = DirectTcpip { host: "lamp-02".into(), port: 22, originator: ("127.0.0.1".into(), 0) };
            drop(poll_times(trunk.open_direct(&to), polls).await);
            drop(poll_times(trunk.listens_for_us(), polls).await);
            assert!(!trunk.listens_for_us().await.unwrap());
        }
        // All of them were given up there too.
        machine.until(|heard| (heard.channels == 0).then_some(())).await;
        assert_eq!(capture(&trunk, "exit 0", b"").await.unwrap().status, Some(0));
    });
}

/// Reading, writing and waiting for the end, dropped after every single poll: every byte arrives once, in order.
#[test]
fn no_byte_is_lost_or_doubled_by_dropping() {
    on_this_thread(async {
        let scene = Scene::new();
        let (_machine, trunk) = scene.connect().await;
        let channel = trunk.open_session().await.unwrap();
        assert!(channel.request(&exec("echo")).await.unwrap());
        let all: Vec<u8> = (0..3_000_000usize).map(|at| (at / 7 % 251) as u8).collect();
        let mut unsent = Bytes::from(all.clone());
        let mut back = Vec::new();
        while back.len() < all.len() {
            if !unsent.is_empty() {
                let _ = poll_times(channel.send(&mut unsent), 1).await;
                if unsent.is_empty() {
                    channel.send_eof();
                }
            }
            drop(poll_times(channel.ended(), 1).await);
            if let Some(Some(piece)) = poll_times(channel.next(Stream::Main), 1).await {
                channel.consumed(piece.len());
                back.extend_from_slice(&piece);
            }
            tokio::task::yield_now().await;
        }
        assert_eq!(back, all);
        assert_eq!(channel.next(Stream::Main).await, None);
        assert_eq!(channel.ended().await, ChannelEnd::Closed);
        assert!(trunk.account().statistics.key_exchanges > 1);
    });
}

/// As a line for another connection, with its own buffers in between.
#[test]
fn a_channel_is_a_line() {
    on_this_thread(async {
        let scene = Scene::new();
        let (_machine, trunk) = scene.connect().await;
        let to = DirectTcpip { host: "lamp-02".into(), port: 22, originator: ("127.0.0.1".into(), 0) };
        let channel = trunk.open_direct(&to).await.unwrap();
        let all: Vec<u8> = (0..2_000_000usize).map(|at| (at / 5 % 249) as u8).collect();
        let (mut read, mut write) = tokio::io::split(channel);
        let writing = async {
            write.write_all(&all).await.unwrap();
            write.shutdown().await.unwrap();
        };
        let mut back = Vec::new();
        let ((), len) = tokio::join!(writing, read.read_to_end(&mut back));
        assert_eq!((len.unwrap(), back == all), (all.len(), true));
    });
}

/// A program that reads a little and ends: its status arrives, whatever waits to be read by it.
#[test]
fn an_end_is_an_end_and_no_misuse() {
    on_this_thread(async {
        let scene = Scene::new();
        let (_machine, trunk) = scene.connect().await;
        for _ in 0..20 {
            let channel = trunk.open_session().await.unwrap();
            let granted = channel.ask(&exec("exit 7"));
            let mut endless = Bytes::from(vec![b'y'; 8 << 20]);
            assert!(channel.send(&mut endless).await.is_err(), "it takes no more");
            assert!(granted.await.unwrap());
            assert_eq!(channel.next(Stream::Main).await, None);
            assert_eq!(channel.ended().await, ChannelEnd::Exited(7));
            // And whatever else is said to it then is nothing.
            channel.tell(&SessionRequest::Signal("INT".into()));
            channel.send_eof();
            channel.close();
            assert!(!channel.request(&exec("more")).await.unwrap());
        }
        let big = vec![b'y'; 4 << 20];
        assert_eq!(capture(&trunk, "exit 3", &big).await.unwrap().status, Some(3));
    });
}

/// What breaks the protocol ends the connection for everybody, with the same reason, also for those who dropped a future meanwhile.
#[test]
fn everybody_hears_why_a_connection_ended() {
    on_this_thread(async {
        for polls in 1..6 {
            let scene = Scene::new();
            let (machine, trunk) = scene.connect().await;
            let channel = trunk.open_session().await.unwrap();
            let waiting = channel.ask(&exec("echo"));
            assert!(waiting.await.unwrap());
            // REQUEST_SUCCESS to nothing.
            machine.tell(Do::Say(vec![81]));
            drop(poll_times(channel.request(&exec("echo")), polls).await);
            let is_it =
                |error: &SshError| matches!(error, SshError::PeerBroke { rule } if rule.contains("not made"));
            let end = channel.ended().await;
            assert!(matches!(&end, ChannelEnd::Lost(error) if is_it(error)), "{end:?}");
            assert_eq!(channel.next(Stream::Main).await, None);
            for _ in 0..3 {
                match trunk.open_session().await {
                    Err(LinkError::Lost { source, .. }) if is_it(&source) => {}
                    other => panic!("{other:?}"),
                }
                match channel.request(&exec("echo")).await {
                    Err(LinkError::Lost { source, .. }) if is_it(&source) => {}
                    other => panic!("{other:?}"),
                }
            }
            // The machine was told.
            assert!(machine.until(|heard| heard.end.clone()).await.contains("disconnected"));
            trunk.close().await;
        }
    });
}

/// A machine that says nothing to what it is asked, but is alive: each question has its limit.
#[test]
fn nobody_waits_for_ever_for_an_answer() {
    on_this_thread(async {
        let mut scene = Scene::new();
        scene.request.limits.login = Duration::from_millis(300);
        let (machine, trunk) = scene.connect().await;
        let channel = trunk.open_session().await.unwrap();
        machine.tell(Do::FallSilent);
        let unanswered = |error: &LinkError| matches!(error, LinkError::Unanswered { .. });
        assert!(unanswered(&channel.request(&exec("echo")).await.unwrap_err()));
        let to = DirectTcpip { host: "lamp-02".into(), port: 22, originator: ("127.0.0.1".into(), 0) };
        assert!(unanswered(&trunk.open_direct(&to).await.unwrap_err()));
        assert!(unanswered(&capture(&trunk, "exit 0", b"").await.unwrap_err()));
    });
}

#[test]
fn a_machine_comes_back_for_what_was_granted_as_long_as_it_is() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let opened = |count: usize| machine.until(move |heard| heard.opened.get(count).cloned());
        let refused = |outcome: Result<(), OpenFailure>| outcome.unwrap_err().code == OpenFailure::PROHIBITED;
        machine.tell(Do::Open(PeerChannel::Agent));
        assert!(refused(opened(0).await), "nothing was granted");

        let mut agent = trunk.grant(Grant::Agent, Uses::Once);
        machine.tell(Do::Open(PeerChannel::Agent));
        let Opened { wanted, channel, .. } = agent.next().await.unwrap();
        assert_eq!((wanted, opened(1).await), (PeerChannel::Agent, Ok(())));
        machine.tell(Do::Send("who is there".into()));
        assert_eq!(channel.next(Stream::Main).await.unwrap(), "who is there");
        machine.tell(Do::Open(PeerChannel::Agent));
        assert!(refused(opened(2).await), "it was for once");
        assert!(agent.next().await.is_none());

        let originator = ("127.0.0.1".to_owned(), 4711);
        let port = |port| {
            PeerChannel::Forwarded(Forwarded {
                address: "127.0.0.1".into(),
                port,
                originator: originator.clone(),
            })
        };
        let mut granted = trunk
            .grant(Grant::Listening(ListenAt::Tcp { address: "127.0.0.1".into(), port: 8080 }), Uses::Many);
        for count in 3..6 {
            machine.tell(Do::Open(port(8080)));
            granted.next().await.unwrap();
            assert_eq!(opened(count).await, Ok(()));
        }
        machine.tell(Do::Open(port(8081)));
        assert!(refused(opened(6).await), "another port");
        // More than anyone takes are refused, and hold nothing.
        let agents = trunk.grant(Grant::Agent, Uses::Many);
        for count in 7..40 {
            machine.tell(Do::Open(PeerChannel::Agent));
            let outcome = opened(count).await;
            assert_eq!(outcome.is_ok(), count < 7 + 16, "{count}: {outcome:?}");
        }
        drop((granted, agents));
        machine.tell(Do::Open(port(8080)));
        assert!(refused(opened(40).await), "it was revoked");
        assert!(trunk.account().held < limits::MAX_HELD);
    });
}

/// A program on the machine that begins to talk to a display with this cookie, behind it what it says next.
fn begins(cookie: &Cookie, then: &[u8]) -> Bytes {
    let head = [b'l', 0, 11, 0, 0, 0, 18, 0, 16, 0, 0, 0];
    [&head[..], COOKIE_PROTOCOL.as_bytes(), &[0, 0], cookie.expose(), then].concat().into()
}

/// Each program is given to whoever's cookie it presents; one that presents none is closed, and holds nothing.
#[test]
fn a_display_is_for_those_who_present_its_cookie() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let opened = |count: usize| machine.until(move |heard| heard.opened.get(count).cloned());
        let wanted = || PeerChannel::Display { originator: ("127.0.0.1".into(), 6010) };
        machine.tell(Do::Open(wanted()));
        assert_eq!(opened(0).await.unwrap_err().code, OpenFailure::PROHIBITED, "nothing was granted");

        let cookies = [7, 8].map(|byte| Cookie::new([byte; 16]));
        let mut first = trunk.grant(Grant::Display(cookies[0].clone()), Uses::Many);
        let mut second = trunk.grant(Grant::Display(cookies[1].clone()), Uses::Once);
        // In the order in which they come, to the one whose it is; cut wherever the line cuts it.
        machine.tell(Do::Open(wanted()));
        assert_eq!(opened(1).await, Ok(()));
        let hello = begins(&cookies[1], b"draw a lamp");
        for piece in hello.chunks(5) {
            machine.tell(Do::Send(Bytes::copy_from_slice(piece)));
        }
        let mut taken = second.next().await.unwrap();
        assert!(taken.first.starts_with(&hello[..48]) && hello.starts_with(&taken.first));
        let mut rest = taken.first.split_off(48).to_vec();
        while rest.len() < 11 {
            rest.extend_from_slice(&taken.channel.next(Stream::Main).await.unwrap());
        }
        assert_eq!(rest, b"draw a lamp");
        machine.tell(Do::Open(wanted()));
        assert_eq!(opened(2).await, Ok(()));
        machine.tell(Do::Send(begins(&cookies[0], b"")));
        let also = first.next().await.unwrap();
        assert_eq!(also.first, begins(&cookies[0], b""));

        // The second was for once; a stranger's cookie, another protocol, and silence lead nowhere.
        let strange = [
            begins(&cookies[1], b""),
            begins(&Cookie::new([9; 16]), b""),
            Bytes::from_static(b"SSH-2.0-x"),
            Bytes::from_static(b"l"),
        ];
        for (count, bytes) in strange.into_iter().enumerate() {
            machine.tell(Do::Open(wanted()));
            assert_eq!(opened(count + 3).await, Ok(()));
            machine.tell(Do::Send(bytes));
        }
        machine.tell(Do::HangUp);
        let nobody = tokio::time::timeout(Duration::from_millis(50), first.next()).await;
        assert!(nobody.is_err(), "a stranger was let in");
        assert!(second.next().await.is_none());
        // Silent ones take up the places there are, and no more.
        for _ in 0..40 {
            machine.tell(Do::Open(wanted()));
        }
        machine.until(|heard| (heard.opened.len() == 47).then_some(())).await;
        assert!(trunk.account().held < limits::MAX_HELD);
        drop(first);
        machine.tell(Do::Open(wanted()));
        assert_eq!(opened(47).await.unwrap_err().code, OpenFailure::PROHIBITED, "it was revoked");
        // What was let in lives on.
        assert_eq!(capture(&trunk, "exit 0", b"").await.unwrap().status, Some(0));
        drop((taken, also));
    });
}

/// The connection lives as long as anyone has a handle, and not longer.
#[test]
fn the_last_handle_ends_the_connection() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let other = trunk.clone();
        let channel = trunk.open_session().await.unwrap();
        drop(trunk);
        drop(other);
        assert!(channel.request(&exec("echo")).await.unwrap());
        channel.send(&mut "still lit".into()).await.unwrap();
        assert_eq!(channel.next(Stream::Main).await.unwrap(), "still lit");
        assert_eq!(machine.heard.lock().unwrap().end, None);
        drop(channel);
        assert!(machine.until(|heard| heard.end.clone()).await.contains("by application"));
    });
}
