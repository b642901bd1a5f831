//! `lantern mount` and `lantern unmount`: a folder of a machine as one of this computer's.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use lantern_book::Home;
use lantern_keeper::Recalling;
use lantern_link::{Files, FilesError, Remote, chain};
use lantern_operations::files::Side;
use lantern_operations::login::Way;
use lantern_operations::mount::{
    Again, Lifeline, MountError, RemoteTree, TreeOptions, mount_at, mounts, unmount as take_away,
};
use lantern_operations::tunnel::is_final;
use lantern_operations::{OperationError, ReachOptions, Target, quoted};
use lantern_ssh::sftp::FileKind;
use serde_json::json;
use tokio::signal::unix::SignalKind;

use super::places::{Place, places, reach};
use super::{block_on, watch};
use crate::cli::global::Global;
use crate::cli::machine::selection::ExceptArgs;
use crate::cli::mount::{MountArgs, UnmountArgs};
use crate::cli::settings;
use crate::commands::connecting::asking_as;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

/// Tells a process of ours that it is to go into the background once the folder is there.
const BACKGROUND: &str = "LANTERN_MOUNT_IN_BACKGROUND";
/// What such a process says then.
const READY: &[u8] = b"mounted\n";

impl From<MountError> for Failure {
    fn from(error: MountError) -> Self {
        let failure = Self::new(code::LOCAL, chain(&error));
        match &error {
            MountError::NoDevice => failure
                .hint("as root: modprobe fuse")
                .hint("in a container: it is started with the device, as `--device /dev/fuse`"),
            MountError::NoHelper => failure.hint("it is in the system's package fuse3"),
            MountError::NotEmpty(path) => {
                failure.hint(format!("another folder: mkdir {}-there", quoted(path)))
            }
            MountError::Already { path, .. } => failure.hint(format!("lantern unmount {}", quoted(path))),
            MountError::NotOurs(_) => failure.hint("which there are: lantern mount --list"),
            MountError::Busy(path) => failure
                .hint(format!("who: fuser -vm {}", quoted(path)))
                .hint(format!("all the same: lantern unmount {} --lazily", quoted(path))),
            MountError::Folder { path, source } if source.kind() == std::io::ErrorKind::NotFound => {
                failure.hint(format!("mkdir {}", quoted(path)))
            }
            _ => failure,
        }
    }
}

pub(crate) fn run(args: &MountArgs, global: &Global) -> Result<u8, Failure> {
    if args.list {
        return list(global.json);
    }
    let (Some(place), Some(folder)) = (&args.place, &args.folder) else {
        return Err(Failure::new(code::USAGE, "a place and a folder are wanted"));
    };
    // A process in the background has no folder that it is in.
    let folder = &std::path::absolute(folder).unwrap_or_else(|_| folder.clone());
    let is_child = std::env::var_os(BACKGROUND).is_some();
    if !args.foreground && !is_child {
        return in_background(place, folder, global.json);
    }
    let home = settings::home(global)?;
    let mut all = places(&home, &[place], &ExceptArgs { except: Vec::new() }, &args.connect)?;
    let (Some(place), true) = (all.pop(), all.is_empty()) else {
        return Err(Failure::new(code::USAGE, "one folder at a time is mounted"));
    };
    let ask = asking_as(&args.connect, &args.acting)?;
    ask.remember();
    block_on(serve(&home, args, &place, folder, &ask, is_child))?;
    Ok(0)
}

