//! Open tunnels on a terminal, drawn anew as things happen; without one, a line for each thing that happens.

use std::io::IsTerminal;

use jiff::Timestamp;
use lantern_keeper::MachineReport;
use lantern_operations::tunnel::{LinkPhase, LinkStatus, TunnelState, TunnelStatus};
use lantern_ssh::TerminalSize;

use super::words;
use crate::screen::fit::{Fit, fit};
use crate::screen::live_lines::LiveLines;
use crate::screen::output;
use crate::screen::table::{put_cut, width};
use crate::screen::wrap::{has_all_characters, in_its_characters, wrapped};

/// The picture of open tunnels.
pub(crate) struct LiveTunnels {
    lines: LiveLines,
    size: fn() -> TerminalSize,
    last: String,
}

impl LiveTunnels {
    /// Whether it can be shown: standard error is a terminal.
    pub(crate) fn can_be_shown() -> bool {
        std::io::stderr().is_terminal() && !output::is_quiet()
    }

    pub(crate) fn new(size: fn() -> TerminalSize) -> Self {
        Self { lines: LiveLines::default(), size, last: String::new() }
    }

    /// Draws these, when they look other than before.
    pub(crate) fn draw(&mut self, reports: &[MachineReport], footer: &str) {
        let picture = picture(reports, footer, (self.size)(), Timestamp::now(), output::colorful_stderr());
        let picture = in_its_characters(picture, has_all_characters());
        if picture != self.last {
            self.lines.draw(&picture);
            self.last = picture;
        }
    }

    /// Takes the picture away.
    pub(crate) fn clear(&mut self) {
        self.lines.clear();
        self.last.clear();
    }
}

/// All lines, as many as there is room for, none wider than the terminal.
fn picture(
    reports: &[MachineReport],
    footer: &str,
    size: TerminalSize,
    now: Timestamp,
    color: bool,
) -> String {
    let mut lines: Vec<(String, &str)> = Vec::new();
    let columns = (size.columns as usize).max(20) - 1;
    for report in reports {
        let style = if report.status.phase == LinkPhase::Up { "1" } else { "1;33" };
        lines.push((format!("{}  {}", report.machine, words::link(&report.status)), style));
        let named = |tunnel: &TunnelStatus| width(&tunnel.name).min(24);
        let room = report.status.tunnels.iter().map(named).max().unwrap_or(0);
        for tunnel in &report.status.tunnels {
            let first = words::url(tunnel).unwrap_or_else(|| words::listens(tunnel, &report.machine));
            let gap = " ".repeat(room.saturating_sub(width(&tunnel.name)));
            let style = match tunnel.state {
                TunnelState::Carries => "32",
                TunnelState::Opening | TunnelState::Holds => "33",
                _ => "31",
            };
            lines.push((
                format!(
                    "{} {}{gap}  {}  {first} → {}",
                    words::mark(tunnel),
                    tunnel.name,
                    words::state(tunnel),
                    words::leads(tunnel, &report.machine)
                ),
                style,
            ));
            let indent = " ".repeat(room + 4);
            lines.push((format!("{indent}{}", words::traffic(tunnel)), ""));
            let behind = tunnel.behind.as_ref().map(|behind| (words::behind(behind, now), ""));
            let trouble = words::trouble(tunnel).map(|trouble| (format!("last: {trouble}"), "33"));
            for (text, style) in behind.into_iter().chain(trouble) {
                // What is longer than a line is worth reading to its end.
                let text = wrapped(Fit::line(&text).as_str(), columns.saturating_sub(indent.len()));
                lines.extend(text.lines().map(|line| (format!("{indent}{line}"), style)));
            }
        }
    }
    let room = (size.rows as usize).saturating_sub(3).max(3);
    let more = lines.len().saturating_sub(room);
    lines.truncate(room);
    if more > 0 {
        lines.push((format!("and {more} lines more"), "2"));
    }
    lines.push((footer.to_owned(), "2"));
    let mut out = String::new();
    for (line, style) in lines {
        let (on, off) = match color && !style.is_empty() {
            true => (format!("\x1b[{style}m"), "\x1b[0m"),
            false => (String::new(), ""),
        };
        out.push_str(&on);
        let line = Fit::line(&line);
        match width(line.as_str()) > columns {
            true => drop(put_cut(&mut out, line.as_str(), columns)),
            false => out.push_str(line.as_str()),
        }
        out.push_str(off);
        out.push('\n');
    }
    out
}

