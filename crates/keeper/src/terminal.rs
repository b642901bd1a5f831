//! Asking a person on a terminal that is not ours: that of whoever asks the keeper, else the one that was last used.
//!
//! Whoever asks waits for us meanwhile and reads nothing. What it is answered with is a word that nobody could know before it was shown: what is typed
//! for somebody else there is no yes.

use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use lantern_keys::{RandomSource, SystemRandom};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::OFlags;
use rustix::termios::{InputModes, LocalModes, OptionalActions, OutputModes, tcgetattr, tcsetattr};

/// Longest answer that is read, in bytes.
const MAX_ANSWER_LEN: usize = 64;
/// How soon it is noticed that nobody needs the answer any more.
const LOOK_UP: Duration = Duration::from_millis(100);

/// A word of four letters out of ten thousand, which can be said and typed.
pub fn unforeseen() -> String {
    const LETTERS: [&[u8]; 2] = [b"bcdfghjklmnprstvwxyz", b"aeiou"];
    let mut bytes = [0; 4];
    SystemRandom.fill(&mut bytes);
    // 256 is no multiple of either number; what little that favours some words helps nobody.
    let letter = |(at, byte): (usize, &u8)| {
        let letters = LETTERS.get(at % 2).copied().unwrap_or_default();
        letters.get(usize::from(*byte) % letters.len().max(1)).map_or('a', |letter| char::from(*letter))
    };
    bytes.iter().enumerate().map(letter).collect()
}

/// The terminal of a process, when it is one that is ours.
pub(crate) fn of_process(pid: i32) -> Option<PathBuf> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // proc_pid_stat(5): the name in parentheses may hold anything; behind it the terminal is the fifth.
    let number: u64 = text.rsplit(')').next()?.split_whitespace().nth(4)?.parse().ok()?;
    let (major, minor) = ((number >> 8) & 0xfff, (number & 0xff) | ((number >> 12) & 0xfff00));
    // Linux gives pseudo-terminals these majors, and those of the console 4.
    let path = match major {
        136..=143 => PathBuf::from(format!("/dev/pts/{}", (major - 136) * 256 + minor)),
        4 => PathBuf::from(format!("/dev/tty{minor}")),
        _ => return None,
    };
    let there = std::fs::metadata(&path).ok()?;
    let is_it = there.file_type().is_char_device() && there.uid() == rustix::process::geteuid().as_raw();
    is_it.then_some(path)
}

/// Asks on a terminal; whether the word was typed. Ends when that is asked for, or when the time is over.
pub(crate) fn ask(terminal: &PathBuf, question: &str, given_up: &AtomicBool, time: Duration) -> bool {
    let flags = (OFlags::NOCTTY | OFlags::NONBLOCK).bits();
    let flags = i32::try_from(flags).unwrap_or_default();
    let Ok(mut device) = OpenOptions::new().read(true).write(true).custom_flags(flags).open(terminal) else {
        return false;
    };
    let Ok(saved) = tcgetattr(&device) else { return false };
    // Lines that are shown as they are typed, whatever a program on it has made of the terminal.
    let mut plain = saved.clone();
    plain.local_modes |= LocalModes::ICANON | LocalModes::ECHO;
    plain.input_modes |= InputModes::ICRNL;
    plain.output_modes |= OutputModes::OPOST | OutputModes::ONLCR;
    if tcsetattr(&device, OptionalActions::Flush, &plain).is_err() {
        return false;
    }
    let word = unforeseen();
    let text = format!(
        "\x1b[0m\x0f\x1b(B\r\nkeeper: {question}\r\nType {word} and Enter to allow it this once; anything else refuses. "
    );
    let said = match device.write_all(text.as_bytes()) {
        Ok(()) => read_line(&mut device, given_up, Instant::now() + time),
        Err(_) => None,
    };
    let yes = said.as_deref().map(str::trim) == Some(word.as_str());
    let _ = device.write_all(match (yes, said.is_some()) {
        (true, _) => b"keeper: allowed\r\n".as_slice(),
        (false, true) => b"keeper: refused\r\n",
        (false, false) => b"\r\nkeeper: not needed any more\r\n",
    });
    let _ = tcsetattr(&device, OptionalActions::Flush, &saved);
    yes
}

fn read_line(device: &mut File, given_up: &AtomicBool, until: Instant) -> Option<String> {
    let mut line = Vec::new();
    let pause = Timespec::try_from(LOOK_UP).ok();
    while line.len() < MAX_ANSWER_LEN && Instant::now() < until && !given_up.load(Ordering::SeqCst) {
        let mut byte = [0; 1];
        match poll(&mut [PollFd::new(&*device, PollFlags::IN)], pause.as_ref()) {
            Ok(0) | Err(rustix::io::Errno::INTR) => continue,
            Ok(_) => {}
            Err(_) => return None,
        }
        match device.read(&mut byte) {
            Ok(1) if byte == *b"\n" => return String::from_utf8(line).ok(),
            Ok(1) => line.extend(byte),
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            _ => return None,
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_word_cannot_be_foreseen() {
        let words: std::collections::BTreeSet<String> = (0..200).map(|_| unforeseen()).collect();
        assert!(words.len() > 150, "{words:?}");
        assert!(
            words.iter().all(|word| word.len() == 4 && word.bytes().all(|byte| byte.is_ascii_lowercase()))
        );
    }

    #[test]
    fn a_process_without_a_terminal_has_none() {
        assert_eq!(of_process(1), None);
        assert_eq!(of_process(-1), None);
    }
}
