//! A pasted text as what says where a command goes: what was understood of it, and the key file that it names.

use std::io::{IsTerminal, Read, stdin};
use std::path::{Path, PathBuf};

use lantern_book::{Home, KeyRing, Pasted, Protocol, place};
use lantern_link::KeyChoice;
use lantern_operations::{FoundKey, find_key_file};

use crate::screen::failure::{Failure, code};
use crate::screen::fit::{Fit, fit};
use crate::screen::output;
use crate::terminal::confirm;
use crate::terminal::prompt::Terminal;

/// Most of a pasted text that is read from standard input, in bytes.
const MAX_PASTE: u64 = 64 * 1024;

/// What a pasted text comes to, as it could have been typed.
pub(super) fn typed(pasted: &Pasted) -> String {
    let address = pasted.addresses.first().map_or("", String::as_str);
    let winrm = pasted.protocol == Protocol::Winrm;
    let usual = if winrm { lantern_book::DEFAULT_WINRM_PORT } else { lantern_book::DEFAULT_SSH_PORT };
    let scheme = if winrm { "winrm://" } else { "" };
    let user = pasted.user.as_ref().map(|user| format!("{user}@")).unwrap_or_default();
    format!("{scheme}{user}{}", place(address, pasted.port.unwrap_or(usual)))
}

/// What was understood of a text, and what was not. Where it can be read in another way, a person says whether that is it.
///
/// # Errors
/// Another reading and nobody to ask, or a no.
pub(super) fn tell(pasted: &Pasted, may_ask: bool) -> Result<(), Failure> {
    let mut text = format!("Understood: {}", typed(pasted));
    if !pasted.gateways.is_empty() {
        text.push_str(&format!(" through {}", pasted.gateways.join(" then ")));
    }
    if let Some(file) = &pasted.key_file {
        text.push_str(&format!(", with the key file {file}"));
    }
    output::say(text);
    if let Some(doubt) = pasted.doubt() {
        output::warn(doubt);
    }
    if pasted.doubts.is_empty() {
        return Ok(());
    }
    if !may_ask || Terminal::open().is_none() {
        return Err(Failure::new(code::USAGE, "the pasted text can be understood in more than one way")
            .hint("paste what matters of it, or give the address: user@address:port"));
    }
    match confirm::ask("Is that the machine?", "")? {
        true => Ok(()),
        false => Err(Failure::new(code::INTERRUPTED, "nothing was reached")),
    }
}

/// Reads a pasted text.
///
/// # Errors
/// Nothing in it that could be understood.
pub(crate) fn read_paste(text: &str) -> Result<Pasted, Failure> {
    Ok(Pasted::parse(&pasted_text(text)?)?)
}

/// A text that was typed as an option, or comes through standard input.
///
/// # Errors
/// Standard input cannot be read.
pub(crate) fn pasted_text(text: &str) -> Result<String, Failure> {
    if text != "-" {
        return Ok(text.to_owned());
    }
    if stdin().is_terminal() {
        output::say("Paste the text, then press Enter and Ctrl-D:");
    }
    let mut pasted = String::new();
    stdin()
        .take(MAX_PASTE + 1)
        .read_to_string(&mut pasted)
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot read the pasted text: {error}")))?;
    Ok(pasted)
}

/// Where key files are looked for: the current folder, and the one for downloads.
fn key_folders(house: Option<&Path>) -> Vec<PathBuf> {
    let mut folders = vec![PathBuf::from(".")];
    folders.extend(std::env::var_os("XDG_DOWNLOAD_DIR").map(PathBuf::from));
    folders.extend(house.map(|house| house.join("Downloads")));
    folders
}

/// Finds the key file that a text names; one that is not where it says is shown, and asked about.
///
/// # Errors
/// Ctrl-C.
pub(crate) fn look_for_key(said: &str, may_ask: bool) -> Result<Option<FoundKey>, Failure> {
    let house = etcetera::home_dir().ok();
    let Some(FoundKey { path, elsewhere }) =
        find_key_file(said, house.as_deref(), &key_folders(house.as_deref()))
    else {
        output::warn(fit!(
            "there is no key file {}, neither where the text says nor here nor among the downloads.",
            said
        ));
        return Ok(None);
    };
    let path = path.strip_prefix(".").map(Path::to_owned).unwrap_or(path);
    if !elsewhere {
        return Ok(Some(FoundKey { path, elsewhere }));
    }
    let question = format!("The text names the key file {said}. Is it {}?", path.display());
    if may_ask && Terminal::open().is_some() && confirm::ask(&question, "")? {
        return Ok(Some(FoundKey { path, elsewhere }));
    }
    output::say(fit!("Not used: {}; `--key FILE` names the file.", path.display().to_string()));
    Ok(None)
}

/// The key that a text names: of the ring, when it is there, else its file. Its permissions are narrowed: it was downloaded, and is ours.
pub(super) fn pasted_key(
    home: &Home,
    said: &str,
    may_ask: bool,
) -> Result<(Option<KeyChoice>, Option<FoundKey>), Failure> {
    let ring = KeyRing::new(home);
    let Some(FoundKey { path, elsewhere }) = look_for_key(said, may_ask)? else {
        let stem = Path::new(said).file_stem().map(|stem| stem.to_string_lossy().into_owned());
        let known = stem.filter(|stem| ring.get(stem).is_ok());
        return Ok((known.map(|name| KeyChoice::Named(vec![name])), None));
    };
    let (sealed, mode) = KeyRing::read_file(&path)?;
    let held = sealed.public().map(|public| ring.name_of(public)).transpose()?.flatten();
    if let Some(name) = held {
        return Ok((Some(KeyChoice::Named(vec![name])), None));
    }
    if mode & 0o077 != 0 && may_ask && Terminal::open().is_some() {
        narrow(&path, mode)?;
    }
    // As a path it is never taken for a name.
    let file = if path.components().count() < 2 { Path::new(".").join(path) } else { path };
    Ok((Some(KeyChoice::File(file.clone())), Some(FoundKey { path: file, elsewhere })))
}

pub(super) fn narrow(path: &Path, mode: u32) -> Result<(), Failure> {
    use std::os::unix::fs::PermissionsExt;
    let name = path.display().to_string();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))
        .map_err(|error| Failure::new(code::LOCAL, format!("cannot close {name} to others: {error}")))?;
    output::warn(Fit::line(&format!(
        "others on this computer could read {name} (mode {mode:04o}); it is closed to them now."
    )));
    Ok(())
}
