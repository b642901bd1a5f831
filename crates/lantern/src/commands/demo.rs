//! `lantern demo`: simulated machines, a throw-away home, and a walk through the job.

use std::path::Path;
use std::sync::Arc;

use clap::Args;
use lantern_book::{Field, FieldValue, Home, KeyRing, MachineBook, Settings};
use lantern_harbour::{Harbour, LatencyLink, MachineSpec, sample_fleet};
use lantern_keys::{KeyAlgorithm, PrivateKey};
use tokio::signal::unix::SignalKind;

use super::demo_story;
use super::{block_on, watch};
use crate::cli::Global;
use crate::failure::{Failure, code};
use crate::output;

/// Port of the simulated machines when it is free.
const PORT: u16 = 2222;
/// The key of the demo's keeper.
pub(super) const KEY: &str = "harbour";

/// Arguments of `demo`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern demo           walk through and clean up
  lantern demo --stay    and keep the machines lit, to try things in another terminal

Everything lives in a temporary folder and on loopback addresses; nothing of yours is touched.")]
pub(crate) struct DemoArgs {
    /// Keep the simulated machines lit until Ctrl-C
    #[arg(long)]
    stay: bool,
    /// Skip the walk (with --stay)
    #[arg(long, requires = "stay")]
    no_walk: bool,
    /// Delay every byte from and to the machines by this many milliseconds each way
    #[arg(long, value_name = "MS", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    latency: Option<u64>,
}

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
    output::say("The demo's home is removed.");
    outcome.map(|()| 0)
}

async fn act(args: &DemoArgs, home: &Home) -> Result<(), Failure> {
    let lantern = std::env::current_exe()
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot find lantern itself: {error}")))?;
    let story = demo_story::Story { lantern: &lantern, home };
    if args.no_walk {
        story.make_key().await?;
    } else {
        story.open().await?;
    }
    let key = KeyRing::new(home).get(KEY)?;
    let broken = |error| Failure::new(code::INTERNAL, format!("cannot make the simulated machines: {error}"));
    let specs = sample_fleet(&key.public).map_err(broken)?;
    let (harbour, links) = light(specs, args.latency).await?;
    enter_into_book(home, &harbour, &links)?;
    // Kept lit for the stay: lamp-02 in the book leads to it after the walk.
    let mut _relit = None;
    if !args.no_walk {
        story.walk(&harbour).await?;
        // Last, so that nothing else meets a lamp-02 with a new key.
        let relit = relight(&harbour, "lamp-02").await?;
        story.changed_key(&relit).await?;
        _relit = Some(relit);
    }
    if args.stay {
        stay(home.path(), &lantern).await;
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

/// The machine that one goes through to reach those of the pier.
const GATE: &str = "harbour-gate";

fn enter_into_book(home: &Home, harbour: &Harbour, links: &[(String, LatencyLink)]) -> Result<(), Failure> {
    for lit in harbour.machines() {
        let line = links.iter().find(|(name, _)| *name == lit.spec.name);
        let address = line.map_or(lit.address, |(_, link)| link.address);
        let note = match lit.spec.name.as_str() {
            "foghorn" => Some("wants the key, then the password: low visibility".to_owned()),
            "tide-gauge" => Some("asks for the password: spring tide; and the code: 2718".to_owned()),
            _ => None,
        };
        let tag = match lit.spec.name.as_str() {
            "chart-room" | GATE => "house",
            _ if lit.spec.inner_address.is_some() => "pier",
            _ => "coast",
        };
        let mut machine = match &lit.spec.inner_address {
            Some(inner) => Settings::at(inner)?.with_text(Field::Gateway, GATE)?,
            None => Settings::at(&address.ip().to_string())?
                .with(Field::Port, FieldValue::Number(address.port().into()))?,
        };
        machine = machine.with_text(Field::User, "keeper")?.with_text(Field::Tags, tag)?;
        if lit.spec.name != "tide-gauge" {
            machine = machine.with_text(Field::Key, KEY)?;
        }
        if let Some(note) = note {
            machine = machine.with(Field::Note, FieldValue::Text(note))?;
        }
        MachineBook::add(home, &lit.spec.name, &machine)?;
    }
    Ok(())
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

async fn stay(home: &Path, lantern: &Path) {
    output::say(&format!(
        "\nThe machines stay lit until Ctrl-C. In another terminal:\n\n    export LANTERN_HOME={}\n    {} machine list\n    {} shell lamp-01\n",
        home.display(),
        lantern.display(),
        lantern.display(),
    ));
    std::future::pending::<()>().await;
}
