//! `lantern doctor`: this computer alone.

use std::path::PathBuf;

use etcetera::BaseStrategy;
use jiff::Timestamp;
use lantern_operations::check::{Mark, Mend};
use lantern_operations::doctor::{Surroundings, Symptom, examine};
use serde_json::{Value, json};

use super::{block_on, mending};
use crate::cli::doctor::DoctorArgs;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::screen::check::{advice, report};
use crate::screen::failure::Failure;
use crate::screen::fit::{Fit, fit};
use crate::screen::{output, wrap};

/// How wide the name of what was looked at is.
const ABOUT_WIDTH: usize = 11;

pub(crate) fn run(args: &DoctorArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home_as_it_is(global)?;
    let around = surroundings(&home);
    let look = || block_on(async { Ok(examine(&home, &around).await) });
    let mut seen: Vec<Symptom> = look()?;
    if args.fix {
        let mends: Vec<&Mend> = seen.iter().filter_map(|symptom| symptom.mend.as_ref()).collect();
        if mending::settle(&mends, args.yes)? {
            seen = look()?;
        }
    }
    if global.json {
        output::print_json(&seen.iter().map(as_json).collect::<Vec<_>>())?;
    } else {
        for symptom in &seen {
            output::print(&line(symptom))?;
        }
        if !args.fix && seen.iter().any(|symptom| symptom.mend.is_some()) {
            output::say("`--fix` mends what can be mended here.");
        }
    }
    Ok(u8::from(seen.iter().any(|symptom| symptom.mark >= Mark::Doubt)))
}

fn surroundings(home: &lantern_book::Home) -> Surroundings {
    let set = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let shell = set("SHELL");
    Surroundings {
        user: rustix::process::geteuid().as_raw(),
        keeper: lantern_keeper::socket_path(home),
        agent: set("SSH_AUTH_SOCK").map(PathBuf::from),
        display: settings::display(),
        now: Timestamp::now(),
        terminal_type: set("TERM"),
        width: wrap::width(&std::io::stdout()),
        has_all_characters: wrap::has_all_characters(),
        completions: shell.as_deref().map(completions_of).unwrap_or_default(),
        shell,
    }
}

/// Where a shell looks for completions, the user's own place first.
fn completions_of(shell: &str) -> Vec<PathBuf> {
    let Ok(base) = etcetera::choose_base_strategy() else { return Vec::new() };
    let (data, config, home) = (base.data_dir(), base.config_dir(), base.home_dir().to_owned());
    match shell.rsplit('/').next().unwrap_or_default() {
        "bash" => vec![
            data.join("bash-completion/completions/lantern"),
            "/usr/share/bash-completion/completions/lantern".into(),
            "/etc/bash_completion.d/lantern".into(),
        ],
        "zsh" => vec![
            home.join(".zfunc/_lantern"),
            "/usr/local/share/zsh/site-functions/_lantern".into(),
            "/usr/share/zsh/vendor-completions/_lantern".into(),
        ],
        "fish" => vec![
            config.join("fish/completions/lantern.fish"),
            "/usr/share/fish/vendor_completions.d/lantern.fish".into(),
        ],
        _ => Vec::new(),
    }
}

fn next_of(symptom: &Symptom) -> Option<String> {
    symptom.mend.as_ref().map(advice::mend_command).or_else(|| symptom.next.clone())
}

fn line(symptom: &Symptom) -> Fit {
    let mark = report::paint(symptom.mark, &format!("{:<6}", report::word(symptom.mark)));
    let mut text = fit!("{}  {}  {}\n", mark, format!("{:<ABOUT_WIDTH$}", symptom.about), symptom.saw);
    if let Some(next) = next_of(symptom) {
        text.push(fit!("{}{} {}\n", " ".repeat(ABOUT_WIDTH + 10), Fit::literal("→"), next));
    }
    text
}

fn as_json(symptom: &Symptom) -> Value {
    let state = match symptom.mark {
        Mark::Good => "ok",
        Mark::Note => "note",
        Mark::Doubt => "doubt",
        Mark::Failed => "failed",
    };
    json!({ "about": symptom.about, "state": state, "saw": symptom.saw, "next": next_of(symptom) })
}
