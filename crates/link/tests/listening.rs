//! Ports of the machine that it listens on for us, and what calls there.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // A test that cannot go on says so by panicking.
#![allow(clippy::disallowed_methods)]

mod scene;

use std::time::Duration;

use lantern_link::LinkError;
use lantern_ssh::{Forwarded, ListenAt, OpenFailure, PeerChannel, Stream};
use scene::{Do, Scene, on_this_thread, poll_times};

fn tcp(port: u16) -> ListenAt {
    ListenAt::Tcp { address: "127.0.0.1".into(), port }
}

fn caller(port: u16) -> PeerChannel {
    let originator = ("192.0.2.9".to_owned(), 1);
    PeerChannel::Forwarded(Forwarded { address: "127.0.0.1".into(), port, originator })
}

#[test]
fn a_machine_listens_until_that_is_dropped_and_callers_may_be_as_quick_as_its_answer() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        let refused = trunk.listen(&tcp(0)).await.unwrap_err();
        assert!(matches!(refused, LinkError::ListenRefused { .. }), "{refused}");
        assert!(!trunk.listens_for_us().await.unwrap());

        machine.tell(Do::Listen);
        let mut listening = trunk.listen(&tcp(0)).await.unwrap();
        assert_eq!(listening.at(), &tcp(4711), "the port that it chose");
        let quick = listening.next().await.unwrap();
        assert_eq!(quick.wanted, caller(4711));
        machine.tell(Do::Open(caller(4711)));
        let next = listening.next().await.unwrap();
        machine.until(|heard| (heard.opened.len() == 2).then_some(())).await;
        machine.tell(Do::Send("is the lamp lit".into()));
        assert_eq!(next.channel.next(Stream::Main).await.unwrap(), "is the lamp lit");

        // Each to its own port, and a socket beside them.
        let path = "/run/fog horn.sock";
        let mut socket = trunk.listen(&ListenAt::Unix(path.into())).await.unwrap();
        machine.tell(Do::Open(PeerChannel::ForwardedUnix(path.into())));
        assert_eq!(socket.next().await.unwrap().wanted, PeerChannel::ForwardedUnix(path.into()));

        drop(listening);
        machine.until(|heard| (heard.listening.len() == 1).then_some(())).await;
        let before = machine.heard.lock().unwrap().opened.len();
        machine.tell(Do::Open(caller(4711)));
        let outcome = machine.until(move |heard| heard.opened.get(before).cloned()).await;
        assert_eq!(outcome.unwrap_err().code, OpenFailure::PROHIBITED);
        drop(socket);
        machine.until(|heard| heard.listening.is_empty().then_some(())).await;
    });
}

/// Whenever the wait for the answer is given up, the machine listens no more in the end.
#[test]
fn a_wait_that_is_given_up_leaves_nothing_listening() {
    on_this_thread(async {
        for polls in 1..6 {
            let scene = Scene::new();
            let (machine, trunk) = scene.connect().await;
            machine.tell(Do::Listen);
            drop(poll_times(trunk.listen(&tcp(8080)), polls).await);
            // Whatever was asked has been answered when this is.
            assert!(trunk.is_alive(Duration::from_secs(10)).await);
            assert!(trunk.listens_for_us().await.unwrap());
            machine.until(|heard| heard.listening.is_empty().then_some(())).await;
        }
    });
}

/// A server that names where a caller came in, and not what it was asked for.
#[test]
fn a_caller_at_another_address_of_the_same_port_is_taken_where_one_tunnel_has_it() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, trunk) = scene.connect().await;
        machine.tell(Do::Listen);
        let mut wide = trunk.listen(&ListenAt::Tcp { address: "0.0.0.0".into(), port: 8080 }).await.unwrap();
        wide.next().await.unwrap();
        machine.tell(Do::Open(caller(8080)));
        assert_eq!(wide.next().await.unwrap().wanted, caller(8080));
        let _other = trunk.listen(&ListenAt::Tcp { address: "::".into(), port: 8080 }).await.unwrap();
        let before = machine.until(|heard| (heard.opened.len() >= 3).then_some(heard.opened.len())).await;
        machine.tell(Do::Open(caller(8080)));
        let outcome = machine.until(move |heard| heard.opened.get(before).cloned()).await;
        assert!(outcome.is_err(), "whose it is cannot be told");
    });
}

#[test]
fn a_machine_that_falls_silent_or_goes_away_ends_the_wait() {
    on_this_thread(async {
        let mut scene = Scene::new();
        scene.request.limits.login = Duration::from_millis(300);
        let (machine, trunk) = scene.connect().await;
        assert!(trunk.is_alive(Duration::from_secs(10)).await);
        machine.tell(Do::FallSilent);
        machine.tell(Do::Listen);
        assert!(matches!(trunk.listen(&tcp(0)).await, Err(LinkError::Unanswered { .. })));

        let (machine, trunk) = scene.connect().await;
        let ended = tokio::spawn({
            let trunk = trunk.clone();
            async move { trunk.ended().await }
        });
        // A message that no server sends: the client ends the connection.
        machine.tell(Do::Say(vec![52]));
        assert!(matches!(ended.await.unwrap(), LinkError::Lost { .. }));
        assert!(!trunk.is_alive(Duration::from_secs(10)).await);
        assert!(matches!(trunk.listen(&tcp(0)).await, Err(LinkError::Lost { .. })));
    });
}
