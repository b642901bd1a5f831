//! The conversation with the machine, which is made anew when it was lost.

use std::pin::Pin;
use std::time::{Duration, Instant};

use lantern_link::{Files, FilesError};
use tokio::sync::Mutex;

/// Makes a conversation; its error is why there is none, and whether another try would come to the same: accounts lock.
pub type Again =
    Box<dyn Fn() -> Pin<Box<dyn Future<Output = Result<Files, (FilesError, bool)>> + Send>> + Send + Sync>;

/// How long whoever asks for something waits for a machine that is gone.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long to wait between two tries.
const PAUSE: Duration = Duration::from_secs(2);

/// A conversation that is made anew.
pub struct Lifeline {
    state: Mutex<State>,
    again: Again,
}

struct State {
    files: Files,
    /// When nobody could make it anew, and why: whoever asks within a moment hears the same.
    failed: Option<(Instant, FilesError)>,
    /// Why nobody tries it any more.
    is_final: bool,
}

impl std::fmt::Debug for Lifeline {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Lifeline").finish_non_exhaustive()
    }
}

impl Lifeline {
    /// This conversation, and how another is made.
    pub fn new(files: Files, again: Again) -> Self {
        Self { state: Mutex::new(State { files, failed: None, is_final: false }), again }
    }

    /// The conversation. Where it was lost, it is made anew, which may take a while.
    ///
    /// # Errors
    /// Why it cannot be made.
    pub(super) async fn files(&self) -> Result<Files, FilesError> {
        let mut state = self.state.lock().await;
        if !state.files.is_over() {
            return Ok(state.files.clone());
        }
        if let Some((since, error)) = &state.failed
            && (state.is_final || since.elapsed() < PAUSE)
        {
            return Err(error.clone());
        }
        let since = Instant::now();
        loop {
            match (self.again)().await {
                Ok(files) => {
                    state.files = files.clone();
                    state.failed = None;
                    return Ok(files);
                }
                Err((error, is_final)) if is_final || since.elapsed() > PATIENCE => {
                    state.is_final = is_final;
                    state.failed = Some((Instant::now(), error.clone()));
                    return Err(error);
                }
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    }
}
