//! The graphical program: the lamp in a window on the visitor's display.

use std::time::{Duration, Instant};

use tokio::net::UnixStream;
use tokio::sync::oneshot;
use tokio::task::AbortHandle;

use super::{Exit, Program, ProgramIo, Progress, fatal_signal, window};

/// How often it is looked whether the window was closed.
const LOOK: Duration = Duration::from_millis(100);

/// What is drawn.
#[derive(Clone, Copy)]
enum Draws {
    /// The lamp, for this time, or until it is closed.
    Lamp(Option<Duration>),
    /// Nothing: so many small requests, to see how long they take.
    Burst(usize),
}

pub(super) struct LampView {
    draws: Draws,
    showing: Option<(oneshot::Receiver<Result<String, String>>, AbortHandle)>,
}

impl Drop for LampView {
    fn drop(&mut self) {
        if let Some((_, task)) = &self.showing {
            task.abort();
        }
    }
}

impl LampView {
    pub(super) fn new(seconds: Option<u64>) -> Self {
        Self { draws: Draws::Lamp(seconds.map(Duration::from_secs)), showing: None }
    }

    pub(super) fn burst(count: usize) -> Self {
        Self { draws: Draws::Burst(count), showing: None }
    }
}

impl Program for LampView {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress {
        if let Some(exit) = fatal_signal(io) {
            return Progress::Ended(exit);
        }
        let Some((ended, _)) = &mut self.showing else {
            let Some(request) = io.surroundings.display.clone() else {
                io.err.extend_from_slice(b"lamp-view: this session has no display\n");
                return Progress::Ended(Exit::Status(1));
            };
            // A socket, as programs of other machines have it.
            let Ok((line, ours)) = UnixStream::pair() else { return Progress::Ended(Exit::Status(1)) };
            io.dials.push(Box::new(line));
            let (tell, ended) = oneshot::channel();
            let (host, draws) = (io.surroundings.host.clone(), self.draws);
            let task = tokio::spawn(async move {
                let shown = match draws {
                    Draws::Lamp(lasts) => window::show(ours, request, host, lasts).await,
                    Draws::Burst(count) => window::burst(ours, &request, count)
                        .await
                        .map(|took| format!("{count} requests in {} us", took.as_micros())),
                };
                let _ = tell.send(shown.map_err(|error| error.to_string()));
            });
            self.showing = Some((ended, task.abort_handle()));
            return Progress::Waiting(Some(now + LOOK));
        };
        match ended.try_recv() {
            Err(oneshot::error::TryRecvError::Empty) => Progress::Waiting(Some(now + LOOK)),
            Ok(Ok(words)) => {
                io.out.extend_from_slice(format!("lamp-view: {words}\n").as_bytes());
                Progress::Ended(Exit::Status(0))
            }
            Ok(Err(words)) => {
                io.err.extend_from_slice(format!("lamp-view: {words}\n").as_bytes());
                Progress::Ended(Exit::Status(1))
            }
            Err(oneshot::error::TryRecvError::Closed) => Progress::Ended(Exit::Status(1)),
        }
    }
}
