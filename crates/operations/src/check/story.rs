//! Writing down the steps as they are taken.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use lantern_book::Protocol;
use lantern_keys::CertificateFault;
use lantern_link::{Answer, Answering, Ask, Note, Question, Step};
use lantern_ssh::Algorithms;

use super::account::{Account, Line, Mark, Stage};
use super::findings::{CheckError, Finding};
use crate::tries::{NotTried, OnePassword, Tries};

/// Hears of every change of the account.
pub type Tell = Box<dyn Fn(&Account) + Send + Sync>;

/// Answers like the person would, and writes down the steps.
pub(super) struct Watcher {
    ask: Arc<dyn Ask>,
    story: Mutex<Story>,
    password: OnePassword,
}

/// What has been written down.
pub(super) struct Story {
    pub(super) account: Account,
    pub(super) gateway: Option<String>,
    tell: Tell,
    /// An address that failed: told when another one follows, since the end of the way says the same of the last.
    held: Option<(String, Duration)>,
    /// What was said of the host key before the algorithms: steps are told in one order.
    early: Vec<Line>,
}

impl Watcher {
    pub(super) fn new(typed: &str, ask: Arc<dyn Ask>, tries: Arc<Tries>, tell: Tell) -> Self {
        let account = Account { machine: typed.to_owned(), ..Account::default() };
        let story = Mutex::new(Story { account, gateway: None, tell, held: None, early: Vec::new() });
        Self { ask, story, password: OnePassword::new(tries) }
    }

    /// Says what came of a password, so that others may try it or not; the reason where it was not tried here.
    pub(super) fn settle(&self, is_refused: bool) -> Option<CheckError> {
        let NotTried { user, refused_at } = self.password.settle(is_refused)?;
        Some(CheckError::NotTried { user, refused_at })
    }

    /// Never held while waiting.
    pub(super) fn story(&self) -> MutexGuard<'_, Story> {
        self.story.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The account, told a last time.
    pub(super) fn finish(self) -> Account {
        let story = self.story.into_inner().unwrap_or_else(PoisonError::into_inner);
        (story.tell)(&story.account);
        story.account
    }

    /// Whether a password is all that can log in to this machine.
    fn is_password_all(&self, machine: &str) -> bool {
        let story = self.story();
        let target = story.account.target.as_ref();
        target.is_some_and(|target| target.protocol == Protocol::Winrm && target.name == machine)
    }

    /// A password is for the machine that is checked, not for the gateways on the way to it.
    fn has_password(&self, machine: &str) -> bool {
        self.story().account.machine == machine && self.ask.password_at_hand(machine)
    }
}

impl Story {
    /// Writes down a step at the machine or the gateway that is being walked to.
    pub(super) fn put(&mut self, line: Line) {
        if let Some((before, took)) = self.held.take()
            && before != line.saw
        {
            self.put(Line::new(Stage::Port, Mark::Note, before).took(took));
        }
        let gateway = self.gateway.clone();
        self.add(Line { gateway, ..line });
    }

    /// Writes down something about this computer.
    pub(super) fn put_here(&mut self, line: Line) {
        self.add(line);
    }

    fn add(&mut self, line: Line) {
        self.account.lines.push(line);
        (self.tell)(&self.account);
    }

    /// Writes down something about the host key: behind the algorithms, which come to be known later.
    fn put_host_key(&mut self, line: Line) {
        match self.met() < Stage::Algorithms {
            true => self.early.push(line),
            false => self.put(line),
        }
    }

    fn put_early(&mut self) {
        for line in std::mem::take(&mut self.early) {
            self.put(line);
        }
    }

    /// The way ends here.
    pub(super) fn fail(&mut self, stage: Stage, error: CheckError) {
        self.put_early();
        let line = Line::new(stage, Mark::Failed, error.headline());
        let gateway = self.gateway.clone();
        self.account.failed = Some(super::Failed { stage, gateway, error });
        self.put(line);
    }

