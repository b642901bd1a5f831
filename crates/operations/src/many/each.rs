//! The engine: something done for each of many, so many at a time.

use std::sync::atomic::{AtomicUsize, Ordering};

use super::Halt;
use crate::at_once::at_once;

/// How that goes.
#[derive(Debug, Clone, Copy)]
pub struct ManyOptions {
    /// Machines at once.
    pub at_once: usize,
    /// After so many that failed, no more are begun.
    pub stop_after: Option<usize>,
}

/// Does something for each of many machines, by their names; what came of each, in their order. Those that were not begun are none, as are those whose job
/// broke off. A job is made when its turn has come, so that what waits costs nothing. `on_done` hears of each that is done, by its place, and says whether
/// it is good.
pub async fn each<T: Send + 'static, F: Future<Output = T> + Send + 'static>(
    names: &[String],
    options: ManyOptions,
    halt: &Halt,
    mut job: impl FnMut(usize, &str) -> F,
    mut on_done: impl FnMut(usize, &T) -> bool,
) -> Vec<Option<T>> {
    let failed = AtomicUsize::new(0);
    let jobs = names.iter().enumerate().map_while(|(index, name)| {
        let enough = options.stop_after.is_some_and(|most| failed.load(Ordering::Acquire) >= most);
        (!enough && !halt.is_wanted()).then(|| job(index, name))
    });
    let hear = |index: usize, done: &T| {
        if !on_done(index, done) {
            failed.fetch_add(1, Ordering::AcqRel);
        }
    };
    let mut outcomes = at_once(jobs, options.at_once, hear).await;
    outcomes.resize_with(names.len(), || None);
    outcomes
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::AtomicUsize;

    use proptest::prelude::*;

    use super::*;

    fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
        tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(future)
    }

    proptest! {
        /// Whatever fails: each that was begun has its outcome at its own place, and no more are begun than may be.
        #[test]
        fn no_more_are_begun_than_may_be(
            bad in proptest::collection::vec(any::<bool>(), 0..40),
            limit in 1..9_usize,
            stop_after in proptest::option::of(1..6_usize),
        ) {
            let names: Vec<String> = (0..bad.len()).map(|number| format!("lamp-{number}")).collect();
            let options = ManyOptions { at_once: limit, stop_after };
            let begun = Arc::new(AtomicUsize::new(0));
            let job = |index: usize, name: &str| {
                begun.fetch_add(1, Ordering::SeqCst);
                let (name, good) = (name.to_owned(), !bad[index]);
                async move {
                    tokio::task::yield_now().await;
                    (name, good)
                }
            };
            let outcomes = on_this_thread(each(&names, options, &Halt::default(), job, |_, (_, good)| *good));
            prop_assert_eq!(outcomes.len(), names.len());
            let there = outcomes.iter().flatten().count();
            prop_assert_eq!(there, begun.load(Ordering::SeqCst));
            for (name, outcome) in names.iter().zip(&outcomes) {
                prop_assert!(outcome.as_ref().is_none_or(|(of, _)| of == name));
            }
            let failed = outcomes.iter().flatten().filter(|(_, good)| !good).count();
            match stop_after {
                // Those under way when the last failure came go on.
                Some(most) => {
                    prop_assert!(failed < most + limit);
                    prop_assert!(there == names.len() || failed >= most);
                }
                None => prop_assert_eq!(there, names.len()),
            }
        }
    }

    #[test]
    fn what_runs_ends_when_it_is_told_to_and_nothing_more_begins() {
        let names: Vec<String> = (0..10).map(|number| format!("lamp-{number}")).collect();
        let halt = Arc::new(Halt::default());
        let outcomes = on_this_thread(async {
            let job = |index: usize, _: &str| {
                let halt = halt.clone();
                async move {
                    match index {
                        0 => {
                            halt.end_all();
                            Some(())
                        }
                        _ => halt.unless_ended(std::future::pending()).await,
                    }
                }
            };
            let options = ManyOptions { at_once: 3, stop_after: None };
            each(&names, options, &halt, job, |_, done| done.is_some()).await
        });
        assert_eq!(outcomes[..3], [Some(Some(())), Some(None), Some(None)]);
        assert!(outcomes[3..].iter().all(Option::is_none));
    }
}
