//! Words for displays: why one is of no use, what to do about it, and how it stands.

use lantern_operations::display::{DisplayCause, DisplayFailure, Windows};

use super::failure::{Failure, chain, code};

/// A failure that is told before the login.
pub(crate) fn failure(failure: &DisplayFailure, machine: &str) -> Failure {
    let told = Failure::new(code::LOCAL, chain(failure));
    let told = advice(failure.cause()).into_iter().fold(told, Failure::hint);
    match failure.cause() {
        DisplayCause::NoSecurity => {
            told.hint(format!("for {machine} always: lantern machine set {machine} forward-display=trusted"))
        }
        _ => told.hint("`--no-display` goes on without"),
    }
}

/// What to do, a line each.
pub(crate) fn advice(cause: DisplayCause) -> Vec<String> {
    let own = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect();
    match cause {
        DisplayCause::Unnamed | DisplayCause::NotThere => own(&[
            "start the display server of this computer; in a terminal on the desk, DISPLAY is set (:0 mostly)",
            "to have one started when it is needed: lantern profile set defaults display-start='COMMAND {display}'",
        ]),
        DisplayCause::NotOne => own(&["DISPLAY has the form :0, or host:0"]),
        DisplayCause::NotLetIn { has_cookie: false } => own(&[
            "there is no cookie for it in the file that XAUTHORITY names, or in ~/.Xauthority",
            "in a terminal on the desk, `echo $XAUTHORITY` says which file has it",
        ]),
        DisplayCause::NotLetIn { has_cookie: true } => own(&[
            "the cookie for it in the file that XAUTHORITY names, or in ~/.Xauthority, is not the right one",
            "in a terminal on the desk, `echo $XAUTHORITY` says which file has it",
        ]),
        DisplayCause::NoSecurity => own(&[
            "a display server that has the extension may want to be told to use it: +extension SECURITY",
            "--display=trusted does without: the machine's programs then see everything on this display, and every key that is typed",
        ]),
        DisplayCause::Authority => own(&["XAUTHORITY names the file, or it is ~/.Xauthority"]),
        DisplayCause::Start => own(&[
            "what it said last is in display-started.log, beside the book",
            "lantern profile show defaults",
        ]),
        DisplayCause::StartsNowhere => own(&[
            "lantern profile set defaults display-start='COMMAND {display}'   lantern puts the display's name there",
            "or set DISPLAY to the display that it starts",
        ]),
    }
}

/// How it stands, in a line.
pub(crate) fn state(windows: &Windows) -> String {
    let (name, trust) = (&windows.display, windows.trust.word());
    let failed = windows.last_failure().map(|why| format!("; last refused: {why}")).unwrap_or_default();
    format!("display {name}, {trust}: {} open, {} in all{failed}", windows.count(), windows.total())
}
