//! The graphical program: the lamp in a window on the visitor's display.

use std::time::{Duration, Instant};

use tokio::sync::oneshot;
use tokio::task::AbortHandle;

use super::{Exit, Program, ProgramIo, Progress, fatal_signal, window};

/// How often it is looked whether the window was closed.
const LOOK: Duration = Duration::from_millis(100);
/// Bytes on their way to the display and back.
const BUFFER: usize = 64 * 1024;

pub(super) struct LampView {
    lasts: Option<Duration>,
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
        Self { lasts: seconds.map(Duration::from_secs), showing: None }
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
            let (line, ours) = tokio::io::duplex(BUFFER);
            io.dials.push(Box::new(line));
            let (tell, ended) = oneshot::channel();
            let (host, lasts) = (io.surroundings.host.clone(), self.lasts);
            let task = tokio::spawn(async move {
                let shown = window::show(ours, request, host, lasts).await;
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
