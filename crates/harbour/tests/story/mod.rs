//! What a pipeline on a machine in memory comes to, and answers to whatever it asks.

#![allow(clippy::unwrap_used, clippy::panic, dead_code)] // A test that cannot go on says so by panicking; not every test needs all of it.

use lantern_keys::SecretString;
use lantern_link::{RemoteSession, SessionNews, SessionOptions, WinrmFailure};
use lantern_winrm::remoting::{
    Command, FieldAnswer, HostAnswer, HostAsks, HostFacts, Objects, Pipeline, PipelineEnd, Record,
    SessionEvent,
};

/// What a pipeline came to.
#[derive(Debug, Default)]
pub(crate) struct Story {
    pub(crate) out: Vec<String>,
    pub(crate) errors: Vec<String>,
    pub(crate) others: Vec<String>,
    pub(crate) end: Option<PipelineEnd>,
    pub(crate) over: Option<Option<WinrmFailure>>,
    pub(crate) links: Vec<&'static str>,
}

pub(crate) fn script(text: &str) -> Pipeline {
    Pipeline { commands: vec![Command::script(text)], ..Pipeline::default() }
}

pub(crate) fn options() -> SessionOptions {
    SessionOptions { host: HostFacts { can_ask: true, ..HostFacts::default() }, ..SessionOptions::default() }
}

/// Listens until the pipeline ends, and answers what is asked.
pub(crate) async fn listen(session: &RemoteSession) -> Story {
    let mut story = Story::default();
    loop {
        match session.next().await {
            SessionNews::Event(SessionEvent::Opened) => {}
            SessionNews::Event(SessionEvent::Output(xml)) => {
                let objects = Objects::read(&xml).unwrap();
                story.out.push(objects.to_json(&objects.roots[0], 8).unwrap());
            }
            SessionNews::Event(SessionEvent::Record(Record::Error(error))) => {
                story.errors.push(error.message)
            }
            SessionNews::Event(SessionEvent::Record(record)) => story.others.push(format!("{record:?}")),
            SessionNews::Event(SessionEvent::Asked(call)) => {
                story.others.push(format!("{:?}", call.asks));
                let secret = || SecretString::new("high water".into());
                let answer = match &call.asks {
                    HostAsks::Line => HostAnswer::Line("the line".into()),
                    HostAsks::SecretLine => HostAnswer::Secret(secret()),
                    HostAsks::Credential { .. } => HostAnswer::Credential("COAST\\keeper".into(), secret()),
                    HostAsks::Choice { several: false, .. } => HostAnswer::Choice(2),
                    HostAsks::Choice { .. } => HostAnswer::Choices(vec![0, 2]),
                    HostAsks::Key => HostAnswer::Key('k'),
                    HostAsks::Fields { fields, .. } => HostAnswer::Fields(
                        fields
                            .iter()
                            .map(|field| {
                                let answer = match field.name.as_str() {
                                    "Code" => FieldAnswer::Secret(secret()),
                                    "Keepers" => FieldAnswer::Several(vec!["ada".into(), "bo".into()]),
                                    name => FieldAnswer::Text(format!("a {name}")),
                                };
                                (field.name.clone(), answer)
                            })
                            .collect(),
                    ),
                    _ => continue,
                };
                session.answer(&call, answer).unwrap();
            }
            SessionNews::Event(SessionEvent::Ended(end)) => {
                story.end = Some(end);
                return story;
            }
            SessionNews::Event(SessionEvent::Broken(why)) => panic!("{why}"),
            SessionNews::LinkLost => story.links.push("lost"),
            SessionNews::LinkBack => story.links.push("back"),
            SessionNews::MayMiss => story.links.push("missing"),
            SessionNews::Over(why) => {
                story.over = Some(why);
                return story;
            }
        }
    }
}

pub(crate) async fn run(session: &RemoteSession, text: &str) -> Story {
    assert!(session.begin(&script(text), false));
    listen(session).await
}

/// What went wrong, with what that came of.
pub(crate) fn told(failure: &WinrmFailure) -> String {
    let source = std::error::Error::source(failure).map(|source| format!(": {source}"));
    failure.to_string() + &source.unwrap_or_default()
}
