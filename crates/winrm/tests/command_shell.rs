//! Commands on a machine in memory: what is asked, in which order, and what comes of answers, refusals and lost connections.

mod machine;

use bytes::Bytes;
use lantern_winrm::limits::MAX_UNSENT;
use lantern_winrm::{
    Fault, Lane, NewCommand, NewSession, NewShell, Output, Posts, Request, RequestHeaders, Response, Sent,
    ShellError, ShellEvent, Signal, Wanted,
};
use machine::{Machine, end, output, run, shell};
use proptest::prelude::*;

fn timed_out() -> Fault {
    Fault::new(2_150_858_793, "TimedOut", "nothing yet")
}

fn ended(exit: u32) -> ShellEvent {
    ShellEvent::Ended { exit: Some(exit), may_miss: false }
}

#[test]
fn a_command_takes_four_questions() {
    let mut machine = Machine::new(vec![Ok(machine::end(3))]);
    let events = run(&mut shell(), &mut machine);
    assert_eq!(events, [ShellEvent::Started, ended(3), ShellEvent::Gone]);
    assert_eq!(machine.asked, ["a shell", "the start of a program", "output", "the end of the shell"]);
    assert_eq!(machine.shells, 0);
}

#[test]
fn a_question_that_ran_out_of_time_is_asked_again() {
    let mut machine =
        Machine::new(vec![Err(timed_out()), Ok(output(Output::Error, b"low")), Err(timed_out()), Ok(end(0))]);
    let events = run(&mut shell(), &mut machine);
    assert_eq!(events[1..3], [ShellEvent::Output(Output::Error, Bytes::from_static(b"low")), ended(0)]);
}

#[test]
fn small_input_goes_before_the_first_question_and_large_input_beside_it() {
    let mut machine = Machine::new(vec![Ok(end(0))]);
    let mut small = shell();
    small.send(Bytes::from_static(b"ebb"));
    small.end_input();
    run(&mut small, &mut machine);
    assert_eq!((machine.input.as_slice(), machine.input_ended), (&b"ebb"[..], true));
    assert_eq!(machine.asked[2], "taking input");

    let mut machine = Machine::new(Vec::new());
    let mut large = shell();
    let data: Vec<u8> = (0..300_000u32).map(|n| n as u8).collect();
    large.send(data.clone().into());
    large.end_input();
    run(&mut large, &mut machine);
    assert_eq!((machine.input == data, machine.input_ended), (true, true));
    // Many pieces in one: as few requests as envelopes.
    assert_eq!(machine.asked.iter().filter(|what| **what == "taking input").count(), 3);
}

#[test]
fn the_end_of_input_alone_waits_for_a_second_connection() {
    let mut machine = Machine::new(Vec::new());
    let mut shell = shell();
    shell.end_input();
    for _ in 0..2 {
        let post = shell.poll_post(Lane::Main).unwrap().unwrap();
        shell.handle_answer(post.number, machine.answer(&post).unwrap().as_bytes());
    }
    assert_eq!(shell.poll_post(Lane::Main).unwrap().unwrap().what, "output");
    assert_eq!(shell.wants_side(), Wanted::Soon);
    shell.signal(Signal::Interrupt);
    assert_eq!(shell.wants_side(), Wanted::Now);
    let first = shell.poll_post(Lane::Side).unwrap().unwrap();
    assert_eq!((first.what, shell.wants_side()), ("a signal", Wanted::Not));
    shell.handle_answer(first.number, machine.answer(&first).unwrap().as_bytes());
    let second = shell.poll_post(Lane::Side).unwrap().unwrap();
    machine.answer(&second);
    assert_eq!((machine.signals, machine.input_ended), (vec![Signal::Interrupt], true));
}

#[test]
fn input_that_nobody_reads_any_more_is_no_failure() {
    let mut machine = Machine::new(vec![Ok(end(0))]);
    machine.refuses_input = Some(Fault::new(0x8007_00e8, "InternalError", "The pipe is being closed."));
    let mut shell = shell();
    shell.send(Bytes::from_static(b"ebb"));
    assert_eq!(run(&mut shell, &mut machine), [ShellEvent::Started, ended(0), ShellEvent::Gone]);
    assert!(!shell.takes_input());
}

