//! `lantern demo`: simulated machines, a throw-away home, and a walk through the job: real commands of this very program, run as children.

mod desk;
mod paste;

use std::io::IsTerminal;
use std::os::fd::AsFd;
use std::path::Path;
use std::process::Stdio;
use std::sync::Arc;

use lantern_book::{Home, KeyRing};
use lantern_harbour::{
    Harbour, LatencyLink, LitMachine, LitWindows, MachineSpec, WindowsSpec, sample_fleet, sample_windows,
};
use lantern_keys::{KeyAlgorithm, PrivateKey, TlsCertificate};
use lantern_operations::demo::{self, Beat, DemoMachine, Ending, KEY, Run, SET_UP_ANEW};
use lantern_operations::quoted;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;
use tokio::process::Command;
use tokio::signal::unix::SignalKind;

use self::desk::Desk;
use super::{block_on, watch};
use crate::cli::demo::DemoArgs;
use crate::cli::global::Global;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::prompt::{Answer, Terminal};

/// Port of the simulated machines when it is free.
const PORT: u16 = 2222;

pub(crate) fn run(args: &DemoArgs, global: &Global) -> Result<u8, Failure> {
    if global.json {
        return Err(Failure::new(code::USAGE, "the demo is for people: it has no JSON form"));
    }
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot set up the demo: {error}"));
    let folder = tempfile::Builder::new().prefix("lantern-demo-").tempdir().map_err(failed)?;
    let home = Home::new(folder.path().join("home"));
    let outcome = block_on(async {
        // Ctrl-C must not skip the cleaning up, so it is a signal like others.
        let mut interrupts = watch(SignalKind::interrupt())?;
        let mut terminations = watch(SignalKind::terminate())?;
        tokio::select! {
            outcome = act(args, &home) => outcome,
            _ = interrupts.recv() => Ok(()),
            _ = terminations.recv() => Ok(()),
        }
    });
    folder
        .close()
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot remove the demo's folder: {error}")))?;
    outcome.map(|()| 0).and_then(|status| {
        output::print(&Fit::literal(match args.stay {
            true => "\nThe demo's home is removed.\n",
            false => "\nThe demo's home is removed. `lantern demo --stay` keeps the machines lit, to go on by yourself.\n",
        }))?;
        Ok(status)
    })
}

async fn act(args: &DemoArgs, home: &Home) -> Result<(), Failure> {
    let lantern = std::env::current_exe()
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot find lantern itself: {error}")))?;
    let is_watched = std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
    let stage = Stage { lantern: &lantern, home, pauses: is_watched && !args.no_pause, bare: None };
    stage.play(&demo::opening(!args.no_walk)).await?;
    let key = KeyRing::new(home).get(KEY)?;
    let broken = |error| Failure::new(code::INTERNAL, format!("cannot make the simulated machines: {error}"));
    let specs = sample_fleet(&key.public).map_err(broken)?;
    let (harbour, links) = light(specs, args.latency).await?;
    let windows = light_windows().await?;
    let (bare, _) = light(vec![lantern_harbour::bare_machine().map_err(broken)?], None).await?;
    let stage = Stage { bare: bare.machines().first(), ..stage };
    let mut machines: Vec<DemoMachine> =
        harbour.machines().iter().filter_map(|lit| as_told(lit, &links)).collect();
    machines.extend(windows_as_told(&windows));
    demo::enter_into_book(home, &machines)?;
    // Kept lit for the stay: the machine in the book leads to it after the walk.
    let mut _relit = None;
    if !args.no_walk {
        stage.play(&demo::walk(&machines)).await?;
        // Last, so that nothing else meets a machine with a new key.
        let relit = relight(&harbour, SET_UP_ANEW).await?;
        if let Some(lit) = relit.machines().first() {
            stage.play(&demo::changed_key(&lit.address.to_string())).await?;
        }
        _relit = Some(relit);
    }
    if args.stay {
        stay(home.path(), &lantern, &machines)?;
        std::future::pending::<()>().await;
    }
    Ok(())
}

