//! Starting a display server where none answers.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use lantern_keys::SystemRandom;
use lantern_link::{AuthorityFile, DisplayHere, DisplayName};
use tokio::process::{Child, Command};
use tokio::time::{Instant, sleep};

use super::look::{look_at, name_of};
use super::{DisplayFailure, DisplayPlace, DisplaySeen};
use crate::quoted::filled;

/// How long a display server may take until it answers: those that draw on a screen initialize it first.
const PATIENCE: Duration = Duration::from_secs(20);
/// How long another is waited for, when ours has ended because of it.
const OTHERS: Duration = Duration::from_secs(2);
/// How often it is looked at.
const PAUSE: Duration = Duration::from_millis(100);
/// Numbers that are tried for a display of our own.
const NUMBERS: std::ops::Range<u16> = 0..100;
/// Most of what a display server says that is repeated, in characters.
const MAX_SAID: usize = 200;

/// Runs the command, and waits for the display.
pub(super) async fn start(
    place: &DisplayPlace,
    command: &str,
    authority: &AuthorityFile,
    starting: impl Fn(&str, &str),
) -> Result<(DisplayName, DisplaySeen), DisplayFailure> {
    let name = match name_of(place) {
        Ok(name) if place.name.is_some() => name,
        // What was started once may have another's number now.
        _ if command.contains("{display}") => free_display().await?,
        _ => return Err(DisplayFailure::StartsNowhere { command: command.to_owned() }),
    };
    if command.contains("{authority}") {
        authority.ensure(&name, &mut SystemRandom)?;
    }
    let path = authority.path().display().to_string();
    let line = filled(command, &[("display", &name.to_string()), ("authority", &path)]);
    starting(&line, &name.to_string());
    let failed = |source| DisplayFailure::StartFailed { command: line.clone(), source };
    let log = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&place.log);
    let log = log.map_err(failed)?;
    let child = Command::new("sh")
        .args(["-c", &line])
        .stdin(Stdio::null())
        .stdout(log.try_clone().map_err(failed)?)
        .stderr(log)
        // It outlives us, and what is typed here is not for it.
        .process_group(0)
        .spawn()
        .map_err(failed)?;
    let seen = wait_for(child, &name, authority, &line, &place.log).await?;
    std::fs::write(&place.started, format!("{name}\n")).map_err(failed)?;
    Ok((name, seen))
}

async fn wait_for(
    mut child: Child,
    name: &DisplayName,
    authority: &AuthorityFile,
    command: &str,
    log: &Path,
) -> Result<DisplaySeen, DisplayFailure> {
    let mut until = Instant::now() + PATIENCE;
    let mut ended = None;
    loop {
        let failure = match look_at(name, authority).await {
            Ok(seen) => return Ok(seen),
            Err(failure) => failure,
        };
        if ended.is_none()
            && let Ok(Some(status)) = child.try_wait()
        {
            // One that goes to the background by itself has done its part.
            if !status.success() {
                until = until.min(Instant::now() + OTHERS);
            }
            ended = Some(status);
        }
        if Instant::now() > until {
            let last = last_words(log);
            let said = match ended {
                Some(status) if !status.success() => format!("it ended with {status}{last}"),
                _ => format!("{}{last}", lantern_link::chain(&failure)),
            };
            return Err(DisplayFailure::Started {
                command: command.to_owned(),
                name: name.to_string(),
                said,
            });
        }
        sleep(PAUSE).await;
    }
}

/// The last thing that it has said.
fn last_words(log: &Path) -> String {
    let said = std::fs::read(log).unwrap_or_default();
    let text = String::from_utf8_lossy(&said);
    match text.lines().rev().find(|line| !line.trim().is_empty()) {
        Some(line) => format!(" ({})", lantern_ssh::neutralize_line(line.trim(), MAX_SAID)),
        None => String::new(),
    }
}

/// A display of this computer that nobody has.
///
/// # Errors
/// Others have all of them.
pub async fn free_display() -> Result<DisplayName, DisplayFailure> {
    for number in NUMBERS {
        if is_locked(number) {
            continue;
        }
        let Some(name) = DisplayName::parse(&format!(":{number}")) else { continue };
        let here = DisplayHere { name: name.clone(), authorization: None };
        if here.line().await.is_err() {
            return Ok(name);
        }
    }
    Err(DisplayFailure::NoName)
}

/// Whether a display server of this computer has the number: it locks it with a file that has its process in it.
fn is_locked(number: u16) -> bool {
    match std::fs::read_to_string(format!("/tmp/.X{number}-lock")) {
        Ok(process) => process
            .trim()
            .parse()
            .is_ok_and(|process: u32| Path::new("/proc").join(process.to_string()).exists()),
        // One that cannot be read is somebody's.
        Err(error) => error.kind() != std::io::ErrorKind::NotFound,
    }
}
