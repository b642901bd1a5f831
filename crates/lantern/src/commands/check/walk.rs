//! The way to one machine, step by step.

use std::time::{Duration, Instant};

use lantern_book::{Home, KeyRing, MachineBook};
use lantern_keys::SecretString;
use lantern_link::{
    Ask, FirstContact, HostKeyAnswer, KeyChoice, Link, LinkError, Note, ShellAnswer, Step, TrustFailure,
    connect, forwarding, subsystem_starts, who_and_where,
};
use lantern_ssh::{Algorithms, PlanReport, Prompts};
use tokio::time::timeout;

use super::account::{Account, Line, Mark, Stage};
use super::{advice, local};
use crate::ask::TerminalAsk;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, chain, code_of};
use crate::settings::local_user;
use crate::target::Target;

/// Clocks that differ by more than this make certificates, codes and tickets fail, in seconds: RFC 4120 §1.6 usually allows five minutes.
const CLOCK_DOUBT: i64 = 300;
/// What differs by more than this is worth knowing, in seconds.
const CLOCK_NOTE: i64 = 5;

/// Hears of every change of the account.
pub(super) type Tell = Box<dyn Fn(&Account) + Send + Sync>;

/// Answers like the person would, and writes down the steps.
struct Watcher {
    ask: TerminalAsk,
    account: Account,
    gateway: Option<String>,
    tell: Tell,
}

impl Watcher {
    fn put(&mut self, stage: Stage, mark: Mark, saw: impl Into<String>, took: Option<Duration>) {
        self.put_with(stage, mark, saw, took, Vec::new());
    }

    fn put_with(
        &mut self,
        stage: Stage,
        mark: Mark,
        saw: impl Into<String>,
        took: Option<Duration>,
        advice: Vec<String>,
    ) {
        let gateway = self.gateway.clone();
        self.account.lines.push(Line { stage, gateway, mark, saw: saw.into(), took, advice });
        (self.tell)(&self.account);
    }
}

impl Ask for Watcher {
    fn first_contact(&mut self, _contact: &FirstContact<'_>) -> HostKeyAnswer {
        // A check trusts nothing: it says that there is something to decide.
        HostKeyAnswer::NoOneToAsk
    }
    fn passphrase(&mut self, key: &str, again: bool) -> Option<SecretString> {
        self.ask.passphrase(key, again)
    }
    fn password_at_hand(&self, machine: &str) -> bool {
        self.ask.password_at_hand(machine)
    }
    fn password(&mut self, user: &str, machine: &str, again: bool) -> Option<SecretString> {
        self.ask.password(user, machine, again)
    }
    fn proxy_password(&mut self, user: &str, proxy: &str, again: bool) -> Option<SecretString> {
        self.ask.proxy_password(user, proxy, again)
    }
    fn new_password(&mut self, _demand: &str) -> Option<SecretString> {
        // A check changes nothing.
        None
    }
    fn prompts(&mut self, machine: &str, prompts: &Prompts) -> Option<Vec<SecretString>> {
        self.ask.prompts(machine, prompts)
    }
    fn note(&mut self, note: &Note<'_>) {
        match note {
            Note::Moved { from, to, .. } => {
                let saw = format!("moved from {} to {to}; the key is the same", from.join(", "));
                self.put(Stage::HostKey, Mark::Note, saw, None);
            }
            Note::DnsUnproven { why, .. } => self.put(Stage::HostKey, Mark::Note, *why, None),
            Note::FirstUse { key, .. } => {
                let saw = format!("{} is trusted at first use, as the policy has it", key.fingerprint());
                self.put(Stage::HostKey, Mark::Note, saw, None);
            }
            Note::Banner(_) => {}
            Note::NotRemembered(error) => self.put(Stage::Book, Mark::Note, chain(*error), None),
        }
    }
    fn wants_methods(&self) -> bool {
        true
    }
    fn step(&mut self, step: &Step<'_>) {
        match step {
            Step::Gateway(name) => self.gateway = Some((*name).to_owned()),
            Step::Machine(_) => self.gateway = None,
            Step::Resolved { name, found: Ok(found), took } => {
                if name.parse::<std::net::IpAddr>().is_ok() {
                    return;
                }
                let addresses: Vec<String> = found.iter().map(|address| address.ip().to_string()).collect();
                self.put(Stage::Name, Mark::Good, format!("{name} is {}", addresses.join(", ")), Some(*took));
            }
            // Of several names one may fail; when all do, the error says so.
            Step::Resolved { name, found: Err(error), took } => {
                self.put(Stage::Name, Mark::Note, format!("{name} was not found: {error}"), Some(*took));
            }
            Step::AddressFailed { why, took, .. } => self.put(Stage::Port, Mark::Note, *why, Some(*took)),
            Step::Reached { place, took } => {
                self.put(Stage::Port, Mark::Good, format!("{place} answers"), Some(*took));
            }
            Step::Identified { identification, took } => {
                self.put(Stage::Identification, Mark::Good, *identification, Some(*took));
            }
            Step::Agreed { algorithms, strict, key, trust, took } => {
                let (mark, saw) = judge_algorithms(algorithms, *strict);
                self.put(Stage::Algorithms, mark, saw, Some(*took));
                let saw = format!("{} {} ({trust})", key.describe(), key.fingerprint());
                self.put(Stage::HostKey, Mark::Good, saw, None);
            }
            Step::Offered { methods } => self.put(Stage::Methods, Mark::Good, methods.join(", "), None),
            Step::LoggedIn { by, took } => {
                self.put(Stage::Login, Mark::Good, format!("by {by}"), Some(*took))
            }
        }
    }
}