/// Tells what is new, a line each.
#[derive(Default)]
pub(crate) struct Told {
    link: Option<LinkPhase>,
    tunnels: Vec<(TunnelState, bool, Option<String>)>,
}

impl Told {
    /// Tells what has changed since the last time.
    pub(crate) fn tell(&mut self, machine: &str, status: &LinkStatus) {
        let now = Timestamp::now();
        let was_up = self.link == Some(LinkPhase::Up);
        let is_up = status.phase == LinkPhase::Up;
        if self.link != Some(status.phase) && (is_up || was_up || status.phase == LinkPhase::Over) {
            output::say(fit!("{}: {}", machine, words::link(status)));
        }
        self.link = Some(status.phase);
        for (index, tunnel) in status.tunnels.iter().enumerate() {
            let new = (tunnel.state.clone(), tunnel.behind.is_some(), tunnel.last_error.clone());
            let old = self.tunnels.get(index);
            let is_new_state = old.is_none_or(|(state, ..)| *state != new.0);
            if is_new_state && new.0 != TunnelState::Opening {
                output::say(fit!(
                    "{} {}: {} → {}",
                    tunnel.name,
                    words::state(tunnel),
                    words::listens(tunnel, machine),
                    words::leads(tunnel, machine)
                ));
            }
            let tells_of_behind = new.1 && old.is_none_or(|(_, behind, _)| !behind);
            if let (true, Some(behind)) = (tells_of_behind, &tunnel.behind) {
                let url = words::url(tunnel).map(|url| format!(", at {url}")).unwrap_or_default();
                output::say(fit!("{}: behind it is {}{}", tunnel.name, words::behind(behind, now), url));
            }
            let is_new_error = old.is_none_or(|(_, _, error)| *error != new.2) || is_new_state;
            if let (true, Some(trouble)) = (is_new_error, words::trouble(tunnel)) {
                output::say(fit!("{}: {}", tunnel.name, trouble));
            }
            match self.tunnels.get_mut(index) {
                Some(place) => *place = new,
                None => self.tunnels.push(new),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn report(count: usize) -> MachineReport {
        let tunnel = |number: usize| TunnelStatus {
            name: format!("console-{number}-at-the-end-of-the-pier\u{1b}[2J"),
            form: "local 8443 to 127.0.0.1:443".into(),
            state: TunnelState::Carries,
            since: Duration::ZERO,
            at: Some("127.0.0.1:8443".into()),
            open: 0,
            total: 0,
            to_machine: 0,
            from_machine: 0,
            behind: Some(lantern_operations::tunnel::Behind::Other("\u{202e}boo".into())),
            last_error: Some("it broke\n\u{1b}[31m".into()),
        };
        let status = LinkStatus {
            phase: LinkPhase::Up,
            again_in: None,
            since: Duration::from_secs(90),
            losses: 2,
            round_trip: Some(Duration::from_micros(1500)),
            last_error: None,
            tunnels: (0..count).map(tunnel).collect(),
        };
        MachineReport { machine: "chart-room".into(), process: 1, is_kept: false, status }
    }

    #[test]
    fn it_fits_the_terminal_however_many_there_are_and_whatever_they_say() {
        for (columns, rows) in [(80, 24), (1, 1), (0, 0), (200, 50)] {
            let size = TerminalSize { columns, rows, width_px: 0, height_px: 0 };
            for count in [0, 1, 100] {
                let picture = picture(&[report(count)], "Ctrl-C closes them", size, Timestamp::now(), false);
                assert!(picture.lines().count() <= (rows as usize).saturating_sub(1).max(5), "{picture}");
                assert!(picture.lines().all(|line| width(line) < (columns as usize).max(20)), "{picture}");
                assert!(!picture.contains(['\x1b', '\u{202e}']), "{picture:?}");
            }
        }
    }
}
