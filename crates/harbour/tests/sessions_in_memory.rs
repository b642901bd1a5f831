//! Sessions of PowerShell on a machine of Windows, the client and the stand-in joined in memory, in virtual time.

#![allow(clippy::unwrap_used, clippy::panic)] // A test that cannot go on says so by panicking.

mod scene;
mod story;

use std::sync::atomic::Ordering;
use std::time::Duration;

use lantern_link::{SessionNews, SessionOptions};
use lantern_winrm::remoting::{Command, Objects, Pipeline, PipelineEnd, Primitive, SessionEvent};
use scene::{Scene, in_no_time, no_tls};
use story::{listen, options, run, script, told};
use tokio::time::{Instant, sleep};

#[test]
fn pipelines_run_one_after_the_other_in_few_round_trips() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        let story = run(&session, "$lamp = 'foghorn'\nGet-Lamp -Name $lamp, lamp-01, nobody\nwhoami").await;
        assert_eq!(story.end, Some(PipelineEnd::Completed));
        assert_eq!(
            story.out,
            [
                "{\"Name\":\"foghorn\",\"Watts\":250,\"State\":\"Dark\",\"Since\":\"2026-03-01T06:00:00+00:00\"}",
                "{\"Name\":\"lamp-01\",\"Watts\":40,\"State\":\"Lit\",\"Since\":\"2026-03-01T06:00:00+00:00\"}",
                "\"chart-room\\\\keeper\"",
            ]
        );
        assert_eq!(story.errors, ["There is nothing called 'nobody'."]);
        // Variables stay; one pipeline at a time.
        assert!(session.begin(&script("\"it is $lamp\""), false));
        assert!(!session.begin(&script("whoami"), false));
        assert_eq!(listen(&session).await.out, ["\"it is foghorn\""]);
        // What goes along with the last one: no end of it is asked for.
        assert!(session.begin(&script("whoami"), true));
        assert_eq!(listen(&session).await.end, Some(PipelineEnd::Completed));
        let requests = scene.cable.machine.seen().requests;
        assert_eq!(requests[..4], ["a shell", "output", "the start of a pipeline", "output"], "{requests:?}");
        assert_eq!(requests.iter().filter(|what| **what == "a signal").count(), 2);
        assert_eq!(scene.cable.opened.load(Ordering::Relaxed), 1);
        drop(session);
        scene.end().await;
    });
}

#[test]
fn every_question_of_a_machine_gets_its_answer_on_one_connection() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, no_tls).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        for (text, answer) in [
            ("Read-Host", "\"the line\""),
            ("Read-Host 'How high?'", "\"a How high?\""),
            ("Confirm-Lamp", "\"chosen 2\""),
            ("Select-Lamp", "\"chosen 0 2\""),
            ("Read-Key", "\"key 107\""),
            ("Get-HostSize", "\"told 120x50, asked 120x50\""),
            ("$s = Read-Host -AsSecureString\nShow-Secret $s", "\"high water\""),
            ("Get-Credential ada", "\"COAST\\\\keeper with 10 characters\""),
        ] {
            let story = run(&session, text).await;
            assert_eq!(
                (story.out, story.end),
                (vec![answer.to_owned()], Some(PipelineEnd::Completed)),
                "{text}"
            );
        }
        let story = run(&session, "Read-Fields").await;
        let expected =
            ["\"Name=a Name\"", "\"Watts=a Watts\"", "\"Keepers=ada bo\"", "\"Code has 10 characters\""];
        assert_eq!(story.out, expected);
        // What we have not is refused in words, and the pipeline ends by it.
        let story = run(&session, "Start-Nested").await;
        let Some(PipelineEnd::Failed(error)) = story.end else { panic!("{story:?}") };
        assert_eq!(error.message, "this terminal cannot do that");
        // Who waits for an answer needs no second connection.
        assert_eq!(scene.cable.opened.load(Ordering::Relaxed), 1);
        drop(session);
        scene.end().await;
    });
}

#[test]
fn all_that_a_pipeline_says_is_heard_as_what_it_is() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        let text = "Write-Warning 'fog'\nWrite-Verbose 'more' -Verbose\nWrite-Debug 'less'\nWrite-Information 'tide'\n\
                    Write-Progress 'Counting' 'lamp-01' -PercentComplete 40\nWrite-Host 'shown' -ForegroundColor red\nClear-Host\nSet-Title 'the coast'\nexit 7";
        let story = run(&session, text).await;
        assert_eq!(story.end, Some(PipelineEnd::Completed));
        let said = story.others.join("\n");
        for part in [
            "Warning(\"fog\")",
            "Verbose(\"more\")",
            "Debug(\"less\")",
            "message: \"tide\"",
            "activity: \"Counting\", status: \"lamp-01\"",
            "percent: Some(40)",
            "text: \"shown\", ends_line: true, colour: Some(12)",
            "Clear",
            "Title(\"the coast\")",
            "Exit(7)",
        ] {
            assert!(said.contains(part), "{part}: {said}");
        }
        let story = run(&session, "$a = 'x'\n  throw 'the lamp is out'").await;
        let Some(PipelineEnd::Failed(error)) = story.end else { panic!("{story:?}") };
        let place = error.place.unwrap();
        assert_eq!((error.message.as_str(), error.category), ("the lamp is out", "OperationStopped"));
        assert_eq!((place.line, place.column, place.text.trim()), (2, 3, "throw 'the lamp is out'"));
        drop(session);
        scene.end().await;
    });
}