    /// Whether what is met now is a machine that is spoken to by WinRM.
    fn is_over_tls(&self) -> bool {
        let target = self.account.target.as_ref().filter(|_| self.gateway.is_none());
        target.is_some_and(|target| target.protocol == Protocol::Winrm)
    }

    /// The last step that was seen to work where we are.
    pub(super) fn met(&self) -> Stage {
        let here = self.account.lines.iter().filter(|line| line.gateway == self.gateway);
        here.map(|line| line.stage).max().unwrap_or(Stage::Book)
    }

    fn note(&mut self, note: &Note<'_>) {
        let host_key = |saw: String| Line::new(Stage::HostKey, Mark::Note, saw);
        match note {
            Note::Moved { from, to, .. } => {
                let saw = format!("moved from {} to {to}; the key is the same", from.join(", "));
                match self.is_over_tls() {
                    true => self.early.push(Line::new(Stage::Certificate, Mark::Note, saw)),
                    false => self.put_host_key(host_key(saw)),
                }
            }
            Note::DnsUnproven { why, .. } => self.put_host_key(host_key((*why).to_owned())),
            Note::DnsUnprotected { resolver, .. } => {
                self.put_host_key(host_key(format!(
                    "what {resolver} says of it could have been forged on the way"
                )));
            }
            Note::FirstUse { presented, same_key, .. } => {
                self.put_host_key(host_key(format!(
                    "{} would be trusted at first use, as the policy has it",
                    presented.fingerprint()
                )));
                if !same_key.is_empty() {
                    let whose = same_key.join(", ");
                    let saw = format!("this is the key of {whose}: is the address right?");
                    self.put_host_key(Line::new(Stage::HostKey, Mark::Doubt, saw));
                }
            }
            // Each of them has a line of its own when the login fails.
            Note::KeysRefused { .. } => {}
            Note::Banner(_) => {}
            // It has a finding of its own.
            Note::CertificateEnded { .. } => {}
            Note::NotProven { .. } => {
                let saw = "plain HTTP: messages are sealed, and the machine proves nothing of itself";
                self.put(Line::new(Stage::Tls, Mark::Doubt, saw));
            }
            Note::NoTicket { why, .. } => {
                self.early.push(Line::new(Stage::Login, Mark::Note, (*why).to_owned()));
            }
            // Where no realm is set up, NTLM is what there is.
            Note::ByNtlm { is_expected: true, .. } => {}
            Note::ByNtlm { why, .. } => {
                self.early.push(Line::new(
                    Stage::Login,
                    Mark::Note,
                    format!("by NTLM, not by Kerberos: {why}"),
                ));
            }
            Note::NotRemembered(why) => self.put(Line::new(Stage::Book, Mark::Note, (*why).to_owned())),
        }
    }