/// Opens the machines, on the usual port when it is free, and lines with latency in front when wanted.
async fn light(
    mut specs: Vec<MachineSpec>,
    latency: Option<u64>,
) -> Result<(Harbour, Vec<(String, LatencyLink)>), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot light the machines: {error}"));
    specs.iter_mut().for_each(|spec| spec.port = PORT);
    let harbour = match Harbour::light(specs.clone()).await {
        Ok(harbour) => harbour,
        Err(_) => {
            specs.iter_mut().for_each(|spec| spec.port = 0);
            Harbour::light(specs).await.map_err(failed)?
        }
    };
    let mut links = Vec::new();
    if let Some(latency) = latency {
        for machine in harbour.machines() {
            let one_way = std::time::Duration::from_millis(latency);
            let link = LatencyLink::open(machine.address, one_way).await.map_err(failed)?;
            links.push((machine.spec.name.clone(), link));
        }
    }
    Ok((harbour, links))
}

/// A lit machine as the story knows it.
fn as_told(lit: &LitMachine, links: &[(String, LatencyLink)]) -> Option<DemoMachine> {
    let line = links.iter().find(|(name, _)| *name == lit.spec.name);
    Some(DemoMachine {
        name: lit.spec.name.clone(),
        address: line.map_or(lit.address, |(_, link)| link.address),
        inner_address: lit.spec.inner_address.clone(),
        is_windows: false,
        fingerprint: lit.spec.host_keys.first()?.public().fingerprint(),
    })
}

/// Opens the machine of Windows, on the usual port when it is free.
async fn light_windows() -> Result<LitWindows, Failure> {
    let failed = |error: std::io::Error| {
        Failure::new(code::LOCAL, format!("cannot light the machine of Windows: {error}"))
    };
    let spec = sample_windows().map_err(failed)?;
    let usual = WindowsSpec { port: lantern_book::DEFAULT_WINRM_PORT, ..spec.clone() };
    match LitWindows::light(usual).await {
        Ok(lit) => Ok(lit),
        Err(_) => LitWindows::light(spec).await.map_err(failed),
    }
}

fn windows_as_told(lit: &LitWindows) -> Option<DemoMachine> {
    let certificate = TlsCertificate::read(&lit.certificate()?).ok()?;
    Some(DemoMachine {
        name: lit.name(),
        address: lit.address,
        inner_address: None,
        is_windows: true,
        fingerprint: certificate.fingerprint(),
    })
}

/// The same machine with another host key, as after a re-installation; on a port of its own.
async fn relight(harbour: &Harbour, name: &str) -> Result<Harbour, Failure> {
    let failed = |error: String| Failure::new(code::INTERNAL, format!("cannot relight {name}: {error}"));
    let lit = harbour.machine(name).ok_or_else(|| failed("it is not lit".into()))?;
    let mut spec = MachineSpec::clone(&lit.spec);
    let key = PrivateKey::generate(KeyAlgorithm::Ed25519, name).map_err(|error| failed(error.to_string()))?;
    spec.host_keys = vec![Arc::new(key)];
    spec.port = 0;
    Harbour::light(vec![spec]).await.map_err(|error| failed(error.to_string()))
}

/// What to try while the machines are lit.
fn stay(home: &Path, lantern: &Path, machines: &[DemoMachine]) -> Result<(), Failure> {
    let paste = format!("shell --paste '{}'", demo::connect_line(machines));
    let things = [
        ("shell", "pick a machine"),
        ("shell foghorn", "wants the key, then the password: low visibility"),
        ("shell tide-gauge", "asks for the password: spring tide; and the code: 2718"),
        ("run lamp-01 -- cat tides.csv", "a command, its output and its status"),
        ("check chart-room", "Windows, over WinRM; asks for the password: high water"),
        ("shell chart-room", "a session of PowerShell there; Get-Lamp, Confirm-Lamp, exit"),
        ("check @coast", "every step to the machines of the coast at once"),
        (&paste, "what a console hands out"),
        ("tunnel open signal-hut console --browse", "a page on its loopback, in the browser"),
        ("tunnel list --watch", "what is open"),
        ("run lamp-01 --display -- lamp-view", "a window of the machine's, where a display is"),
        ("key audit", "what is wrong with the ring"),
    ];
    let mut text = fit!(
        "\nThe machines stay lit until Ctrl-C. In another terminal:\n\n    export LANTERN_HOME={}\n",
        home.display()
    );
    for (words, about) in things {
        text.push(fit!("    {} {}  {}\n", lantern.display(), format!("{words:<48}"), about));
    }
    output::print(&text)
}

