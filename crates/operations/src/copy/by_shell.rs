//! One file by plain commands of a POSIX shell, where a machine has no file service. What is in a path is nothing to the shell: it comes through standard
//! input, a line each, and the file behind them.

use bytes::{Buf, Bytes, BytesMut};
use lantern_link::{CommandWords, LinkError, Process, ProcessEnd, Program, Remote, Runs};
use lantern_ssh::sftp::Attributes;
use lantern_ssh::{Stream, neutralize_line};

use super::one::whole;
use super::part::new_part;
use super::zeros::zeros;
use super::{CopyFault, CopyOptions, CopyWatch, Moved, News, Stop};
use crate::files::{FileFault, Side, Source, name_of};

/// Reads where to, the name for a folder, the length, the mode, a name that nobody has, the time, whether the file keeps that, and whether it may take the place of
/// one that was changed later; then the file. A line that was cut brings less than the length, and nothing gets its name.
const SEND: &str = "exec /bin/sh -c '\
LC_ALL=C; export LC_ALL; umask 077; \
IFS= read -r t && IFS= read -r name && IFS= read -r n && IFS= read -r mode && IFS= read -r part \
&& IFS= read -r time && IFS= read -r keeps && IFS= read -r over || exit 98; \
case $t in \"\"|*/) t=$t$name;; *) [ -d \"$t\" ] && t=$t/$name;; esac; \
d=${t%/*}; [ \"$d\" = \"$t\" ] && d=.; [ -n \"$d\" ] || d=/; p=$d/$part; \
cat >\"$p\" || { rm -f \"$p\"; exit 95; }; \
[ \"$(($(wc -c <\"$p\")))\" -eq \"$n\" ] || { rm -f \"$p\"; exit 94; }; \
TZ=UTC0 touch -t \"$time\" \"$p\"; \
[ \"$over\" = 0 ] && [ \"$t\" -nt \"$p\" ] && { rm -f \"$p\"; exit 91; }; \
[ \"$keeps\" = 1 ] || touch \"$p\"; \
chmod \"$mode\" \"$p\" && mv -f \"$p\" \"$t\" || { rm -f \"$p\"; exit 93; }'";
/// Reads a path; prints how long the file is in a line, and then the file.
const FETCH: &str = "exec /bin/sh -c '\
LC_ALL=C; export LC_ALL; \
IFS= read -r p || exit 98; \
[ -d \"$p\" ] && { echo \"a folder\" >&2; exit 92; }; \
n=$(wc -c <\"$p\") || exit 96; echo \"$((n))\"; exec cat <\"$p\"'";
/// Most that is kept of what the commands complain, in bytes.
const MAX_SAID: usize = 400;
/// Longest line with a length in it, in bytes.
const MAX_LENGTH_LINE: usize = 32;

/// Why one file did not go by plain commands.
fn failed(remote: &Remote, what: &'static str, path: &[u8], said: &[u8], status: Option<u32>) -> CopyFault {
    let said = neutralize_line(String::from_utf8_lossy(said).trim(), MAX_SAID);
    let said = match (said.is_empty(), status) {
        (false, _) => said,
        (true, Some(91)) => "the one there was changed later; --replace-newer writes over it".to_owned(),
        (true, Some(94)) => "it is not as long there as it was to be".to_owned(),
        (true, Some(status)) => format!("its shell ended with status {status}"),
        (true, None) => "its shell ended without saying how".to_owned(),
    };
    CopyFault::Shell { machine: remote.machine().to_owned(), what, path: path.to_vec(), said }
}

async fn start(remote: &Remote, line: &'static str) -> Result<Process, FileFault> {
    let program = Program::alone(Runs::Command(CommandWords::line(line)));
    Ok(remote.start(program).await?.0)
}

/// Lines for the shell. A path with an end of a line in it cannot be one.
fn lines(remote: &Remote, path: &[u8], parts: &[&[u8]]) -> Result<Bytes, CopyFault> {
    if parts.iter().any(|part| part.contains(&b'\n')) {
        let said = b"a path with an end of a line in it needs the file service";
        return Err(failed(remote, "copy", path, said, None));
    }
    Ok(parts.iter().flat_map(|part| [part, &b"\n"[..]].concat()).collect::<Vec<u8>>().into())
}

