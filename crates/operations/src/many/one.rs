//! One machine of many: reached, run, listened to.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_book::{Home, MachineBook, Protocol};
use lantern_link::{
    ACTING, Ask, CommandWords, LinkError, News, Privilege, PrivilegeFailure, Process, ProcessEnd, Program,
    Remote, Runs, Start,
};
use lantern_ssh::Stream;

use super::careful::Careful;
use super::ending::{Ended, Ending};
use super::kept::Listening;
use super::{Halt, ManyWatch, Phase, Work, power_shell};
use crate::login::Way;
use crate::tries::Tries;
use crate::{OperationError, ReachOptions, Target};

/// How long a program that was told to end is waited for.
const LAST_WORDS: Duration = Duration::from_secs(2);

/// What is the same for all of them.
pub(super) struct Context {
    pub(super) home: Home,
    pub(super) book: Arc<MachineBook>,
    pub(super) work: Arc<Work>,
    pub(super) reach: ReachOptions,
    pub(super) ask: Arc<dyn Ask>,
    pub(super) halt: Arc<Halt>,
    /// What became of users and passwords.
    pub(super) tries: Arc<Tries>,
    /// Whom it runs as, in place of what the book says.
    pub(super) acts_as: Option<String>,
    /// The same for passwords that let users act as others.
    pub(super) privileges: Arc<Tries>,
}

pub(super) async fn run_on(context: &Context, name: &str, index: usize, watch: &dyn ManyWatch) -> Ended {
    let start = Instant::now();
    let (mut out, mut err) = (Listening::new(), Listening::new());
    watch.phase(index, Phase::Connecting);
    let ending = tokio::select! {
        reached = reach(context, name) => match reached {
            Ok((remote, target)) => {
                watch.phase(index, Phase::Running);
                let ending = run(context, &remote, &target, |stream, piece| {
                    let listening = if stream == Stream::Main { &mut out } else { &mut err };
                    listening.take(piece);
                    watch.wrote(index, stream, piece);
                })
                .await;
                // A connection of SSH ends with its last handle, and others may have one; shells of WinRM are ended by whoever opened them.
                if remote.trunk().is_none() {
                    remote.close().await;
                }
                ending
            }
            Err(error) => Ending::NotReached(error),
        },
        () = context.halt.ends() => Ending::Halted,
    };
    Ended { ending, out: out.end(), err: err.end(), took: start.elapsed() }
}

async fn reach(context: &Context, name: &str) -> Result<(Remote, Target), OperationError> {
    let Context { home, book, reach, ask, .. } = context;
    let target = Target::find(home, book, name)?.with_options(home, reach)?;
    let is_shared = target.protocol == Protocol::Winrm;
    let careful = Careful::new(ask.clone(), &target.name, is_shared, context.tries.clone());
    let way = Way { home, target: &target, options: reach, ask: &careful };
    let told = |error: OperationError| careful.settle(is_refusal(&error)).unwrap_or(error);
    let remote = way.reach().await.map_err(told)?;
    if is_shared {
        // The first thing that needs the login: the others wait for what it is worth.
        remote.identify(&careful).await.map_err(|error| told(error.into()))?;
        careful.taken();
    }
    Ok((remote, target))
}

fn is_refusal(error: &OperationError) -> bool {
    matches!(error, OperationError::Link(LinkError::Winrm(failure)) if failure.is_refusal())
}

async fn run(
    context: &Context,
    remote: &Remote,
    target: &Target,
    mut take: impl FnMut(Stream, &[u8]),
) -> Ending {
    // Before anything runs as somebody else than was said.
    let acts_as = context.acts_as.as_deref().or(target.acts_as.as_deref());
    if acts_as.is_some()
        && let Err(error) = remote.trunk_for(ACTING)
    {
        return Ending::NotReached(error.into());
    }
    if let (Work::Script(script), None) = (&*context.work, remote.trunk()) {
        return tokio::select! {
            ending = power_shell::run(remote, target, script, &mut take) => ending,
            () = context.halt.ends() => Ending::Halted,
        };
    }
    let (words, input) = match &*context.work {
        Work::Command(words) => (words.clone(), Bytes::new()),
        Work::Script(script) => (CommandWords::line(script.reader().to_owned()), script.text.clone()),
    };
    let privilege = acts_as.map(Privilege::of);
    let words = privilege.as_ref().map_or(words.clone(), |privilege| privilege.around(&words));
    let program = Program {
        environment: target.session.environment.clone().into_iter().collect(),
        ..Program::alone(Runs::Command(words))
    };
    let (process, mut start) = match remote.start(program).await {
        Ok(started) => started,
        Err(error) => return Ending::Lost(error),
    };
    if let Some(privilege) = &privilege {
        let entered = tokio::select! {
            entered = enter(context, remote, privilege, &process, &mut start) => entered,
            () = context.halt.ends() => return Ending::Halted,
        };
        if let Err(error) = entered {
            return Ending::NotReached(error);
        }
    }
    let feed = async {
        let mut input = input;
        // What takes no more input has ended, or has closed it: its status says what that means.
        let _ = process.send(&mut input).await;
        process.send_eof();
        std::future::pending::<()>().await;
    };
    let refused = async {
        loop {
            match start.news().await {
                Ok(News::Started) => {}
                Ok(_) => {}
                Err(error) => return error,
            }
        }
    };
    let mut halted = false;
    let listened = tokio::select! {
        () = listen(&process, &mut take) => None,
        () = feed => None,
        error = refused => Some(error),
        () = context.halt.ends() => {
            halted = true;
            None
        }
    };
    if let Some(error) = listened {
        return Ending::Lost(error);
    }
    if halted {
        process.signal("TERM");
        process.close();
        let _ = tokio::time::timeout(LAST_WORDS, process.ended()).await;
        return Ending::Halted;
    }
    match process.ended().await {
        ProcessEnd::Exited(status) => Ending::Status(status),
        ProcessEnd::Signaled { name, .. } => Ending::Signal(name),
        ProcessEnd::Closed => match start.settle().await {
            Err(error) => Ending::Lost(error),
            Ok(()) => Ending::Signal(String::new()),
        },
        ProcessEnd::Failed(error) => Ending::Lost(error),
    }
}

/// Becomes the other user. Of machines that want a password for it, one finds out what it is worth.
async fn enter(
    context: &Context,
    remote: &Remote,
    privilege: &Privilege,
    process: &Process,
    start: &mut Start,
) -> Result<(), OperationError> {
    start.settle().await?;
    let careful = Careful::for_privilege(context.ask.clone(), remote.machine(), context.privileges.clone());
    match privilege.enter(process, remote.trunk_for(ACTING)?, &careful).await {
        Ok(()) => {
            careful.taken();
            Ok(())
        }
        Err(error) => {
            let is_refusal =
                matches!(&error, LinkError::Privilege(PrivilegeFailure::Refused { by_password: true, .. }));
            Err(careful.settle(is_refusal).unwrap_or_else(|| error.into()))
        }
    }
}

/// Listens to both streams until they have ended.
async fn listen(process: &Process, take: &mut impl FnMut(Stream, &[u8])) {
    let (mut main, mut beside) = (true, true);
    while main || beside {
        let (stream, piece) = tokio::select! {
            piece = process.next(Stream::Main), if main => (Stream::Main, piece),
            piece = process.next(Stream::Stderr), if beside => (Stream::Stderr, piece),
        };
        match piece {
            Some(piece) => {
                take(stream, &piece);
                process.consumed(piece.len());
            }
            None if stream == Stream::Main => main = false,
            None => beside = false,
        }
    }
}
