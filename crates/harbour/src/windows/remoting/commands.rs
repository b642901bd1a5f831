//! The commands of a simulated machine: some that every machine has, with made-up objects, and some of the lighthouse service.

use std::time::Duration;

use lantern_winrm::remoting::{MessageKind, Objects};

use super::item::Item;
use super::runner::Runner;
use super::stages::{Arguments, Stage};
use super::trouble::{End, Trouble};
use crate::windows::spec::Endpoint;

/// Parameters that take no value.
pub(super) const SWITCHES: [&str; 9] =
    ["stream", "assecurestring", "nonewline", "all", "completed", "force", "verbose", "sum", "passthru"];

/// All commands, as the machine lists them.
const NAMES: [&str; 44] = [
    "Clear-Host",
    "Confirm-Lamp",
    "Count-Object",
    "ForEach-Tide",
    "Get-Command",
    "Get-Credential",
    "Get-Date",
    "Get-HostSize",
    "Get-Lamp",
    "Get-Location",
    "Get-Process",
    "Get-Secret",
    "Get-Service",
    "Get-Tide",
    "Measure-Object",
    "New-Bulk",
    "Out-Null",
    "Out-String",
    "Read-Fields",
    "Read-Host",
    "Read-Key",
    "Select-Lamp",
    "Select-Object",
    "Set-Lamp",
    "Set-Location",
    "Set-Title",
    "Show-Secret",
    "Show-Words",
    "Sort-Object",
    "Start-Sleep",
    "Start-Nested",
    "TabExpansion2",
    "Wait-Forever",
    "Where-Object",
    "Write-Debug",
    "Write-Error",
    "Write-Host",
    "Write-Information",
    "Write-Output",
    "Write-Progress",
    "Write-Verbose",
    "Write-Warning",
    "hostname",
    "whoami",
];

/// Whether an endpoint has a command of that name.
pub(super) fn exists(name: &str, endpoint: &Endpoint) -> bool {
    names(endpoint).any(|known| known.eq_ignore_ascii_case(name))
}

/// The commands of an endpoint.
pub(super) fn names(endpoint: &Endpoint) -> impl Iterator<Item = &'static str> {
    let visible = endpoint.visible.clone();
    NAMES.into_iter().filter(move |name| {
        visible.is_empty() || visible.iter().any(|known| known.eq_ignore_ascii_case(name))
    })
}

fn lamps() -> Vec<Item> {
    let lamp = |name: &str, watts, lit| {
        let state = if lit { ("Lit", 1) } else { ("Dark", 0) };
        Item::bag(
            "Coast.Lamp",
            [
                ("Name", Item::Text(name.into())),
                ("Watts", Item::Number(watts)),
                ("State", Item::Choice("Coast.LampState", state.0.into(), state.1)),
                ("Since", Item::Moment("2026-03-01T06:00:00+00:00".into())),
            ],
        )
    };
    vec![lamp("lamp-01", 40, true), lamp("lamp-02", 60, true), lamp("foghorn", 250, false)]
}

fn services() -> Vec<Item> {
    let service = |name: &str, state: &str, number, title: &str| {
        Item::bag(
            "System.ServiceProcess.ServiceController",
            [
                (
                    "Status",
                    Item::Choice("System.ServiceProcess.ServiceControllerStatus", state.into(), number),
                ),
                ("Name", Item::Text(name.into())),
                ("DisplayName", Item::Text(title.into())),
            ],
        )
    };
    vec![
        service("lamp-control", "Running", 4, "Control of the lamps"),
        service("tide-log", "Running", 4, "Log of the tide gauge"),
        service("foghorn", "Stopped", 1, "Foghorn"),
    ]
}

/// Those of a name, or all; a name that is nobody's is an error that the pipeline survives.
async fn named(
    runner: &mut Runner,
    all: Vec<Item>,
    arguments: &Arguments,
    stages: &mut [Stage],
) -> Result<(), End> {
    let wanted = match arguments.get("name", 0) {
        None => return put_all(runner, all, stages).await,
        Some(Item::List(names)) => names.iter().map(Item::text).collect(),
        Some(name) => vec![name.text()],
    };
    for name in wanted {
        match all.iter().find(|item| item.property("Name").text().eq_ignore_ascii_case(&name)) {
            Some(item) => runner.emit(stages, item.clone()).await?,
            None => {
                let message = format!("There is nothing called '{name}'.");
                runner.complain(Trouble::new(message, "NameNotFound", "ObjectNotFound", &name)).await?;
            }
        }
    }
    Ok(())
}

