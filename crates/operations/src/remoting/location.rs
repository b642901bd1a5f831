//! Where a session stands on its machine.

use lantern_link::{RemoteSession, SessionNews};
use lantern_winrm::remoting::Command;

use super::quietly::quietly;

/// The folder, or whatever else a session stands in; nothing, where its endpoint does not say.
///
/// # Errors
/// What was heard instead: the session is over.
pub async fn location(session: &RemoteSession) -> Result<Option<String>, SessionNews> {
    let mut found = None;
    let told = quietly(session, Command::named("Get-Location"), |objects| {
        found = objects.first().and_then(|place| objects.text_of(place, "Path"));
    });
    told.await?;
    Ok(found)
}
