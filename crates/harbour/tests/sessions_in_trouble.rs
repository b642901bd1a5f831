//! Sessions of PowerShell whose link is lost, or whose machine does not keep to the protocol; in memory, and in virtual time where nothing races.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

mod scene;
mod story;

use std::time::Duration;

use lantern_harbour::{WindowsFault, WindowsSpec};
use lantern_link::SessionOptions;
use lantern_winrm::remoting::PipelineEnd;
use proptest::prelude::*;
use scene::{Scene, in_its_time, in_no_time, no_tls};
use story::{listen, options, run, script, told};
use tokio::time::sleep;

#[test]
fn a_link_that_is_lost_is_found_again_and_what_may_be_missing_is_said() {
    // At the prompt, where the next command finds the connection dead; while a pipeline runs; where the machine wants the shell taken up again; and where what it had
    // said was on its way.
    let nothing: fn(&mut WindowsSpec) = |_| ();
    let leaves: fn(&mut WindowsSpec) = |spec| spec.fault = Some(WindowsFault::LeavesShells);
    for (change, cuts) in [(nothing, true), (leaves, false)] {
        in_no_time(async {
            let scene = Scene::new(64 * 1024, change).await.unwrap();
            let session = scene.remote.session(options()).await.unwrap();
            assert!(session.begin(&script("$x = 'kept'\nGet-Tide 3 10000"), false));
            sleep(Duration::from_secs(12)).await;
            if cuts {
                scene.cable.machine.cut();
            }
            let story = listen(&session).await;
            assert_eq!((story.out.len(), story.end.clone()), (3, Some(PipelineEnd::Completed)), "{story:?}");
            assert_eq!(story.links, ["lost", "back"], "{story:?}");
            scene.cable.machine.cut();
            sleep(Duration::from_secs(1)).await;
            let story = run(&session, "\"it was $x\"").await;
            assert_eq!(
                (story.out, story.end),
                (vec!["\"it was kept\"".into()], Some(PipelineEnd::Completed))
            );
            drop(session);
            scene.end().await;
        });
    }
    in_no_time(async {
        let leaves_out: fn(&mut WindowsSpec) = |spec| spec.fault = Some(WindowsFault::CutAnswer);
        let scene = Scene::new(64 * 1024, leaves_out).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        // The answer that is cut is the first: that the session is open. It never opens, and that is found out.
        assert!(session.begin(&script("whoami"), false));
        let story = tokio::time::timeout(Duration::from_secs(600), listen(&session)).await.unwrap();
        assert!(story.over.is_some(), "{story:?}");
        drop(session);
        scene.remote.close().await;
    });
}

#[test]
fn a_session_that_was_given_up_is_joined_again_where_it_still_stands() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        run(&session, "$x = 'kept'").await;
        assert!(session.begin(&script("Get-Tide 100 10000"), false));
        sleep(Duration::from_secs(15)).await;
        scene.cable.is_down.store(true, std::sync::atomic::Ordering::Relaxed);
        scene.cable.machine.cut();
        let story = listen(&session).await;
        assert!(matches!(story.over, Some(Some(_))), "{story:?}");
        let kept = session.kept();
        assert!(kept.is_some());
        drop(session);
        scene.cable.is_down.store(false, std::sync::atomic::Ordering::Relaxed);
        let again = scene.remote.session(SessionOptions { kept: kept.clone(), ..options() }).await.unwrap();
        let story = run(&again, "\"it was $x\"").await;
        assert_eq!((story.out, story.end), (vec!["\"it was kept\"".into()], Some(PipelineEnd::Completed)));
        assert!(story.links.is_empty(), "{:?}", story.links);
        drop(again);
        sleep(Duration::from_secs(3)).await;
        // Where it stands no more, that is said.
        let gone = scene.remote.session(SessionOptions { kept, ..options() }).await.unwrap();
        let story = run(&gone, "1").await;
        let Some(Some(failure)) = story.over else { panic!("{story:?}") };
        assert!(told(&failure).contains("the shell is not there any more"), "{}", told(&failure));
        drop(gone);
        scene.end().await;
    });
}

#[test]
fn a_machine_that_does_not_keep_to_the_protocol_ends_the_session_with_a_reason() {
    for (fault, part) in [
        (WindowsFault::Garbles, "the session on chart-room cannot go on: a fragment of a message is damaged"),
        (WindowsFault::ShellVanishes, "chart-room was asked for output: the shell is not there any more"),
    ] {
        in_no_time(async {
            let scene = Scene::new(64 * 1024, |spec| spec.fault = Some(fault)).await.unwrap();
            let session = scene.remote.session(options()).await.unwrap();
            assert!(session.begin(&script("New-Bulk 100"), false));
            let story = listen(&session).await;
            let Some(Some(failure)) = story.over else { panic!("{story:?}") };
            assert!(told(&failure).contains(part), "{}", told(&failure));
            drop(session);
            scene.remote.close().await;
        });
    }
}

#[test]
fn a_message_that_is_left_out_is_missed() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |spec| spec.fault = Some(WindowsFault::LeavesOut)).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        let story = run(&session, "Get-Tide 3 1000").await;
        assert_eq!((story.out.len(), story.end), (2, Some(PipelineEnd::Completed)));
        assert_eq!(story.links, ["missing"]);
        // Said once.
        assert!(run(&session, "whoami").await.links.is_empty());
        drop(session);
        scene.end().await;
    });
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Whenever a connection is cut, what came out is a beginning of what was put out without gaps, all of it, or it is said that something may be missing.
    #[test]
    fn nothing_is_lost_without_a_word(cuts in proptest::collection::vec(1u64..40, 0..4), width in 200usize..70_000, count in 1i64..60) {
        in_its_time(async {
            let scene = Scene::new(width, no_tls).await.unwrap();
            let session = scene.remote.session(options()).await.unwrap();
            assert_eq!(run(&session, "whoami").await.out.len(), 1);
            assert!(session.begin(&script(&format!("Get-Tide {count} 2")), true));
            let cable = scene.cable.clone();
            let cutting = tokio::spawn(async move {
                for pause in cuts {
                    sleep(Duration::from_millis(pause)).await;
                    cable.machine.cut();
                }
            });
            let story = tokio::time::timeout(Duration::from_secs(5), listen(&session)).await;
            let Ok(story) = story else { panic!("{:?} {:?}", scene.cable.machine.seen().requests, session) };
            let turns: Vec<i64> = story.out.iter().map(|json| {
                let number: String = json.chars().skip_while(|c| !c.is_ascii_digit()).take_while(char::is_ascii_digit).collect();
                number.parse().unwrap()
            }).collect();
            let is_whole = turns == (1..=count).collect::<Vec<_>>();
            prop_assert!(turns.windows(2).all(|pair| pair[0] < pair[1]), "{turns:?}");
            match (&story.end, &story.over) {
                (Some(PipelineEnd::Completed), _) => prop_assert!(is_whole || story.links.contains(&"missing"), "{story:?}"),
                (None, Some(Some(_))) => {}
                _ => prop_assert!(false, "{story:?}"),
            }
            cutting.abort();
            drop(session);
            scene.remote.close().await;
            Ok(())
        })?;
    }
}
