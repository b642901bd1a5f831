//! This computer's side of a connection: what is ours to mend.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use lantern_book::{Home, KeyRing, Tunnel, TunnelKind};
use lantern_link::{AgentClient, AgentSocket};
use lantern_operations::Target;
use tokio::net::{TcpListener, TcpStream, UnixStream};

use super::account::Mark;
use crate::confirm;
use crate::failure::{Failure, code};
use crate::output;

/// Something that `--fix` can do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Mend {
    /// Narrow the permissions of a file or folder.
    Narrow(PathBuf, u32),
    /// Remove a socket that nobody listens on.
    RemoveSocket(PathBuf),
}

impl Mend {
    fn words(&self) -> String {
        match self {
            Self::Narrow(path, mode) => format!("chmod {mode:04o} {}", path.display()),
            Self::RemoveSocket(path) => format!("rm {}", path.display()),
        }
    }

    fn carry_out(&self) -> std::io::Result<()> {
        match self {
            Self::Narrow(path, mode) => fs::set_permissions(path, fs::Permissions::from_mode(*mode)),
            Self::RemoveSocket(path) => fs::remove_file(path),
        }
    }
}

/// Looks at everything here that the machine's settings need.
pub(super) async fn look(
    home: &Home,
    target: &Target,
    mut put: impl FnMut(Mark, String, Vec<String>, Option<Mend>),
) {
    files(home, target, &mut put);
    running_keeper(home, &mut put).await;
    if target.forward_display {
        display(&mut put).await;
    }
    for (name, form) in &target.tunnels {
        if let Ok(tunnel) = Tunnel::parse(form)
            && tunnel.kind != TunnelKind::Remote
        {
            let place = lantern_book::place(&tunnel.listen.0, tunnel.listen.1);
            match TcpListener::bind((tunnel.listen.0.as_str(), tunnel.listen.1)).await {
                Ok(_) => put(
                    Mark::Good,
                    format!("the port of the tunnel {name} is free: {place}"),
                    Vec::new(),
                    None,
                ),
                Err(error) => {
                    let advice = vec![
                        "another program has it: `ss -tlnp` says which".to_owned(),
                        format!(
                            "lantern machine set {} 'tunnels.{name}={form}'   with another port",
                            target.name
                        ),
                    ];
                    put(
                        Mark::Doubt,
                        format!("the tunnel {name} cannot listen at {place}: {error}"),
                        advice,
                        None,
                    );
                }
            }
        }
    }
}

fn files(home: &Home, target: &Target, put: &mut impl FnMut(Mark, String, Vec<String>, Option<Mend>)) {
    let mut all_well = true;
    let mut exposed = |path: PathBuf, mode: u32, wanted: u32| {
        all_well = false;
        let saw = format!("others can read {} (mode {mode:04o})", path.display());
        let mend = Mend::Narrow(path, wanted);
        put(Mark::Doubt, saw, vec![mend.words()], Some(mend));
    };
    if let Ok(metadata) = fs::metadata(home.path())
        && metadata.permissions().mode() & 0o077 != 0
    {
        exposed(home.path().to_owned(), metadata.permissions().mode() & 0o7777, 0o700);
    }
    let ring = KeyRing::new(home);
    let entries = ring.all().unwrap_or_default().into_iter().filter_map(Result::ok);
    let mut count = 0;
    for entry in entries.filter(|entry| target.keys.is_empty() || target.keys.contains(&entry.name)) {
        count += 1;
        if entry.is_exposed() {
            exposed(entry.path.clone(), entry.mode & 0o7777, 0o600);
        }
    }
    if all_well && count > 0 {
        put(Mark::Good, "key files are closed to others".into(), Vec::new(), None);
    }
}

async fn running_keeper(home: &Home, put: &mut impl FnMut(Mark, String, Vec<String>, Option<Mend>)) {
    let path = lantern_keeper::socket_path(home);
    if !path.exists() {
        let advice = vec!["lantern keeper start".to_owned()];
        put(Mark::Good, "no keeper runs: passphrases are asked for each time".into(), advice, None);
        return;
    }
    let socket = AgentSocket { path: path.clone(), what: "the keeper" };
    match AgentClient::connect(&socket).await {
        Ok(mut client) => {
            let held = client.list().await.map(|keys| keys.len());
            let saw = match held {
                Ok(1) => "the keeper runs and holds a key".to_owned(),
                Ok(held) => format!("the keeper runs and holds {held} keys"),
                Err(error) => format!("the keeper runs, but: {error}"),
            };
            put(Mark::Good, saw, Vec::new(), None);
        }
        Err(_) => {
            let mend = Mend::RemoveSocket(path);
            let saw = "a keeper was there, and its socket is left over".to_owned();
            put(Mark::Doubt, saw, vec![mend.words()], Some(mend));
        }
    }
}

/// Whether the display that programs would draw on answers.
async fn display(put: &mut impl FnMut(Mark, String, Vec<String>, Option<Mend>)) {
    let advice = |what: &str| vec![what.to_owned(), "start the display server, and check again".to_owned()];
    let Some(name) = std::env::var("DISPLAY").ok().filter(|name| !name.is_empty()) else {
        let words = "displays are to be forwarded, and none is named here: DISPLAY is not set".to_owned();
        put(Mark::Doubt, words, advice("graphical programs need a display server on this computer"), None);
        return;
    };
    let (host, rest) = name.rsplit_once(':').unwrap_or(("", name.as_str()));
    let number = rest.split('.').next().and_then(|number| number.parse::<u16>().ok());
    let answers = match (host, number) {
        (_, None) => false,
        ("" | "unix", Some(number)) => UnixStream::connect(format!("/tmp/.X11-unix/X{number}")).await.is_ok(),
        // The X Window System's ports begin at 6000.
        (host, Some(number)) => TcpStream::connect((host, 6000u16.saturating_add(number))).await.is_ok(),
    };
    match answers {
        true => put(Mark::Good, format!("the display {name} answers"), Vec::new(), None),
        false => put(
            Mark::Doubt,
            format!("the display {name} does not answer"),
            advice("nothing listens there"),
            None,
        ),
    }
}

/// Mends what can be mended, after asking; without `--fix` says that it could.
pub(super) fn settle(mut mends: Vec<Mend>, fix: bool, yes: bool) -> Result<(), Failure> {
    let mut seen = Vec::new();
    mends.retain(|mend| {
        !seen.contains(mend) && {
            seen.push(mend.clone());
            true
        }
    });
    if mends.is_empty() {
        if fix {
            output::say("Nothing here is in need of mending.");
        }
        return Ok(());
    }
    if !fix {
        output::say("`--fix` mends what is amiss on this computer.");
        return Ok(());
    }
    for mend in mends {
        let words = mend.words();
        if yes || confirm::ask(&format!("{words}?"), "`--yes` mends without asking")? {
            mend.carry_out()
                .map_err(|error| Failure::new(code::LOCAL, format!("cannot do `{words}`: {error}")))?;
            output::say(&format!("done: {words}"));
        }
    }
    Ok(())
}