async fn status(process: &Process) -> Result<Option<u32>, LinkError> {
    match process.ended().await {
        ProcessEnd::Exited(status) => Ok(Some(status)),
        ProcessEnd::Signaled { .. } | ProcessEnd::Closed => Ok(None),
        ProcessEnd::Failed(error) => Err(error),
    }
}

/// Sends one file of this computer.
///
/// # Errors
/// The file or the machine; it was stopped. What was there is there as it was.
pub async fn send_by_shell(
    from: &[u8],
    remote: &Remote,
    to: &[u8],
    options: &CopyOptions,
    watch: &dyn CopyWatch,
    stop: &Stop,
) -> Result<Moved, CopyFault> {
    let source = Side::Here.read(from, 0).await?;
    let attributes = source.attributes();
    let len = attributes.size.unwrap_or(0);
    watch.news(News::Begins { number: 0, path: to, bytes: len, from: 0 });
    let mode = options.permissions.or(attributes.permissions().map(|mode| mode & 0o777)).unwrap_or(0o644);
    let part = new_part(name_of(from));
    let (length, mode, time) = (len.to_string(), format!("{mode:o}"), time_of(&attributes));
    let flag = |is: bool| if is { &b"1"[..] } else { b"0" };
    let head = [
        to,
        name_of(from),
        length.as_bytes(),
        mode.as_bytes(),
        &part,
        time.as_bytes(),
        flag(options.keep_times),
        flag(options.replace_newer),
    ];
    let mut head = lines(remote, to, &head)?;
    let process = start(remote, SEND).await?;
    let feed = async {
        // What takes no more has ended: its status says what that means.
        if process.send(&mut head).await.is_err() {
            return Ok(0);
        }
        feed(source, &process, watch).await
    };
    let both = async { tokio::try_join!(feed, async { Ok(said(&process).await) }).map_err(CopyFault::from) };
    let both = tokio::select! {
        both = both => both,
        () = stop.wanted() => Err(CopyFault::Stopped),
    };
    // Where this side breaks off, the other would wait for the rest: it hears that there is none, and throws away what it has.
    let (bytes, said) = both.inspect_err(|_| process.close())?;
    match status(&process).await.map_err(FileFault::from)? {
        Some(0) => Ok(Moved { bytes, ..Moved::default() }),
        status => Err(failed(remote, "write", to, &said, status)),
    }
}

/// When a file was changed, as POSIX's `touch -t` takes it, in UTC.
fn time_of(attributes: &Attributes) -> String {
    let (_, changed) = attributes.times.unwrap_or_default();
    let time = jiff::Timestamp::from_second(changed.into()).unwrap_or_default();
    time.strftime("%Y%m%d%H%M.%S").to_string()
}

/// Sends a file with its holes, which are zeros; how many bytes that were.
async fn feed(mut source: Source, process: &Process, watch: &dyn CopyWatch) -> Result<u64, FileFault> {
    let mut at = 0;
    loop {
        let next = source.next().await?;
        let offset = match &next {
            Some((offset, _)) => *offset,
            None => whole(&source.attributes(), &source.look().await?, at),
        };
        for mut piece in
            zeros(offset.saturating_sub(at)).chain(next.iter().flat_map(|(_, pieces)| pieces.clone()))
        {
            let len = piece.len() as u64;
            if process.send(&mut piece).await.is_err() {
                return Ok(at);
            }
            at += len;
            watch.news(News::Bytes { number: 0, bytes: len });
        }
        if next.is_none() {
            process.send_eof();
            return Ok(at);
        }
    }
}

/// What the commands complain, until they have ended.
async fn said(process: &Process) -> Vec<u8> {
    let mut said = Vec::new();
    let (mut main, mut beside) = (true, true);
    while main || beside {
        let (is_main, piece) = tokio::select! {
            piece = process.next(Stream::Main), if main => (true, piece),
            piece = process.next(Stream::Stderr), if beside => (false, piece),
        };
        match piece {
            Some(piece) => {
                process.consumed(piece.len());
                let room = MAX_SAID.saturating_sub(said.len());
                said.extend_from_slice(piece.get(..room).unwrap_or(&piece));
            }
            None if is_main => main = false,
            None => beside = false,
        }
    }
    said
}

