//! Tickets that a program of the system keeps, which tells them to their owner at a socket of this computer.

use std::io::{Error, ErrorKind, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::Duration;

use lantern_kerberos::Cache;
use lantern_kerberos::manager::{ManagerRequest, cache_name, ticket_ids};
use zeroize::Zeroizing;

/// Where the program listens, unless the configuration says otherwise.
pub(super) const USUAL: &str = "/var/run/.heim_org.h5l.kcm-socket";
/// How long it has for each answer: it reads them of its memory, or of a file.
const LIMIT: Duration = Duration::from_secs(3);
/// Longest answer that is read, in bytes: one ticket has up to 64 KiB, and a list 16 bytes for each.
const MAX_ANSWER: u32 = 1024 * 1024;
/// Most tickets that are asked for.
const MAX_TICKETS: usize = 1024;

struct Manager(UnixStream);

impl Manager {
    /// Its answer; nothing, where it says that there is no such thing.
    fn ask(&mut self, request: ManagerRequest<'_>) -> std::io::Result<Option<Zeroizing<Vec<u8>>>> {
        self.exchange(request).map_err(|error| match error.kind() {
            ErrorKind::WouldBlock | ErrorKind::TimedOut => Error::other(format!(
                "the program that keeps it does not answer within {} s",
                LIMIT.as_secs()
            )),
            _ => error,
        })
    }

    fn exchange(&mut self, request: ManagerRequest<'_>) -> std::io::Result<Option<Zeroizing<Vec<u8>>>> {
        self.0.write_all(&request.encode())?;
        let number = |line: &mut UnixStream| {
            let mut four = [0; 4];
            line.read_exact(&mut four).map(|()| u32::from_be_bytes(four))
        };
        let len = number(&mut self.0)?;
        if len > MAX_ANSWER {
            return Err(Error::other("its answer is longer than any"));
        }
        // Whether the question was heard; whether there is an answer stands before it.
        let heard = number(&mut self.0)?;
        let mut answer = Zeroizing::new(vec![0; usize::try_from(len).map_err(Error::other)?]);
        self.0.read_exact(&mut answer)?;
        let found = answer.split_first_chunk::<4>().filter(|(status, _)| heard == 0 && **status == [0; 4]);
        Ok(found.map(|(_, found)| Zeroizing::new(found.to_vec())))
    }
}

/// The tickets of a cache, or of the one that is used, where no name is said; nothing, where there is none.
pub(super) fn load(socket: &Path, name: &str) -> std::io::Result<Option<Cache>> {
    let line = match UnixStream::connect(socket) {
        Ok(line) => line,
        // Where the program does not run, it keeps nothing.
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::ConnectionRefused) => {
            return Ok(None);
        }
        Err(error) => return Err(error),
    };
    line.set_read_timeout(Some(LIMIT))?;
    line.set_write_timeout(Some(LIMIT))?;
    let mut manager = Manager(line);
    let damaged = |error: lantern_kerberos::KerberosError| Error::other(error.to_string());
    let name = match name {
        "" => match manager.ask(ManagerRequest::DefaultCache)? {
            Some(answer) => cache_name(&answer).map_err(damaged)?,
            None => return Ok(None),
        },
        name => name.to_owned(),
    };
    let Some(owner) = manager.ask(ManagerRequest::Owner(&name))? else { return Ok(None) };
    let ids =
        manager.ask(ManagerRequest::Tickets(&name))?.map(|answer| ticket_ids(&answer)).unwrap_or_default();
    let mut tickets = Vec::new();
    for id in ids.into_iter().take(MAX_TICKETS) {
        // One that went meanwhile is none.
        tickets.extend(manager.ask(ManagerRequest::Ticket(&name, id))?);
    }
    Cache::of_parts(&owner, tickets.iter().map(|ticket| ticket.as_slice())).map(Some).map_err(damaged)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use std::os::unix::net::UnixListener;

    /// A program that says these, one for each question, and then hangs up.
    fn told(answers: &'static [&'static [u8]]) -> std::io::Result<Option<Cache>> {
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join("socket");
        let listener = UnixListener::bind(&socket).unwrap();
        let telling = std::thread::spawn(move || {
            let (mut line, _) = listener.accept().unwrap();
            for answer in answers {
                let mut len = [0; 4];
                line.read_exact(&mut len).unwrap();
                line.read_exact(&mut vec![0; u32::from_be_bytes(len) as usize]).unwrap();
                line.write_all(answer).unwrap();
            }
        });
        let loaded = load(&socket, "");
        telling.join().unwrap();
        loaded
    }

    #[test]
    fn a_program_that_keeps_nothing_or_says_nonsense_does_no_harm() {
        const NAME: &[u8] = b"\0\0\0\x06\0\0\0\0\0\0\0\x007\0";
        const NONE: &[u8] = b"\0\0\0\x04\0\0\0\0\x96\xc7\x3a\xc3";
        assert_eq!(told(&[NONE]).unwrap(), None);
        assert_eq!(told(&[NAME, NONE]).unwrap(), None);
        // Not heard at all.
        assert_eq!(told(&[b"\0\0\0\0\0\0\0\x01"]).unwrap(), None);
        const ENDLESS: &[&[u8]] = &[b"\xff\xff\xff\xff\0\0\0\0"];
        const CUT: &[&[u8]] = &[b"\0\0\0\x10\0\0\0\0short"];
        const NAMELESS: &[&[u8]] = &[b"\0\0\0\x06\0\0\0\0\0\0\0\0\xff\xff"];
        const NOBODY: &[&[u8]] = &[NAME, b"\0\0\0\x08\0\0\0\0\0\0\0\0\xff\xff\xff\xff", NONE];
        for (answers, words) in [
            (ENDLESS, "longer than any"),
            (CUT, "failed to fill"),
            (NAMELESS, "names none"),
            (NOBODY, "ends in the middle"),
        ] {
            let error = told(answers).unwrap_err().to_string();
            assert!(error.contains(words), "{words}: {error}");
        }
        assert_eq!(load(Path::new("/nonexistent/socket"), "").unwrap(), None);
    }
}