#[test]
fn a_machine_without_the_code_page_is_asked_in_its_own() {
    let mut machine = Machine::new(vec![Ok(end(0))]);
    machine.refuses_code_page = true;
    run(&mut shell(), &mut machine);
    assert_eq!(machine.asked[..3], ["a shell", "a shell", "the start of a program"]);
}

#[test]
fn a_lost_connection_never_ends_in_success() {
    let mut machine = Machine::new(Vec::new());
    let mut amid = shell();
    run(&mut amid, &mut machine);
    amid.handle_lost(3, true);
    let lost = ShellError::Lost { what: "output" };
    assert_eq!(amid.poll_event(), Some(ShellEvent::Failed(lost.clone())));
    // Its shell is ended all the same.
    run(&mut amid, &mut machine);
    assert_eq!(machine.shells, 0);

    let mut machine = Machine::new(Vec::new());
    let mut between = shell();
    run(&mut between, &mut machine);
    between.handle_lost(3, false);
    machine.answers = vec![Ok(output(Output::Main, b"high")), Ok(end(0))];
    let events = run(&mut between, &mut machine);
    assert_eq!(events[1], ShellEvent::Ended { exit: Some(0), may_miss: true });

    let mut machine = Machine::new(Vec::new());
    let mut gone = shell();
    run(&mut gone, &mut machine);
    gone.handle_lost(3, false);
    machine.shells = 0;
    assert_eq!(run(&mut gone, &mut machine), [ShellEvent::Failed(lost), ShellEvent::Gone]);
}

#[test]
fn a_shell_that_the_machine_let_go_is_taken_up_again() {
    let mut machine = Machine::new(Vec::new());
    let mut shell = shell();
    run(&mut shell, &mut machine);
    shell.handle_lost(3, false);
    machine.answers = vec![Err(Fault::new(2_150_859_204, "InternalError", "disconnected")), Ok(end(9))];
    let events = run(&mut shell, &mut machine);
    assert_eq!(events[0], ShellEvent::Ended { exit: Some(9), may_miss: true });
    assert!(machine.asked.contains(&"the shell again"));
}

#[test]
fn a_shell_whose_name_comes_too_late_is_ended_too() {
    let mut machine = Machine::new(Vec::new());
    let mut shell = shell();
    let post = shell.poll_post(Lane::Main).unwrap().unwrap();
    shell.close();
    shell.handle_answer(post.number, machine.answer(&post).unwrap().as_bytes());
    assert_eq!(run(&mut shell, &mut machine), [ShellEvent::Gone]);
    assert_eq!((machine.shells, machine.asked.last()), (0, Some(&"the end of the shell")));
}

#[test]
fn output_that_is_not_taken_is_not_asked_for() {
    let piece = vec![7; 300_000];
    let mut machine = Machine::new((0..20).map(|_| Ok(output(Output::Main, &piece))).collect());
    let mut shell = shell();
    let mut asked = 0;
    while let Some(post) = shell.poll_post(Lane::Main).unwrap() {
        shell.handle_answer(post.number, machine.answer(&post).unwrap().as_bytes());
        asked += 1;
    }
    assert_eq!(asked, 2 + 4);
    shell.consumed(piece.len());
    assert!(shell.poll_post(Lane::Main).unwrap().is_some());
}

#[test]
fn input_waits_within_bounds() {
    let mut shell = shell();
    shell.send(vec![0; MAX_UNSENT].into());
    assert_eq!(shell.input_room(), 0);
}

#[test]
fn answers_to_nobody_and_hostile_ones_end_it_once() {
    let quota = Fault::new(2_150_859_173, "QuotaLimit", "too many");
    let mut machine = Machine::new(Vec::new());
    let mut refused = shell();
    let post = refused.poll_post(Lane::Main).unwrap().unwrap();
    let answer =
        lantern_winrm::answer_fault(&quota, "", "X").unwrap().replace("<a:RelatesTo>uuid:</a:RelatesTo>", "");
    refused.handle_answer(post.number, answer.as_bytes());
    let events: Vec<_> = std::iter::from_fn(|| refused.poll_event()).collect();
    assert!(
        matches!(
            &events[..],
            [ShellEvent::Failed(ShellError::Refused { what: "a shell", .. }), ShellEvent::Gone]
        ),
        "{events:?}"
    );

    for change in [
        |text: String| text.replace(machine::SHELL, "../\u{1b}[2J"),
        |text: String| text.replace("uuid:", "uuid:0"),
        |text: String| text.replace("CreateResponse", "DeleteResponse"),
        |text: String| text.replace("<s:Header>", "<!DOCTYPE x><s:Header>"),
    ] {
        let mut shell = shell();
        let post = shell.poll_post(Lane::Main).unwrap().unwrap();
        shell.handle_answer(post.number + 5, b"nobody asked");
        let answer = change(machine.answer(&post).unwrap());
        shell.handle_answer(post.number, answer.as_bytes());
        shell.handle_answer(post.number, answer.as_bytes());
        let events: Vec<_> = std::iter::from_fn(|| shell.poll_event()).collect();
        assert!(matches!(&events[..], [ShellEvent::Failed(_), ShellEvent::Gone]), "{events:?}");
    }
}

