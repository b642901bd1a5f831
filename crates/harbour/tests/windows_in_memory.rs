//! Commands on a machine of Windows, the client and the stand-in joined in memory, in virtual time: hours pass in moments, and lines are cut where it hurts.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

mod scene;

use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::Bytes;
use lantern_harbour::{WindowsFault, WindowsSpec};
use lantern_link::{CommandWords, LinkError, Process, ProcessEnd, Program, Runs, WinrmFailure};
use lantern_ssh::Stream;
use proptest::prelude::*;
use scene::{Scene, in_its_time, in_no_time, no_tls};
use tokio::time::{Instant, sleep, timeout};

async fn start(scene: &Scene, words: &[&str]) -> Process {
    let words = words.iter().map(|word| Bytes::copy_from_slice(word.as_bytes())).collect();
    let runs = Runs::Command(CommandWords { words, each_as_is: true, by_interpreter: false });
    let program = Program { runs, environment: Vec::new(), terminal: None, agent: false, display: None };
    scene.remote.start(program).await.unwrap().0
}

/// What a program writes until it ends, and how it ends.
async fn read(process: &Process) -> (Vec<u8>, ProcessEnd) {
    let mut out = Vec::new();
    while let Some(piece) = process.next(Stream::Main).await {
        process.consumed(piece.len());
        out.extend_from_slice(&piece);
    }
    (out, process.ended().await)
}

fn lost(end: &ProcessEnd) -> String {
    match end {
        ProcessEnd::Failed(LinkError::Winrm(failure)) if matches!(**failure, WinrmFailure::Lost { .. }) => {
            failure.to_string()
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_program_that_is_silent_for_hours_is_waited_for() {
    for change in [no_tls as fn(&mut WindowsSpec), |_| ()] {
        in_no_time(async {
            let scene = Scene::new(64 * 1024, change).await.unwrap();
            let since = Instant::now();
            // A line each forty minutes: question after question runs out, and is put again.
            let process = start(&scene, &["tides", "3", "2400000"]).await;
            let (out, end) = read(&process).await;
            assert_eq!(out, b"tide 1\r\ntide 2\r\ntide 3\r\n");
            assert!(matches!(end, ProcessEnd::Exited(0)), "{end:?}");
            assert!(since.elapsed() >= Duration::from_secs(2 * 2400), "{:?}", since.elapsed());
            assert_eq!(scene.cable.opened.load(Ordering::Relaxed), 1);
            scene.end().await;
        });
    }
}

#[test]
fn a_machine_that_is_gone_for_a_while_is_found_again_and_one_that_stays_away_is_given_up() {
    for (away, is_found) in [(20, true), (600, false)] {
        in_no_time(async {
            let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
            let process = start(&scene, &["tides", "2", "100000"]).await;
            assert_eq!(process.next(Stream::Main).await.unwrap(), "tide 1\r\n");
            let (cable, since) = (scene.cable.clone(), Instant::now());
            cable.is_down.store(true, Ordering::Relaxed);
            cable.tried.lock().unwrap().clear();
            cable.machine.cut();
            let returning = cable.clone();
            tokio::spawn(async move {
                sleep(Duration::from_secs(away)).await;
                returning.is_down.store(false, Ordering::Relaxed);
            });
            let (_, end) = read(&process).await;
            // The protocol does not number what it says: it is never told as whole.
            let words = lost(&end);
            let tried = cable.tried.lock().unwrap().clone();
            match is_found {
                true => assert!(words.contains("output may be missing"), "{words}"),
                false => {
                    let looked = since.elapsed();
                    assert!((60..80).contains(&looked.as_secs()), "{looked:?}: {words}");
                    // Less and less often, and not at all before the first pause is over.
                    assert!((8..40).contains(&tried.len()), "{}", tried.len());
                }
            }
            drop(process);
            drop(scene);
        });
    }
}

#[test]
fn a_machine_that_never_answers_is_given_up_after_the_time_for_it() {
    in_no_time(async {
        let since = Instant::now();
        let silent = |spec: &mut WindowsSpec| spec.fault = Some(WindowsFault::Silent);
        let error = Scene::new(64 * 1024, silent).await.err().unwrap();
        let LinkError::Winrm(failure) = error else { panic!("{error:?}") };
        let WinrmFailure::Unanswered { seconds, .. } = *failure else { panic!("{failure:?}") };
        assert_eq!((seconds, since.elapsed().as_secs()), (60, 60));
    });
}

#[test]
fn one_that_hears_no_interrupt_holds_nobody() {
    in_no_time(async {
        let deaf = |spec: &mut WindowsSpec| spec.fault = Some(WindowsFault::Deaf);
        let scene = Scene::new(64 * 1024, deaf).await.unwrap();
        let process = start(&scene, &["wait"]).await;
        assert_eq!(process.next(Stream::Main).await.unwrap(), "waiting\r\n");
        process.signal("INT");
        // It waits on: whoever holds it gives it up.
        assert!(timeout(Duration::from_secs(30), process.ended()).await.is_err());
        let since = Instant::now();
        drop(process);
        scene.remote.close().await;
        assert!(since.elapsed() < Duration::from_secs(7), "{:?}", since.elapsed());
    });
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]
    #[test]
    fn whatever_a_line_carries_at_once_what_arrives_is_whole(width in 32usize..600, len in 0usize..30_000, is_sealed: bool, input in proptest::collection::vec(any::<u8>(), 0..3_000)) {
        in_its_time(async {
            let change = |spec: &mut WindowsSpec| if is_sealed { spec.certificate = None };
            let scene = Scene::new(width, change).await.unwrap();
            let (out, end) = read(&start(&scene, &["write-bytes", &len.to_string()]).await).await;
            assert!(matches!(end, ProcessEnd::Exited(0)), "{end:?}");
            let expected: Vec<u8> = (0..len).map(|at| u8::try_from(at % 8192 % 251).unwrap()).collect();
            assert!(out == expected, "{} of {len} bytes", out.len());
            // And the other way, for a second program over a connection of its own.
            let process = start(&scene, &["more"]).await;
            let writer = process.clone();
            let mut data = Bytes::from(input.clone());
            tokio::spawn(async move {
                writer.send(&mut data).await.unwrap();
                writer.send_eof();
            });
            let (out, end) = read(&process).await;
            assert!(matches!(end, ProcessEnd::Exited(0)), "{end:?}");
            assert!(out == input, "{} of {} bytes", out.len(), input.len());
            drop(process);
            scene.end().await;
        });
    }

    #[test]
    fn a_line_that_is_cut_at_any_moment_never_ends_in_success(after in 0u64..4_000) {
        in_no_time(async {
            let scene = Scene::new(512, |_| ()).await.unwrap();
            let process = start(&scene, &["tides", "40", "100"]).await;
            let cable = scene.cable.clone();
            let cutting = tokio::spawn(async move {
                sleep(Duration::from_millis(after)).await;
                cable.machine.cut();
            });
            let (out, end) = read(&process).await;
            let whole: String = (1..=40).map(|turn| format!("tide {turn}\r\n")).collect();
            match end {
                // Cut when all had been said, or before anything was under way.
                ProcessEnd::Exited(0) => assert!(out == whole.as_bytes(), "{}", String::from_utf8_lossy(&out)),
                other => drop(lost(&other)),
            }
            drop(process);
            let _ = cutting.await;
            drop(scene);
        });
    }
}
