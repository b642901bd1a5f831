//! Many jobs at once, and never more than so many.

use tokio::task::JoinSet;

/// Carries out jobs, at most `limit` at a time; what came of each, in their order, and none of one that broke off. A job is taken when its turn has come:
/// those that wait cost nothing, and an iterator may end when there is to be no more. `on_done` hears of each that is done, by its place. Dropped, it
/// breaks off all of them.
pub(crate) async fn at_once<T: Send + 'static>(
    jobs: impl IntoIterator<Item = impl Future<Output = T> + Send + 'static>,
    limit: usize,
    mut on_done: impl FnMut(usize, &T),
) -> Vec<Option<T>> {
    let mut jobs = jobs.into_iter().enumerate();
    let mut running = JoinSet::new();
    let mut outcomes: Vec<Option<T>> = Vec::new();
    loop {
        while running.len() < limit.max(1)
            && let Some((index, job)) = jobs.next()
        {
            outcomes.push(None);
            running.spawn(async move { (index, job.await) });
        }
        let Some(done) = running.join_next().await else { return outcomes };
        if let Ok((index, outcome)) = done
            && let Some(place) = outcomes.get_mut(index)
        {
            on_done(index, &outcome);
            *place = Some(outcome);
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[test]
    fn no_more_than_so_many_run_and_all_are_in_their_order() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let (now, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let job = |number: u64| {
            let (now, most) = (now.clone(), most.clone());
            async move {
                let running = now.fetch_add(1, Ordering::SeqCst) + 1;
                most.fetch_max(running, Ordering::SeqCst);
                tokio::time::sleep(std::time::Duration::from_millis(number % 7)).await;
                now.fetch_sub(1, Ordering::SeqCst);
                number
            }
        };
        let mut done = 0;
        let outcomes = runtime.block_on(at_once((0..100).map(job), 8, |_, _| done += 1));
        assert_eq!(outcomes.into_iter().flatten().collect::<Vec<_>>(), (0..100).collect::<Vec<_>>());
        assert_eq!((done, most.load(Ordering::SeqCst)), (100, 8));
        // One that breaks off is missing, and nothing else is.
        let jobs = (0..5).map(|number| async move {
            assert_ne!(number, 2);
            number
        });
        let outcomes = runtime.block_on(at_once(jobs, 2, |_, _| {}));
        assert_eq!(outcomes, [Some(0), Some(1), None, Some(3), Some(4)]);
    }
}
