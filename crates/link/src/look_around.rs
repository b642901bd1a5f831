//! What a machine lets us do, found out by asking it over a logged-in connection: nothing is guessed, nothing stays.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use lantern_ssh::{DirectTcpip, DisplayRequest, OpenFailure, SessionRequest, neutralize};
use tokio::time::timeout;

use crate::capture::capture;
use crate::{Channel, LinkError, Trunk};

/// Prints who and where we are, a line each. Constant, and plain `sh`.
pub const WHO_AND_WHERE: &str =
    "sh -c 'echo who and where; id -un; uname -n; uname -srm; date +%s; echo \"${SHELL:-unknown}\"'";
/// What the first line must be: a login that is limited to another command prints something else.
const FIRST_LINE: &str = "who and where";

/// Who and where we are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WhoAndWhere {
    /// The user that the machine takes us for.
    pub user: String,
    /// Its own name.
    pub host: String,
    /// Kernel, release and processor.
    pub system: String,
    /// The user's shell.
    pub shell: String,
    /// By how many seconds its clock is ahead of ours.
    pub clock_ahead: Option<i64>,
}

/// What came of asking.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ShellAnswer {
    /// A shell answered as it should.
    Answers(WhoAndWhere),
    /// Something else ran: no POSIX shell, or a login that is limited to a command.
    Otherwise {
        /// Its exit status.
        status: Option<u32>,
        /// The start of what it said.
        said: String,
    },
}

/// Asks the shell who and where we are.
///
/// # Errors
/// No session, or the connection was lost.
pub async fn who_and_where(trunk: &Trunk) -> Result<ShellAnswer, LinkError> {
    let unix = || SystemTime::now().duration_since(UNIX_EPOCH).map_or(0.0, |since| since.as_secs_f64());
    let before = unix();
    let captured = capture(trunk, WHO_AND_WHERE, b"").await?;
    // The machine looked at its clock about half way.
    let middle = (before + unix()) / 2.0;
    let text = String::from_utf8_lossy(&captured.out).into_owned();
    let lines: Vec<String> = text.lines().map(|line| neutralize(line, 200)).collect();
    let [first, user, host, system, time, shell] = lines.as_slice() else {
        return Ok(otherwise(captured.status, &text, &captured.err));
    };
    if first != FIRST_LINE || captured.status != Some(0) {
        return Ok(otherwise(captured.status, &text, &captured.err));
    }
    Ok(ShellAnswer::Answers(WhoAndWhere {
        user: user.clone(),
        host: host.clone(),
        system: system.clone(),
        shell: shell.clone(),
        clock_ahead: time.parse::<i64>().ok().map(|time| (time as f64 - middle).round() as i64),
    }))
}

fn otherwise(status: Option<u32>, out: &str, err: &[u8]) -> ShellAnswer {
    let err = String::from_utf8_lossy(err);
    let said = if out.trim().is_empty() { err.trim() } else { out.trim() };
    ShellAnswer::Otherwise { status, said: neutralize(said.lines().next().unwrap_or_default(), 200) }
}

/// What a machine lets be forwarded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Forwarding {
    /// Connections from it to other places: what local and dynamic tunnels need, and gateways.
    pub direct: Result<(), String>,
    /// Ports of its own: what remote tunnels need.
    pub listening: bool,
    /// The agent.
    pub agent: bool,
    /// The display.
    pub display: bool,
}

/// Asks what may be forwarded. `port` is one that something listens on at the machine itself: its own SSH service.
///
/// # Errors
/// No session, or the connection was lost.
pub async fn forwarding(trunk: &Trunk, port: u16) -> Result<Forwarding, LinkError> {
    let to = DirectTcpip { host: "127.0.0.1".into(), port, originator: ("127.0.0.1".into(), 0) };
    let direct = match trunk.open_direct(&to).await {
        Ok(channel) => {
            finish(channel).await;
            Ok(())
        }
        // It tried, and nothing listens there: behind a port mapping the service has another port.
        Err(LinkError::GatewayRefused { source, .. }) if source.code == OpenFailure::CONNECT_FAILED => Ok(()),
        Err(LinkError::GatewayRefused { source, .. }) => Err(source.to_string()),
        Err(error) => return Err(error),
    };
    let listening = trunk.listens_for_us().await?;
    let channel = trunk.open_session().await?;
    // Nothing is granted here: whatever came back for either would be refused.
    let agent = channel.request(&SessionRequest::ForwardAgent).await?;
    // A cookie of our own making: a program that came back would be refused by its absence.
    let display = DisplayRequest {
        single: true,
        protocol: "MIT-MAGIC-COOKIE-1".into(),
        cookie: "00".repeat(16),
        screen: 0,
    };
    let display = channel.request(&SessionRequest::Display(display)).await?;
    finish(channel).await;
    Ok(Forwarding { direct, listening, agent, display })
}

/// Closes a channel, and does not wait long for a machine that does not.
async fn finish(channel: Channel) {
    channel.close();
    let _ = timeout(Duration::from_secs(2), channel.ended()).await;
}