#[test]
fn input_goes_in_and_a_pipeline_can_be_stopped() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        let pipeline = Pipeline {
            commands: vec![
                Command::named("Measure-Object").with("Property", Primitive::String("Length".into())),
            ],
            has_input: true,
            in_history: false,
        };
        assert!(session.begin(&pipeline, false));
        // More than one envelope takes, in small pieces, and one that is larger than an envelope.
        for number in 0..2000 {
            assert!(session.takes_input().await);
            session.input(&Objects::of_root(format!("tide {number:04}")));
        }
        session.input(&Objects::of_root("x".repeat(400_000)));
        session.end_input();
        let story = listen(&session).await;
        assert_eq!(story.end, Some(PipelineEnd::Completed), "{story:?}");
        assert_eq!(story.out, ["{\"Count\":2001,\"Sum\":418000,\"Property\":\"Length\"}"]);
        for text in ["Wait-Forever", "Start-Sleep 4000", "Get-Tide 4 100000"] {
            assert!(session.begin(&script(text), false));
            sleep(Duration::from_secs(3)).await;
            session.stop();
            let story = listen(&session).await;
            assert_eq!(story.end, Some(PipelineEnd::Stopped), "{text}");
        }
        // The session is as good as before.
        assert_eq!(run(&session, "whoami").await.out.len(), 1);
        drop(session);
        scene.end().await;
    });
}

#[test]
fn a_pipeline_that_asks_can_be_stopped_though_nobody_answers() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        assert!(session.begin(&script("Read-Host"), false));
        while !matches!(session.next().await, SessionNews::Event(SessionEvent::Asked(_))) {}
        session.stop();
        let story = tokio::time::timeout(Duration::from_secs(60), listen(&session)).await.unwrap();
        assert_eq!(story.end, Some(PipelineEnd::Stopped));
        drop(session);
        scene.end().await;
    });
}

#[test]
fn a_secret_that_comes_out_is_keyed_though_nobody_was_asked() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        let since = Instant::now();
        let story = run(&session, "$s = Get-Secret\nShow-Secret $s\n$s").await;
        assert_eq!(story.out, ["\"high water\"", "{\"secure\":true}"]);
        // The machine waits for the key where nobody listens: that is looked after, and soon enough.
        assert!(since.elapsed() < Duration::from_secs(60), "{:?}", since.elapsed());
        drop(session);
        scene.end().await;
    });
}

#[test]
fn endpoints_are_chosen_by_name_and_one_for_commands_takes_no_scripts() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let at = |name: &str| SessionOptions { endpoint: Some(name.to_owned()), ..options() };
        let session = scene.remote.session(at("Lamp.Keepers")).await.unwrap();
        let story = run(&session, "Get-Lamp").await;
        let Some(PipelineEnd::Failed(error)) = story.end else { panic!("{story:?}") };
        assert_eq!((error.id.as_str(), error.category), ("ScriptsNotAllowed", "ParserError"));
        let text = |text: &str| Primitive::String(text.into());
        let lamp = Command::named("Get-Lamp").with("Name", text("foghorn"));
        let pipeline = Pipeline { commands: vec![lamp], ..Pipeline::default() };
        assert!(session.begin(&pipeline, false));
        assert_eq!(listen(&session).await.out.len(), 1);
        drop(session);
        let session = scene.remote.session(at("Nowhere")).await.unwrap();
        session.begin(&pipeline, false);
        let story = listen(&session).await;
        let Some(Some(failure)) = story.over else { panic!("{story:?}") };
        assert!(told(&failure).contains("there is no endpoint of that name"), "{}", told(&failure));
        drop(session);
        scene.end().await;
    });
}

#[test]
fn what_is_put_out_faster_than_it_is_taken_waits_on_the_machine() {
    in_no_time(async {
        let scene = Scene::new(64 * 1024, |_| ()).await.unwrap();
        let session = scene.remote.session(options()).await.unwrap();
        assert!(session.begin(&script("New-Bulk 20000"), true));
        sleep(Duration::from_secs(30)).await;
        let before = scene.cable.machine.seen().requests.len();
        sleep(Duration::from_secs(300)).await;
        // Twenty megabytes are not asked for while nobody takes them.
        assert!(scene.cable.machine.seen().requests.len() <= before + 2);
        let mut count = 0;
        let end = loop {
            match session.next().await {
                SessionNews::Event(SessionEvent::Output(xml)) => {
                    let objects = Objects::read(&xml).unwrap();
                    let number = objects.number_of(objects.first().unwrap(), "Number");
                    assert_eq!(number, Some(count));
                    count += 1;
                }
                SessionNews::Event(SessionEvent::Ended(end)) => break end,
                SessionNews::Event(_) => {}
                other => panic!("{other:?}"),
            }
        };
        assert_eq!((count, end), (20_000, PipelineEnd::Completed));
        drop(session);
        scene.end().await;
    });
}
