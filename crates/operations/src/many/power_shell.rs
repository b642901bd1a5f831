//! A script on a machine of Windows: a pipeline in a session, whose formatter makes text of what comes out.

use lantern_link::{Remote, SessionNews, SessionOptions, WinrmFailure};
use lantern_ssh::Stream;
use lantern_winrm::remoting::{HostAnswer, HostFacts, Objects, Record, SessionEvent};

use super::Script;
use super::ending::Ending;
use crate::Target;
use crate::remoting::{Outcome, Shown, Task};

/// How wide text is made, in columns, and how high a screen is said to be: nobody looks at one.
const SCREEN: (u16, u16) = (200, 50);

pub(super) async fn run(
    remote: &Remote,
    target: &Target,
    script: &Script,
    take: &mut impl FnMut(Stream, &[u8]),
) -> Ending {
    let endpoint = target.winrm.configuration.clone();
    let task = Task {
        text: String::from_utf8_lossy(&script.text).into_owned(),
        arguments: Vec::new(),
        is_named_endpoint: endpoint.is_some(),
    };
    let host = HostFacts { can_ask: false, width: SCREEN.0, height: SCREEN.1, title: String::new() };
    let options = SessionOptions { endpoint, host, is_lasting: false, kept: None };
    let session = match remote.session(options).await {
        Ok(session) => session,
        Err(error) => return Ending::Lost(error),
    };
    session.begin(&task.pipeline(Shown::Text { width: SCREEN.0 }, false), false);
    let mut outcome = Outcome::default();
    loop {
        let news = session.next().await;
        outcome.note(&news);
        match news {
            SessionNews::Event(SessionEvent::Output(xml)) => {
                let Ok(objects) = Objects::read(&xml) else { continue };
                for root in &objects.roots {
                    take(Stream::Main, format!("{}\n", objects.plain_text(root)).as_bytes());
                }
            }
            SessionNews::Event(SessionEvent::Record(Record::Error(error))) => {
                take(Stream::Stderr, format!("{}\n", error.message).as_bytes());
            }
            SessionNews::Event(SessionEvent::Asked(call)) if call.wants_answer() => {
                let _ = session.answer(&call, HostAnswer::Refused("nobody is asked on many machines"));
            }
            SessionNews::Event(SessionEvent::Ended(end)) => {
                let status = outcome.status(&end, false);
                return Ending::Status(u32::try_from(status).unwrap_or(u32::MAX));
            }
            SessionNews::Over(Some(failure)) => return Ending::Lost(failure.into()),
            SessionNews::Over(None) => {
                let machine = remote.machine().to_owned();
                return Ending::Lost(WinrmFailure::SessionBroke { machine, why: String::new() }.into());
            }
            _ => {}
        }
    }
}
