//! Pipelines that nobody typed: what they put out is for us, and nobody is asked for them.

use lantern_link::{RemoteSession, SessionNews};
use lantern_winrm::remoting::{Command, HostAnswer, Objects, Pipeline, PipelineEnd, SessionEvent};

/// Runs a command, hands over what it puts out, and says how it ended. What it asks is refused. Where another pipeline runs, it ends as that does.
///
/// # Errors
/// What was heard instead: the session is over.
pub(super) async fn quietly(
    session: &RemoteSession,
    command: Command,
    mut take: impl FnMut(&Objects),
) -> Result<PipelineEnd, SessionNews> {
    session.begin(&Pipeline { commands: vec![command], ..Pipeline::default() }, false);
    loop {
        match session.next().await {
            SessionNews::Event(SessionEvent::Output(xml)) => {
                if let Ok(objects) = Objects::read(&xml) {
                    take(&objects);
                }
            }
            SessionNews::Event(SessionEvent::Asked(call)) if call.wants_answer() => {
                // Without a secret in it, no key is made, and nothing fails.
                let _ = session.answer(&call, HostAnswer::Refused("nobody is asked for this"));
            }
            SessionNews::Event(SessionEvent::Ended(end)) => return Ok(end),
            over @ SessionNews::Over(_) => return Err(over),
            _ => {}
        }
    }
}
