//! Standard input and output without holding the session up: a thread each, since a pipe, a file and a terminal block
//! in different ways, and back-pressure by counting what has been written.

use std::io::{Error, PipeReader, PipeWriter, Stdin, pipe, stderr, stdin, stdout};
use std::sync::mpsc as std_mpsc;
use std::thread;

use bytes::Bytes;
use lantern_ssh::Stream;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fd::AsFd;
use tokio::sync::mpsc;

/// How much is read at once, in bytes.
const READ_SIZE: usize = 64 * 1024;
/// Chunks read ahead of what the session takes.
const READ_AHEAD: usize = 4;

/// Standard input, read by a thread of its own. When this is dropped, the thread takes nothing more: what is typed then is for
/// whoever asks next.
#[derive(Debug)]
pub(crate) struct Input {
    chunks: mpsc::Receiver<Bytes>,
    /// Its other end is watched by the thread.
    _stop: Option<PipeWriter>,
}

impl Input {
    /// Starts reading.
    pub(crate) fn start() -> Self {
        let (sender, chunks) = mpsc::channel(READ_AHEAD);
        let (stopped, stop) = match pipe() {
            Ok((stopped, stop)) => (Some(stopped), Some(stop)),
            Err(_) => (None, None),
        };
        thread::spawn(move || {
            let input = stdin();
            let mut buffer = vec![0; READ_SIZE];
            let mut place = place_in_file(&input);
            while !is_stopped(&input, stopped.as_ref()) {
                let read = match place {
                    Some(place) => rustix::io::pread(&input, &mut buffer, place),
                    None => rustix::io::read(&input, &mut buffer),
                };
                if let (Some(place), Ok(len)) = (&mut place, read) {
                    *place += len as u64;
                }
                match read {
                    // Somebody else reads from it too, or has set it not to wait.
                    Err(rustix::io::Errno::INTR | rustix::io::Errno::AGAIN) => {}
                    Ok(0) | Err(_) => break,
                    Ok(len) => {
                        let chunk = Bytes::copy_from_slice(buffer.get(..len).unwrap_or_default());
                        if sender.blocking_send(chunk).is_err() {
                            break;
                        }
                    }
                }
            }
        });
        Self { chunks, _stop: stop }
    }

    /// Throws away what was typed and not asked for yet.
    pub(crate) fn discard(&mut self) {
        let _ = rustix::termios::tcflush(stdin(), rustix::termios::QueueSelector::IFlush);
        while self.chunks.try_recv().is_ok() {}
    }

    /// The next chunk; `None` at the end of input.
    pub(crate) async fn next(&mut self) -> Option<Bytes> {
        self.chunks.recv().await
    }
}

/// Where a file stands, when standard input is one. It is read from there and left there: who opened it, a loop over a list say, may go on from
/// where it was.
fn place_in_file(input: &Stdin) -> Option<u64> {
    let kind = rustix::fs::FileType::from_raw_mode(rustix::fs::fstat(input).ok()?.st_mode);
    match kind.is_file() {
        true => rustix::fs::seek(input, rustix::fs::SeekFrom::Current(0)).ok(),
        false => None,
    }
}

/// Waits until there is something to read; whether it is not to be read any more.
fn is_stopped(input: &Stdin, stopped: Option<&PipeReader>) -> bool {
    let Some(stopped) = stopped else { return false };
    let mut watched = [PollFd::new(stopped, PollFlags::IN), PollFd::new(input, PollFlags::IN)];
    loop {
        match poll(&mut watched, None) {
            // The writing end closed.
            Ok(_) => return !watched.first().is_none_or(|stop| stop.revents().is_empty()),
            Err(rustix::io::Errno::INTR) => {}
            Err(_) => return false,
        }
    }
}

/// What the writing threads report.
#[derive(Debug)]
pub(crate) enum Written {
    /// So many bytes are out.
    Bytes(usize),
    /// A stream cannot be written any more.
    Failed(Stream, Error),
}

/// Standard output and standard error, each written by a thread of its own, so that one that is not read does not
/// hold up the other. What waits here is bounded by the channel's window, which only opens as bytes are written.
#[derive(Debug)]
pub(crate) struct Output {
    /// Started with the first that they write: most commands say nothing on standard error.
    main: Option<std_mpsc::Sender<Bytes>>,
    error: Option<std_mpsc::Sender<Bytes>>,
    report: mpsc::UnboundedSender<Written>,
    reports: mpsc::UnboundedReceiver<Written>,
    waiting: usize,
}

impl Output {
    /// Nothing written yet.
    pub(crate) fn new() -> Self {
        let (report, reports) = mpsc::unbounded_channel();
        Self { main: None, error: None, report, reports, waiting: 0 }
    }

    /// Hands over data.
    pub(crate) fn write(&mut self, stream: Stream, data: Bytes) {
        self.waiting += data.len();
        let place = match stream {
            Stream::Main => &mut self.main,
            Stream::Stderr => &mut self.error,
        };
        let sender = place.get_or_insert_with(|| writer(stream, self.report.clone()));
        // A writer that ended has reported why.
        let _ = sender.send(data);
    }

    /// The next report; never, when nothing is being written.
    pub(crate) async fn report(&mut self) -> Written {
        match self.reports.recv().await {
            Some(Written::Bytes(len)) => {
                self.waiting -= len.min(self.waiting);
                Written::Bytes(len)
            }
            Some(failed) => failed,
            None => std::future::pending().await,
        }
    }

    /// Whether more may be handed over now.
    pub(crate) fn has_room(&self) -> bool {
        self.waiting < READ_SIZE * READ_AHEAD
    }

    /// Whether everything handed over is out.
    pub(crate) fn is_drained(&self) -> bool {
        self.waiting == 0
    }
}

fn writer(stream: Stream, report: mpsc::UnboundedSender<Written>) -> std_mpsc::Sender<Bytes> {
    let (sender, chunks) = std_mpsc::channel::<Bytes>();
    thread::spawn(move || {
        for chunk in chunks {
            let outcome = match stream {
                Stream::Main => write_all(&stdout(), &chunk),
                Stream::Stderr => write_all(&stderr(), &chunk),
            };
            if let Err(error) = outcome {
                let _ = report.send(Written::Failed(stream, error));
                break;
            }
            if report.send(Written::Bytes(chunk.len())).is_err() {
                break;
            }
        }
    });
    sender
}

/// Writes all of it, also where whoever started us has set the stream not to wait: programs that call a remote shell do.
fn write_all(out: &impl AsFd, mut bytes: &[u8]) -> std::io::Result<()> {
    while !bytes.is_empty() {
        match rustix::io::write(out, bytes) {
            Ok(len) => bytes = bytes.get(len..).unwrap_or_default(),
            Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::AGAIN) => {
                let _ = poll(&mut [PollFd::new(out, PollFlags::OUT)], None);
            }
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}