/// Has a process of ours do it, which goes on when this one ends.
fn in_background(place: &OsStr, folder: &Path, json: bool) -> Result<u8, Failure> {
    let cannot =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot start a process for it: {error}"));
    let program = std::env::current_exe().map_err(cannot)?;
    let mut child = Command::new(program)
        .args(std::env::args_os().skip(1))
        .env(BACKGROUND, "1")
        .stdout(Stdio::piped())
        .spawn()
        .map_err(cannot)?;
    let mut said = Vec::new();
    if let Some(out) = child.stdout.take() {
        let _ = out.take(READY.len() as u64).read_to_end(&mut said);
    }
    if said != READY {
        // It has said why.
        let status = child.wait().map_err(cannot)?.code().and_then(|status| u8::try_from(status).ok());
        return Err(match status {
            Some(status) if status != 0 => Failure::quiet(status),
            _ => Failure::new(code::INTERNAL, "the process for it ended before anything was mounted"),
        });
    }
    match json {
        true => output::print_json(
            &json!({ "place": place.to_string_lossy(), "folder": folder.display().to_string() }),
        )?,
        false => output::say(format!(
            "{} is at {}; `lantern unmount {}` takes it away.",
            place.to_string_lossy(),
            folder.display(),
            quoted(folder)
        )),
    }
    Ok(0)
}

async fn serve(
    home: &Home,
    args: &MountArgs,
    place: &Place,
    folder: &Path,
    ask: &TerminalAsk,
    is_child: bool,
) -> Result<(), Failure> {
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut terminations = watch(SignalKind::terminate())?;
    let mut hangups = watch(SignalKind::hangup())?;
    let acts_as = args.acting.other.as_deref();
    let side = reach(home, &place.errand, acts_as, ask).await?;
    let machine = place.errand.target.name.clone();
    let root = side.real_path(&place.path).await.map_err(|fault| Failure::from(&fault))?;
    match side.look(&root, true).await.map_err(|fault| Failure::from(&fault))? {
        Some(there) if there.kind() == FileKind::Folder => {}
        Some(_) => {
            return Err(Failure::new(code::SESSION, format!("{} on {machine} is no folder", shown(&root)))
                .hint("a single file: lantern edit, or lantern copy"));
        }
        None => {
            return Err(Failure::new(code::SESSION, format!("there is no {} on {machine}", shown(&root))));
        }
    }
    let Side::There(there) = side else { return Err(Failure::new(code::INTERNAL, "no machine")) };
    let again = Reconnection {
        home: home.clone(),
        target: place.errand.target.clone(),
        options: place.errand.options.clone(),
        acts_as: acts_as.map(str::to_owned),
        ask: ask.unattended(),
        remote: Mutex::new(Some(there.remote.clone())),
    };
    let again = Arc::new(again);
    let line = Lifeline::new(there.files.clone(), again.clone().into_again());
    drop(there);
    let options = TreeOptions { lasts: Duration::from_secs(args.cache.into()), read_only: args.read_only };
    let label = format!("{machine}:{}", shown(&root));
    let tree = Arc::new(RemoteTree::new(root, line, options));
    let runtime = tokio::runtime::Handle::current();
    let session = mount_at(tree.clone(), folder, &label, args.read_only, runtime)?;
    match is_child {
        true => detach(home)?,
        false => output::say(format!("{label} is at {}; Ctrl-C unmounts it.", folder.display())),
    }
    let mut ended = tokio::task::spawn_blocking(move || session.join());
    loop {
        tokio::select! {
            ended = &mut ended => {
                // Somebody has taken it away.
                if let Ok(Err(error)) = ended {
                    output::warn(format!("{label} ended: {error}"));
                }
                break;
            }
            _ = interrupts.recv() => {}
            _ = terminations.recv() => {}
            _ = hangups.recv() => {}
        }
        let folder = folder.to_owned();
        // The kernel asks meanwhile, and is answered.
        if let Ok(Err(error)) = tokio::task::spawn_blocking(move || take_away(&folder, false)).await {
            output::complain_of(&machine, &error.into());
        }
    }
    tree.settle_all().await;
    drop(tree);
    // What would stand on the machine for a while is ended.
    let remote = again.remote.lock().unwrap_or_else(PoisonError::into_inner).take();
    if let Some(remote) = remote {
        remote.close().await;
    }
    Ok(())
}