/// Fetches one file, to a path here that is no folder.
///
/// # Errors
/// The machine or the file; it was stopped. What was here is here as it was.
pub async fn fetch_by_shell(
    remote: &Remote,
    from: &[u8],
    to: &[u8],
    options: &CopyOptions,
    watch: &dyn CopyWatch,
    stop: &Stop,
) -> Result<Moved, CopyFault> {
    let mut head = lines(remote, from, &[from])?;
    let process = start(remote, FETCH).await?;
    let _ = process.send(&mut head).await;
    process.send_eof();
    let part = new_part(to);
    let fetched = tokio::select! {
        fetched = fetch(remote, &process, from, &part, options, watch) => fetched,
        () = stop.wanted() => Err(CopyFault::Stopped),
    };
    let named = match fetched {
        Ok(moved) => Side::Here.rename_over(&part, to).await.map(|()| moved).map_err(CopyFault::from),
        Err(fault) => Err(fault),
    };
    if named.is_err() {
        process.close();
        let _ = Side::Here.remove(&part).await;
    }
    named
}

async fn fetch(
    remote: &Remote,
    process: &Process,
    from: &[u8],
    part: &[u8],
    options: &CopyOptions,
    watch: &dyn CopyWatch,
) -> Result<Moved, CopyFault> {
    let mut first = BytesMut::new();
    let mut complaint = Vec::new();
    let mut sink = None;
    let (mut length, mut at) = (0, 0);
    let (mut main, mut beside) = (true, true);
    while main || beside {
        let (is_main, piece) = tokio::select! {
            piece = process.next(Stream::Main), if main => (true, piece),
            piece = process.next(Stream::Stderr), if beside => (false, piece),
        };
        let Some(mut piece) = piece else {
            if is_main {
                main = false
            } else {
                beside = false
            }
            continue;
        };
        process.consumed(piece.len());
        if !is_main {
            let room = MAX_SAID.saturating_sub(complaint.len());
            complaint.extend_from_slice(piece.get(..room).unwrap_or(&piece));
            continue;
        }
        if sink.is_none() {
            // The length comes first, in a line.
            let Some(end) = piece.iter().position(|byte| *byte == b'\n') else {
                first.extend_from_slice(&piece);
                if first.len() > MAX_LENGTH_LINE {
                    return Err(failed(
                        remote,
                        "read",
                        from,
                        b"its shell does not answer as one of POSIX does",
                        None,
                    ));
                }
                continue;
            };
            first.extend_from_slice(piece.get(..end).unwrap_or_default());
            piece.advance(end + 1);
            length = match str::from_utf8(&first).ok().and_then(|text| text.trim().parse().ok()) {
                Some(length) => length,
                None => {
                    let said = b"its shell does not answer as one of POSIX does";
                    return Err(failed(remote, "read", from, said, None));
                }
            };
            watch.news(News::Begins { number: 0, path: from, bytes: length, from: 0 });
            sink = Some(Side::Here.create(part).await?);
        }
        let len = piece.len() as u64;
        if at + len > length {
            return Err(failed(remote, "read", from, b"it is longer than it said", None));
        }
        if let Some(sink) = &mut sink {
            sink.write(at, vec![piece]).await?;
        }
        at += len;
        watch.news(News::Bytes { number: 0, bytes: len });
    }
    let status = status(process).await.map_err(FileFault::from)?;
    match (status, sink) {
        (Some(0), Some(sink)) if at == length => {
            let mode = Some(options.permissions.unwrap_or(0o644));
            sink.finish(Attributes { size: Some(at), mode, ..Attributes::default() }, true).await?;
            Ok(Moved { bytes: at, ..Moved::default() })
        }
        (status, _) => Err(failed(remote, "read", from, &complaint, status)),
    }
}
