//! What a command asks of a machine: programs that start, are refused or never answered, streams, files, and who it is.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod scene;

use std::time::Duration;

use bytes::Bytes;
use lantern_book::Presented;
use lantern_link::{CommandWords, FilesError, LinkError, News, ProcessEnd, Program, Remote, Runs};
use lantern_ssh::{PtyRequest, Stream, TerminalSize};
use scene::{Do, Machine, Scene, on_this_thread, poll_times};
use tokio::time::timeout;

fn command(words: &'static str) -> Program {
    let runs = Runs::Command(CommandWords::line(words));
    Program {
        runs,
        environment: vec![("LANG".into(), "C.UTF-8".into())],
        terminal: None,
        agent: false,
        display: None,
    }
}

fn terminal() -> PtyRequest {
    let size = TerminalSize { columns: 80, rows: 24, width_px: 0, height_px: 0 };
    PtyRequest { terminal: "xterm".into(), size, modes: Default::default() }
}

async fn reach(scene: &Scene) -> (Machine, Remote) {
    let (machine, trunk) = scene.connect().await;
    (machine, Remote::from(trunk))
}

#[test]
fn a_program_runs_with_its_streams_and_its_end() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, remote) = reach(&scene).await;
        let (process, mut start) = remote.start(command("echo")).await.unwrap();
        assert_eq!(start.news().await.unwrap(), News::Started);
        let mut input = Bytes::from_static(b"all lamps lit");
        process.send(&mut input).await.unwrap();
        assert_eq!(process.next(Stream::Main).await.unwrap(), "all lamps lit");
        process.consumed(13);
        process.signal("INT");
        process.send_eof();
        assert_eq!(process.next(Stream::Main).await, None);
        assert!(matches!(process.ended().await, ProcessEnd::Closed));
        start.settle().await.unwrap();
        let heard = machine.until(|heard| heard.requests.get(2).map(|_| heard.requests.clone())).await;
        assert_eq!(heard, ["env", "exec", "signal"]);

        let (process, _start) = remote.start(command("exit 7")).await.unwrap();
        assert!(matches!(process.ended().await, ProcessEnd::Exited(7)));
        // Whoever did not listen to the news has missed nothing that counts.
        assert!(process.send(&mut Bytes::from_static(b"late")).await.is_err());
    });
}

/// Everything is asked for at once, and what is heard says what it is about.
#[test]
fn what_is_refused_at_the_start_is_told_by_its_name() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, remote) = reach(&scene).await;
        let (_process, mut start) = remote.start(command("refuse")).await.unwrap();
        let error = start.news().await.unwrap_err();
        assert!(matches!(error, LinkError::RequestRefused { request: "exec", .. }), "{error:?}");

        // A machine that takes no agent runs the program nevertheless.
        machine.tell(Do::Refuse("auth-agent-req@openssh.com"));
        let program = Program { agent: true, terminal: Some(terminal()), ..command("echo") };
        let (process, mut start) = remote.start(program).await.unwrap();
        assert_eq!(start.news().await.unwrap(), News::AgentRefused);
        assert_eq!(start.news().await.unwrap(), News::Started);
        let nothing_more = timeout(Duration::from_millis(20), start.news()).await;
        assert!(nothing_more.is_err(), "{nothing_more:?}");
        process.resize(terminal().size);

        // Without its terminal a shell is none.
        machine.tell(Do::Refuse("pty-req"));
        let program = Program { runs: Runs::Shell, terminal: Some(terminal()), ..command("") };
        let (_process, mut start) = remote.start(program).await.unwrap();
        let error = start.news().await.unwrap_err();
        assert!(matches!(error, LinkError::RequestRefused { request: "pty-req", .. }), "{error:?}");
    });
}

/// A channel that is closed in place of an answer has refused the program, and a machine that says nothing is not waited for.
#[test]
fn no_answer_is_an_answer_too() {
    on_this_thread(async {
        let mut scene = Scene::new();
        scene.request.limits.login = Duration::from_millis(200);
        let (_machine, remote) = reach(&scene).await;
        let (process, mut start) = remote.start(command("slam")).await.unwrap();
        assert!(matches!(process.ended().await, ProcessEnd::Closed));
        let error = start.settle().await.unwrap_err();
        assert!(matches!(error, LinkError::RequestRefused { request: "exec", .. }), "{error:?}");

        let (_process, mut start) = remote.start(command("mute")).await.unwrap();
        let error = start.news().await.unwrap_err();
        assert!(matches!(error, LinkError::Unanswered { what: "the start of a program", .. }), "{error:?}");
        // The connection goes on for others.
        assert_eq!(remote.capture("exit 2", b"").await.unwrap().status, Some(2));
    });
}

/// News that nobody waited long enough for is heard by whoever asks next, once.
#[test]
fn news_can_be_dropped_at_every_poll() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, remote) = reach(&scene).await;
        machine.tell(Do::Refuse("auth-agent-req@openssh.com"));
        for polls in 1..8 {
            let program = Program { agent: true, ..command("echo") };
            let (_process, mut start) = remote.start(program).await.unwrap();
            let mut heard = Vec::new();
            while heard.len() < 2 {
                heard.extend(poll_times(start.news(), polls).await.map(Result::unwrap));
                tokio::task::yield_now().await;
            }
            assert_eq!(heard, [News::AgentRefused, News::Started]);
        }
    });
}

/// What answers is an echo: the first thing that a file service says is not what it was asked.
#[test]
fn a_file_service_that_is_none_and_one_that_is_refused_are_told_apart() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, remote) = reach(&scene).await;
        let error = remote.files().await.unwrap_err();
        assert!(matches!(error, FilesError::Broken { .. }) && error.is_end(), "{error:?}");
        machine.tell(Do::Refuse("subsystem"));
        let error = remote.files().await.unwrap_err();
        assert!(matches!(error, FilesError::NoService { .. }), "{error:?}");
        // Neither is left open there, nor is one that nobody waits for.
        for polls in 1..6 {
            drop(poll_times(remote.files(), polls).await);
        }
        machine.until(|heard| (heard.channels == 0).then_some(())).await;
    });
}

#[test]
fn a_machine_says_who_it_is_and_the_last_handle_ends_it() {
    on_this_thread(async {
        let scene = Scene::new();
        let (machine, remote) = reach(&scene).await;
        let identity = remote.identity();
        assert_eq!((identity.machine.as_str(), identity.user.as_str()), ("lamp-01", "keeper"));
        assert!(identity.service.starts_with("SSH-2.0-"), "{}", identity.service);
        let Some(Presented::HostKey(key)) = identity.presented else { panic!("{identity:?}") };
        assert_eq!(key.describe(), "Ed25519");
        let other = remote.clone();
        drop(remote);
        assert_eq!(other.capture("exit 3", b"").await.unwrap().status, Some(3));
        drop(other);
        machine.until(|heard| heard.end.clone()).await;
    });
}