/// Says that the folder is there, and lets go of the terminal.
fn detach(home: &Home) -> Result<(), Failure> {
    let cannot =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot go into the background: {error}"));
    let mut out = std::io::stdout();
    out.write_all(READY).and_then(|()| out.flush()).map_err(cannot)?;
    let nowhere = File::options().read(true).write(true).open("/dev/null").map_err(cannot)?;
    rustix::stdio::dup2_stdin(&nowhere).map_err(|error| cannot(error.into()))?;
    rustix::stdio::dup2_stdout(&nowhere).map_err(|error| cannot(error.into()))?;
    rustix::stdio::dup2_stderr(&nowhere).map_err(|error| cannot(error.into()))?;
    // Whoever leads a group already has no terminal to be let go of.
    let _ = rustix::process::setsid();
    // Another folder's file system could not be taken away.
    if home.file("").is_absolute() {
        let _ = std::env::set_current_dir("/");
    }
    Ok(())
}

/// What is needed to connect once more, with nobody to ask.
struct Reconnection {
    home: Home,
    target: Target,
    options: ReachOptions,
    acts_as: Option<String>,
    ask: TerminalAsk,
    /// The connection that there is.
    remote: Mutex<Option<Remote>>,
}

impl Reconnection {
    fn into_again(self: Arc<Self>) -> Again {
        Box::new(move || {
            let this = self.clone();
            Box::pin(async move { this.files().await })
        })
    }

    async fn files(&self) -> Result<Files, (FilesError, bool)> {
        let ask = Recalling::new(&self.home, self.ask.clone()).without_keeper(self.options.agents.is_empty());
        let way = Way { home: &self.home, target: &self.target, options: &self.options, ask: &ask };
        let remote = way.reach().await.map_err(|error| {
            let is_final = is_final(&error);
            let error = match error {
                OperationError::Link(error) => FilesError::from(error),
                other => FilesError::Ended { machine: self.target.name.clone(), said: other.to_string() },
            };
            (error, is_final)
        })?;
        *self.remote.lock().unwrap_or_else(PoisonError::into_inner) = Some(remote.clone());
        let files = match &self.acts_as {
            Some(other) => remote.files_as(other, &self.ask).await,
            None => remote.files().await,
        };
        files.map_err(|error| {
            let is_final = error.is_refused_password();
            (error, is_final)
        })
    }
}

fn list(json: bool) -> Result<u8, Failure> {
    let all = mounts();
    if json {
        let all: Vec<_> = all
            .iter()
            .map(|mounted| {
                json!({
                    "place": mounted.place, "folder": mounted.folder.display().to_string(), "read_only": mounted.read_only,
                })
            })
            .collect();
        output::print_json(&all)?;
        return Ok(0);
    }
    if all.is_empty() {
        output::say("Nothing is mounted.");
        return Ok(0);
    }
    let rows = all.into_iter().map(|mounted| {
        let may = if mounted.read_only { "read" } else { "read and write" };
        [mounted.folder.display().to_string().into(), mounted.place.into(), may.into()]
    });
    output::print(&output::table(&["FOLDER", "PLACE", "MAY"], rows))?;
    Ok(0)
}

pub(crate) fn unmount(args: &UnmountArgs, global: &Global) -> Result<u8, Failure> {
    let mut status = 0;
    let several = args.folders.len() > 1;
    for folder in &args.folders {
        match take_away(folder, args.lazily) {
            Ok(mounted) if global.json => {
                output::print_json_line(
                    &json!({ "place": mounted.place, "folder": mounted.folder.display().to_string() }),
                )?;
            }
            Ok(mounted) => output::say(format!("{} is at {} no more.", mounted.place, folder.display())),
            Err(error) if !several => return Err(error.into()),
            Err(error) => {
                let failure = Failure::from(error);
                output::complain_of(&folder.display().to_string(), &failure);
                status = if status == 0 { failure.code } else { status };
            }
        }
    }
    Ok(status)
}
