//! `lantern files show`.

use std::io::{IsTerminal, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use lantern_operations::copy::{CopyFault, Stop, copy_out};
use lantern_operations::files::Side;
use lantern_ssh::sftp::FileKind;

use super::{Reached, at_each, block_on, not_there};
use crate::cli::files::ShowArgs;
use crate::cli::global::Global;
use crate::commands::places::typed;
use crate::screen::copy::report::reader_is_gone;
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::Fit;
use crate::screen::output;
use crate::screen::size::bytes;

/// Bytes by which it is told what a file is.
const HEAD: usize = 8 * 1024;
/// Longest line that is held until its end has come, in bytes.
const LONGEST_LINE: usize = 256 * 1024;

pub(super) fn run(args: &ShowArgs, global: &Global) -> Result<u8, Failure> {
    if global.json {
        return Err(Failure::new(code::USAGE, "a file's content has no form as JSON")
            .hint("what is known of it: lantern files list MACHINE:PATH --json"));
    }
    let act = |reached: Arc<Reached>| async move {
        let Reached { machine, side, paths } = &*reached;
        for path in paths {
            let Some(known) = side.look(path, true).await? else { return Err(not_there(machine, path)) };
            if known.kind() == FileKind::Folder {
                return Err(Failure::new(code::USAGE, format!("{} on {machine} is a folder", shown(path)))
                    .hint(format!("lantern files list {}", typed(machine, path))));
            }
        }
        Ok(())
    };
    block_on(at_each(&args.at, global, act, async |reached, (), is_over| {
        let Reached { machine, side, paths } = reached;
        for path in paths.iter().filter(|_| !is_over) {
            match std::io::stdout().is_terminal() {
                true => on_terminal(side, machine, path, args.no_pager).await?,
                false => as_it_is(side, path).await?,
            }
        }
        Ok(0)
    }))
}

async fn as_it_is(side: &Side, path: &[u8]) -> Result<(), Failure> {
    match copy_out(side, path, tokio::io::stdout(), Arc::new(()), &Stop::default()).await {
        Ok(_) => Ok(()),
        Err(fault) if reader_is_gone(&fault) => Err(Failure::quiet(0)),
        Err(CopyFault::File(fault)) => Err(fault.into()),
        Err(fault) => Err((&fault).into()),
    }
}

async fn on_terminal(side: &Side, machine: &str, path: &[u8], no_pager: bool) -> Result<(), Failure> {
    let mut source = side.read(path, 0).await?;
    let size = source.attributes().size.unwrap_or(0);
    let mut text: Vec<u8> = Vec::new();
    let mut is_over = false;
    while text.len() < HEAD && !is_over {
        match source.next().await? {
            Some((_, pieces)) => text.extend(pieces.concat()),
            None => is_over = true,
        }
    }
    if let Some(what) = no_text(&text) {
        output::say(format!("{} is {what}, {}.", shown(path), bytes(size)));
        output::say(format!("To have it here: lantern copy {} .", typed(machine, path)));
        return Ok(());
    }
    let mut pager = if no_pager { None } else { Pager::start() };
    loop {
        let whole = if is_over { text.len() } else { whole(&text) };
        let rest = text.split_off(whole);
        let fit = Fit::lines(&String::from_utf8_lossy(&text));
        let taken = match &mut pager {
            Some(pager) => pager.write(fit.as_str()),
            None => {
                output::print_raw(fit.as_str().as_bytes())?;
                true
            }
        };
        text = rest;
        if is_over || !taken {
            break;
        }
        match source.next().await? {
            Some((_, pieces)) => text.extend(pieces.concat()),
            None => is_over = true,
        }
    }
    if let Some(pager) = pager {
        pager.finish().await;
    }
    Ok(())
}

/// How much of a text can be shown before what follows is known: its whole lines. A character of several bytes is not taken apart; a line is, where it is
/// so long that it would be held for its own sake.
fn whole(text: &[u8]) -> usize {
    if let Some(end) = text.iter().rposition(|byte| *byte == b'\n') {
        return end + 1;
    }
    if text.len() < LONGEST_LINE {
        return 0;
    }
    // Where the last character begins (RFC 3629 section 3).
    match text.iter().rposition(|byte| byte & 0xc0 != 0x80) {
        None | Some(0) => text.len(),
        Some(begin) => begin,
    }
}

/// What a file is that is no text, by its beginning; nothing for a text.
fn no_text(head: &[u8]) -> Option<String> {
    let head = head.get(..HEAD).unwrap_or(head);
    let known = infer::get(head).filter(|kind| {
        !matches!(kind.matcher_type(), infer::MatcherType::Text) && !kind.mime_type().contains("script")
    });
    let is_binary = head.contains(&0)
        || std::str::from_utf8(head).is_err() && {
            let odd = head.iter().filter(|byte| **byte < 0x20 && !b"\t\n\r\x0c\x1b".contains(byte)).count();
            odd * 20 > head.len()
        };
    match known {
        Some(kind) if is_binary || !head.is_ascii() => Some(format!("no text but {}", kind.mime_type())),
        _ if is_binary => Some("no text".to_owned()),
        _ => None,
    }
}

/// The program that shows a text page by page.
struct Pager {
    child: Child,
}

impl Pager {
    /// Starts the one that the user has; none where there is none.
    fn start() -> Option<Self> {
        let wanted = std::env::var("PAGER").ok().filter(|pager| !pager.trim().is_empty());
        let start = |line: &str| {
            // As a shell reads it: people put options behind it.
            let mut command = Command::new("/bin/sh");
            command.arg("-c").arg(line).stdin(Stdio::piped());
            if std::env::var_os("LESS").is_none() {
                // What fits on the screen is left on it.
                command.env("LESS", "FX");
            }
            command.spawn().ok().map(|child| Self { child })
        };
        start(wanted.as_deref().unwrap_or("command -v less >/dev/null 2>&1 && exec less; exec cat"))
    }

    /// Hands text over; whether it takes more.
    fn write(&mut self, text: &str) -> bool {
        self.child.stdin.as_mut().is_some_and(|stdin| stdin.write_all(text.as_bytes()).is_ok())
    }

    /// Waits until the user has had enough.
    async fn finish(mut self) {
        drop(self.child.stdin.take());
        let _ = tokio::task::spawn_blocking(move || self.child.wait()).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_shown_whole_and_endless_ones_in_pieces() {
        for (text, len) in [(&b""[..], 0), (b"lamp", 0), (b"lamp\nfog", 5), (b"lamp\n", 5)] {
            assert_eq!(whole(text), len);
        }
        let long = [&[b'x'; LONGEST_LINE][..], "ø".as_bytes()].concat();
        assert_eq!(whole(&long), LONGEST_LINE);
        assert_eq!(whole(&[0x80; LONGEST_LINE]), LONGEST_LINE);
    }

    #[test]
    fn texts_are_told_from_what_is_none() {
        for text in [
            &b"flash = 1\n"[..],
            "Låmp øil 灯台\n".as_bytes(),
            b"l\xe5mp in Latin-1\n",
            b"",
            b"#!/bin/sh\necho\n",
        ] {
            assert_eq!(no_text(text), None, "{text:?}");
        }
        let png = [&b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR"[..], &[0; 20]].concat();
        assert_eq!(no_text(&png).as_deref(), Some("no text but image/png"));
        assert_eq!(no_text(&[1, 2, 0, 4]).as_deref(), Some("no text"));
    }
}
