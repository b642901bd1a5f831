//! A command that runs as another user, through the machine's own program for that.
//!
//! The password goes to that program alone, and only after the prompt that we gave it, which nobody foresees; what the command itself reads begins after the
//! command has said that it runs. So no password ends up in a command's input, nor on a command line, nor at somebody else's prompt.

mod failure;

use std::time::Duration;

use bytes::Bytes;
use lantern_keys::{RandomSource, SecretString, SystemRandom};
use lantern_ssh::{Stream, neutralize_line};
use tokio::time::timeout;

use crate::ask::{Ask, Question};
use crate::program::{CommandWords, quoted, unquoted};
use crate::remote::{Process, ProcessEnd};
use crate::{Answer, LinkError, Trunk};

pub use failure::PrivilegeFailure;

/// Becomes that user by what there is, and says so before it becomes the command. What stands between a failed look and the command is in one line: shells of
/// all kinds hand it on.
const ENTER: &str = "u=$1; n=$2; shift 2; s='printf \"in-%s\\n\" \"$0\" >&2; exec \"$@\"'; \
if [ \"$(id -un)\" = \"$u\" ]; then exec /bin/sh -c \"$s\" \"$n\" \"$@\"; fi; \
if command -v sudo >/dev/null 2>&1; then exec sudo -S -H -p \"ask-$n:\" -u \"$u\" -- /bin/sh -c \"$s\" \"$n\" \"$@\"; fi; \
if [ \"$(id -u)\" = 0 ]; then exec runuser -u \"$u\" -- /bin/sh -c \"$s\" \"$n\" \"$@\"; fi; \
if command -v doas >/dev/null 2>&1; then exec doas -n -u \"$u\" -- /bin/sh -c \"$s\" \"$n\" \"$@\"; fi; exit 95";
/// The status that says that there is no such program.
const NO_PROGRAM: u32 = 95;
/// What that is called for the shell that runs it.
const NAME: &str = "lantern";
/// Most of what comes before the command that is kept, in bytes: lectures are long.
const MAX_HELD: usize = 16 * 1024;
/// Most lines that are told of it.
const MOST_LINES: usize = 3;
/// Longest words that are told of it, in bytes.
const MAX_SAID: usize = 400;
/// How often a person may answer, as the program itself has it where nobody changed that.
const TRIES: u32 = 3;
/// How long a password may be thought about beyond what an answer may take: a wrong one is answered late on purpose.
const THINKING: Duration = Duration::from_secs(10);

/// Whom a command is to run as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Privilege {
    other: String,
    nonce: String,
}

/// What a machine is asked for, as it reads it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entering {
    /// Whom the command is to run as.
    pub other: String,
    /// What makes the prompt this one.
    pub nonce: String,
    /// The command.
    pub words: Vec<Vec<u8>>,
}

impl Entering {
    /// Reads a line for a shell, where it is one of ours.
    pub fn read(line: &str) -> Option<Self> {
        let rest = line.strip_prefix(&head())?;
        let mut words = unquoted(rest.as_bytes())?.into_iter();
        let mut text = || String::from_utf8(words.next()?).ok();
        let (other, nonce) = (text()?, text()?);
        Some(Self { other, nonce, words: words.collect() })
    }

    /// The prompt for the password.
    pub fn prompt(&self) -> String {
        prompt(&self.nonce)
    }

    /// What says that the command runs.
    pub fn mark(&self) -> String {
        mark(&self.nonce)
    }
}

fn head() -> String {
    format!("exec /bin/sh -c {} {NAME} ", String::from_utf8_lossy(&quoted(ENTER.as_bytes())))
}

fn prompt(nonce: &str) -> String {
    format!("ask-{nonce}:")
}

fn mark(nonce: &str) -> String {
    format!("in-{nonce}\n")
}

impl Privilege {
    /// To act as this user.
    pub fn of(other: &str) -> Self {
        let mut bytes = [0; 16];
        SystemRandom.fill(&mut bytes);
        let nonce = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        Self { other: other.to_owned(), nonce }
    }

