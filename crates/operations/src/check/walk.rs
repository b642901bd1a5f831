//! The way to one machine, step by step.

use std::sync::Arc;

use jiff::Timestamp;
use lantern_book::{Home, KeyRing, MachineBook, Protocol, Uses};
use lantern_link::{Ask, ConnectRequest, Known, LinkError, LoginWay, connect};

use super::account::{Account, Line, Mark, Stage};
use super::failing::failed_on_the_way;
use super::findings::CheckError;
use super::story::{Story, Tell, Watcher};
use super::{CheckOptions, inside, local, windows};
use crate::tries::Tries;
use crate::{ReachError, ReachOptions, Target, login_clues};

/// What many walks have in common. Where something could not be read beforehand, each walk meets and tells the reason itself.
#[derive(Debug, Clone, Default)]
pub(super) struct Common {
    book: Option<Arc<MachineBook>>,
    known: Option<Arc<Known>>,
    tries: Arc<Tries>,
}

impl Common {
    pub(super) fn new(home: &Home) -> Self {
        let (book, known) = (MachineBook::load(home).ok(), Known::load(home).ok());
        Self { book: book.map(Arc::new), known: known.map(Arc::new), tries: Arc::default() }
    }
}

/// Walks to one machine.
pub(super) async fn walk(
    home: &Home,
    typed: &str,
    options: &CheckOptions,
    common: &Common,
    ask: Arc<dyn Ask>,
    tell: Tell,
) -> Account {
    let watcher = Watcher::new(typed, ask, common.tries.clone(), tell);
    let found = look_up(&mut watcher.story(), home, common.book.as_deref(), typed, &options.reach);
    if let Some(target) = found {
        match target.protocol {
            Protocol::Ssh => go(&watcher, home, &options.reach, &target, common.known.clone()).await,
            Protocol::Winrm => windows::go(&watcher, home, &options.reach, &target).await,
        }
        watcher.story().gateway = None;
        // What fails here has no say in what was reached there.
        local::look(home, &target, options, |line| watcher.story().put_here(line)).await;
    }
    watcher.finish()
}

/// The book's entry: complete, and every name in it there.
fn look_up(
    story: &mut Story,
    home: &Home,
    book: Option<&MachineBook>,
    typed: &str,
    options: &ReachOptions,
) -> Option<Target> {
    let find = |book: &MachineBook| Target::find(home, book, typed)?.with_options(home, options);
    let found = match book {
        Some(book) => find(book),
        None => MachineBook::load(home).map_err(ReachError::from).and_then(|book| find(&book)),
    };
    let target = match found {
        Ok(target) => target,
        Err(error) => {
            story.fail(Stage::Book, CheckError::Entry(error));
            return None;
        }
    };
    story.account.machine.clone_from(&target.name);
    story.account.place = target.place();
    story.account.target = Some(target.clone());
    let ring = KeyRing::new(home);
    if options.keys.is_none()
        && let Some(Err(error)) = target.keys.iter().map(|key| ring.get(key)).find(Result::is_err)
    {
        story.fail(Stage::Book, CheckError::Key(error));
        return None;
    }
    story.put(Line::new(Stage::Book, Mark::Good, describe(&target, options)));
    Some(target)
}

/// What the book says, in short.
fn describe(target: &Target, options: &ReachOptions) -> String {
    let by_book = ReachOptions { local_user: None, ..options.clone() };
    let user = target.user(&by_book).unwrap_or_else(|_| match &options.local_user {
        Some(local) => format!("{local} (of this computer: the book names none)"),
        None => "unknown".into(),
    });
    let keys = if target.keys.is_empty() { "any of the ring".to_owned() } else { target.keys.join(", ") };
    let by = match target.protocol {
        Protocol::Ssh => format!("key {keys}"),
        Protocol::Winrm => match target.winrm.login {
            LoginWay::Kerberos => "WinRM by ticket".to_owned(),
            LoginWay::Best => "WinRM by ticket or password".to_owned(),
            LoginWay::Certificate => format!("WinRM by certificate, key {keys}"),
            LoginWay::Ntlm | LoginWay::Basic => "WinRM by password".to_owned(),
        },
    };
    let mut saw = format!("{}, user {user}, {by}", target.place());
    if !target.via.is_empty() {
        let way: Vec<&str> = target.via.iter().map(|gateway| gateway.name.as_str()).collect();
        saw.push_str(&format!(", through {}", way.join(" then ")));
    }
    if let Some(proxy) = target.via.first().map_or(target.proxy.as_ref(), |first| first.proxy.as_ref()) {
        saw.push_str(&format!(", by the proxy {}", proxy.place()));
    }
    saw
}

fn request(
    home: &Home,
    options: &ReachOptions,
    target: &Target,
    known: Option<Arc<Known>>,
) -> Result<ConnectRequest, ReachError> {
    let mut request = target.request(home, options, target.keys(options), false)?;
    for gateway in &mut request.via {
        (gateway.only_looking, gateway.known) = (true, known.clone());
    }
    (request.only_looking, request.known) = (true, known);
    Ok(request)
}

/// From the first packet to what the machine lets us do.
async fn go(
    watcher: &Watcher,
    home: &Home,
    options: &ReachOptions,
    target: &Target,
    known: Option<Arc<Known>>,
) {
    let request = match request(home, options, target, known) {
        Ok(request) => request,
        Err(error) => {
            watcher.story().fail(Stage::Book, CheckError::Entry(error));
            return;
        }
    };
    let trunk = match connect(&request, watcher).await {
        Ok(trunk) => trunk,
        Err(error) => {
            if matches!(error, LinkError::Auth(_)) {
                watcher.story().account.clues = login_clues(home, target);
            }
            failed_on_the_way(&mut watcher.story(), error);
            return;
        }
    };
    // Where it cannot be written, the next look sees the machine too.
    let _ = Uses::of(home).note(&target.name, |noted| noted.seen = Some(Timestamp::now()));
    if let Err(error) = inside::look_around(watcher, &trunk, target).await {
        failed_on_the_way(&mut watcher.story(), error);
    }
    trunk.close().await;
}
