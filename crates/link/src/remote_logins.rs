//! The list of keys that may log in, on a machine: read and replaced over a logged-in connection.
//!
//! Two commands of plain `sh` do it. They hold nothing that changes from call to call: what changes goes through standard
//! input, so that nothing of it can be taken for a command.

use crate::capture::{Captured, MAX_CAPTURED, capture};
use crate::{LinkError, Trunk};

/// What [`READ_COMMAND`] prints first. A login that is limited to another command prints something else, which must never
/// be taken for the list.
pub const LIST_FOLLOWS: &[u8] = b"the list of logins follows\n";

/// Prints [`LIST_FOLLOWS`] and the list; nothing more when there is none.
pub const READ_COMMAND: &str = "sh -c 'cd || exit 91; f=.ssh/authorized_keys; echo the list of logins follows; \
if test -e $f; then cat $f; fi'";

/// Replaces the list and prints what it is then, as [`READ_COMMAND`] does. Standard input has a line with [`cksum`] and length of the old list and the
/// length of the new one, in bytes, and then the new one. The folder and the list end up closed to others; a link to a list elsewhere is followed; a
/// list that changed meanwhile, or a new one that did not arrive whole, changes nothing. From the comparison to the printing, a folder beside the list
/// keeps others of this command out; one that was left behind by somebody killed is taken away after two minutes.
pub const WRITE_COMMAND: &str = "sh -c 'umask 077; cd || exit 91; d=.ssh; f=$d/authorized_keys; \
mkdir -p $d && chmod 700 $d || exit 92; if test -L $f; then f=$(readlink -f $f) || exit 93; fi; \
command -v cksum > /dev/null || exit 98; read -r sum old new || exit 95; t=$f.new.$$; cat > \"$t\" || { rm -f \"$t\"; exit 94; }; \
n=$(wc -c < \"$t\"); if test \"$n\" -ne \"$new\"; then rm -f \"$t\"; exit 95; fi; \
l=$f.lock; i=0; until mkdir \"$l\" 2> /dev/null; do i=$((i+1)); if test $i -gt 100; then rm -f \"$t\"; test -d \"$l\" && exit 99; exit 97; fi; \
if test -n \"$(find \"$l\" -prune -mmin +2 2> /dev/null)\"; then rmdir \"$l\"; fi; sleep 0.1 2> /dev/null || sleep 1; done; \
u() { rm -f \"$t\"; rmdir \"$l\"; }; trap u 0; trap \"exit 97\" 1 2 13 15; \
if test -e \"$f\"; then set -- $(cksum < \"$f\"); else set -- 4294967295 0; fi; \
if test \"$1 $2\" != \"$sum $old\"; then exit 96; fi; \
chmod 600 \"$t\" && mv -f \"$t\" \"$f\" || exit 97; \
if command -v restorecon > /dev/null 2>&1; then restorecon $d \"$f\" > /dev/null 2>&1; fi; \
echo the list of logins follows; cat \"$f\"'";

/// Why the list could not be read or replaced.
#[derive(Debug, thiserror::Error)]
pub enum LoginsError {
    /// The connection, or the session on it.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// The machine said no.
    #[error("the machine could not {step}{}", said(.err))]
    Refused {
        /// What it was doing.
        step: &'static str,
        /// What it said.
        err: String,
    },
    /// Something else ran: the login is limited to a command.
    #[error(
        "the machine ran another command than ours: this login is limited to one, and cannot change the list"
    )]
    OtherCommand,
    /// The list is longer than any list of logins.
    #[error("the list of keys on the machine is longer than a megabyte")]
    TooLong,
    /// Somebody else changed the list between reading and writing; nothing was changed.
    #[error("the list of keys on the machine changed meanwhile; nothing was written")]
    Changed,
    /// Somebody else has been changing it for longer than that takes; nothing was changed.
    #[error("another program holds the list of keys on the machine (the folder .ssh/authorized_keys.lock)")]
    Held,
    /// What was read back is not what was written.
    #[error("the machine does not give back what was written")]
    NotKept,
}

/// What the program `cksum` of every POSIX system prints of these bytes: it tells lists apart that somebody else changed in between. (Whoever may
/// change the list need not forge anything.)
pub fn cksum(bytes: &[u8]) -> u32 {
    let feed = |sum: u32, byte: u8| {
        (0..8).fold(sum ^ u32::from(byte) << 24, |sum, _| match sum >> 31 {
            0 => sum << 1,
            _ => sum << 1 ^ 0x04c1_1db7,
        })
    };
    let sum = bytes.iter().fold(0, |sum, byte| feed(sum, *byte));
    // The length follows, the lowest byte first, as far as it has bytes.
    let len = bytes.len().to_le_bytes();
    let used = len.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    !len.iter().take(used).fold(sum, |sum, byte| feed(sum, *byte))
}

fn said(err: &str) -> String {
    let err = lantern_ssh::neutralize(err.trim(), 300);
    if err.is_empty() { String::new() } else { format!(": {err}") }
}

/// Reads the list.
///
/// # Errors
/// See [`LoginsError`].
pub async fn read(trunk: &Trunk) -> Result<Vec<u8>, LoginsError> {
    let captured = capture(trunk, READ_COMMAND, b"").await?;
    listed(captured)
}

/// The list that a command printed.
fn listed(captured: Captured) -> Result<Vec<u8>, LoginsError> {
    match captured.status {
        Some(0) => {}
        Some(96) => return Err(LoginsError::Changed),
        Some(99) => return Err(LoginsError::Held),
        status => {
            let err = String::from_utf8_lossy(&captured.err).into_owned();
            return Err(LoginsError::Refused { step: step(status.unwrap_or(0)), err });
        }
    }
    if captured.out.len() >= MAX_CAPTURED {
        return Err(LoginsError::TooLong);
    }
    captured.out.strip_prefix(LIST_FOLLOWS).map(<[u8]>::to_vec).ok_or(LoginsError::OtherCommand)
}

/// Replaces the list that was read as `old`, and compares what it is then.
///
/// # Errors
/// See [`LoginsError`].
pub async fn write(trunk: &Trunk, old: &[u8], new: &[u8]) -> Result<(), LoginsError> {
    let mut input = format!("{} {} {}\n", cksum(old), old.len(), new.len()).into_bytes();
    input.extend_from_slice(new);
    let captured = capture(trunk, WRITE_COMMAND, &input).await?;
    if listed(captured)? == new { Ok(()) } else { Err(LoginsError::NotKept) }
}

fn step(status: u32) -> &'static str {
    match status {
        91 => "enter the user's home folder",
        92 => "make the folder .ssh",
        93 => "follow the link that the list is",
        94 => "write the new list (is its disk full?)",
        95 => "receive the new list whole",
        97 => "put the new list in place",
        98 => "compare the list with what was read: it has no cksum",
        _ => "run a plain shell command",
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::cksum;

    /// As the program prints them.
    #[test]
    fn it_is_the_cksum_of_posix() {
        let long: Vec<u8> = (0..70_000u32).map(|n| (n * 7 % 251) as u8).collect();
        for (bytes, sum) in [(&b""[..], 4_294_967_295), (b"123456789", 930_766_865), (b"\n", 3_515_105_045)] {
            assert_eq!(cksum(bytes), sum);
        }
        let mut program = std::process::Command::new("cksum")
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut program.stdin.take().unwrap(), &long).unwrap();
        let said = String::from_utf8(program.wait_with_output().unwrap().stdout).unwrap();
        assert_eq!(said.split_whitespace().next().unwrap(), cksum(&long).to_string());
    }
}
