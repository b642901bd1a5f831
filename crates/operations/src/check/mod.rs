//! Every step of a connection in order, what it saw, and which was the first that failed.
//!
//! [`check_one`] walks to one machine, [`check_many`] to many at once. The result is an [`Account`], whose words are facts; what to do about
//! them is for whoever prints it.

mod account;
mod failing;
mod findings;
mod inside;
mod local;
mod story;
mod walk;
mod windows;

use std::sync::Arc;

use lantern_book::Home;
use lantern_link::Ask;

use crate::ReachOptions;
use crate::at_once::at_once;
use crate::display::DisplaySurroundings;

pub use account::{Account, Failed, Line, Mark, Stage};
pub use findings::{CheckError, Finding, Mend};
pub use local::{look_at_display, look_at_keeper};
pub use story::Tell;
use walk::Common;

/// Most machines that are walked to at once: each has a key exchange or two to compute.
const AT_ONCE: usize = 48;

/// What a check goes by, besides the book.
#[derive(Debug, Clone, Default)]
pub struct CheckOptions {
    /// How machines are reached.
    pub reach: ReachOptions,
    /// The display that this computer's programs would draw on.
    pub display: DisplaySurroundings,
    /// Where the keeper would listen.
    pub keeper: Option<std::path::PathBuf>,
}

/// Walks to one machine. Never fails: what fails is in the account, which `tell` hears of as it grows.
pub async fn check_one(
    home: &Home,
    typed: &str,
    options: &CheckOptions,
    ask: Arc<dyn Ask>,
    tell: Tell,
) -> Account {
    walk::walk(home, typed, options, &Common::default(), ask, tell).await
}

/// What becomes of one of many.
#[derive(Debug)]
pub enum Progress<'a> {
    /// It is at this step.
    At(Stage),
    /// It is done.
    Done(&'a Account),
}

/// Walks to many machines at once; the accounts in the order of the names. `on_progress` hears of each, by its place among the names. Dropped, it
/// breaks off all of them.
pub async fn check_many(
    home: &Home,
    names: &[String],
    options: &CheckOptions,
    ask: Arc<dyn Ask>,
    on_progress: impl Fn(usize, Progress<'_>) + Send + Sync + 'static,
) -> Vec<Account> {
    let (on_progress, common) = (Arc::new(on_progress), Common::new(home));
    let mut options = options.clone();
    options.reach.ring.get_or_insert_default();
    let walks = names.iter().enumerate().map(|(index, name)| {
        let (home, name, options, ask) = (home.clone(), name.clone(), options.clone(), ask.clone());
        let common = common.clone();
        let on_step = on_progress.clone();
        let tell = move |account: &Account| on_step(index, Progress::At(account.latest_step()));
        async move { walk::walk(&home, &name, &options, &common, ask, Box::new(tell)).await }
    });
    let walks: Vec<_> = walks.collect();
    let accounts =
        at_once(walks, AT_ONCE, |index, account| on_progress(index, Progress::Done(account))).await;
    let broken_off = |name: &String| Account::broken_off(name);
    let accounts = accounts.into_iter().zip(names);
    accounts.map(|(account, name)| account.unwrap_or_else(|| broken_off(name))).collect()
}
