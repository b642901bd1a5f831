//! The programs of a simulated machine: a few that every Windows has, with made-up output, and a few for tests.

use std::time::Duration;

use bytes::Bytes;
use lantern_winrm::{Output, split};

use super::command::Command;

/// Who runs it, and where.
#[derive(Clone)]
pub(super) struct Place {
    pub(super) computer: String,
    pub(super) user: String,
}

/// Whether there is a program of that name.
pub(super) fn exists(line: &str) -> bool {
    const NAMES: [&str; 14] = [
        "cmd",
        "whoami",
        "hostname",
        "ipconfig",
        "more",
        "show-words",
        "count-input",
        "write-bytes",
        "exit-with",
        "tides",
        "wait",
        "complain",
        "show-variable",
        "sc",
    ];
    split(line).first().is_some_and(|name| NAMES.contains(&stem(name).as_str()))
}

/// A program's name without its folder and its ending, in small letters.
fn stem(name: &str) -> String {
    let file = name.rsplit(['\\', '/']).next().unwrap_or(name).to_lowercase();
    file.strip_suffix(".exe").map(str::to_owned).unwrap_or(file)
}

/// Runs a command line to its end.
pub(super) async fn run(line: String, by_interpreter: bool, place: Place, command: Command) {
    let code = match by_interpreter {
        true => interpret(&line, &place, &command).await,
        false => program(&split(&line), &place, &command).await,
    };
    command.end(code);
}

/// The command interpreter: built-ins, variables, and one pipe into `find /c`.
async fn interpret(line: &str, place: &Place, command: &Command) -> u32 {
    let line = variables(line, command);
    let (first, then) =
        line.split_once('|').map_or((line.as_str(), None), |(first, then)| (first, Some(then)));
    let words: Vec<&str> = first.split_whitespace().collect();
    let text = match words.split_first() {
        Some((&"echo", _)) => format!("{}\r\n", first.trim().strip_prefix("echo").unwrap_or_default().trim_start()),
        Some((&"ver", _)) => "\r\nMicrosoft Windows [Version 10.0.20348.2700]\r\n".to_owned(),
        Some((&"dir", _)) => {
            " Directory of C:\\logs\r\n\r\n2026-03-01  06:00             1,204 tide-01.log\r\n2026-03-02  06:00             1,188 tide-02.log\r\n"
                .to_owned()
        }
        Some((&"exit", rest)) => return rest.last().and_then(|code| code.parse().ok()).unwrap_or(0),
        _ if exists(first.trim()) => return program(&split(first.trim()), place, command).await,
        _ => {
            let name = words.first().copied().unwrap_or_default();
            let text = format!(
                "'{name}' is not recognized as an internal or external command,\r\noperable program or batch file.\r\n"
            );
            command.write(Output::Error, text).await;
            return 1;
        }
    };
    let text = match then.map(|then| then.split_whitespace().collect::<Vec<_>>()) {
        Some(then) if then.starts_with(&["find", "/c"]) => {
            let wanted = then.last().copied().unwrap_or_default().trim_matches('"');
            format!("{}\r\n", text.lines().filter(|line| line.contains(wanted)).count())
        }
        Some(_) | None => text,
    };
    command.write(Output::Main, text).await;
    0
}

/// `%NAME%` becomes its value, as the interpreter does it; what stands for nothing stays.
fn variables(line: &str, command: &Command) -> String {
    let mut out = line.to_owned();
    for (name, value) in command.environment.iter() {
        out = out.replace(&format!("%{name}%"), value);
    }
    out
}

async fn program(words: &[String], place: &Place, command: &Command) -> u32 {
    let (name, arguments) = words.split_first().map_or(("", &[][..]), |(name, rest)| (name.as_str(), rest));
    let number = |at: usize| arguments.get(at).and_then(|text| text.parse::<u64>().ok());
    let say = |text: String| command.write(Output::Main, text);
    match stem(name).as_str() {
        "whoami" => {
            say(format!("{}\r\n", place.user.to_lowercase())).await;
        }
        // The interpreter itself, which reads what comes on its standard input.
        "cmd" => {
            let prompt = "C:\\Users\\keeper>";
            say(format!("Microsoft Windows [Version 10.0.20348.2700]\r\n\r\n{prompt}")).await;
            let mut begun = Vec::new();
            while let Some(piece) = command.read().await {
                begun.extend_from_slice(&piece);
                while let Some(end) = begun.iter().position(|byte| *byte == b'\n') {
                    let line: Vec<u8> = begun.drain(..=end).collect();
                    let line = String::from_utf8_lossy(&line).trim().to_owned();
                    if let Some(code) = line.strip_prefix("exit") {
                        return code.trim().parse().unwrap_or(0);
                    }
                    if !line.is_empty() {
                        Box::pin(interpret(&line, place, command)).await;
                    }
                    say(format!("\r\n{prompt}")).await;
                }
            }
        }
        "hostname" => {
            say(format!("{}\r\n", place.computer)).await;
        }
        "ipconfig" => {
            say("\r\nWindows IP Configuration\r\n\r\nEthernet adapter Ethernet:\r\n\r\n   IPv4 Address. . . . . . . . . . . : 192.0.2.15\r\n".into()).await;
        }
        "sc" => {
            say("\r\nSERVICE_NAME: lamp-control\r\n        STATE              : 4  RUNNING\r\n".into()).await;
        }
        // Each word on a line of its own, so that it shows how it arrived.
        "show-words" => {
            for word in arguments {
                say(format!("[{word}]\r\n")).await;
            }
        }
        "show-variable" => {
            let name = arguments.first().cloned().unwrap_or_default();
            say(format!("{}\r\n", command.environment.get(&name).cloned().unwrap_or_default())).await;
        }
        "more" => {
            while let Some(piece) = command.read().await {
                if !command.write(Output::Main, piece).await {
                    break;
                }
            }
        }
        "count-input" => {
            let mut count = 0;
            while let Some(piece) = command.read().await {
                count += piece.len();
            }
            say(format!("{count}\r\n")).await;
        }
        "write-bytes" => {
            let mut left = usize::try_from(number(0).unwrap_or(0)).unwrap_or(0);
            // All values, so that a change of any is seen.
            let block: Bytes = (0..8192u32).map(|n| (n % 251) as u8).collect::<Vec<_>>().into();
            while left > 0 {
                let piece = block.slice(..left.min(block.len()));
                left -= piece.len();
                if !command.write(Output::Main, piece).await {
                    break;
                }
            }
        }
        "exit-with" => return u32::try_from(number(0).unwrap_or(0)).unwrap_or(u32::MAX),
        "complain" => {
            say("said\r\n".into()).await;
            command.write(Output::Error, arguments.join(" ") + "\r\n").await;
            return 2;
        }
        // So many lines, so many milliseconds apart.
        "tides" => {
            for turn in 1..=number(0).unwrap_or(3) {
                let pause = Duration::from_millis(number(1).unwrap_or(0));
                if !say(format!("tide {turn}\r\n")).await || !command.sleep(pause).await {
                    break;
                }
            }
        }
        "wait" => {
            say("waiting\r\n".into()).await;
            command.interrupted().await;
        }
        _ => return 1,
    }
    0
}
