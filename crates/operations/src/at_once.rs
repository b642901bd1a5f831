//! Many jobs at once, and never more than so many.

use std::collections::VecDeque;

use tokio::sync::oneshot;
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

/// A job whose turn to be taken comes: what it says, once it has ended, or an error, where it broke off.
pub type Turn<T> = oneshot::Receiver<T>;

/// Carries out jobs, so many of them ahead of the one whose turn it is; each is taken in its order, by `take`, which says whether it goes on. What had
/// ended and was not taken is returned, with its place, and so are the places of those that were under way, and have been broken off.
pub async fn in_order<T: Send + 'static>(
    jobs: impl IntoIterator<Item = impl Future<Output = T> + Send + 'static>,
    ahead: usize,
    mut take: impl AsyncFnMut(usize, Turn<T>) -> bool,
) -> (Vec<(usize, T)>, Vec<usize>) {
    let mut jobs = jobs.into_iter().enumerate();
    let mut running = JoinSet::new();
    let mut waiting = VecDeque::new();
    loop {
        while waiting.len() < ahead.max(1)
            && let Some((index, job)) = jobs.next()
        {
            let (done, turn) = oneshot::channel();
            running.spawn(async move {
                let _ = done.send(job.await);
            });
            waiting.push_back((index, turn));
        }
        // What has ended is of no more interest here.
        while running.try_join_next().is_some() {}
        let Some((index, turn)) = waiting.pop_front() else { return (Vec::new(), Vec::new()) };
        if !take(index, turn).await {
            break;
        }
    }
    running.shutdown().await;
    let (mut done, mut broken_off) = (Vec::new(), Vec::new());
    for (index, mut turn) in waiting {
        match turn.try_recv() {
            Ok(outcome) => done.push((index, outcome)),
            Err(_) => broken_off.push(index),
        }
    }
    (done, broken_off)
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
    /// The first is the slowest: the others have ended by its turn, no more than so many have begun, and all are taken in their order.
    #[test]
    fn what_ends_early_waits_for_its_turn() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let begun = Arc::new(AtomicUsize::new(0));
        let job = |number: u64| {
            let begun = begun.clone();
            async move {
                begun.fetch_add(1, Ordering::SeqCst);
                tokio::time::sleep(std::time::Duration::from_millis(if number == 0 { 20 } else { 0 })).await;
                assert_ne!(number, 5);
                number
            }
        };
        let mut taken = Vec::new();
        let take = async |index: usize, turn: Turn<u64>| {
            let said = turn.await.ok();
            if index == 0 {
                assert_eq!(begun.load(Ordering::SeqCst), 4);
            }
            taken.push(said);
            true
        };
        let left = runtime.block_on(in_order((0..9).map(job), 4, take));
        assert_eq!(left, (Vec::new(), Vec::new()));
        let expected: Vec<Option<u64>> = (0..9).map(|number| (number != 5).then_some(number)).collect();
        assert_eq!(taken, expected);
    }

    /// Told to stop, it gives back what had ended, and says what it broke off.
    #[test]
    fn what_was_not_taken_is_given_back() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let jobs = (0..9).map(|number| async move {
            if number == 2 {
                std::future::pending::<()>().await;
            }
            number
        });
        let take = async |index: usize, turn: Turn<i32>| {
            turn.await.unwrap();
            tokio::task::yield_now().await;
            index < 1
        };
        let left = runtime.block_on(in_order(jobs, 3, take));
        // The last one that was begun, at the second's turn, has ended meanwhile.
        assert_eq!(left, (vec![(3, 3)], vec![2]));
    }
}
