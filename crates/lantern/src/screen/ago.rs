//! How long ago something was, in words.

use jiff::Timestamp;

/// Words for a time before now: "now", "5 min ago", "3 days ago".
pub(crate) fn ago(time: Timestamp) -> String {
    between(time, Timestamp::now())
}

fn between(time: Timestamp, now: Timestamp) -> String {
    match now.as_second().saturating_sub(time.as_second()) {
        // Or a clock that was set back.
        i64::MIN..60 => "now".into(),
        seconds => format!("{} ago", span(seconds)),
    }
}

/// Words for a length of time in seconds: "5 s", "5 min", "3 days".
pub(crate) fn span(seconds: i64) -> String {
    let of = |size: i64, one: &str, many: &str| match seconds / size {
        1 => format!("1 {one}"),
        number => format!("{number} {many}"),
    };
    match seconds {
        i64::MIN..60 => format!("{seconds} s"),
        60..3600 => of(60, "min", "min"),
        3600..86_400 => of(3600, "h", "h"),
        86_400..5_184_000 => of(86_400, "day", "days"),
        5_184_000..63_072_000 => of(2_592_000, "month", "months"),
        _ => of(31_536_000, "year", "years"),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn times_are_told_as_people_do() {
        let told = |seconds: i64| {
            let now = Timestamp::from_second(2_000_000_000).unwrap();
            between(Timestamp::from_second(2_000_000_000 - seconds).unwrap(), now)
        };
        for (seconds, words) in [
            (-500, "now"),
            (59, "now"),
            (60, "1 min ago"),
            (7200, "2 h ago"),
            (86_400, "1 day ago"),
            (59 * 86_400, "59 days ago"),
            (90 * 86_400, "3 months ago"),
            (800 * 86_400, "2 years ago"),
        ] {
            assert_eq!(told(seconds), words, "{seconds}");
        }
    }
}