/// What was chosen, and what of it is old.
fn judge_algorithms(algorithms: &Algorithms, strict: bool) -> (Mark, String) {
    let direction = |direction: &lantern_ssh::Direction| match direction.mac {
        Some(mac) => format!("{} with {}", direction.cipher.name(), mac.name()),
        None => direction.cipher.name().to_owned(),
    };
    let (to, from) = (direction(&algorithms.client_to_server), direction(&algorithms.server_to_client));
    let ciphers = if to == from { to } else { format!("{to} to it, {from} from it") };
    let mut saw = format!("{}, {ciphers}", algorithms.kex.name());
    saw.push_str(if algorithms.kex.is_quantum_safe() { "; quantum-safe" } else { "; not quantum-safe" });
    saw.push_str(if strict { ", strict" } else { ", NOT strict: the server is older than 2024" });
    let old = !algorithms.kex.is_quantum_safe() || !strict;
    (if old { Mark::Note } else { Mark::Good }, saw)
}

/// Walks to one machine. Never fails: what fails is in the account.
pub(super) async fn walk(
    home: &Home,
    typed: &str,
    args: &ConnectArgs,
    ask: TerminalAsk,
    tell: Tell,
) -> Account {
    let account = Account { machine: typed.to_owned(), ..Account::default() };
    let mut watcher = Watcher { ask, account, gateway: None, tell };
    if let Some(target) = look_up(&mut watcher, home, typed, args) {
        go(&mut watcher, home, args, &target).await;
        watcher.gateway = None;
        let link_is_fine = watcher.account.failed().is_none();
        local::look(home, &target, |mark, saw, advice, mend| {
            watcher.account.mends.extend(mend);
            // What fails here has no say in what was reached there.
            let line = Line { stage: Stage::Local, gateway: None, mark, saw, took: None, advice };
            watcher.account.lines.push(line);
            (watcher.tell)(&watcher.account);
        })
        .await;
        if link_is_fine {
            conclude(&mut watcher.account, &target);
        }
    }
    (watcher.tell)(&watcher.account);
    watcher.account
}

