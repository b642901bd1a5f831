//! What the steps of a check come to: a sentence, an exit code, and the next command.

use lantern_book::Protocol;
use lantern_operations::check::{Account, CheckError, Failed, Finding, Line, Mark, Mend};

use super::mends::{Known, mend, why_refused};
use crate::screen::explain::code_of;
use crate::screen::failure::{Failure, code};
use crate::screen::{certificate, display};
use lantern_operations::quoted;

/// The end of an account.
pub(crate) struct Conclusion {
    /// In one plain sentence.
    pub(crate) sentence: String,
    /// What to type next.
    pub(crate) command: String,
}

/// How the machine is typed: a one-off with its user.
fn typed(account: &Account) -> String {
    account.target.as_ref().map_or_else(|| account.machine.clone(), lantern_operations::Target::typed)
}

/// What it all comes to.
pub(crate) fn conclusion(account: &Account) -> Conclusion {
    let name = &account.machine;
    if let Some(failed) = &account.failed {
        let at =
            failed.gateway.as_ref().map(|gateway| format!(" at the gateway {gateway}")).unwrap_or_default();
        let sentence = format!("{name} cannot be used{at}: {}.", failed.error.headline());
        return Conclusion { sentence, command: of_failure(failed, account).1 };
    }
    let shell = || match account.target.as_ref().map(|target| target.protocol) {
        Some(Protocol::Winrm) => format!("lantern run {} -- hostname", typed(account)),
        _ => format!("lantern shell {}", typed(account)),
    };
    let mut doubts = account.doubts();
    let Some(first) = doubts.next() else {
        return Conclusion { sentence: format!("{name} is well."), command: shell() };
    };
    let more = match doubts.count() {
        0 => String::new(),
        more => format!(" (and {more} more)"),
    };
    Conclusion {
        sentence: format!("{name} can be reached, but: {}{more}.", first.saw),
        command: of_line(first, account).pop().unwrap_or_else(shell),
    }
}

/// The exit code of a failed step.
pub(crate) fn exit_code(error: &CheckError) -> u8 {
    match error {
        CheckError::Entry(error) => Failure::from(error).code,
        CheckError::Key(error) => Failure::from(error).code,
        CheckError::Way(error) => code_of(error),
        CheckError::NotTried { .. } => code::LOGIN,
        CheckError::BrokenOff => code::INTERNAL,
    }
}

/// What a step means and what to do about it, a line each; the last one is a command where there is one.
pub(crate) fn of_line(line: &Line, account: &Account) -> Vec<String> {
    if line.mark == Mark::Failed {
        return account.failed.as_ref().map(|failed| of_failure(failed, account).0).unwrap_or_default();
    }
    let name = &account.machine;
    let own = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
    match &line.finding {
        Some(Finding::Certificate(faults)) => {
            let mut lines: Vec<String> = faults.iter().map(certificate::words).collect();
            lines.push(format!("once it has a new one: lantern trust accept {name}"));
            lines
        }
        None => Vec::new(),
        Some(Finding::NotEnough { what, outcome }) => why_refused(what, outcome),
        Some(Finding::Clock) => own(&[
            "certificates, one-time codes and tickets fail when clocks differ",
            "on the machine: timedatectl status",
        ]),
        Some(Finding::NotForwarded(missing)) => vec![
            format!(
                "the book wants this forwarded, and the server does not allow it: {}",
                missing.join(", ")
            ),
            "on the machine, its SSH service's settings allow it: AllowTcpForwarding, AllowAgentForwarding, X11Forwarding".to_owned(),
            format!("lantern machine show {name}"),
        ],
        Some(Finding::Mendable(mend)) => vec![mend_command(mend)],
        Some(Finding::NoKeeper) => own(&["lantern keeper start"]),
        Some(Finding::PortTaken { tunnel, form }) => vec![
            "another program has it: `ss -tlnp` says which".to_owned(),
            format!("lantern machine set {name} 'tunnels.{tunnel}={form}'   with another port"),
        ],
        Some(Finding::Display(cause)) => display::advice(*cause),
        Some(Finding::NoCookieHelper) => own(&["on the machine: apt-get install xauth, or the package of that name"]),
    }
}

/// The command that would do what a mend does.
pub(crate) fn mend_command(mend: &Mend) -> String {
    match mend {
        Mend::Narrow(path, mode) => format!("chmod {mode:04o} {}", quoted(path)),
        Mend::RemoveSocket(path) => format!("rm {}", quoted(path)),
    }
}

/// What the failed step means and what to do, a line each, and the one command to type.
fn of_failure(failed: &Failed, account: &Account) -> (Vec<String>, String) {
    let name = &account.machine;
    match (&failed.error, &account.target) {
        (CheckError::Entry(error), _) => {
            let hints = Failure::from(error).hints;
            let command = hints.last().cloned().unwrap_or_else(|| "lantern machine list".into());
            (hints, command)
        }
        (CheckError::Key(_), _) => (
            vec![format!("the book says that {name} offers this key")],
            format!("lantern machine set {name} key=NAME"),
        ),
        (CheckError::Way(error), Some(target)) => {
            // A machine behind a gateway sees the gateway.
            let source = account.source.filter(|_| target.via.is_empty());
            let (clues, faults) = (&account.clues, account.certificate_faults.as_slice());
            let known = Known { source, clues, faults, other_port: account.other_port };
            mend(error, target, failed.gateway.as_deref(), &known)
        }
        (CheckError::NotTried { refused_at, .. }, _) => (
            vec!["each refusal counts towards the locking of the account".to_owned()],
            format!("lantern check {refused_at}"),
        ),
        (CheckError::Way(_) | CheckError::BrokenOff, _) => {
            (Vec::new(), format!("lantern check {}", typed(account)))
        }
    }
}
