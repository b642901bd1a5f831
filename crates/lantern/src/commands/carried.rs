//! The line that a prepared machine's console printed, carried back to here.

use jiff::Timestamp;
use jiff::civil::Date;
use lantern_book::{CarriedLine, Home, LineError, Preparation, Preparations, UnprovenLine};

use crate::screen::failure::{Failure, code};
use crate::screen::output;

/// A line that is proven to be of this machine, and what was noted when its script was printed.
///
/// # Errors
/// No line, another machine's, one that was changed, or one of a script that was not printed here.
pub(crate) fn prove(home: &Home, machine: &str, text: &str) -> Result<(CarriedLine, Preparation), Failure> {
    let unproven = UnprovenLine::find(text).map_err(wrong)?;
    if unproven.name() != machine {
        let text = format!("the line is of {}, not of {machine}", unproven.name());
        return Err(Failure::new(code::USAGE, text));
    }
    let preparations = Preparations::load(home)?;
    let now = Timestamp::now();
    let Some(preparation) = preparations.get(machine).filter(|preparation| preparation.lasts(now)) else {
        return Err(Failure::new(code::TRUST, format!("no script for {machine} was printed here in the last 30 days"))
            .detail("only the computer that printed a script can tell whether a line is its")
            .hint(format!(
                "there: lantern trust accept {machine} --paste -, and then lantern trust export; or print the script here and paste it again"
            )));
    };
    let line = unproven.prove(&preparation.secret()).map_err(wrong)?;
    let today = now.to_zoned(jiff::tz::TimeZone::UTC).date();
    if is_far(line.day, today) {
        output::warn(format!(
            "the clock of {machine} says {}, and it is {today}: tickets and certificates want clocks that agree.",
            line.day
        ));
    }
    Ok((line, preparation.clone()))
}

/// A line is printed between a script's making and now: other days are of another clock.
fn is_far(day: Date, today: Date) -> bool {
    today.since(day).is_ok_and(|span| !(-1..=31).contains(&span.get_days()))
}

fn wrong(error: LineError) -> Failure {
    let failure = Failure::new(code::TRUST, error.to_string());
    match error {
        LineError::NoLine => failure.hint("the machine's console prints it at the end: copy it from its first word to its last digit"),
        LineError::BreaksOff | LineError::Garbled(_) => {
            failure.hint("copy it again, whole; line breaks in it do not matter")
        }
        LineError::Altered => failure
            .detail("somebody or something changed it on the way, or it is of a script that another computer printed")
            .hint("copy it again from the machine's own console; pasting the script there again prints it anew"),
    }
}
