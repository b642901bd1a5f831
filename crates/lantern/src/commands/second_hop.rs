//! The second hop: a program on a machine of Windows that goes on to a third one arrives there without the password, since that was never sent.

use lantern_book::Protocol;
use lantern_link::CommandWords;
use lantern_operations::Target;

use crate::screen::fit::fit;
use crate::screen::output;

/// The machine that a command goes on to: the first that one of its words names by a path of the network, which begins with two backslashes.
fn third_machine(words: &CommandWords) -> Option<String> {
    words.words.iter().find_map(|word| {
        let text = str::from_utf8(word).ok()?;
        // A path of devices (`\\.\`, `\\?\`) names no machine.
        text.split(r"\\").skip(1).find_map(|rest| {
            let (name, _) = rest.split_once('\\')?;
            let is_name =
                !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || "-._:".contains(c));
            (is_name && name != ".").then(|| name.to_owned())
        })
    })
}

/// Says what a failure may come of, where the command goes on to another machine and no ticket to do so was handed over.
pub(super) fn explain(target: &Target, words: &CommandWords, status: u8) {
    if status == 0 || target.protocol != Protocol::Winrm || target.winrm.delegate {
        return;
    }
    if let Some(third) = third_machine(words) {
        output::say(fit!(
            "note: the command goes on to {}, where it arrives without your password, since that was never sent: access is denied there whoever you are (the second hop). \
             With a ticket of Kerberos it can go on as you: lantern machine set {} delegate-ticket=true",
            third,
            target.name
        ));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;

    #[test]
    fn a_third_machine_is_one_that_a_path_of_the_network_names() {
        let third = |word: &'static str| {
            let words = vec![Bytes::from_static(b"dir"), Bytes::from_static(word.as_bytes())];
            third_machine(&CommandWords { words, each_as_is: true, by_interpreter: false })
        };
        for (word, machine) in [
            (r"\\store-room\tides", Some("store-room")),
            (r"dir \\192.0.2.9\c$ & echo", Some("192.0.2.9")),
            (r"C:\logs\a", None),
            (r"\\.\PhysicalDrive0", None),
            (r"\\?\C:\logs", None),
            (r"\\store-room", None),
            (r"a\\b", None),
            (r"\\", None),
            ("", None),
        ] {
            assert_eq!(third(word).as_deref(), machine, "{word}");
        }
    }
}