/// The end of a way that was walked to its end.
fn conclude(account: &mut Account, target: &Target) {
    let doubts: Vec<&Line> = account.lines.iter().filter(|line| line.mark == Mark::Doubt).collect();
    (account.sentence, account.command) = match doubts.first() {
        None => (format!("{} is well.", target.name), format!("lantern shell {}", target.name)),
        Some(first) => {
            let more =
                if doubts.len() > 1 { format!(" (and {} more)", doubts.len() - 1) } else { String::new() };
            let mend =
                first.advice.last().cloned().unwrap_or_else(|| format!("lantern shell {}", target.name));
            (format!("{} can be reached, but: {}{more}.", target.name, first.saw), mend)
        }
    };
}

fn fail(watcher: &mut Watcher, stage: Stage, failure: &Failure, advice: Vec<String>, command: String) {
    watcher.account.code = failure.code;
    watcher.put_with(stage, Mark::Failed, failure.headline.clone(), None, advice);
    let gateway =
        watcher.gateway.as_ref().map(|gateway| format!(" at the gateway {gateway}")).unwrap_or_default();
    watcher.account.sentence =
        format!("{} cannot be used{gateway}: {}.", watcher.account.machine, failure.headline);
    watcher.account.command = command;
}

/// The book's entry: complete, and every name in it there.
fn look_up(watcher: &mut Watcher, home: &Home, typed: &str, args: &ConnectArgs) -> Option<Target> {
    let found = MachineBook::load(home)
        .map_err(Failure::from)
        .and_then(|book| Target::find(home, &book, typed))
        .and_then(|target| target.with_options(home, args));
    let target = match found {
        Ok(target) => target,
        Err(failure) => {
            let command = failure.hints.last().cloned().unwrap_or_else(|| "lantern machine list".into());
            fail(watcher, Stage::Book, &failure, failure.hints.clone(), command);
            return None;
        }
    };
    watcher.account.machine.clone_from(&target.name);
    watcher.account.place = target.place();
    let ring = KeyRing::new(home);
    if args.key.is_none()
        && let Some(Err(error)) = target.keys.iter().map(|key| ring.get(key)).find(Result::is_err)
    {
        let failure = Failure::from(error);
        let advice = vec![format!("the book says that {} offers this key", target.name)];
        let command = format!("lantern machine set {} key=NAME", target.name);
        fail(watcher, Stage::Book, &failure, advice, command);
        return None;
    }
    let user = match (&args.user, &target.user) {
        (Some(user), _) | (None, Some(user)) => user.clone(),
        (None, None) => {
            format!("{} (of this computer: the book names none)", local_user().unwrap_or_default())
        }
    };
    let keys = if target.keys.is_empty() { "any of the ring".to_owned() } else { target.keys.join(", ") };
    let mut saw = format!("{}, user {user}, key {keys}", target.place());
    if !target.via.is_empty() {
        let way: Vec<&str> = target.via.iter().map(|gateway| gateway.name.as_str()).collect();
        saw.push_str(&format!(", through {}", way.join(" then ")));
    }
    if let Some(proxy) = target.via.first().map_or(target.proxy.as_ref(), |first| first.proxy.as_ref()) {
        saw.push_str(&format!(", by the proxy {}", proxy.place()));
    }
    watcher.put(Stage::Book, Mark::Good, saw, None);
    Some(target)
}

/// From the first packet to what the machine lets us do.
async fn go(watcher: &mut Watcher, home: &Home, args: &ConnectArgs, target: &Target) {
    let keys: KeyChoice = target.keys(args);
    let request = match target.request(home, args, keys, false) {
        Ok(request) => request,
        Err(failure) => {
            let command = failure.hints.last().cloned().unwrap_or_default();
            fail(watcher, Stage::Book, &failure, failure.hints.clone(), command);
            return;
        }
    };
    watcher.ask.is_for(&target.name);
    let mut link = match connect(&request, watcher).await {
        Ok(link) => link,
        Err(error) => {
            failed_on_the_way(watcher, target, error);
            return;
        }
    };
    let patience = request.limits.login;
    match timeout(patience, look_around(watcher, &mut link, target)).await {
        Ok(Ok(())) => {}
        Ok(Err(error)) => failed_on_the_way(watcher, target, error),
        Err(_) => {
            let stage = match watcher.account.lines.last().map(|line| line.stage) {
                Some(Stage::Login | Stage::Methods) | None => Stage::Session,
                Some(Stage::Session) => Stage::Shell,
                Some(Stage::Shell | Stage::Clock) => Stage::Files,
                Some(_) => Stage::Forwarding,
            };
            let failure = Failure::new(
                crate::failure::code::TIMED_OUT,
                format!("{} was asked and did not answer within {} s", target.name, patience.as_secs()),
            );
            let advice = vec![
                "the login worked; what it runs for that user hangs, or the machine is overloaded".to_owned(),
            ];
            fail(watcher, stage, &failure, advice, format!("lantern run {} -- true", target.name));
        }
    }
    link.close().await;
}

