//! `lantern tunnel list`

use std::borrow::Cow;
use std::time::Duration;

use jiff::Timestamp;
use lantern_book::{Field, Home, MachineBook, Tunnel, select};
use lantern_keeper::{HolderAnswer, HolderRequest, MachineReport, ask_all};
use lantern_operations::tunnel::{TunnelState, TunnelStatus};
use serde_json::{Value, json};
use tokio::signal::unix::SignalKind;
use tokio::time::sleep;

use super::close::tell_silent;
use crate::cli::tunnel::list::ListTunnelsArgs;
use crate::commands::{block_on, watch};
use crate::screen::failure::{Failure, code};
use crate::screen::output;
use crate::screen::tunnel::live::LiveTunnels;
use crate::screen::tunnel::{json as as_json, words};
use crate::terminal::modes;

/// How often all processes are asked.
const PACE: Duration = Duration::from_secs(1);

pub(super) fn run(args: &ListTunnelsArgs, home: &Home, json: bool) -> Result<(), Failure> {
    let book = MachineBook::load(home)?;
    let chosen = match args.selection.is_empty() && args.but.except.is_empty() {
        true => None,
        false => Some(chosen(args, &book)?),
    };
    if args.watch {
        if json || !LiveTunnels::can_be_shown() {
            return Err(Failure::new(code::USAGE, "--watch draws on a terminal")
                .hint("`lantern tunnel list --json` tells how things stand now"));
        }
        return block_on(watch_all(home, chosen.as_deref()));
    }
    let reports = block_on(async { Ok(reports(home, chosen.as_deref(), true).await) })?;
    let closed = if args.open { Vec::new() } else { of_book(&book, chosen.as_deref(), &reports) };
    if json {
        return print_as_json(&reports, &closed);
    }
    if reports.is_empty() && closed.is_empty() {
        output::say(match args.open {
            true => "No tunnel is open.",
            false => {
                "No tunnel is open, and the book has none. `lantern tunnel add MACHINE NAME --local PORT --to HOST:PORT` adds one."
            }
        });
        return Ok(());
    }
    print_table(&reports, &closed)
}

/// The machines that are meant. One that is not in the book may have tunnels that are open.
fn chosen(args: &ListTunnelsArgs, book: &MachineBook) -> Result<Vec<String>, Failure> {
    match select(book, &args.selection, &args.but.except) {
        Ok(machines) => Ok(machines),
        Err(_) if args.selection.iter().any(|word| word.contains([':', '.'])) => Ok(args.selection.clone()),
        Err(error) => Err(error.into()),
    }
}

/// How the tunnels of all processes stand, by machine.
async fn reports(home: &Home, chosen: Option<&[String]>, tells: bool) -> Vec<MachineReport> {
    let told = ask_all(home, &HolderRequest::Status).await;
    if tells {
        tell_silent(&told);
    }
    let mut reports: Vec<MachineReport> = told
        .answers
        .into_iter()
        .flat_map(|answer| if let HolderAnswer::Status(reports) = answer { reports } else { Vec::new() })
        .filter(|report| chosen.is_none_or(|chosen| chosen.contains(&report.machine)))
        .collect();
    // What is closed is not open any more, whoever still holds others beside it.
    reports.iter_mut().for_each(|report| {
        report.status.tunnels.retain(|tunnel| tunnel.state != TunnelState::Closed);
    });
    reports.sort_by(|one, other| (&one.machine, one.process).cmp(&(&other.machine, other.process)));
    reports
}

/// A tunnel of the book that is not open.
struct OfBook {
    machine: String,
    name: String,
    tunnel: Tunnel,
}

fn of_book(book: &MachineBook, chosen: Option<&[String]>, reports: &[MachineReport]) -> Vec<OfBook> {
    let is_open = |machine: &str, name: &str| {
        reports
            .iter()
            .filter(|report| report.machine == machine)
            .any(|report| report.status.tunnels.iter().any(|tunnel| tunnel.name == name))
    };
    let mut closed = Vec::new();
    for (machine, _) in book.iter() {
        if chosen.is_some_and(|chosen| !chosen.iter().any(|name| name == machine)) {
            continue;
        }
        let Ok(effective) = book.effective(machine) else { continue };
        for (name, form) in effective.map(Field::Tunnels).into_iter().flatten() {
            if let (false, Ok(tunnel)) = (is_open(machine, name), Tunnel::parse(form)) {
                closed.push(OfBook { machine: machine.to_owned(), name: name.clone(), tunnel });
            }
        }
    }
    closed
}