#[derive(Debug, Clone)]
enum Happens {
    Output(bool, Vec<u8>),
    TimeOut,
    Lost(bool),
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        8 => (any::<bool>(), proptest::collection::vec(any::<u8>(), 0..2000)).prop_map(|(main, data)| Happens::Output(main, data)),
        2 => Just(Happens::TimeOut),
        1 => any::<bool>().prop_map(Happens::Lost),
    ]
}

proptest! {
    #[test]
    fn all_that_was_written_arrives_in_order_or_the_end_says_otherwise(story in proptest::collection::vec(happens(), 0..30), code in any::<u32>()) {
        let mut machine = Machine::new(Vec::new());
        let mut shell = shell();
        let mut events = run(&mut shell, &mut machine);
        let (mut written, mut is_lost) = ([Vec::<u8>::new(), Vec::new()], false);
        for happening in story.into_iter().map(Some).chain([None]) {
            // Over before the story is: a connection was lost in mid-answer.
            let Some(post) = machine.waiting.take() else { break };
            let answer = match happening {
                Some(Happens::Output(main, data)) => {
                    written[usize::from(!main)].extend(&data);
                    Ok(output(if main { Output::Main } else { Output::Error }, &data))
                }
                Some(Happens::TimeOut) => Err(timed_out()),
                Some(Happens::Lost(is_amid)) => {
                    is_lost = true;
                    shell.handle_lost(post.number, is_amid);
                    events.extend(run(&mut shell, &mut machine));
                    continue;
                }
                None => Ok(end(code)),
            };
            machine.answers.push(answer);
            let answer = machine.answer(&post).unwrap();
            shell.handle_answer(post.number, answer.as_bytes());
            events.extend(run(&mut shell, &mut machine));
        }
        let arrived = |stream| {
            let of_stream = events.iter().filter_map(move |event| match event {
                ShellEvent::Output(of, data) if *of == stream => Some(data.to_vec()),
                _ => None,
            });
            of_stream.flatten().collect::<Vec<u8>>()
        };
        prop_assert_eq!(arrived(Output::Main), written[0].clone());
        prop_assert_eq!(arrived(Output::Error), written[1].clone());
        let ends: Vec<_> = events.iter().filter(|event| matches!(event, ShellEvent::Ended { .. } | ShellEvent::Failed(_))).collect();
        prop_assert_eq!(ends.len(), 1);
        prop_assert_eq!(ends[0] == &ended(code), !is_lost);
        prop_assert_eq!((events.last(), machine.shells), (Some(&ShellEvent::Gone), 0));
    }

    #[test]
    fn requests_come_back(
        folder in proptest::option::of("[\\PC\\x20]{1,12}"),
        variables in proptest::collection::vec(("[A-Z]{1,8}", "\\PC{0,12}"), 0..4),
        line in "[\\PC]{1,40}",
        pieces in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 1..40), 1..4),
        end in any::<bool>(),
    ) {
        let shell = NewShell {
            working_directory: folder.map(|folder| format!("C:{folder}!")),
            environment: variables,
            no_profile: end,
            code_page: Some(65_001),
            idle_time: Some(std::time::Duration::from_secs(180)),
            session: None,
        };
        let session = NewSession { id: machine::SHELL.into(), creation: pieces.concat().into() };
        let session = NewShell { session: Some(session), code_page: None, environment: Vec::new(), working_directory: None, no_profile: false, ..shell.clone() };
        let command = || machine::COMMAND.to_owned();
        let headers = RequestHeaders {
            to: "https://192.0.2.7:5986/wsman".into(),
            action: String::new(),
            resource: lantern_winrm::namespace::COMMAND_SHELL.into(),
            message_id: "0D3C51C8-7C7C-4F0B-AE5D-2E0BB8C0A422".into(),
            session_id: "0D3C51C8-7C7C-4F0B-AE5D-2E0BB8C0A423".into(),
            max_envelope: 153_600,
            timeout: std::time::Duration::from_secs(60),
            language: "en-US".into(),
            shell: Some(machine::SHELL.into()),
            options: Vec::new(),
        };
        for request in [
            Request::Create(shell),
            Request::Command(NewCommand { line, by_interpreter: end }),
            Request::Send(Sent { command: Some(command()), is_answer: false, pieces: pieces.iter().cloned().map(Bytes::from).collect(), end }),
            Request::Receive { command: Some(command()) },
            Request::Signal { command: command(), signal: Signal::Terminate },
            Request::Disconnect { idle_time: std::time::Duration::from_secs(600) },
            Request::Delete,
            Request::Reconnect,
            Request::Connect(pieces.concat().into()),
            Request::Create(session),
            Request::Pipeline { id: command(), fragments: pieces.concat().into() },
            Request::Send(Sent { command: None, is_answer: true, pieces: pieces.into_iter().map(Bytes::from).collect(), end: false }),
            Request::Receive { command: None },
            Request::Signal { command: command(), signal: Signal::Stop },
        ] {
            let mut headers = headers.clone();
            // What a command line says is another thing in a session.
            if matches!(&request, Request::Pipeline { .. } | Request::Create(NewShell { session: Some(_), .. })) {
                headers.resource = format!("{}Lamps", lantern_winrm::namespace::SESSIONS);
            }
            let written = request.encode(headers.clone()).unwrap();
            let (read, back) = Request::decode(written.as_bytes()).unwrap();
            let read = read.unwrap();
            prop_assert_eq!(&back, &request);
            prop_assert_eq!((read.shell, read.max_envelope, read.timeout), (headers.shell.clone(), headers.max_envelope, headers.timeout));
        }
        let written = Request::Identify.encode(headers).unwrap();
        prop_assert_eq!(Request::decode(written.as_bytes()).unwrap(), (None, Request::Identify));
    }

    #[test]
    fn no_answer_makes_it_panic(text in "[<>/a-z:=\"' ]{0,80}", bytes in proptest::collection::vec(any::<u8>(), 0..200), cut in 0usize..1500) {
        let mut machine = Machine::new(vec![Ok(output(Output::Main, b"high"))]);
        let mut shell = shell();
        for _ in 0..3 {
            let post = shell.poll_post(Lane::Main).unwrap().unwrap();
            let answer = machine.answer(&post).unwrap();
            let _ = Response::decode(text.as_bytes(), &Request::Receive { command: Some(machine::COMMAND.into()) }, "X");
            let _ = Response::decode(&bytes, &Request::Identify, "X");
            let _ = Request::decode(&bytes);
            let _ = Request::decode(&post.body.as_bytes()[..cut.min(post.body.len())]);
            let _ = Response::decode(&answer.as_bytes()[..cut.min(answer.len())], &Request::Delete, "X");
            shell.handle_answer(post.number, answer.as_bytes());
        }
    }
}

#[test]
fn what_never_left_is_posted_again_and_once() {
    let mut machine = Machine::new(vec![Ok(end(0))]);
    let mut shell = shell();
    for what in ["a shell", "the start of a program", "output", "the end of the shell"] {
        let lost = shell.poll_post(Lane::Main).unwrap().unwrap();
        assert_eq!(lost.what, what);
        shell.handle_unsent(lost.number);
        let again = shell.poll_post(Lane::Main).unwrap().unwrap();
        assert_eq!(again.what, what);
        assert!(shell.poll_post(Lane::Main).unwrap().is_none());
        shell.handle_answer(again.number, machine.answer(&again).unwrap().as_bytes());
    }
    assert_eq!(machine.asked, ["a shell", "the start of a program", "output", "the end of the shell"]);
    assert!(shell.is_gone());
    assert!(shell.poll_post(Lane::Main).unwrap().is_none());
}