/// Where the story is played.
struct Stage<'a> {
    /// This program.
    lantern: &'a Path,
    /// The throw-away home.
    home: &'a Home,
    /// Whether somebody watches, and says when it goes on.
    pauses: bool,
    /// The machine whose console is pasted to.
    bare: Option<&'a LitMachine>,
}

impl Stage<'_> {
    async fn play(&self, beats: &[Beat]) -> Result<(), Failure> {
        for beat in beats {
            match beat {
                Beat::Say(text) => {
                    if self.pauses && text.starts_with(|c: char| c.is_ascii_digit()) {
                        pause().await?;
                    }
                    tell(text)?;
                }
                Beat::Run(run) => self.run(run).await?,
                Beat::Fetch { machine, tunnel } => self.fetch(machine, tunnel).await?,
                Beat::Paste { machine, prepare, carry } => self.paste(machine, prepare, carry).await?,
                Beat::Window(run) => self.window(run).await?,
            }
        }
        Ok(())
    }

    /// Opens a tunnel as one does, fetches the page behind it, and closes the tunnel.
    async fn fetch(&self, machine: &str, tunnel: &str) -> Result<(), Failure> {
        let broken = |error: std::io::Error| {
            Failure::new(code::INTERNAL, format!("the demo cannot fetch a page: {error}"))
        };
        // A port that is free, whatever the book says.
        let words = ["tunnel", "open", machine, tunnel, "--local", "0", "--to", "127.0.0.1:80"];
        let run = Run { words: words.map(str::to_owned).to_vec(), input: "", ending: Ending::Well };
        echo(&run)?;
        let mut command = Command::new(self.lantern);
        command.args(&run.words).arg("--json").env("LANTERN_HOME", self.home.path()).kill_on_drop(true);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(broken)?;
        let said = child.stdout.take().ok_or_else(|| broken(std::io::ErrorKind::BrokenPipe.into()))?;
        let mut lines = BufReader::new(said).lines();
        let (url, at) = loop {
            let Some(line) = lines.next_line().await.map_err(broken)? else {
                return Err(broken(std::io::ErrorKind::UnexpectedEof.into()));
            };
            let value: serde_json::Value = serde_json::from_str(&line).unwrap_or_default();
            let text = |name: &str| value["tunnels"][0][name].as_str().map(str::to_owned);
            if let Some(found) = text("url").zip(text("listens_at")) {
                break found;
            }
        };
        let mut line = TcpStream::connect(&at).await.map_err(broken)?;
        line.write_all(b"GET / HTTP/1.1\r\nHost: lamp\r\nConnection: close\r\n\r\n").await.map_err(broken)?;
        line.shutdown().await.map_err(broken)?;
        let mut page = String::new();
        line.read_to_string(&mut page).await.map_err(broken)?;
        let body = page.split_once("\r\n\r\n").map_or("", |(_, body)| body);
        output::print(&fit!("{} answers:\n{}", url, Fit::lines(body)))
    }

    /// Runs a command that draws a window, where there is something to draw it on.
    async fn window(&self, run: &Run) -> Result<(), Failure> {
        let Some(desk) = Desk::find(self.home).await else {
            return tell(
                "There is no display here that keeps a machine's programs apart, and no Xvfb to stand in for one.",
            );
        };
        if desk.server.is_some() {
            tell("No such display is here, so an Xvfb stands in for one: it draws, and nobody sees it.")?;
        }
        self.run_at(run, Some(&desk)).await
    }

    async fn run(&self, run: &Run) -> Result<(), Failure> {
        self.run_at(run, None).await
    }

    /// Runs a command; another ending than the story's ends the demo.
    async fn run_at(&self, run: &Run, desk: Option<&Desk>) -> Result<(), Failure> {
        let broken = |error: std::io::Error| {
            Failure::new(code::INTERNAL, format!("the demo cannot run lantern: {error}"))
        };
        let mut command = Command::new(self.lantern);
        command.args(&run.words).env("LANTERN_HOME", self.home.path()).kill_on_drop(true);
        if let Some(Desk { around, .. }) = desk {
            command.env("DISPLAY", around.name.as_deref().unwrap_or_default());
            command.env("XAUTHORITY", &around.authority);
        }
        command.stdin(if run.input.is_empty() { Stdio::null() } else { Stdio::piped() });
        echo(run)?;
        // All that is told is one text, in its order.
        command.stderr(stdout_again().map_err(broken)?);
        let mut child = command.spawn().map_err(broken)?;
        if let Some(mut stdin) = child.stdin.take() {
            stdin.write_all(run.input.as_bytes()).await.map_err(broken)?;
        }
        let met = child.wait().await.map_err(broken)?.code();
        let expected = expected_code(run.ending);
        if expected != 0 {
            output::print(&fit!("(exit code {})\n", met.unwrap_or_default().to_string()))?;
        }
        if met == Some(i32::from(expected)) {
            return Ok(());
        }
        // Whoever read had enough, which the command was told too.
        if reader_is_gone() {
            return Err(Failure::quiet(0));
        }
        let met = met.map_or("a signal".into(), |code| code.to_string());
        let words = run.words.join(" ");
        Err(Failure::new(
            code::INTERNAL,
            format!("the demo went wrong: `lantern {words}` ended with {met}, expected was {expected}"),
        ))
    }
}

