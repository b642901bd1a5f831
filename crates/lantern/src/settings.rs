//! Where the home is, and who we are on this computer.

use std::path::PathBuf;

use etcetera::BaseStrategy;
use lantern_book::Home;

use crate::cli::Global;
use crate::failure::{Failure, code};

/// The home: `--home`, `$LANTERN_HOME`, or the platform's configuration folder.
///
/// # Errors
/// When this computer has no such folder.
pub(crate) fn home(global: &Global) -> Result<Home, Failure> {
    let named = global.home.clone().or_else(|| std::env::var_os("LANTERN_HOME").map(PathBuf::from));
    if let Some(path) = named.filter(|path| !path.as_os_str().is_empty()) {
        return Ok(Home::new(path));
    }
    let base = etcetera::choose_base_strategy().map_err(|error| {
        Failure::new(code::LOCAL, format!("no home folder: {error}")).hint("set LANTERN_HOME")
    })?;
    Ok(Home::new(base.config_dir().join("brass-lantern")))
}

/// The user name on this computer: what machines are tried with when nothing else is known.
pub(crate) fn local_user() -> Option<String> {
    ["USER", "LOGNAME"].into_iter().find_map(|name| std::env::var(name).ok().filter(|user| !user.is_empty()))
}
