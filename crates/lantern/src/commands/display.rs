//! Which display is forwarded, what is said of it, and the windows that outlive a session.

use std::sync::Arc;
use std::time::Duration;

use lantern_book::Home;
use lantern_operations::Target;
use lantern_operations::display::{DisplayForward, DisplayPlace, DisplayTrust, Windows};
use tokio::signal::unix::SignalKind;
use tokio::time::timeout;

use super::watch;
use crate::cli::forward::ForwardArgs;
use crate::cli::settings;
use crate::screen::failure::Failure;
use crate::screen::{display, output};

/// How long a program's end may take until it is seen here, behind that of the session.
const ENDING: Duration = Duration::from_millis(500);

/// The display for this machine's programs, when options or book want one: found, started where the book says how, and looked at.
///
/// # Errors
/// There is none that does what is wanted.
pub(super) async fn display_to_forward(
    args: &ForwardArgs,
    home: &Home,
    target: &Target,
) -> Result<Option<DisplayForward>, Failure> {
    if args.no_display {
        return Ok(None);
    }
    let Some(trust) = args.display.map(DisplayTrust::from).or(target.forward_display) else {
        return Ok(None);
    };
    let place = DisplayPlace::new(home, &settings::display(), target.display_start.clone());
    let starting = |command: &str, name: &str| {
        output::say(format!("starting a display server: {command} (display {name}) ..."));
    };
    let prepared = DisplayForward::prepare(&place, trust, starting).await;
    prepared.map(Some).map_err(|failure| display::failure(&failure, &target.typed()))
}

/// Tells that the machine lets no program draw here; the session goes on without.
pub(super) fn refused(machine: &str) -> String {
    format!(
        "{machine} does not let its programs draw here: on it, its SSH service's settings have to say so (X11Forwarding), and the program xauth has to be there"
    )
}

/// Waits for windows that are open when the session has ended: what is in them would be lost. Ctrl-C does not wait.
///
/// # Errors
/// The system gives us no signals.
pub(super) async fn wait_for_windows(windows: Option<&Arc<Windows>>, machine: &str) -> Result<(), Failure> {
    let Some(windows) = windows else { return Ok(()) };
    // One that has just ended is on its way out.
    if timeout(ENDING, windows.all_closed()).await.is_ok() {
        return Ok(());
    }
    let said = match windows.count() {
        1 => "a program of {} is still at the display; Ctrl-C ends it.".replace("{}", machine),
        count => format!("{count} programs of {machine} are still at the display; Ctrl-C ends them."),
    };
    output::say(said);
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    tokio::select! {
        () = windows.all_closed() => {}
        _ = interrupts.recv() => {}
        _ = terminations.recv() => {}
        _ = hangups.recv() => {}
    }
    Ok(())
}