fn failed_on_the_way(watcher: &mut Watcher, target: &Target, error: LinkError) {
    let met = watcher
        .account
        .lines
        .iter()
        .filter(|line| line.gateway == watcher.gateway)
        .map(|line| line.stage)
        .max();
    let gateway = watcher.gateway.clone();
    let error = match error {
        LinkError::Gateway { source, .. } => *source,
        other => other,
    };
    let stage = advice::stage_of(&error, met.unwrap_or(Stage::Book));
    if let LinkError::Auth(auth) = &error {
        for PlanReport { what, outcome } in &auth.report {
            let why = advice::why_refused(outcome);
            watcher.put_with(Stage::Login, Mark::Note, format!("{what}: {outcome}"), None, why);
        }
    }
    let (words, command) = advice::mend(&error, target, gateway.as_deref());
    let words_of = match &error {
        LinkError::Trust(trust) => match trust.as_ref() {
            // Nobody was to be asked: a check decides nothing.
            TrustFailure::NoOneToAsk { machine, .. } => format!("the host key of {machine} is not known yet"),
            other => chain(other),
        },
        other => chain(other),
    };
    let failure = Failure::new(code_of(&error), words_of);
    fail(watcher, stage, &failure, words, command);
}

/// What can be asked once logged in.
async fn look_around(watcher: &mut Watcher, link: &mut Link, target: &Target) -> Result<(), LinkError> {
    let start = Instant::now();
    let id = link.open_session().await?;
    link.close_channel(id);
    watcher.put(Stage::Session, Mark::Good, "opens", Some(start.elapsed()));
    let start = Instant::now();
    match who_and_where(link).await? {
        ShellAnswer::Answers(here) => {
            let saw = format!("{} on {}: {}, {}", here.user, here.host, here.system, here.shell);
            watcher.put(Stage::Shell, Mark::Good, saw, Some(start.elapsed()));
            if let Some(ahead) = here.clock_ahead {
                judge_clock(watcher, ahead);
            }
        }
        ShellAnswer::Otherwise { status, said } => {
            let status = status.map_or("no status".into(), |status| format!("status {status}"));
            let saw = format!("answers, but not as a POSIX shell does ({status}): {said}");
            watcher.put(Stage::Shell, Mark::Note, saw, Some(start.elapsed()));
        }
    }
    let start = Instant::now();
    match subsystem_starts(link, "sftp").await? {
        true => {
            watcher.put(Stage::Files, Mark::Good, "the subsystem for files starts", Some(start.elapsed()))
        }
        false => {
            watcher.put(
                Stage::Files,
                Mark::Note,
                "the server has no subsystem for files",
                Some(start.elapsed()),
            );
        }
    }
    let start = Instant::now();
    let allowed = forwarding(link, target.port).await?;
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
    watcher.put_with(Stage::Forwarding, mark, saw.join(", "), Some(start.elapsed()), advice);
    Ok(())
}

fn judge_clock(watcher: &mut Watcher, ahead: i64) {
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
        0..=CLOCK_NOTE => watcher.put(Stage::Clock, Mark::Good, saw, None),
        ..=CLOCK_DOUBT => watcher.put(Stage::Clock, Mark::Note, saw, None),
        _ => watcher.put_with(Stage::Clock, Mark::Doubt, saw, None, advice()),
    }
}