fn expected_code(ending: Ending) -> u8 {
    match ending {
        Ending::Well => 0,
        Ending::Status(status) => status,
        Ending::Found => 1,
        Ending::NotTrusted => code::TRUST,
    }
}

fn tell(text: &str) -> Result<(), Failure> {
    let style = if output::colorful_stdout() { ("\x1b[1;33m", "\x1b[0m") } else { ("", "") };
    output::print(&fit!("\n{}{}{}\n", Fit::literal(style.0), text, Fit::literal(style.1)))
}

/// Shows a command as it would be typed.
fn echo(run: &Run) -> Result<(), Failure> {
    let words: Vec<String> = run.words.iter().map(|word| quoted(Path::new(word))).collect();
    let input = match run.input {
        "" => String::new(),
        input => format!("printf '{}' | ", input.replace('\n', "\\n")),
    };
    output::print(&fit!("\n% {}lantern {}\n", input, words.join(" ")))
}

/// Waits until the one who watches wants to go on.
async fn pause() -> Result<(), Failure> {
    let asked = tokio::task::spawn_blocking(|| {
        let mut terminal = Terminal::open()?;
        Some(terminal.ask_line("\n-- Enter goes on, Ctrl-C leaves "))
    });
    match asked.await {
        Ok(Some(Answer::Interrupted | Answer::Ended)) => Err(Failure::quiet(0)),
        _ => Ok(()),
    }
}

fn stdout_again() -> std::io::Result<Stdio> {
    Ok(Stdio::from(std::io::stdout().as_fd().try_clone_to_owned()?))
}

/// Whether nobody reads any more what is printed.
fn reader_is_gone() -> bool {
    let out = std::io::stdout();
    let mut watched = [PollFd::new(&out, PollFlags::OUT)];
    let now = Timespec::default();
    poll(&mut watched, Some(&now)).is_ok_and(|_| watched[0].revents().contains(PollFlags::ERR))
}