fn print_as_json(reports: &[MachineReport], closed: &[OfBook]) -> Result<(), Failure> {
    let now = Timestamp::now();
    let open: Vec<Value> = reports
        .iter()
        .map(|report| {
            let mut value = as_json::machine(&report.machine, &report.status, now);
            value["process"] = json!(report.process);
            value["kept"] = json!(report.is_kept);
            value
        })
        .collect();
    let closed: Vec<Value> = closed
        .iter()
        .map(|one| {
            let mut value = as_json::form(&one.tunnel);
            value["machine"] = json!(one.machine);
            value["name"] = json!(one.name);
            value
        })
        .collect();
    output::print_json(&json!({ "open": open, "not_open": closed }))
}

fn print_table(reports: &[MachineReport], closed: &[OfBook]) -> Result<(), Failure> {
    let now = Timestamp::now();
    let mut rows: Vec<Vec<Cow<'_, str>>> = Vec::new();
    for report in reports {
        let held = if report.is_kept { "keeper".to_owned() } else { format!("process {}", report.process) };
        for tunnel in &report.status.tunnels {
            rows.push(open_row(report, tunnel, &held, now));
        }
    }
    for one in closed {
        let listen = one.tunnel.listen.to_string();
        let wide = if one.tunnel.listen.is_loopback() { "" } else { " (WIDE)" };
        let row: [String; 6] = [
            one.machine.clone(),
            one.name.clone(),
            "not open".into(),
            one.tunnel.kind.word().into(),
            format!("{listen}{wide}"),
            leads_to(&one.tunnel),
        ];
        rows.push(row.into_iter().map(Cow::Owned).collect());
    }
    let mut headings = vec!["MACHINE", "TUNNEL", "STATE", "KIND", "LISTENS", "LEADS TO"];
    if !reports.is_empty() {
        headings.extend(["BEHIND IT", "SINCE", "OPEN", "IN", "OUT", "ROUND TRIP", "LAST ERROR", "HELD BY"]);
        let is_empty = |at: usize| rows.iter().all(|row| row.get(at).is_none_or(|cell| cell.is_empty()));
        let empty: Vec<usize> = (6..headings.len()).filter(|at| is_empty(*at)).collect();
        for at in empty.into_iter().rev() {
            headings.remove(at);
            rows.iter_mut().filter(|row| at < row.len()).for_each(|row| drop(row.remove(at)));
        }
    }
    output::print(&output::table(&headings, rows))
}

fn leads_to(tunnel: &Tunnel) -> String {
    tunnel.to.as_ref().map_or_else(|| "wherever asked".into(), ToString::to_string)
}

fn open_row<'a>(
    report: &'a MachineReport,
    tunnel: &'a TunnelStatus,
    held: &str,
    now: Timestamp,
) -> Vec<Cow<'a, str>> {
    let kind = tunnel.tunnel().map_or("", |parsed| parsed.kind.word());
    let to = tunnel.tunnel().map(|parsed| leads_to(&parsed));
    let round_trip = report.status.round_trip.map(words::milliseconds).unwrap_or_default();
    let what = words::url(tunnel).map(|url| format!("{url}  ")).unwrap_or_default();
    let behind = tunnel.behind.as_ref().map(|behind| words::behind(behind, now)).unwrap_or_default();
    let error = words::trouble(tunnel).map(str::to_owned).or_else(|| report.status.last_error.clone());
    let sizes = crate::screen::size::bytes;
    vec![
        Cow::Borrowed(report.machine.as_str()),
        Cow::Borrowed(tunnel.name.as_str()),
        words::state(tunnel).into(),
        kind.into(),
        words::listens(tunnel, &report.machine).into(),
        to.unwrap_or_default().into(),
        format!("{what}{behind}").into(),
        words::seconds(tunnel.since).into(),
        format!("{} of {}", tunnel.open, tunnel.total).into(),
        sizes(tunnel.from_machine).into(),
        sizes(tunnel.to_machine).into(),
        round_trip.into(),
        error.unwrap_or_default().into(),
        held.to_owned().into(),
    ]
}

async fn watch_all(home: &Home, chosen: Option<&[String]>) -> Result<(), Failure> {
    let mut interrupts = watch(SignalKind::interrupt())?;
    let mut live = LiveTunnels::new(modes::size);
    loop {
        let reports = reports(home, chosen, false).await;
        let footer = if reports.is_empty() {
            "No tunnel is open. Ctrl-C ends this view."
        } else {
            "Ctrl-C ends this view; the tunnels stay open."
        };
        live.draw(&reports, footer);
        tokio::select! {
            () = sleep(PACE) => {}
            _ = interrupts.recv() => return Ok(()),
        }
    }
}
