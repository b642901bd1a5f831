//! Handing a URL to whatever shows pages here.

use std::process::Stdio;

use tokio::process::Command;

use crate::screen::fit::fit;
use crate::screen::output;

/// Has the page shown, by what the environment names, else by the desktop; where there is neither, the URL is said.
pub(super) fn browse(url: &str) {
    let by_environment = std::env::var("BROWSER").unwrap_or_default();
    // Several may be named, and a place for the URL; the first is meant to be tried first.
    let named = by_environment.split(':').find(|name| !name.trim().is_empty());
    let tried = named.into_iter().chain(["xdg-open"]).any(|line| show(line, url));
    match tried {
        true => output::say(fit!("The page: {}", url)),
        false => output::say(fit!("There is no browser here to hand it to. The page: {}", url)),
    }
}

fn show(line: &str, url: &str) -> bool {
    let mut words = line.split_whitespace().map(|word| word.replace("%s", url));
    let Some(program) = words.next() else { return false };
    let mut command = Command::new(program);
    command.args(words);
    if !line.contains("%s") {
        command.arg(url);
    }
    // It lives on by itself, and what it has to say is its own affair.
    let spawned = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
    match spawned {
        Ok(mut child) => {
            tokio::spawn(async move { child.wait().await });
            true
        }
        Err(_) => false,
    }
}
