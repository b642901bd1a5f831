//! Text that steers terminals, forges lines or hides, and what must have become of it.

use lantern_ssh::is_invisible;

/// Each class of what text can do: colors, titles and screens; controls of one byte beyond ASCII; ends of lines of every kind; marks that turn text
/// around; what shows nothing; what goes back; more than anybody reads.
pub fn hostile() -> Vec<String> {
    let mut all: Vec<String> = [
        "a\x1b[2J\x1b]0;owned\x07b",
        "a\u{9b}31mb\u{90}q\u{9c}",
        "a\nerror: FORGED",
        "a\r\nnote: FORGED\r",
        "a\u{2028}error: FORGED\u{85}note: FORGED",
        "a\u{202e}b\u{2066}c\u{200f}",
        "a\u{e0041}\u{2060}\u{feff}\u{ad}\u{3164}b",
        "a\u{8}\u{8}\x7fb\tc\u{b}\u{c}",
    ]
    .map(str::to_owned)
    .to_vec();
    all.push("long ".repeat(20_000));
    all
}

/// The same for a text that is written between quotes in TOML and JSON.
pub fn quoted(text: &str) -> String {
    serde_json::to_string(text).unwrap().replace("\x7f", "\\u007f")
}

/// Nothing in it steers, hides, or stands on a line of its own that is not ours.
#[track_caller]
pub fn assert_fit(of: &str, output: &[u8]) {
    let text = std::str::from_utf8(output).unwrap_or_else(|error| panic!("{of}: {error}"));
    for line in text.lines() {
        let bad = line.chars().find(|c| c.is_control() || is_invisible(*c));
        assert_eq!(bad, None, "{of}: {line:?}");
        let forged = ["error: FORGED", "note: FORGED", "FORGED"];
        assert!(!forged.iter().any(|forged| line.trim_start().starts_with(forged)), "{of}: {text}");
        assert!(line.len() < 20 * 1024, "{of}: a line of {} bytes", line.len());
    }
}

/// JSON may have long lines: it is for programs.
#[track_caller]
pub fn assert_fit_json(of: &str, output: &[u8]) {
    let text = std::str::from_utf8(output).unwrap_or_else(|error| panic!("{of}: {error}"));
    assert!(text.chars().all(|c| c == '\n' || !c.is_control() && !is_invisible(c)), "{of}: {text:?}");
    if !text.is_empty() {
        serde_json::from_str::<serde_json::Value>(text)
            .unwrap_or_else(|error| panic!("{of}: {error}: {text}"));
    }
}
