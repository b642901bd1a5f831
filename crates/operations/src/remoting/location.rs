//! Where a session stands on its machine.

use lantern_link::{RemoteSession, SessionNews};
use lantern_winrm::remoting::{Command, Objects, Pipeline, SessionEvent};

/// The folder, or whatever else a session stands in; nothing, where its endpoint does not say.
///
/// # Errors
/// What was heard instead: the session is over.
pub async fn location(session: &RemoteSession) -> Result<Option<String>, SessionNews> {
    let command = Command::named("Get-Location");
    session.begin(&Pipeline { commands: vec![command], ..Pipeline::default() }, false);
    let mut found = None;
    loop {
        match session.next().await {
            SessionNews::Event(SessionEvent::Output(xml)) => {
                if let Ok(objects) = Objects::read(&xml)
                    && let Some(place) = objects.first()
                {
                    found = objects.text_of(place, "Path");
                }
            }
            SessionNews::Event(SessionEvent::Ended(_)) => return Ok(found),
            over @ SessionNews::Over(_) => return Err(over),
            _ => {}
        }
    }
}
