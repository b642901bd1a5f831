//! Connecting for a command: with signals watched, and failures explained.

use lantern_book::Home;
use lantern_keeper::Recalling;
use lantern_link::{Ask, LinkError, Remote};
use lantern_operations::login::Way;
use lantern_operations::{OperationError, ReachOptions, Target, login_clues};
use tokio::signal::unix::SignalKind;

use crate::cli::acting::ActingArgs;
use crate::cli::connect::ConnectArgs;
use crate::cli::secret_source::SecretSource;
use crate::commands::watch;
use crate::screen::explain::with_advice;
use crate::screen::failure::{Failure, code};
use crate::screen::login_advice::{Typed, advise};
use crate::terminal::ask::TerminalAsk;

/// Whom to ask, with the secrets that were handed over.
///
/// # Errors
/// A source that cannot be read.
pub(crate) fn asking(args: &ConnectArgs) -> Result<TerminalAsk, Failure> {
    let secret = |source: &Option<SecretSource>| source.as_ref().map(SecretSource::read).transpose();
    let ask =
        TerminalAsk::new(!args.no_questions, secret(&args.password_from)?, secret(&args.passphrase_from)?);
    Ok(ask.with_proxy_password(secret(&args.proxy_password_from)?))
}

/// The same, with what lets a user act as another.
///
/// # Errors
/// A source that cannot be read.
pub(crate) fn asking_as(args: &ConnectArgs, acting: &ActingArgs) -> Result<TerminalAsk, Failure> {
    let password = acting.as_password_from.as_ref().map(SecretSource::read).transpose()?;
    Ok(asking(args)?.with_privilege_password(password))
}

/// Connects and logs in, asking the keeper and then at the terminal as far as the options allow.
///
/// # Errors
/// The step that failed.
pub(crate) async fn connect(
    home: &Home,
    target: &Target,
    options: &ReachOptions,
    ask: &TerminalAsk,
) -> Result<Remote, Failure> {
    connect_recalling(home, target, options, ask).await.map(|(remote, _)| remote)
}

/// The same, with what was recalled of passwords: over WinRM, the first thing that is asked of the machine logs in.
///
/// # Errors
/// The step that failed.
pub(crate) async fn connect_recalling(
    home: &Home,
    target: &Target,
    options: &ReachOptions,
    ask: &TerminalAsk,
) -> Result<(Remote, Recalling<TerminalAsk>), Failure> {
    // `--no-agent` leaves the keeper alone, whatever it holds.
    let recalling = Recalling::new(home, ask.clone()).without_keeper(options.agents.is_empty());
    let way = Way { home, target, options, ask: &recalling };
    let remote = attend(target, ask, way.reach()).await?;
    match remote {
        Ok(remote) => Ok((remote, recalling)),
        Err(error) => Err(forget_if_refused(&recalling, target, explain(home, target, error)).await),
    }
}

/// After a login that failed: has the keeper forget a password that it gave for that, and says so.
pub(crate) async fn forget_if_refused(
    recalling: &Recalling<TerminalAsk>,
    target: &Target,
    failure: Failure,
) -> Failure {
    match failure.is_refusal && recalling.was_refused(&target.name).await {
        true => failure.detail("that was the password that the keeper held: it has forgotten it"),
        false => failure,
    }
}

/// Carries out something that asks and connects. Ctrl-C ends it, at the keyboard's question or as a signal; of many at once, whoever drives them looks to that.
///
/// # Errors
/// It was interrupted.
pub(crate) async fn attend<T, E>(
    target: &Target,
    ask: &TerminalAsk,
    operation: impl Future<Output = Result<T, E>>,
) -> Result<Result<T, E>, Failure> {
    ask.is_for(target);
    if ask.is_of_many() {
        return Ok(operation.await);
    }
    let mut interrupts = watch(SignalKind::interrupt())?;
    let outcome = tokio::select! {
        outcome = operation => Some(outcome),
        _ = interrupts.recv() => None,
    };
    match outcome {
        Some(outcome) if outcome.is_ok() || !ask.was_interrupted() => Ok(outcome),
        _ => Err(Failure::new(code::INTERRUPTED, "interrupted")),
    }
}

/// Adds what is known here about a failed login.
pub(crate) fn explain(home: &Home, target: &Target, error: OperationError) -> Failure {
    let advice = match &error {
        OperationError::Link(LinkError::Auth(auth)) => {
            advise(auth, Some(target), &login_clues(home, target), &target.typed(), Typed::Shell)
        }
        _ => return error.into(),
    };
    with_advice(error.into(), advice)
}

/// The way of a command to a machine.
pub(crate) fn way<'a>(
    home: &'a Home,
    target: &'a Target,
    options: &'a ReachOptions,
    ask: &'a dyn Ask,
) -> Way<'a> {
    Way { home, target, options, ask }
}
