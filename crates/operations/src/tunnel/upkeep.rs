//! The link that tunnels go through: made, watched over, and made again when it is lost.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::{Duration, Instant};

use lantern_keys::{RandomSource, SystemRandom};
use lantern_link::{LinkError, Surroundings, Trunk, chain};
use tokio::time::{sleep, timeout};
use tracing::debug;

use super::Board;
use super::board::LinkPhase;
use crate::OperationError;

/// The shortest pause before another try, behind the first, which comes at once; and the longest.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// A link that was up for so long was no flash: the next one is tried for as eagerly as the first.
const STEADY: Duration = Duration::from_secs(30);
/// How long a machine may take to give a sign of life once the surroundings have changed.
const SIGN_OF_LIFE: Duration = Duration::from_secs(5);

/// Makes a connection.
pub type Connect =
    Arc<dyn Fn() -> Pin<Box<dyn Future<Output = Result<Trunk, OperationError>> + Send>> + Send + Sync>;

/// How long a link is tried for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Persistence {
    /// Until it has been away for this time; none: for ever.
    pub give_up: Option<Duration>,
    /// Whether the very first try may fail as well.
    pub from_start: bool,
}

/// Pauses that double, none twice the same: many who lost the same server do not all come back in one moment.
struct Pauses {
    next: Duration,
}

impl Pauses {
    fn new() -> Self {
        Self { next: Duration::ZERO }
    }

    fn next(&mut self) -> Duration {
        let pause = self.next;
        self.next = (pause * 2).clamp(FIRST_PAUSE, LONGEST_PAUSE);
        let mut bytes = [0; 2];
        SystemRandom.fill(&mut bytes);
        // From three quarters of it to five quarters.
        pause.mul_f64(0.75 + f64::from(u16::from_le_bytes(bytes)) / f64::from(u16::MAX) / 2.0)
    }
}

/// Whether another try would come to the same: not where the machine proved to be another, or does not let us in.
pub fn is_final(error: &OperationError) -> bool {
    fn of_link(error: &LinkError) -> bool {
        match error {
            LinkError::Gateway { source, .. } => of_link(source),
            LinkError::Elsewhere(explained) => explained.is_final,
            LinkError::Trust(_)
            | LinkError::Auth(_)
            | LinkError::Exposed { .. }
            | LinkError::Book(_)
            | LinkError::RequestRefused { .. } => true,
            _ => false,
        }
    }
    match error {
        OperationError::Link(error) => of_link(error),
        OperationError::Reach(_)
        | OperationError::Book(_)
        | OperationError::Key { .. }
        | OperationError::NotTried { .. } => true,
        OperationError::Logins(_) => false,
    }
}

/// Keeps the link up, for as long as it is to be tried for.
///
/// # Errors
/// Why nothing more is tried.
pub(super) async fn keep_up(connect: Connect, board: Arc<Board>, persistence: Persistence) -> OperationError {
    let error = try_on(&connect, &board, persistence).await;
    board.set_link(None);
    board.set_phase(LinkPhase::Over, Some(chain(&error)));
    error
}

async fn try_on(connect: &Connect, board: &Board, persistence: Persistence) -> OperationError {
    let mut surroundings = Surroundings::watch();
    let mut pauses = Pauses::new();
    let mut down_since = Instant::now();
    let mut was_up = persistence.from_start;
    loop {
        board.set_phase(LinkPhase::Connecting, None);
        let error = match connect().await {
            Ok(trunk) => {
                let since = Instant::now();
                was_up = true;
                board.set_link(Some(trunk.clone()));
                board.set_phase(LinkPhase::Up, None);
                let error = watch_over(trunk, &mut surroundings).await;
                board.set_link(None);
                down_since = Instant::now();
                if since.elapsed() > STEADY {
                    pauses = Pauses::new();
                }
                error
            }
            Err(error) if is_final(&error) || !was_up => return error,
            Err(error) => error,
        };
        let left = persistence.give_up.map(|most| most.saturating_sub(down_since.elapsed()));
        if left == Some(Duration::ZERO) {
            return error;
        }
        let pause = pauses.next().min(left.unwrap_or(LONGEST_PAUSE * 2));
        debug!(error = %chain(&error), pause = pause.as_millis(), "tried again after a pause (ms)");
        board.wait(pause, chain(&error));
        if timeout(pause, surroundings.changed()).await.is_ok() {
            // Right away, and not over and over while a network flutters.
            sleep(FIRST_PAUSE / 4).await;
        }
    }
}

/// Until the link is lost. Where the surroundings change, it has to show that it is there.
async fn watch_over(trunk: Trunk, surroundings: &mut Surroundings) -> OperationError {
    loop {
        tokio::select! {
            error = trunk.ended() => return error.into(),
            _ = surroundings.changed() => {
                if !trunk.is_alive(SIGN_OF_LIFE).await {
                    let machine = trunk.machine().to_owned();
                    let unanswered = LinkError::Unanswered {
                        machine,
                        what: "a sign of life, as the network had changed or this computer had slept",
                        seconds: SIGN_OF_LIFE.as_secs(),
                    };
                    let error = trunk.ended_by().unwrap_or(unanswered);
                    trunk.close().await;
                    return error.into();
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_to_a_minute_and_no_two_computers_wait_the_same() {
        let mut pauses = Pauses::new();
        assert_eq!(pauses.next(), Duration::ZERO, "the first try comes at once");
        let all: Vec<Duration> = (0..12).map(|_| pauses.next()).collect();
        assert!(all.iter().all(|pause| *pause <= LONGEST_PAUSE.mul_f64(1.25)), "{all:?}");
        assert!(all.last().is_some_and(|pause| *pause >= LONGEST_PAUSE.mul_f64(0.75)), "{all:?}");
        let mut others = Pauses::new();
        let again: Vec<Duration> = (0..13).map(|_| others.next()).skip(1).collect();
        assert_ne!(all, again);
    }
}
