//! The steps behind the login: what the machine is, and what it lets us do.

use std::time::{Duration, Instant};

use lantern_link::{LinkError, ShellAnswer, Trunk, forwarding, subsystem_starts, who_and_where};
use lantern_operations::Target;

use super::account::{Mark, Stage};
use super::walk::Watcher;

/// Clocks that differ by more than this make certificates, codes and tickets fail, in seconds: RFC 4120 §1.6 usually allows five minutes.
const CLOCK_DOUBT: i64 = 300;
/// What differs by more than this is worth knowing, in seconds.
const CLOCK_NOTE: i64 = 5;

/// What can be asked once logged in.
pub(super) async fn look_around(watcher: &Watcher, trunk: &Trunk, target: &Target) -> Result<(), LinkError> {
    let put = |stage, mark, saw: String, took: Option<Duration>| watcher.story().put(stage, mark, saw, took);
    let start = Instant::now();
    drop(trunk.open_session().await?);
    put(Stage::Session, Mark::Good, "opens".into(), Some(start.elapsed()));
    let start = Instant::now();
    match who_and_where(trunk).await? {
        ShellAnswer::Answers(here) => {
            let saw = format!("{} on {}: {}, {}", here.user, here.host, here.system, here.shell);
            put(Stage::Shell, Mark::Good, saw, Some(start.elapsed()));
            if let Some(ahead) = here.clock_ahead {
                judge_clock(watcher, ahead);
            }
        }
        ShellAnswer::Otherwise { status, said } => {
            let status = status.map_or("no status".into(), |status| format!("status {status}"));
            let saw = format!("answers, but not as a POSIX shell does ({status}): {said}");
            put(Stage::Shell, Mark::Note, saw, Some(start.elapsed()));
        }
    }
    let start = Instant::now();
    match subsystem_starts(trunk, "sftp").await? {
        true => put(Stage::Files, Mark::Good, "the subsystem for files starts".into(), Some(start.elapsed())),
        false => {
            put(
                Stage::Files,
                Mark::Note,
                "the server has no subsystem for files".into(),
                Some(start.elapsed()),
            );
        }
    }
    let start = Instant::now();
    let allowed = forwarding(trunk, target.port).await?;
    let mut saw = Vec::new();
    let mut missing = Vec::new();
    let mut tell = |what: &str, allowed: bool, wanted: bool| {
        saw.push(format!("{what}: {}", if allowed { "yes" } else { "no" }));
        if wanted && !allowed {
            missing.push(what.to_owned());
        }
    };
    let has = |kind: &str| target.tunnels.values().any(|tunnel| tunnel.starts_with(kind));
    tell("tunnels", allowed.direct.is_ok(), has("local") || has("dynamic"));
    tell("remote tunnels", allowed.listening, has("remote"));
    tell("agent", allowed.agent, target.forward_agent);
    tell("display", allowed.display, target.forward_display);
    let (mark, advice) = match missing.as_slice() {
        [] => (Mark::Good, Vec::new()),
        missing => (
            Mark::Doubt,
            vec![
                format!(
                    "the book wants this forwarded, and the server does not allow it: {}",
                    missing.join(", ")
                ),
                "its SSH service's settings allow it; for displays it also needs the xauth program"
                    .to_owned(),
                format!("lantern machine show {}", target.name),
            ],
        ),
    };
    watcher.story().put_with(Stage::Forwarding, mark, saw.join(", "), Some(start.elapsed()), advice);
    Ok(())
}

fn judge_clock(watcher: &Watcher, ahead: i64) {
    let side = if ahead > 0 { "ahead of" } else { "behind" };
    let saw = match ahead.abs() {
        0..=1 => "agrees with ours".to_owned(),
        seconds => format!("{seconds} s {side} ours"),
    };
    let advice = || {
        vec![
            "certificates, one-time codes and tickets fail when clocks differ".to_owned(),
            "on the machine: timedatectl status".to_owned(),
        ]
    };
    match ahead.abs() {
        0..=CLOCK_NOTE => watcher.story().put(Stage::Clock, Mark::Good, saw, None),
        ..=CLOCK_DOUBT => watcher.story().put(Stage::Clock, Mark::Note, saw, None),
        _ => watcher.story().put_with(Stage::Clock, Mark::Doubt, saw, None, advice()),
    }
}
