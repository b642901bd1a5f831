//! This computer's side of a connection: what is ours to mend.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use lantern_book::{Home, KeyRing, Tunnel, TunnelEnd, TunnelKind};
use lantern_link::{AgentClient, AgentSocket, ListenError, Listener, chain};
use tokio::net::UnixStream;

use super::CheckOptions;
use super::account::{Line, Mark, Stage};
use super::findings::{Finding, Mend};
use crate::Target;
use crate::display::{self, DisplayCause, DisplayPlace, DisplaySeen, DisplayTrust};
use crate::tunnel::port_holder;

fn line(mark: Mark, saw: impl Into<String>) -> Line {
    Line::new(Stage::Local, mark, saw)
}

/// Looks at everything here that the machine's settings need.
pub(super) async fn look(home: &Home, target: &Target, options: &CheckOptions, mut put: impl FnMut(Line)) {
    files(home, target, &mut put);
    if let Some(socket) = &options.keeper {
        put(look_at_keeper(socket).await);
    }
    if target.forward_display.is_some() {
        let place = DisplayPlace::new(home, &options.display, target.display_start.clone());
        put(look_at_display(&place, target.forward_display).await);
    }
    for (name, form) in &target.tunnels {
        if let Ok(tunnel) = Tunnel::parse(form)
            && tunnel.kind != TunnelKind::Remote
        {
            put(tunnel_port(name, form, &tunnel.listen).await);
        }
    }
}

fn files(home: &Home, target: &Target, put: &mut impl FnMut(Line)) {
    let mut all_well = true;
    let mut exposed = |path: PathBuf, mode: u32, wanted: u32| {
        all_well = false;
        let saw = format!("others can read {} (mode {mode:04o})", path.display());
        put(line(Mark::Doubt, saw).with(Finding::Mendable(Mend::Narrow(path, wanted))));
    };
    if let Ok(metadata) = fs::metadata(home.path())
        && metadata.permissions().mode() & 0o077 != 0
    {
        exposed(home.path().to_owned(), metadata.permissions().mode() & 0o7777, 0o700);
    }
    let ring = KeyRing::new(home);
    let entries = ring.summaries().unwrap_or_default().into_iter().filter_map(|(_, key)| key.ok());
    let mut count = 0;
    for entry in entries.filter(|entry| target.keys.is_empty() || target.keys.contains(&entry.name)) {
        count += 1;
        if entry.is_exposed() {
            exposed(ring.private_path(&entry.name), entry.mode & 0o7777, 0o600);
        }
    }
    if all_well && count > 0 {
        put(line(Mark::Good, "key files are closed to others"));
    }
}

/// Whether the keeper runs, and what it holds.
pub async fn look_at_keeper(socket: &Path) -> Line {
    if !socket.exists() {
        let saw = "no keeper runs: passphrases and passwords are asked for each time";
        return line(Mark::Good, saw).with(Finding::NoKeeper);
    }
    match AgentClient::connect(&AgentSocket { path: socket.to_owned(), what: "the keeper" }).await {
        Ok(mut client) => {
            let held = client.list().await.map(|keys| keys.len());
            let saw = match held {
                Ok(1) => "the keeper runs and holds a key".to_owned(),
                Ok(held) => format!("the keeper runs and holds {held} keys"),
                Err(error) => format!("the keeper runs, but: {error}"),
            };
            line(Mark::Good, saw)
        }
        Err(_) => line(Mark::Doubt, "a keeper was there, and its socket is left over")
            .with(Finding::Mendable(Mend::RemoveSocket(socket.to_owned()))),
    }
}

async fn tunnel_port(name: &str, form: &str, at: &TunnelEnd) -> Line {
    let taken = |error: String| {
        let holder = port_holder(at).map(|holder| format!(", by {holder}")).unwrap_or_default();
        line(Mark::Doubt, format!("the tunnel {name} cannot listen at {at}: {error}{holder}"))
            .with(Finding::PortTaken { tunnel: name.to_owned(), form: form.to_owned() })
    };
    match at {
        // Nothing is made or replaced here to find out.
        TunnelEnd::Unix(path) => match UnixStream::connect(path).await {
            Ok(_) => taken("it is in use".into()),
            Err(_) => line(Mark::Good, format!("the socket of the tunnel {name} is free: {path}")),
        },
        TunnelEnd::Tcp { .. } => match Listener::bind(at).await {
            Ok(_) => line(Mark::Good, format!("the port of the tunnel {name} is free: {at}")),
            Err(ListenError::InUse { .. }) => taken("it is in use".into()),
            Err(error) => taken(chain(&error)),
        },
    }
}

/// The display that programs of machines would draw on: whether it answers, lets us in, and can do what is wanted of it, if anything is.
pub async fn look_at_display(place: &DisplayPlace, wanted: Option<DisplayTrust>) -> Line {
    match display::look(place).await {
        Ok(seen) => judge_display(&seen, wanted),
        Err(failure) => {
            let cause = failure.cause();
            let saw = match (&place.start, cause) {
                // It will be.
                (Some(command), DisplayCause::Unnamed | DisplayCause::NotThere) => {
                    return line(Mark::Good, format!("no display answers; it is started with `{command}`"));
                }
                _ => chain(&failure),
            };
            line(Mark::Doubt, saw).with(Finding::Display(cause))
        }
    }
}

fn judge_display(seen: &DisplaySeen, wanted: Option<DisplayTrust>) -> Line {
    let cookie = if seen.has_cookie { "with a cookie" } else { "without a cookie" };
    let apart = match seen.has_security {
        true => "it can keep programs of machines from the other windows (SECURITY)",
        false => "it cannot keep programs of machines from the other windows (no SECURITY)",
    };
    let answers = format!("the display {} answers {cookie}", seen.name);
    match (wanted, seen.has_security) {
        (Some(DisplayTrust::Trusted), _) => {
            let saw = format!("{answers}; the machine's programs see everything on it (trusted)");
            line(Mark::Note, saw)
        }
        (Some(_), false) => {
            line(Mark::Doubt, format!("{answers}; {apart}")).with(Finding::Display(DisplayCause::NoSecurity))
        }
        (_, _) => line(Mark::Good, format!("{answers}; {apart}")),
    }
}