    /// The command that runs another one so.
    pub fn around(&self, command: &CommandWords) -> CommandWords {
        let mut line = head().into_bytes();
        let shell = [&b"/bin/sh"[..], b"-c"];
        let words: Vec<Vec<u8>> = match command.words.len() > 1 && command.each_as_is {
            true => command.words.iter().map(|word| word.to_vec()).collect(),
            false => {
                let line = command.for_posix_shell();
                shell.iter().map(|word| word.to_vec()).chain([line]).collect()
            }
        };
        let own = [self.other.as_bytes(), self.nonce.as_bytes()];
        let all = own.into_iter().chain(words.iter().map(Vec::as_slice)).map(quoted);
        line.extend(all.collect::<Vec<_>>().join(&b' '));
        CommandWords::line(line)
    }

    /// Waits until the command runs, and gives the password where it is asked for.
    ///
    /// # Errors
    /// It was refused, or there is nobody to ask; the connection was lost.
    pub async fn enter(&self, process: &Process, trunk: &Trunk, ask: &dyn Ask) -> Result<(), LinkError> {
        let limit = trunk.answer_limit() + THINKING;
        let (prompt, mark) = (prompt(&self.nonce), mark(&self.nonce));
        let (user, machine) = (trunk.user().to_owned(), trunk.machine().to_owned());
        let other = self.other.clone();
        let mut held: Vec<u8> = Vec::new();
        let (mut tries, mut last) = (0, 0_usize);
        loop {
            if let Some(at) = find(&held, mark.as_bytes()) {
                let rest = held.split_off(at + mark.len());
                // It came in the last piece, of which no more was credited than what is not in it.
                process.consumed(last.saturating_sub(rest.len()));
                process.unread_piece(Stream::Stderr, Bytes::from(rest));
                return Ok(());
            }
            process.consumed(std::mem::take(&mut last));
            if let Some(at) = find(&held, prompt.as_bytes()) {
                held.drain(..at + prompt.len());
                let again = tries > 0;
                let question = Question::Privilege {
                    user: user.clone(),
                    machine: machine.clone(),
                    other: other.clone(),
                    again,
                };
                let given = if tries < TRIES { ask.ask(question).await } else { Answer::No };
                // A line end in it would make two of it, and the second is the command's.
                let given = given.secret().filter(|password| !password.expose_secret().contains('\n'));
                let Some(password) = given else {
                    process.close();
                    return Err(match again {
                        true => {
                            let said = words(&held);
                            PrivilegeFailure::Refused { machine, user, other, said, by_password: true }
                        }
                        false => PrivilegeFailure::NoPassword { machine, user, other },
                    }
                    .into());
                };
                tries += 1;
                held.clear();
                let mut line = line_of(&password);
                // What takes no more has ended: what comes of it says how.
                let _ = process.send(&mut line).await;
                continue;
            }
            let Ok(piece) = timeout(limit, process.next(Stream::Stderr)).await else {
                process.close();
                return Err(PrivilegeFailure::Otherwise { machine, other, said: words(&held) }.into());
            };
            let Some(piece) = piece else { break };
            last = piece.len();
            // What has been looked through has no mark in it, but for its beginning.
            let over = held.len().saturating_sub(MAX_HELD);
            held.drain(..over);
            held.extend_from_slice(&piece);
        }
        let said = words(&held);
        Err(match process.ended().await {
            ProcessEnd::Failed(error) => return Err(error),
            ProcessEnd::Exited(NO_PROGRAM) => PrivilegeFailure::NoProgram { machine, user, other },
            _ => PrivilegeFailure::Refused { machine, user, other, said, by_password: tries > 0 },
        }
        .into())
    }
}

fn line_of(password: &SecretString) -> Bytes {
    Bytes::from([password.expose_secret().as_bytes(), b"\n"].concat())
}

fn find(held: &[u8], wanted: &[u8]) -> Option<usize> {
    held.windows(wanted.len()).position(|window| window == wanted)
}

/// The last lines that say something, harmless.
fn words(held: &[u8]) -> String {
    let text = String::from_utf8_lossy(held);
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    let last = lines.get(lines.len().saturating_sub(MOST_LINES)..).unwrap_or_default();
    neutralize_line(&last.join("; "), MAX_SAID)
}
