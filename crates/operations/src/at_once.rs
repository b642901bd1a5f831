//! Many jobs at once, and never more than so many.

use std::sync::Arc;

use tokio::sync::Semaphore;
use tokio::task::JoinSet;

/// Carries out jobs, at most `limit` at a time; what came of each, in their order, and none of one that broke off. `on_done` hears of each that is
/// done, by its place. Dropped, it breaks off all of them.
pub(crate) async fn at_once<T: Send + 'static>(
    jobs: impl IntoIterator<Item = impl Future<Output = T> + Send + 'static>,
    limit: usize,
    mut on_done: impl FnMut(usize, &T),
) -> Vec<Option<T>> {
    let gate = Arc::new(Semaphore::new(limit));
    let mut running = JoinSet::new();
    for (index, job) in jobs.into_iter().enumerate() {
        let gate = gate.clone();
        running.spawn(async move {
            let _turn = gate.acquire().await;
            (index, job.await)
        });
    }
    let mut outcomes: Vec<Option<T>> = Vec::new();
    outcomes.resize_with(running.len(), || None);
    while let Some(done) = running.join_next().await {
        if let Ok((index, outcome)) = done
            && let Some(place) = outcomes.get_mut(index)
        {
            on_done(index, &outcome);
            *place = Some(outcome);
        }
    }
    outcomes
}
