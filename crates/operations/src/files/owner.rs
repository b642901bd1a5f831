//! Whom files are to belong to: users and groups by their numbers, which is all that the protocol of files knows, or by the names that the machine has
//! for them.

use std::str::FromStr;

use lantern_link::{Captured, LinkError, Remote};

/// Longest name of an account, in bytes: what systems take ends far before.
const LONGEST: usize = 256;

/// What the machine's shell says where there is nobody.
const NONE: &str = "none";

/// A user or a group.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Account {
    Number(u32),
    Name(String),
}

/// Whom files are to belong to, as it was typed: `keeper:lamps`, `keeper`, `:lamps`, `1000:1000`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Owner {
    user: Option<Account>,
    group: Option<Account>,
}

/// Why that is nobody.
#[derive(Debug, thiserror::Error)]
pub enum OwnerError {
    /// No answer, or nothing that could be asked.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// The machine has none by that name.
    #[error("{machine} knows no {what} called {name}{}", behind_a_colon(.said))]
    Unknown {
        /// The machine.
        machine: String,
        /// "user" or "group".
        what: &'static str,
        /// The name.
        name: String,
        /// What it said.
        said: String,
    },
    /// It runs no commands, and so nobody can ask it.
    #[error("{machine} runs no commands, so it cannot be asked who {name} is")]
    NoCommands {
        /// The machine.
        machine: String,
        /// The name.
        name: String,
    },
}

fn behind_a_colon(words: &str) -> String {
    if words.is_empty() { String::new() } else { format!(": {words}") }
}

/// The numbers that these are on one machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OwnerNumbers {
    user: Option<u32>,
    group: Option<u32>,
}

impl FromStr for Owner {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        const WANTED: &str =
            "a user, a group behind a colon, or both are wanted: keeper:lamps, keeper, :lamps, 1000:1000";
        let (user, group) = text.split_once(':').map_or((text, ""), |parts| parts);
        let account = |text: &str| match text {
            "" => Ok(None),
            text if text.bytes().all(|byte| byte.is_ascii_digit()) => {
                text.parse().map(|number| Some(Account::Number(number))).map_err(|_| WANTED)
            }
            text if is_name(text) => Ok(Some(Account::Name(text.to_owned()))),
            _ => Err(WANTED),
        };
        let (user, group) = (account(user)?, account(group)?);
        if user.is_none() && group.is_none() { Err(WANTED) } else { Ok(Self { user, group }) }
    }
}

/// Whether systems call users and groups so, domains in front of them included. Nothing of it means anything to a shell, between quotation marks.
fn is_name(text: &str) -> bool {
    let plain = |c: char| c.is_alphanumeric() || "_-.@\\+$".contains(c);
    text.len() <= LONGEST && !text.starts_with('-') && text.chars().all(plain)
}

impl Owner {
    /// The numbers that a machine has for them.
    ///
    /// # Errors
    /// [`OwnerError`].
    pub async fn on(&self, remote: &Remote) -> Result<OwnerNumbers, OwnerError> {
        let user = |name: &str| format!("id -u -- '{name}'");
        // Where groups are not in the file alone, the system is asked; where nothing asks it, they are.
        let group = |name: &str| {
            let in_awk = name.replace('\\', "\\\\");
            let found = format!("$1 == \"{in_awk}\" {{ print; found = 1 }} END {{ exit !found }}");
            format!("getent group -- '{name}' 2>/dev/null || awk -F: '{found}' /etc/group")
        };
        Ok(OwnerNumbers {
            user: number(remote, "user", self.user.as_ref(), user, |line| line).await?,
            group: number(remote, "group", self.group.as_ref(), group, third).await?,
        })
    }
}

fn third(line: &str) -> &str {
    line.split(':').nth(2).unwrap_or_default()
}

async fn number(
    remote: &Remote,
    what: &'static str,
    account: Option<&Account>,
    command: impl Fn(&str) -> String,
    field: impl Fn(&str) -> &str,
) -> Result<Option<u32>, OwnerError> {
    let name = match account {
        None => return Ok(None),
        Some(Account::Number(number)) => return Ok(Some(*number)),
        Some(Account::Name(name)) => name,
    };
    let machine = || remote.machine().to_owned();
    // A shell that runs this ends it with one or the other; where only files are served, there is neither.
    let command = format!("{} || echo {NONE}", command(name));
    let Captured { out, err, .. } = remote.capture(&command, &[]).await?;
    let out = String::from_utf8_lossy(&out);
    let told = out.lines().next().unwrap_or_default().trim();
    match field(told).parse() {
        Ok(number) => Ok(Some(number)),
        Err(_) if told == NONE => {
            let said = String::from_utf8_lossy(&err);
            let said = lantern_ssh::neutralize(said.lines().next().unwrap_or_default(), 200);
            Err(OwnerError::Unknown { machine: machine(), what, name: name.clone(), said })
        }
        Err(_) => Err(OwnerError::NoCommands { machine: machine(), name: name.clone() }),
    }
}

impl OwnerNumbers {
    /// Those of a file that had these before, where only one of them is said; none where that is not known.
    pub fn of(self, before: Option<(u32, u32)>) -> Option<(u32, u32)> {
        let user = self.user.or(before.map(|(user, _)| user))?;
        Some((user, self.group.or(before.map(|(_, group)| group))?))
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn users_and_groups_are_told_apart_and_nothing_steers_a_shell() {
        let owner = |text: &str| text.parse::<Owner>().ok().map(|owner| (owner.user, owner.group));
        let (number, name) = (|n| Some(Account::Number(n)), |n: &str| Some(Account::Name(n.to_owned())));
        assert_eq!(owner("1000:100"), Some((number(1000), number(100))));
        assert_eq!(owner("keeper"), Some((name("keeper"), None)));
        assert_eq!(owner("keeper:"), Some((name("keeper"), None)));
        assert_eq!(owner(":lamps"), Some((None, name("lamps"))));
        assert_eq!(owner(r"COAST\keeper:lamps"), Some((name(r"COAST\keeper"), name("lamps"))));
        for wrong in
            ["", ":", "a b", "-R", "x:-x", "it's", "$(x)", "a:b:c", "99999999999", "a;b", "a\nb", "`x`"]
        {
            assert_eq!(owner(wrong), None, "{wrong}");
        }
        let only_user = OwnerNumbers { user: Some(7), group: None };
        assert_eq!((only_user.of(Some((1, 2))), only_user.of(None)), (Some((7, 2)), None));
    }
}
