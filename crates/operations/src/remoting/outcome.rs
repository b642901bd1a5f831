//! What became of a pipeline, and what that means for whoever called us.

use lantern_link::{LinkError, RemoteSession, SessionNews, WinrmFailure};
use lantern_winrm::remoting::{Command, PipelineEnd, Primitive, Record, SessionEvent};

use super::quietly::quietly;
use super::task::FORMATTER;

/// What happened in a pipeline that its end has to be seen with.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outcome {
    /// The status that its script wants to end with.
    pub exit: Option<i32>,
    /// How many errors it told and went on.
    pub errors: usize,
    /// Whether something that it said may be missing.
    pub may_miss: bool,
}

/// The status of a shell that an interruption ended: 128 and SIGINT.
const STOPPED: i64 = 128 + 2;

impl Outcome {
    /// Notes what is heard.
    pub fn note(&mut self, news: &SessionNews) {
        match news {
            SessionNews::Event(SessionEvent::Record(Record::Error(_))) => self.errors += 1,
            SessionNews::Event(SessionEvent::Asked(call)) => {
                if let lantern_winrm::remoting::HostAsks::Exit(status) = call.asks {
                    self.exit = Some(status);
                }
            }
            SessionNews::MayMiss => self.may_miss = true,
            _ => {}
        }
    }

    /// The status: that of `exit`; else 1 where an error ended it, and, where somebody is `strict`, where it told one.
    pub fn status(&self, end: &PipelineEnd, strict: bool) -> i64 {
        match (self.exit, end) {
            (Some(status), _) => status.into(),
            (None, PipelineEnd::Failed(_)) => 1,
            (None, PipelineEnd::Stopped) => STOPPED,
            (None, PipelineEnd::Completed) => i64::from(strict && self.errors > 0),
        }
    }
}

/// Whether the session's endpoint has the machine's own formatter: it is asked, and nothing else runs for that.
///
/// # Errors
/// The session is over.
pub async fn has_formatter(session: &RemoteSession) -> Result<bool, LinkError> {
    let command = Command::named("Get-Command").with("Name", Primitive::String(FORMATTER.to_owned()));
    let mut has = false;
    match quietly(session, command, |_| has = true).await {
        Ok(_) => Ok(has),
        Err(SessionNews::Over(Some(failure))) => Err(failure.into()),
        Err(_) => {
            let machine = session.machine().to_owned();
            Err(WinrmFailure::SessionBroke { machine, why: String::new() }.into())
        }
    }
}
