//! Files that this process may have open.

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// Files that are open besides those that are counted.
const OTHERS: usize = 64;

/// Has the system let us have as many as it ever does; how many that are, less what is open anyway. Systems start programs with few, for the sake of old
/// ones that could not bear more.
pub(super) fn allow_many() -> usize {
    let limit = getrlimit(Resource::Nofile);
    let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    let now = getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX);
    usize::try_from(now).unwrap_or(usize::MAX).saturating_sub(OTHERS)
}
