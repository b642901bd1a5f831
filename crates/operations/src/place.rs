//! Changing the list of keys on a machine.

use lantern_book::RingEntry;
use lantern_keys::PublicKey;
use lantern_keys::login_list::{self, Added};
use lantern_link::Trunk;
use lantern_link::remote_logins::{self, LoginsError};

/// How often a change is made anew because somebody else changed the list at the same time: each time one of them is through.
const MAX_TRIES: usize = 20;

/// What became of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Change {
    /// The list has it now, or has it no more.
    Made,
    /// It was so already.
    None,
}

/// Adds the key to the list on the machine. A list that has it already is written again as it is, which puts owner and
/// modes right.
///
/// # Errors
/// What the machine says.
pub async fn add_line(trunk: &Trunk, entry: &RingEntry, options: &str) -> Result<Change, LoginsError> {
    change(trunk, |list| match login_list::add(list, &entry.public, &entry.comment, options) {
        Added::Already(_) => (Change::None, Some(list.to_vec())),
        Added::Changed(new) => (Change::Made, Some(new)),
    })
    .await
}

/// Reads the list, has it changed, and writes it; all of it again, where somebody else changed it in between.
async fn change(
    trunk: &Trunk,
    decide: impl Fn(&[u8]) -> (Change, Option<Vec<u8>>),
) -> Result<Change, LoginsError> {
    let mut tries = 0;
    loop {
        let list = remote_logins::read(trunk).await?;
        let (change, new) = decide(&list);
        let Some(new) = new else { return Ok(change) };
        tries += 1;
        match remote_logins::write(trunk, &list, &new).await {
            Err(LoginsError::Changed) if tries < MAX_TRIES => {}
            written => return written.map(|()| change),
        }
    }
}

/// Adds a key beside another one, with the very options that the other has: what was limited stays so.
///
/// # Errors
/// What the machine says.
pub async fn add_line_like(
    trunk: &Trunk,
    entry: &RingEntry,
    other: &PublicKey,
) -> Result<Change, LoginsError> {
    let options = options_of(trunk, other).await?;
    add_line(trunk, entry, &options).await
}

/// The options that a key has in the list on the machine; none when it is not there.
///
/// # Errors
/// What the machine says.
pub async fn options_of(trunk: &Trunk, key: &PublicKey) -> Result<String, LoginsError> {
    let list = remote_logins::read(trunk).await?;
    let line = login_list::keys(&list).into_iter().find(|line| line.key == *key);
    Ok(line.map(|line| line.options).unwrap_or_default())
}

/// Takes the key out of the list on the machine.
///
/// # Errors
/// What the machine says.
pub async fn remove_line(trunk: &Trunk, key: &PublicKey) -> Result<Change, LoginsError> {
    change(trunk, |list| match login_list::remove(list, key) {
        Some(new) => (Change::Made, Some(new)),
        None => (Change::None, None),
    })
    .await
}
