//! What was said outside of the book, and where: the home, who we are on this computer, which agents may sign.

use std::fmt;
use std::path::PathBuf;

use etcetera::BaseStrategy;
use lantern_book::Home;
use lantern_keeper::socket_path;
use lantern_link::{AgentSocket, KerberosPlaces};
use lantern_operations::display::DisplaySurroundings;
use tracing::debug;

use crate::cli::global::Global;
use crate::screen::failure::{Failure, code};

/// Where a setting was said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Source {
    /// By this option.
    Option(&'static str),
    /// By this variable of the environment.
    Environment(&'static str),
    /// By the system's list of users.
    System,
    /// Nowhere: it is what the platform usually has.
    Platform,
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Option(name) => write!(f, "by {name}"),
            Self::Environment(name) => write!(f, "by ${name}"),
            Self::System => f.write_str("by the system"),
            Self::Platform => f.write_str("the usual place"),
        }
    }
}

/// A setting and where it was said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Sourced<T> {
    /// What was said.
    pub(crate) value: T,
    /// Where.
    pub(crate) source: Source,
}

fn from_environment(name: &'static str) -> Option<Sourced<std::ffi::OsString>> {
    let value = std::env::var_os(name).filter(|value| !value.is_empty())?;
    Some(Sourced { value, source: Source::Environment(name) })
}

/// The home: `--home`, `$LANTERN_HOME`, or the platform's configuration folder.
///
/// # Errors
/// When this computer has no such folder.
pub(crate) fn sourced_home(global: &Global) -> Result<Sourced<Home>, Failure> {
    if let Some(path) = global.home.clone().filter(|path| !path.as_os_str().is_empty()) {
        return Ok(Sourced { value: Home::new(path), source: Source::Option("--home") });
    }
    if let Some(Sourced { value, source }) = from_environment("LANTERN_HOME") {
        return Ok(Sourced { value: Home::new(PathBuf::from(value)), source });
    }
    let base = etcetera::choose_base_strategy().map_err(|error| {
        Failure::new(code::LOCAL, format!("no home folder: {error}")).hint("set LANTERN_HOME")
    })?;
    let value = Home::new(base.config_dir().join("brass-lantern"));
    Ok(Sourced { value, source: Source::Platform })
}

/// The home, and in the log where it was said. Nobody else may be able to change what is in it.
///
/// # Errors
/// As [`sourced_home`]; a home that is not ours alone.
pub(crate) fn home(global: &Global) -> Result<Home, Failure> {
    let home = home_as_it_is(global)?;
    home.check_alone(rustix::process::geteuid().as_raw())?;
    Ok(home)
}

/// The same for those who look at what is wrong with it.
///
/// # Errors
/// As [`sourced_home`].
pub(crate) fn home_as_it_is(global: &Global) -> Result<Home, Failure> {
    let Sourced { value, source } = sourced_home(global)?;
    debug!(home = %value.path().display(), said = %source, "book, trust and keys");
    Ok(value)
}

/// The user name on this computer: what machines are tried with when nothing else is known.
pub(crate) fn local_user() -> Option<String> {
    let by_system = || {
        let value = uzers::get_user_by_uid(rustix::process::getuid().as_raw())?.name().to_owned();
        Some(Sourced { value, source: Source::System })
    };
    let user = from_environment("USER").or_else(|| from_environment("LOGNAME")).or_else(by_system)?;
    debug!(user = %user.value.display(), said = %user.source, "the user here");
    user.value.into_string().ok()
}

/// Which agents may sign for us: our keeper, and the one that the environment names.
pub(crate) fn agents(home: &Home) -> Vec<AgentSocket> {
    let keeper = socket_path(home);
    let mut agents = Vec::new();
    if keeper.exists() {
        agents.push(AgentSocket { path: keeper.clone(), what: "the keeper" });
    }
    if let Some(Sourced { value, .. }) = from_environment("SSH_AUTH_SOCK") {
        let path = PathBuf::from(value);
        if path != keeper {
            agents.push(AgentSocket { path, what: "the agent" });
        }
    }
    agents
}

/// Where this system keeps what it says of Kerberos, and tickets: by the variables that its other programs read, too.
pub(crate) fn kerberos() -> KerberosPlaces {
    let mut places = KerberosPlaces::of_system();
    if let Some(Sourced { value, .. }) = from_environment("KRB5_CONFIG") {
        places.configuration = std::env::split_paths(&value).collect();
    }
    places.cache = from_environment("KRB5CCNAME").and_then(|name| name.value.into_string().ok());
    places
}

/// The display of this computer, as its surroundings have it.
pub(crate) fn display() -> DisplaySurroundings {
    let authority = from_environment("XAUTHORITY").map(|said| PathBuf::from(said.value));
    let usual = || from_environment("HOME").map(|said| PathBuf::from(said.value).join(".Xauthority"));
    DisplaySurroundings {
        name: from_environment("DISPLAY").and_then(|said| said.value.into_string().ok()),
        authority: authority.or_else(usual).unwrap_or_else(|| ".Xauthority".into()),
    }
}
