//! `lantern trust scan`: which host keys machines present now.

use std::sync::Arc;

use clap::Args;
use lantern_book::{Home, MachineBook, TrustStore, TrustVerdict, select};
use lantern_keys::PublicKey;
use lantern_link::{ConnectRequest, KeyChoice, LinkError, Nobody, probe_host_keys};
use serde_json::{Value, json};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

use super::key_json;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, chain, code};
use crate::output;
use crate::progress::Progress;
use crate::target::Target;

/// Most machines that are looked at at once: each costs a few key exchanges.
const AT_ONCE: usize = 64;

/// Arguments of `trust scan`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern trust scan lamp-01,foghorn
  lantern trust scan @coast
  lantern trust scan 192.0.2.7:2222 --json

Every kind of host key that a machine has is fetched. Gateways on the way are logged in to,
with keys that need no question. Exit code 248 when a key is unknown or has changed.")]
pub(crate) struct ScanArgs {
    /// Machines: names, globs, @tags, comma-separated; or `address:port`
    #[arg(required = true, value_name = "SELECTION", add = crate::completing::selection())]
    selection: Vec<String>,
    /// Show only what is not as it was
    #[arg(long)]
    news: bool,
    #[command(flatten)]
    connect: ConnectArgs,
}

/// What machines present, in the order of the targets.
pub(super) type Scanned = Vec<Result<Vec<PublicKey>, LinkError>>;

/// Looks at the host keys of machines, many at once, without asking anybody anything.
pub(super) async fn look(requests: Vec<ConnectRequest>) -> Result<Scanned, Failure> {
    let gate = Arc::new(Semaphore::new(AT_ONCE));
    let mut progress = Progress::start("looking at machines", requests.len());
    let mut probes = JoinSet::new();
    let mut scanned: Vec<Option<Result<Vec<PublicKey>, LinkError>>> = requests.iter().map(|_| None).collect();
    for (index, request) in requests.into_iter().enumerate() {
        let gate = gate.clone();
        probes.spawn(async move {
            let _turn = gate.acquire().await;
            (index, probe_host_keys(&request, &Nobody).await)
        });
    }
    while let Some(done) = probes.join_next().await {
        let (index, outcome) = done.map_err(|error| Failure::new(code::INTERNAL, error.to_string()))?;
        progress.step();
        if let Some(place) = scanned.get_mut(index) {
            *place = Some(outcome);
        }
    }
    progress.end();
    Ok(scanned.into_iter().flatten().collect())
}

/// What the keys of one machine mean, in a word and a sentence.
pub(super) fn judge(
    store: &TrustStore,
    request: &ConnectRequest,
    keys: &[PublicKey],
) -> (&'static str, String) {
    let verdicts: Vec<TrustVerdict> =
        keys.iter().map(|key| store.assess(&request.machine, &request.trust_place(), key)).collect();
    if let Some(TrustVerdict::Revoked(revoked)) =
        verdicts.iter().find(|v| matches!(v, TrustVerdict::Revoked(_)))
    {
        return ("REVOKED", format!("refused because: {}", revoked.reason));
    }
    let is_own = |v: &&TrustVerdict| matches!(v, TrustVerdict::Known | TrustVerdict::Moved { .. });
    let own = verdicts.iter().filter(is_own).count();
    match verdicts.first() {
        _ if own > 0 && own < keys.len() => {
            ("known", format!("{} of its {} keys are not known yet", keys.len() - own, keys.len()))
        }
        Some(TrustVerdict::Moved { from }) => {
            ("moved", format!("same key, met before at {}", from.join(", ")))
        }
        Some(TrustVerdict::FirstContact { same_key, .. }) if !same_key.is_empty() => {
            ("new", format!("never met; the same key as {}", same_key.join(", ")))
        }
        Some(TrustVerdict::FirstContact { .. }) => ("new", "never met".into()),
        Some(TrustVerdict::Changed { known, belongs_to }) => {
            let was: Vec<_> = known.iter().map(|known| known.key.fingerprint().to_string()).collect();
            let whose = match belongs_to.as_slice() {
                [] => String::new(),
                names => format!("; this is the key of {}", names.join(", ")),
            };
            ("CHANGED", format!("it was {}{whose}", was.join(", ")))
        }
        _ => ("known", "as it was".into()),
    }
}

/// The requests for these targets; no user is needed to look.
pub(super) fn requests(
    home: &Home,
    targets: &[Target],
    args: &ConnectArgs,
) -> Result<Vec<ConnectRequest>, Failure> {
    // Whoever only looks logs in as nobody: that this computer names no user must not stand in the way.
    let args =
        ConnectArgs { user: Some(args.user.clone().unwrap_or_else(|| "nobody".into())), ..args.clone() };
    targets.iter().map(|target| target.request(home, &args, KeyChoice::Nothing, false)).collect()
}

pub(super) async fn run(home: &Home, args: &ScanArgs, json: bool) -> Result<u8, Failure> {
    let store = TrustStore::load(home)?;
    let book = MachineBook::load(home)?;
    let names = select(&book, &args.selection)?;
    let targets =
        names.iter().map(|typed| Target::find(home, &book, typed)).collect::<Result<Vec<_>, _>>()?;
    let requests = requests(home, &targets, &args.connect)?;
    let scanned = look(requests.clone()).await?;
    let (mut rows, mut values, mut status) = (Vec::new(), Vec::new(), 0);
    for (request, outcome) in requests.iter().zip(scanned) {
        let (state, detail, keys) = match &outcome {
            Ok(keys) => {
                let (state, detail) = judge(&store, request, keys);
                if matches!(state, "new" | "CHANGED" | "REVOKED") {
                    status = code::TRUST;
                }
                (state, detail, keys.as_slice())
            }
            Err(error) => ("unreachable", chain(error), &[][..]),
        };
        if let Err(error) = &outcome {
            status = status.max(crate::failure::code_of(error));
        }
        values.push(json!({
            "machine": request.machine,
            "address": request.place(),
            "state": state.to_lowercase(),
            "detail": detail,
            "key": keys.first().map(key_json),
            "keys": keys.iter().map(key_json).collect::<Vec<Value>>(),
        }));
        if args.news && state == "known" && detail == "as it was" {
            continue;
        }
        let first = keys.first();
        rows.push([
            request.machine.clone().into(),
            state.into(),
            first.map(PublicKey::describe).unwrap_or_default().into(),
            first.map(|key| key.fingerprint().to_string()).unwrap_or_default().into(),
            detail.into(),
        ]);
        for key in keys.iter().skip(1) {
            let print = key.fingerprint().to_string();
            rows.push(["".into(), "".into(), key.describe().into(), print.into(), "".into()]);
        }
    }
    match json {
        true => output::print_json(&values)?,
        false if rows.is_empty() => output::say("All are as they were."),
        false => {
            output::print(&output::table(&["MACHINE", "STATE", "ALGORITHM", "FINGERPRINT", "DETAIL"], rows))?
        }
    }
    Ok(status)
}

/// The subject of an X.509 certificate in DER (RFC 5280 §4.1), as people write it.
pub(super) fn certificate_names(der: &[u8]) -> Option<String> {
    use x509_cert::der::Decode;
    let certificate = x509_cert::Certificate::from_der(der).ok()?;
    let certificate = certificate.tbs_certificate();
    let until = certificate.validity().not_after.to_date_time();
    Some(format!(
        "{}, until {:04}-{:02}-{:02}",
        lantern_ssh::neutralize(&certificate.subject().to_string(), 200),
        until.year(),
        until.month(),
        until.day()
    ))
}
