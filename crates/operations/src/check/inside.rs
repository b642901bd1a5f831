//! The steps behind the login: what the machine is, and what it lets us do.

use std::time::Instant;

use lantern_link::{FilesError, LinkError, Remote, ShellAnswer, Trunk, capture, forwarding, who_and_where};

use super::account::{Line, Mark, Stage};
use super::findings::Finding;
use super::story::Watcher;
use crate::Target;

/// Clocks that differ by more than this make certificates, codes and tickets fail, in seconds: RFC 4120 §1.6 usually allows five minutes.
const CLOCK_DOUBT: u64 = 300;
/// What differs by more than this is worth knowing, in seconds.
const CLOCK_NOTE: u64 = 5;

/// What can be asked once logged in.
pub(super) async fn look_around(watcher: &Watcher, trunk: &Trunk, target: &Target) -> Result<(), LinkError> {
    let put = |line: Line, start: Instant| watcher.story().put(line.took(start.elapsed()));
    let start = Instant::now();
    drop(trunk.open_session().await?);
    put(Line::new(Stage::Session, Mark::Good, "opens"), start);
    let start = Instant::now();
    match who_and_where(trunk).await? {
        ShellAnswer::Answers(here) => {
            let saw = format!("{} on {}: {}, {}", here.user, here.host, here.system, here.shell);
            put(Line::new(Stage::Shell, Mark::Good, saw), start);
            if let Some(ahead) = here.clock_ahead {
                watcher.story().put(judge_clock(ahead));
            }
        }
        ShellAnswer::Otherwise { status, said } => {
            let status = status.map_or("no status".into(), |status| format!("status {status}"));
            let saw = format!("answers, but not as a POSIX shell does ({status}): {said}");
            put(Line::new(Stage::Shell, Mark::Note, saw), start);
        }
    }
    let start = Instant::now();
    let (mark, saw) = match Remote::from(trunk.clone()).files().await {
        Ok(_) => (Mark::Good, "the subsystem for files starts".to_owned()),
        Err(FilesError::NoService { .. }) => (Mark::Note, "the server has no subsystem for files".to_owned()),
        // Where the connection is lost, the next step says so.
        Err(error) => (Mark::Note, error.to_string()),
    };
    put(Line::new(Stage::Files, mark, saw), start);
    let start = Instant::now();
    let allowed = forwarding(trunk, target.port).await?;
    let wants_display = target.forward_display.is_some();
    let has_helper = allowed.display || !wants_display || has_cookie_helper(trunk).await?;
    put(judge_forwarding(&allowed, has_helper, target), start);
    if !has_helper {
        let saw = "for displays, the server runs the program xauth, which is not there";
        let line = Line::new(Stage::Forwarding, Mark::Doubt, saw).with(Finding::NoCookieHelper);
        watcher.story().put(line);
    }
    Ok(())
}

/// Whether the program is there that keeps cookies for the machine's programs: servers run it, and refuse displays without it. Yes where that cannot be told.
async fn has_cookie_helper(trunk: &Trunk) -> Result<bool, LinkError> {
    let looked = capture(trunk, "PATH=$PATH:/usr/bin:/usr/X11R6/bin; command -v xauth", &[]).await?;
    Ok(looked.status != Some(1) && looked.status != Some(127))
}

fn judge_forwarding(allowed: &lantern_link::Forwarding, has_helper: bool, target: &Target) -> Line {
    let has = |kind: &str| target.tunnels.values().any(|tunnel| tunnel.starts_with(kind));
    let all = [
        ("tunnels", allowed.direct.is_ok(), has("local") || has("dynamic")),
        ("remote tunnels", allowed.listening, has("remote")),
        ("agent", allowed.agent, target.forward_agent),
        ("display", allowed.display, target.forward_display.is_some() && has_helper),
    ];
    let saw = all.map(|(what, allowed, _)| format!("{what}: {}", if allowed { "yes" } else { "no" }));
    let missing = all.iter().filter(|(_, allowed, wanted)| *wanted && !allowed);
    let missing: Vec<String> = missing.map(|(what, ..)| (*what).to_owned()).collect();
    match missing.is_empty() {
        true => Line::new(Stage::Forwarding, Mark::Good, saw.join(", ")),
        false => {
            let line = Line::new(Stage::Forwarding, Mark::Doubt, saw.join(", "));
            line.with(Finding::NotForwarded(missing))
        }
    }
}

fn judge_clock(ahead: i64) -> Line {
    let side = if ahead > 0 { "ahead of" } else { "behind" };
    let saw = match ahead.unsigned_abs() {
        0..=1 => "agrees with ours".to_owned(),
        seconds => format!("{seconds} s {side} ours"),
    };
    let line = |mark| Line::new(Stage::Clock, mark, saw);
    match ahead.unsigned_abs() {
        seconds if seconds <= CLOCK_NOTE => line(Mark::Good),
        seconds if seconds <= CLOCK_DOUBT => line(Mark::Note),
        _ => line(Mark::Doubt).with(Finding::Clock),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clock_is_judged_on_both_sides_and_at_its_extremes() {
        let mark = |ahead: i64| judge_clock(ahead).mark;
        assert_eq!([mark(0), mark(5), mark(-5)], [Mark::Good; 3]);
        assert_eq!([mark(6), mark(-300)], [Mark::Note; 2]);
        assert_eq!([mark(301), mark(-301), mark(i64::MIN), mark(i64::MAX)], [Mark::Doubt; 4]);
        assert_eq!(judge_clock(-7).saw, "7 s behind ours");
        assert_eq!(judge_clock(301).finding, Some(Finding::Clock));
    }
}
