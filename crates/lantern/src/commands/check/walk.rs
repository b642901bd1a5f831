//! The way to one machine, step by step.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use lantern_book::{Home, KeyRing, MachineBook};
use lantern_link::{
    Answer, Answering, Ask, KeyChoice, LinkError, Note, Question, Step, TrustFailure, connect,
};
use lantern_operations::{ReachOptions, Target};
use lantern_ssh::{Algorithms, PlanReport};

use super::account::{Account, Line, Mark, Stage};
use super::{advice, inside, local};
use crate::ask::TerminalAsk;
use crate::failure::{Failure, chain, code_of};
use crate::settings::local_user;

/// Hears of every change of the account.
pub(super) type Tell = Box<dyn Fn(&Account) + Send + Sync>;

/// Answers like the person would, and writes down the steps.
pub(super) struct Watcher {
    ask: TerminalAsk,
    story: Mutex<Story>,
}

/// What has been written down.
pub(super) struct Story {
    account: Account,
    gateway: Option<String>,
    tell: Tell,
    /// An address that failed: told when another one follows, since the end of the way says the same of the last.
    held: Option<(String, Duration)>,
    several_addresses: bool,
}

impl Watcher {
    /// Never held while waiting.
    pub(super) fn story(&self) -> MutexGuard<'_, Story> {
        self.story.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Story {
    pub(super) fn put(&mut self, stage: Stage, mark: Mark, saw: impl Into<String>, took: Option<Duration>) {
        self.put_with(stage, mark, saw, took, Vec::new());
    }

    pub(super) fn put_with(
        &mut self,
        stage: Stage,
        mark: Mark,
        saw: impl Into<String>,
        took: Option<Duration>,
        advice: Vec<String>,
    ) {
        let saw = saw.into();
        if let Some((before, time)) = self.held.take()
            && before != saw
        {
            self.put(Stage::Port, Mark::Note, before, Some(time));
        }
        let gateway = self.gateway.clone();
        self.account.lines.push(Line { stage, gateway, mark, saw, took, advice });
        (self.tell)(&self.account);
    }
}

impl Ask for Watcher {
    fn ask(&self, question: Question) -> Answering {
        let may = match &question {
            Question::Passphrase { .. } | Question::ProxyPassword { .. } => true,
            // One that was handed over is tried; nobody is asked for one just to find out about keys.
            Question::Password { machine, .. } | Question::Prompts { machine, .. } => {
                self.ask.password_at_hand(machine)
            }
            // A check trusts nothing and changes nothing: it says that there is something to decide.
            Question::FirstContact(_) | Question::NewPassword { .. } | Question::Signature { .. } => false,
        };
        match may {
            true => self.ask.ask(question),
            false => Box::pin(std::future::ready(Answer::NoOne)),
        }
    }
    fn password_at_hand(&self, machine: &str) -> bool {
        self.ask.password_at_hand(machine)
    }
    fn wants_methods(&self) -> bool {
        true
    }
    fn note(&self, note: &Note<'_>) {
        self.story().note(note);
    }
    fn step(&self, step: &Step<'_>) {
        self.story().step(step);
    }
}

impl Story {
    fn note(&mut self, note: &Note<'_>) {
        match note {
            Note::Moved { from, to, .. } => {
                let saw = format!("moved from {} to {to}; the key is the same", from.join(", "));
                self.put(Stage::HostKey, Mark::Note, saw, None);
            }
            Note::DnsUnproven { why, .. } => self.put(Stage::HostKey, Mark::Note, *why, None),
            Note::FirstUse { key, .. } => {
                let saw =
                    format!("{} would be trusted at first use, as the policy has it", key.fingerprint());
                self.put(Stage::HostKey, Mark::Note, saw, None);
            }
            Note::Banner(_) => {}
            Note::NotRemembered(error) => self.put(Stage::Book, Mark::Note, chain(*error), None),
        }
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
            Step::Resolved { found: Err(_), .. } if !self.several_addresses => {}
            Step::Resolved { name, found: Err(error), took } => {
                self.put(Stage::Name, Mark::Note, format!("{name} was not found: {error}"), Some(*took));
            }
            Step::AddressFailed { why, took, .. } => {
                if let Some((before, time)) = self.held.replace(((*why).to_owned(), *took)) {
                    self.held = None;
                    self.put(Stage::Port, Mark::Note, before, Some(time));
                    self.held = Some(((*why).to_owned(), *took));
                }
            }
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
    options: &ReachOptions,
    ask: TerminalAsk,
    tell: Tell,
) -> Account {
    let account = Account { machine: typed.to_owned(), ..Account::default() };
    let story = Story { account, gateway: None, tell, held: None, several_addresses: false };
    let watcher = Watcher { ask, story: Mutex::new(story) };
    let found = look_up(&mut watcher.story(), home, typed, options);
    if let Some(target) = found {
        watcher.story().several_addresses = target.addresses.len() > 1;
        go(&watcher, home, options, &target).await;
        watcher.story().gateway = None;
        let link_is_fine = watcher.story().account.failed().is_none();
        local::look(home, &target, |mark, saw, advice, mend| {
            let mut story = watcher.story();
            story.account.mends.extend(mend);
            // What fails here has no say in what was reached there.
            let line = Line { stage: Stage::Local, gateway: None, mark, saw, took: None, advice };
            story.account.lines.push(line);
            (story.tell)(&story.account);
        })
        .await;
        if link_is_fine {
            conclude(&mut watcher.story().account, &target);
        }
    }
    let story = watcher.story.into_inner().unwrap_or_else(PoisonError::into_inner);
    (story.tell)(&story.account);
    story.account
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

fn fail(watcher: &mut Story, stage: Stage, failure: &Failure, advice: Vec<String>, command: String) {
    watcher.account.code = failure.code;
    watcher.put_with(stage, Mark::Failed, failure.headline.clone(), None, advice);
    let gateway =
        watcher.gateway.as_ref().map(|gateway| format!(" at the gateway {gateway}")).unwrap_or_default();
    watcher.account.sentence =
        format!("{} cannot be used{gateway}: {}.", watcher.account.machine, failure.headline);
    watcher.account.command = command;
}

/// The book's entry: complete, and every name in it there.
fn look_up(watcher: &mut Story, home: &Home, typed: &str, options: &ReachOptions) -> Option<Target> {
    let found = MachineBook::load(home)
        .map_err(Failure::from)
        .and_then(|book| Ok(Target::find(home, &book, typed)?.with_options(home, options)?));
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
    if options.keys.is_none()
        && let Some(Err(error)) = target.keys.iter().map(|key| ring.get(key)).find(Result::is_err)
    {
        let failure = Failure::from(error);
        let advice = vec![format!("the book says that {} offers this key", target.name)];
        let command = format!("lantern machine set {} key=NAME", target.name);
        fail(watcher, Stage::Book, &failure, advice, command);
        return None;
    }
    let user = match (&options.user, &target.user) {
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
async fn go(watcher: &Watcher, home: &Home, options: &ReachOptions, target: &Target) {
    let keys: KeyChoice = target.keys(options);
    let request = match target.request(home, options, keys, false).map_err(Failure::from) {
        Ok(mut request) => {
            request.via.iter_mut().for_each(|gateway| gateway.only_looking = true);
            request.only_looking = true;
            request
        }
        Err(failure) => {
            let command = failure.hints.last().cloned().unwrap_or_default();
            fail(&mut watcher.story(), Stage::Book, &failure, failure.hints.clone(), command);
            return;
        }
    };
    watcher.ask.is_for(&target.name);
    let trunk = match connect(&request, watcher).await {
        Ok(trunk) => trunk,
        Err(error) => {
            failed_on_the_way(&mut watcher.story(), target, error);
            return;
        }
    };
    match inside::look_around(watcher, &trunk, target).await {
        Ok(()) => {}
        Err(error @ LinkError::Unanswered { .. }) => {
            let mut story = watcher.story();
            let stage = match story.account.lines.last().map(|line| line.stage) {
                Some(Stage::Login | Stage::Methods) | None => Stage::Session,
                Some(Stage::Session) => Stage::Shell,
                Some(Stage::Shell | Stage::Clock) => Stage::Files,
                Some(_) => Stage::Forwarding,
            };
            let failure = Failure::new(code_of(&error), chain(&error));
            let advice = vec![
                "the login worked; what it runs for that user hangs, or the machine is overloaded".to_owned(),
            ];
            fail(&mut story, stage, &failure, advice, format!("lantern run {} -- true", target.name));
        }
        Err(error) => failed_on_the_way(&mut watcher.story(), target, error),
    }
    trunk.close().await;
}

fn failed_on_the_way(watcher: &mut Story, target: &Target, error: LinkError) {
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
        let mut told: Vec<&PlanReport> = Vec::new();
        for report in &auth.report {
            // A method that was tried several times is told once.
            if told.contains(&report) {
                continue;
            }
            told.push(report);
            let PlanReport { what, outcome } = report;
            let why = advice::why_refused(what, outcome);
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
