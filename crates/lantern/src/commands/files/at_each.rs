//! The same at each of several places: machines are reached and asked at once, and what came of it is told in their order.

use std::sync::Arc;

use lantern_book::Home;
use lantern_operations::files::{Side, expand, is_pattern};
use lantern_operations::{Turn, in_order};

use crate::cli::files::WhereArgs;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::commands::connecting::{asking_as, attend};
use crate::commands::for_many::at_once;
use crate::commands::places::{Place, places, reach};
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::login_advice::some;
use crate::screen::output;
use crate::terminal::ask::TerminalAsk;

/// A machine that is reached, with what was named on it.
pub(super) struct Reached {
    /// The machine, as the user calls it.
    pub(super) machine: String,
    pub(super) side: Side,
    /// What the path means there: more than one where it has a pattern.
    pub(super) paths: Vec<Vec<u8>>,
}

/// What came of going to a machine, and whether it lacked an answer.
type Gone<P> = (Result<(Arc<Reached>, P), Failure>, bool);

/// How a place is gone to.
#[derive(Clone)]
struct Way<A> {
    home: Home,
    acts_as: Option<String>,
    act: A,
}

/// Goes to each place and acts there, at several at once and without questions; `finish` then tells what came of it, in their order, and may ask. Where the
/// last argument is true, it was interrupted meanwhile: what was done is told, and nothing more is begun. What fails at one of several does not keep the
/// others from it; the exit status is the first one's that is not zero.
///
/// # Errors
/// What failed at the only place.
pub(super) async fn at_each<P: Send + 'static, F: Future<Output = Result<P, Failure>> + Send + 'static>(
    at: &WhereArgs,
    global: &Global,
    act: impl Fn(Arc<Reached>) -> F + Clone + Send + Sync + 'static,
    mut finish: impl AsyncFnMut(&Reached, P, bool) -> Result<u8, Failure>,
) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ask = asking_as(&at.connect, &at.acting)?;
    let all = places(&home, &at.places, &at.but, &at.connect)?;
    let way = Way { home: home.clone(), acts_as: at.acting.other.clone(), act };
    if let [only] = all.as_slice() {
        let (reached, done) = way.go(only, &ask).await?;
        let told = attend(&only.errand.target, &ask, finish(&reached, done, false)).await;
        leave(reached).await;
        let status = told??;
        if status == 0 {
            only.errand.keep(&home, &ask)?;
        }
        return Ok(status);
    }
    let all: Vec<Arc<Place>> = all.into_iter().map(Arc::new).collect();
    let jobs = all.iter().map(|place| {
        let (way, place, own) = (way.clone(), place.clone(), ask.for_one_of_many());
        async move { (way.go(&place, &own).await, own.lacked_an_answer()) }
    });
    let mut status = 0;
    let take = async |index: usize, turn: Turn<Gone<P>>| {
        let Some(place) = all.get(index) else { return false };
        let target = &place.errand.target;
        let done = async {
            let broke_off = |_| Failure::new(code::INTERNAL, "it broke off");
            // Ctrl-C ends what waits for a machine.
            let (gone, waits) = attend(target, &ask, async { turn.await.map_err(broke_off) }).await??;
            let (reached, done) = match gone {
                Err(_) if waits && ask.has_person() => {
                    // What was handed over was not it there.
                    ask.forget_given_password();
                    way.go(place, &ask).await?
                }
                gone => gone?,
            };
            let told = attend(target, &ask, finish(&reached, done, false)).await;
            leave(reached).await;
            told?
        };
        let outcome = done.await;
        let is_over = matches!(&outcome, Err(failure) if failure.code == code::INTERRUPTED);
        let came = outcome.unwrap_or_else(|failure| {
            output::complain_of(&target.name, &failure);
            failure.code
        });
        status = if status == 0 { came } else { status };
        !is_over
    };
    let (done, broken_off) = in_order(jobs, at_once(at.at_once), take).await;
    for (_, (gone, _)) in done {
        if let Ok((reached, done)) = gone {
            if let Err(failure) = finish(&reached, done, true).await {
                output::complain_of(&reached.machine, &failure);
            }
            leave(reached).await;
        }
    }
    if !broken_off.is_empty() {
        let name = |index: usize| all.get(index).map(|place| place.errand.target.name.clone());
        let names: Vec<String> = broken_off.into_iter().filter_map(name).collect();
        output::warn(format!("broken off at {}", some(&names)));
    }
    Ok(status)
}

impl<P, F: Future<Output = Result<P, Failure>>, A: Fn(Arc<Reached>) -> F> Way<A> {
    /// Reaches a machine and acts there; where that fails, nothing is left standing on it.
    async fn go(&self, place: &Place, ask: &TerminalAsk) -> Result<(Arc<Reached>, P), Failure> {
        let side = reach(&self.home, &place.errand, self.acts_as.as_deref(), ask).await?;
        let machine = place.errand.target.name.clone();
        let acted = attend(&place.errand.target, ask, async {
            let paths = expand(&side, &place.path).await?;
            if paths.is_empty() && is_pattern(&place.path) {
                let text = format!("nothing on {machine} fits {}", shown(&place.path));
                return Err(Failure::new(code::SESSION, text));
            }
            let reached = Arc::new(Reached { machine, side: side.clone(), paths });
            Ok((reached.clone(), (self.act)(reached).await?))
        });
        // What it held of the conversation goes before that is ended.
        let acted = acted.await;
        match acted {
            Ok(Ok(acted)) => Ok(acted),
            Ok(Err(failure)) | Err(failure) => {
                side.leave().await;
                Err(failure)
            }
        }
    }
}

/// Ends what would stand on a machine after us.
async fn leave(reached: Arc<Reached>) {
    if let Some(reached) = Arc::into_inner(reached) {
        reached.side.leave().await;
    }
}
