//! `lantern keeper unit`: a user service that starts the keeper at login.

use std::path::Path;

use etcetera::BaseStrategy;
use lantern_book::{Home, write_new};

use crate::cli::global::Global;
use crate::cli::keeper_unit::UnitArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::fit::fit;
use crate::screen::output;

const FILE: &str = "brass-lantern-keeper.service";

pub(crate) fn run(args: &UnitArgs, global: &Global, home: &Home) -> Result<(), Failure> {
    let text = unit(args, global, home)?;
    if !args.install {
        return output::print_raw(text.as_bytes());
    }
    let base = etcetera::choose_base_strategy()
        .map_err(|error| Failure::new(code::LOCAL, format!("no configuration folder: {error}")))?;
    let folder = base.config_dir().join("systemd/user");
    let path = folder.join(FILE);
    std::fs::create_dir_all(&folder)
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot make {}: {error}", folder.display())))?;
    write_new(&path, text.as_bytes(), 0o644, args.replace)?;
    output::say(format!("{} is written. To start it now and at every login:", path.display()));
    output::print(&fit!("systemctl --user daemon-reload\nsystemctl --user enable --now {}\n", FILE))
}

fn unit(args: &UnitArgs, global: &Global, home: &Home) -> Result<String, Failure> {
    let program = std::env::current_exe()
        .map_err(|error| Failure::new(code::INTERNAL, format!("cannot tell where lantern is: {error}")))?;
    let mut line = format!("{} keeper start --foreground", quoted(&program)?);
    // Only a home that is not the usual one has to be said.
    if global.home.is_some() || std::env::var_os("LANTERN_HOME").is_some() {
        let home = std::path::absolute(home.path()).unwrap_or_else(|_| home.path().to_owned());
        line.push_str(&format!(" --home {}", quoted(&home)?));
    }
    if let Some(program) = &args.confirm_with {
        line.push_str(&format!(" --confirm-with {}", quoted(program)?));
    }
    Ok(format!(
        "[Unit]\nDescription=Brass Lantern keeper: unlocked keys\n\n[Service]\nExecStart={line}\nRestart=on-failure\n\
         LimitCORE=0\nNoNewPrivileges=yes\n\n[Install]\nWantedBy=default.target\n"
    ))
}

/// A path as a word of a unit file: its specifiers and variables are no such things.
fn quoted(path: &Path) -> Result<String, Failure> {
    let text = path.to_str().filter(|text| !text.chars().any(char::is_control)).ok_or_else(|| {
        Failure::new(code::LOCAL, format!("{} cannot stand in a unit file", path.display()))
    })?;
    let text = text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$");
    Ok(if text.contains(' ') { format!("\"{text}\"") } else { text })
}