    fn step(&mut self, step: &Step<'_>) {
        let good = |stage, saw: String, took: &Duration| Line::new(stage, Mark::Good, saw).took(*took);
        match step {
            Step::Gateway(name) => self.gateway = Some((*name).to_owned()),
            Step::Shared => {
                let saw = "by a connection that is there already".to_owned();
                self.put(Line::new(Stage::Login, Mark::Good, saw));
            }
            Step::Machine(_) => self.gateway = None,
            Step::Resolved { name, found: Ok(found), took } => {
                if name.parse::<std::net::IpAddr>().is_ok() {
                    return;
                }
                let addresses: Vec<String> = found.iter().map(|address| address.ip().to_string()).collect();
                self.put(good(Stage::Name, format!("{name} is {}", addresses.join(", ")), took));
            }
            // Of several names one may fail; when all do, the error says so.
            Step::Resolved { found: Err(_), .. } if !self.has_several_addresses() => {}
            Step::Resolved { name, found: Err(error), took } => {
                let saw = format!("{name} was not found: {error}");
                self.put(Line::new(Stage::Name, Mark::Note, saw).took(*took));
            }
            Step::AddressFailed { why, took, .. } => {
                if let Some((before, time)) = self.held.replace(((*why).to_owned(), *took)) {
                    self.held = None;
                    self.put(Line::new(Stage::Port, Mark::Note, before).took(time));
                    self.held = Some(((*why).to_owned(), *took));
                }
            }
            Step::Reached { place, took } => self.put(good(Stage::Port, format!("{place} answers"), took)),
            Step::Identified { identification, took } => {
                self.put(good(Stage::Identification, (*identification).to_owned(), took));
            }
            Step::Agreed { algorithms, strict, key, trust, took } => {
                let (mark, saw) = judge_algorithms(algorithms, *strict);
                self.put(Line::new(Stage::Algorithms, mark, saw).took(*took));
                let saw = format!("{} {} ({trust})", key.describe(), key.fingerprint());
                self.put(Line::new(Stage::HostKey, Mark::Good, saw));
                self.put_early();
            }
            Step::Secured { tls, faults, took, .. } => {
                self.account.certificate_faults = faults.to_vec();
                self.put(good(Stage::Tls, (*tls).to_owned(), took));
            }
            Step::Certified { certificate, faults, trust } => {
                let saw = format!("{} {} ({trust})", certificate.describe(), certificate.fingerprint());
                let mark = if faults.iter().any(is_doubtful) { Mark::Doubt } else { Mark::Good };
                let line = Line::new(Stage::Certificate, mark, saw);
                self.put(match mark {
                    Mark::Doubt => line.with(Finding::Certificate(faults.to_vec())),
                    _ => line,
                });
                self.put_early();
            }
            Step::Offered { methods } => {
                self.put(Line::new(Stage::Methods, Mark::Good, methods.join(", ")));
            }
            Step::LoggedIn { by, took } => {
                self.put_early();
                self.put(good(Stage::Login, format!("by {by}"), took));
            }
        }
    }

    fn has_several_addresses(&self) -> bool {
        self.account.target.as_ref().is_some_and(|target| target.addresses.len() > 1)
    }
}

impl Ask for Watcher {
    fn ask(&self, question: Question) -> Answering {
        let may = match &question {
            Question::Passphrase { .. } | Question::ProxyPassword { .. } => true,
            // Over WinRM there is no other way in.
            Question::Password { user, machine, .. } if self.is_password_all(machine) => {
                let (user, machine) = (user.clone(), machine.clone());
                return self.password.ask(&*self.ask, user, machine, question);
            }
            // One that was handed over is tried; nobody is asked for one just to find out about keys.
            Question::Password { machine, .. } | Question::Prompts { machine, .. } => {
                self.has_password(machine)
            }
            // A check trusts nothing and changes nothing: it says that there is something to decide.
            Question::FirstContact(_)
            | Question::NewPassword { .. }
            | Question::Signature { .. }
            | Question::Privilege { .. } => false,
        };
        match may {
            true => self.ask.ask(question),
            false => Box::pin(std::future::ready(Answer::NoOne)),
        }
    }
    fn password_at_hand(&self, machine: &str) -> bool {
        self.has_password(machine)
    }
    fn wants_methods(&self) -> bool {
        true
    }
    fn note(&self, note: &Note<'_>) {
        self.story().note(note);
    }
    fn step(&self, step: &Step<'_>) {
        if matches!(step, Step::LoggedIn { .. }) {
            self.password.taken();
        }
        self.story().step(step);
    }
}

/// Whether a fault of a certificate that is known is worth a doubt: that it signed itself, or names another, says nothing any more.
fn is_doubtful(fault: &CertificateFault) -> bool {
    !matches!(
        fault,
        CertificateFault::SelfSigned
            | CertificateFault::UnknownAuthority { .. }
            | CertificateFault::OtherName { .. }
            | CertificateFault::NoName { .. }
    )
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