async fn put_all(runner: &mut Runner, all: Vec<Item>, stages: &mut [Stage]) -> Result<(), End> {
    for item in all {
        runner.emit(stages, item).await?;
    }
    Ok(())
}

async fn sleep(runner: &Runner, milliseconds: i64) -> Result<(), End> {
    let time = Duration::from_millis(u64::try_from(milliseconds).unwrap_or(0));
    match runner.out.sleep(time).await {
        true => Ok(()),
        false => Err(End::Stopped),
    }
}

/// A command that puts something out.
pub(super) async fn source(
    runner: &mut Runner,
    name: &str,
    arguments: &Arguments,
    stages: &mut [Stage],
) -> Result<(), End> {
    if !exists(name, &runner.session.endpoint) {
        return Err(Trouble::unknown(name).into());
    }
    let place = runner.session.place.clone();
    let text = |place| {
        arguments.text("message", place).or_else(|| arguments.text("object", place)).unwrap_or_default()
    };
    match name.to_lowercase().as_str() {
        "whoami" => runner.emit(stages, Item::Text(place.user.to_lowercase())).await,
        "hostname" => runner.emit(stages, Item::Text(place.computer)).await,
        "get-lamp" => named(runner, lamps(), arguments, stages).await,
        "get-service" => named(runner, services(), arguments, stages).await,
        "set-lamp" => {
            let text =
                format!("{} is {}", arguments.text_or_none("name", 0), arguments.text_or_none("state", 1));
            runner.emit(stages, Item::Text(text)).await
        }
        "get-process" => {
            let process = |name: &str, id, memory| {
                let all = [
                    ("Id", Item::Number(id)),
                    ("ProcessName", Item::Text(name.into())),
                    ("WorkingSet", Item::Number(memory)),
                ];
                Item::bag("System.Diagnostics.Process", all)
            };
            let all = vec![process("lamp-control", 412, 18_350_080), process("tide-log", 988, 5_242_880_000)];
            put_all(runner, all, stages).await
        }
        "get-date" => runner.emit(stages, Item::Moment("2026-03-01T06:00:00.0000000+00:00".into())).await,
        "get-location" => {
            if runner.session.endpoint.asks_where {
                runner.call(11, "ReadLine", true, |_| Vec::new()).await?;
            }
            let location = runner.session.lock().location.clone();
            let all = [("Path", Item::Text(location))];
            runner.emit(stages, Item::bag("System.Management.Automation.PathInfo", all)).await
        }
        "set-location" => {
            runner.session.lock().location = arguments.text_or_none("path", 0);
            Ok(())
        }
        "get-command" => {
            let wanted = arguments.get("name", 0).map(Item::text);
            let endpoint = runner.session.endpoint.clone();
            let fits = |known: &&str| wanted.as_ref().is_none_or(|name| name.eq_ignore_ascii_case(known));
            let all: Vec<_> = names(&endpoint).filter(fits).collect();
            if let (Some(name), true) = (&wanted, all.is_empty()) {
                runner.complain(Trouble::unknown(name)).await?;
            }
            let command = |name: &str| {
                let kind = Item::Choice("System.Management.Automation.CommandTypes", "Cmdlet".into(), 8);
                Item::bag("Selected.Command", [("CommandType", kind), ("Name", Item::Text(name.into()))])
            };
            let all = all.into_iter().map(command).collect();
            put_all(runner, all, stages).await
        }
        // So many, so many milliseconds apart.
        "get-tide" => {
            for turn in 1..=arguments.number("count", 0).unwrap_or(3) {
                let all = [
                    ("Turn", Item::Number(turn)),
                    ("Metres", Item::Text(format!("{}.{}", turn % 7, turn % 10))),
                ];
                runner.emit(stages, Item::bag("Coast.Tide", all)).await?;
                sleep(runner, arguments.number("pause", 1).unwrap_or(0)).await?;
            }
            Ok(())
        }
        "new-bulk" => {
            let text: String = "the tide comes in & goes out <again> ".repeat(27);
            for number in 0..arguments.number("count", 0).unwrap_or(1000) {
                let all = [("Number", Item::Number(number)), ("Text", Item::Text(text.clone()))];
                runner.emit(stages, Item::bag("Coast.Bulk", all)).await?;
            }
            Ok(())
        }
        // Each word on a line of its own, so that it shows how it arrived.
        "show-words" => {
            for (name, item) in &arguments.named {
                runner.emit(stages, Item::Text(format!("{name}=[{}]", item.text()))).await?;
            }
            for item in &arguments.placed {
                runner.emit(stages, Item::Text(format!("[{}]", item.text()))).await?;
            }
            Ok(())
        }
        "start-sleep" => {
            let seconds = arguments.number("seconds", 0).unwrap_or(0) * 1000;
            sleep(runner, arguments.number("milliseconds", usize::MAX).unwrap_or(seconds)).await
        }
        "wait-forever" => {
            runner.out.interrupted().await;
            Err(End::Stopped)
        }
        "write-output" => match arguments.get("inputobject", 0).cloned() {
            Some(Item::List(all)) => put_all(runner, all, stages).await,
            Some(item) => runner.emit(stages, item).await,
            None => Ok(()),
        },
        "write-error" => {
            let message = text(0);
            let trouble = Trouble::new(
                message,
                "Microsoft.PowerShell.Commands.WriteErrorException",
                "NotSpecified",
                "",
            );
            runner
                .complain(Trouble {
                    activity: "Write-Error".into(),
                    reason: "WriteErrorException",
                    ..trouble
                })
                .await
        }
        "write-warning" => runner.remark(MessageKind::WarningRecord, &text(0)).await,
        "write-verbose" if arguments.has("verbose") => {
            runner.remark(MessageKind::VerboseRecord, &text(0)).await
        }
        "write-debug" => runner.remark(MessageKind::DebugRecord, &text(0)).await,
        "write-information" => {
            let mut objects = Objects::default();
            let tags = objects.list(Vec::new());
            let message = arguments.text("messagedata", 0).unwrap_or_default();
            let root =
                objects.bag([("MessageData", message.into()), ("Source", "script".into()), ("Tags", tags)]);
            runner.say(MessageKind::InformationRecord, objects.write(&root)).await
        }
        "write-progress" => {
            let mut objects = Objects::default();
            let over = i32::from(arguments.has("completed"));
            let kind = objects.enumeration(
                "System.Management.Automation.ProgressRecordType",
                if over == 1 { "Completed" } else { "Processing" },
                over,
            );
            let number = |name, usual| {
                i32::try_from(arguments.number(name, usize::MAX).unwrap_or(usual)).unwrap_or(0).into()
            };
            let root = objects.bag([
                ("Activity", arguments.text_or_none("activity", 0).into()),
                ("ActivityId", number("id", 0)),
                ("StatusDescription", arguments.text_or_none("status", 1).into()),
                ("CurrentOperation", arguments.text_or_none("currentoperation", usize::MAX).into()),
                ("ParentActivityId", (-1).into()),
                ("PercentComplete", number("percentcomplete", -1)),
                ("Type", kind),
                ("SecondsRemaining", number("secondsremaining", -1)),
            ]);
            runner.say(MessageKind::ProgressRecord, objects.write(&root)).await
        }
        "tabexpansion2" => {
            let found = complete(runner, &arguments.text_or_none("inputscript", 0));
            runner.emit(stages, found).await
        }
        _ => super::prompts::source(runner, name, arguments, stages).await,
    }
}

