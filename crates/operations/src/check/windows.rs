//! The way to a machine that is spoken to by WinRM, and what can be seen there.

use std::time::{Duration, Instant};

use bytes::Bytes;
use jiff::Timestamp;
use lantern_book::{DEFAULT_WINRM_PORT, Home, PLAIN_WINRM_PORT, Uses};
use lantern_link::{CommandWords, LinkError, ProcessEnd, Program, Remote, RemoteRequest, Runs};
use lantern_ssh::{Stream, neutralize_line};
use tokio::net::TcpStream;
use tokio::time::timeout;

use super::account::{Line, Mark, Stage};
use super::failing::failed_on_the_way;
use super::findings::CheckError;
use super::story::Watcher;
use crate::{ReachOptions, Target};

/// Most of what a program says about itself that is read, in bytes.
const MAX_SAID: usize = 512;

/// How long the other port has to answer.
const OTHER_PORT_LIMIT: Duration = Duration::from_secs(2);

/// From the first packet to a program that runs there.
pub(super) async fn go(watcher: &Watcher, home: &Home, options: &ReachOptions, target: &Target) {
    let mut request = match target.remote_request(home, options) {
        Ok(request) => request,
        Err(error) => {
            watcher.story().fail(Stage::Book, CheckError::Entry(error));
            return;
        }
    };
    if let RemoteRequest::Winrm(request) = &mut request {
        request.way.only_looking = true;
        request.way.via.iter_mut().for_each(|gateway| gateway.only_looking = true);
    }
    let remote = match Remote::connect(&request, watcher).await {
        Ok(remote) => remote,
        Err(error) => {
            // By Kerberos a password is refused by the realm, before the machine hears of it.
            if let Some(error) = watcher.settle(is_refusal(&error)) {
                return watcher.story().fail(Stage::Login, error);
            }
            let found = other_port(&error, target).await;
            let mut story = watcher.story();
            story.account.other_port = found;
            return failed_on_the_way(&mut story, error);
        }
    };
    // Where it cannot be written, the next look sees the machine too.
    let _ = Uses::of(home).note(&target.name, |noted| noted.seen = Some(Timestamp::now()));
    let seen = look_around(watcher, &remote).await;
    watcher.settle(seen.as_ref().is_err_and(is_refusal));
    if let Err(error) = seen {
        failed_on_the_way(&mut watcher.story(), error);
    }
    remote.close().await;
}

fn is_refusal(error: &LinkError) -> bool {
    matches!(error, LinkError::Winrm(failure) if failure.is_refusal())
}

/// Whether the port of plain HTTP answers where that of TLS does not, or the reverse: then it is a rule of the firewall, or a listener, that is missing. Asked
/// only where nothing is in between.
async fn other_port(error: &LinkError, target: &Target) -> Option<(u16, bool)> {
    let is_about_port = matches!(error, LinkError::Refused { .. } | LinkError::DialTimedOut { .. });
    let other = match target.port {
        DEFAULT_WINRM_PORT => PLAIN_WINRM_PORT,
        PLAIN_WINRM_PORT => DEFAULT_WINRM_PORT,
        _ => return None,
    };
    if !is_about_port || !target.via.is_empty() || target.proxy.is_some() {
        return None;
    }
    let address = target.addresses.first()?;
    let connected = timeout(OTHER_PORT_LIMIT, TcpStream::connect((address.as_str(), other))).await;
    Some((other, matches!(connected, Ok(Ok(_)))))
}

async fn look_around(watcher: &Watcher, remote: &Remote) -> Result<(), LinkError> {
    let start = Instant::now();
    if let Some(identity) = remote.identify(watcher).await? {
        let saw = neutralize_line(&format!("{} {}", identity.vendor, identity.version), 255);
        watcher.story().put(Line::new(Stage::Identification, Mark::Good, saw).took(start.elapsed()));
    }
    let start = Instant::now();
    let (said, end) = run(remote, "whoami").await?;
    let took = start.elapsed();
    let line = match end {
        ProcessEnd::Exited(0) => {
            let said = neutralize_line(said.trim(), 255);
            Line::new(Stage::Shell, Mark::Good, format!("a program runs there, as {said}"))
        }
        ProcessEnd::Failed(error) => return Err(error),
        ProcessEnd::Exited(code) => {
            Line::new(Stage::Shell, Mark::Note, format!("a program runs there, and ended with {code}"))
        }
        _ => Line::new(Stage::Shell, Mark::Note, "a program runs there, and ended without a word"),
    };
    watcher.story().put(line.took(took));
    Ok(())
}

/// What a short program writes, and how it ends.
async fn run(remote: &Remote, program: &'static str) -> Result<(String, ProcessEnd), LinkError> {
    let words = CommandWords {
        words: vec![Bytes::from_static(program.as_bytes())],
        each_as_is: true,
        by_interpreter: false,
    };
    let program = Program::alone(Runs::Command(words));
    let (process, mut start) = remote.start(program).await?;
    start.news().await?;
    let mut said = Vec::new();
    while let Some(piece) = process.next(Stream::Main).await {
        process.consumed(piece.len());
        said.extend(piece.iter().take(MAX_SAID.saturating_sub(said.len())));
    }
    Ok((String::from_utf8_lossy(&said).into_owned(), process.ended().await))
}