/// What the last word of a text may become.
fn complete(runner: &Runner, text: &str) -> Item {
    let from = text.rfind([' ', '|']).map_or(0, |at| at + 1);
    let begun = text.get(from..).unwrap_or_default().to_lowercase();
    let endpoint = runner.session.endpoint.clone();
    let mut words: Vec<String> = names(&endpoint).map(str::to_owned).collect();
    if from > 0 {
        words.extend(lamps().iter().map(|lamp| lamp.property("Name").text()));
    }
    words.extend(runner.session.lock().variables.keys().map(|name| format!("${name}")));
    words.sort();
    let found = words.into_iter().filter(|word| word.to_lowercase().starts_with(&begun)).map(|word| {
        let all = [
            ("CompletionText", Item::Text(word.clone())),
            ("ListItemText", Item::Text(word.clone())),
            ("ToolTip", Item::Text(word)),
        ];
        Item::bag("System.Management.Automation.CompletionResult", all)
    });
    let number = |number: usize| Item::Number(i64::try_from(number).unwrap_or(0));
    Item::bag(
        "System.Management.Automation.CommandCompletion",
        [
            ("CurrentMatchIndex", Item::Number(-1)),
            ("ReplacementIndex", number(text.get(..from).unwrap_or_default().encode_utf16().count())),
            ("ReplacementLength", number(begun.encode_utf16().count())),
            ("CompletionMatches", Item::List(found.collect())),
        ],
    )
}
