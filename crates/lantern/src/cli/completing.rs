//! What shells complete from the book: machines, tags, profiles, keys, fields.

use std::ffi::OsStr;

use clap_complete::engine::{ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter};
use lantern_book::{CertificateStore, FIELDS, Field, Home, KeyRing, Kind, MachineBook};
use lantern_keys::KeyAlgorithm;
use lantern_keys::container::{PrivateContainer, PublicContainer};

use crate::cli::global::Global;
use crate::cli::remote_paths;
use crate::cli::settings;

/// The home that is completed from: `--home` has not been read yet when a shell asks.
fn home() -> Option<Home> {
    let global = Global { home: None, verbose: 0, quiet: true, log: None, json: false };
    settings::home(&global).ok()
}

fn book() -> Option<MachineBook> {
    MachineBook::load(&home()?).ok()
}

fn candidates(current: &OsStr, words: impl Iterator<Item = String>) -> Vec<CompletionCandidate> {
    let current = current.to_string_lossy();
    words.filter(|word| word.starts_with(&*current)).map(CompletionCandidate::new).collect()
}

fn machine_names() -> Vec<String> {
    book().map(|book| book.iter().map(|(name, _)| name.to_owned()).collect()).unwrap_or_default()
}

fn tag_names() -> Vec<String> {
    let Some(book) = book() else { return Vec::new() };
    let mut tags: Vec<String> =
        book.places().flat_map(|(_, settings)| settings.list(Field::Tags).to_vec()).collect();
    tags.sort();
    tags.dedup();
    tags
}

fn key_names() -> Vec<String> {
    home().map(|home| KeyRing::new(&home).names().unwrap_or_default()).unwrap_or_default()
}

fn profile_names() -> Vec<String> {
    book().map(|book| book.profiles().map(|(name, _)| name.to_owned()).collect()).unwrap_or_default()
}

/// Names of machines.
pub(crate) fn machines() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, machine_names().into_iter()))
}

/// Tags.
pub(crate) fn tags() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, tag_names().into_iter()))
}

/// Places of files: paths here, and machines with a colon behind.
pub(crate) fn places() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        // Behind the colon, it is about a machine's files.
        if let Some((machine, path)) = current.to_str().and_then(|text| text.split_once(':')) {
            let found = home().map(|home| remote_paths::complete(&home, machine, path)).unwrap_or_default();
            return candidates(current, found.into_iter().map(|path| format!("{machine}:{path}")));
        }
        let names = machine_names().into_iter().map(|name| format!("{name}:"));
        let mut found = candidates(current, names);
        found.extend(PathCompleter::any().complete(current));
        found
    })
}

/// Names of keys in the ring.
pub(crate) fn keys() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, key_names().into_iter()))
}

fn certificate_names() -> Vec<String> {
    home().map(|home| CertificateStore::new(&home).names().unwrap_or_default()).unwrap_or_default()
}

/// Names of certificates that were made here.
pub(crate) fn certificates() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, certificate_names().into_iter()))
}

/// The same, machines, and paths.
pub(crate) fn certificates_and_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let mut names = certificate_names();
        names.extend(machine_names());
        names.sort();
        names.dedup();
        let mut found = candidates(current, names.into_iter());
        found.extend(PathCompleter::file().complete(current));
        found
    })
}

/// Names of keys in the ring, and paths.
pub(crate) fn keys_and_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let mut found = candidates(current, key_names().into_iter());
        found.extend(PathCompleter::file().complete(current));
        found
    })
}

fn one_of(words: impl Iterator<Item = &'static str> + Clone + Send + Sync + 'static) -> ArgValueCompleter {
    ArgValueCompleter::new(move |current: &OsStr| candidates(current, words.clone().map(str::to_owned)))
}

/// Containers of keys.
pub(crate) fn containers() -> ArgValueCompleter {
    let private = PrivateContainer::NAMES.into_iter().map(|(name, _)| name);
    one_of(private.chain(PublicContainer::NAMES.into_iter().map(|(name, _)| name)))
}

/// Algorithms of keys.
pub(crate) fn algorithms() -> ArgValueCompleter {
    one_of(KeyAlgorithm::NAMES.into_iter().map(|(name, _)| name))
}

/// Images with known first users.
pub(crate) fn images() -> ArgValueCompleter {
    one_of(lantern_book::IMAGES.iter().map(|image| image.name))
}

/// The last of a list of columns: what a list of machines can show.
pub(crate) fn columns() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let text = current.to_string_lossy().into_owned();
        let start = text.rfind(',').map_or(0, |at| at + 1);
        let before = text.get(..start).unwrap_or_default();
        let names = ["name", "place", "used", "seen"].into_iter().chain(FIELDS.iter().map(|spec| spec.name));
        candidates(current, names.map(|name| format!("{before}{name}")))
    })
}

/// `FIELD=`, for what is said of a field.
pub(crate) fn fields_to_say() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let names = ["name"].into_iter().chain(FIELDS.iter().map(|spec| spec.name));
        candidates(current, names.map(|name| format!("{name}=")))
    })
}

/// Names of profiles.
pub(crate) fn profiles() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| candidates(current, profile_names().into_iter()))
}

/// Names of tunnels: those of the machines that stand on the line, or all that the book has.
pub(crate) fn tunnels() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let Some(book) = book() else { return Vec::new() };
        let named = std::env::args().filter_map(|word| book.effective(&word).ok()).collect::<Vec<_>>();
        let maps: Vec<_> = match named.is_empty() {
            true => book.places().filter_map(|(_, settings)| settings.map(Field::Tunnels)).collect(),
            false => named.iter().filter_map(|machine| machine.map(Field::Tunnels)).collect(),
        };
        let mut names: Vec<String> = maps.into_iter().flat_map(|map| map.keys().cloned()).collect();
        names.sort();
        names.dedup();
        candidates(current, names.into_iter())
    })
}

/// The last word of a selection: a machine, or a tag behind `@`.
pub(crate) fn selection() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        candidates(current, selection_words(&current.to_string_lossy()).into_iter())
    })
}

fn selection_words(current: &str) -> Vec<String> {
    let start = current.rfind(',').map_or(0, |at| at + 1);
    let before = current.get(..start).unwrap_or_default();
    let tags = tag_names().into_iter().map(|tag| format!("@{tag}"));
    machine_names().into_iter().chain(tags).map(|word| format!("{before}{word}")).collect()
}

/// `FIELD=VALUE`, with the values that the book or the field knows; or a selection.
pub(crate) fn changes() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        let text = current.to_string_lossy().into_owned();
        let words = match text.split_once('=') {
            Some((field, _)) => {
                field_values(field).into_iter().map(|value| format!("{field}={value}")).collect()
            }
            None => FIELDS
                .iter()
                .map(|spec| format!("{}=", spec.name))
                .chain(selection_words(&text))
                .collect::<Vec<_>>(),
        };
        candidates(current, words.into_iter())
    })
}

fn field_values(field: &str) -> Vec<String> {
    let Ok(field) = Field::from_name(field.trim_end_matches(['+', '-'])) else { return Vec::new() };
    match (field, field.spec().kind) {
        (Field::Key, _) => key_names(),
        (Field::Gateway, _) => machine_names(),
        (Field::Profiles, _) => profile_names(),
        (Field::Tags, _) => tag_names(),
        (Field::Image, _) => lantern_book::IMAGES.iter().map(|image| image.name.to_owned()).collect(),
        (_, Kind::Choice(words)) => words.iter().map(|word| (*word).to_owned()).collect(),
        (_, Kind::Flag) => vec!["true".into(), "false".into()],
        (_, Kind::FlagOr(words)) => {
            ["true", "false"].iter().chain(words).map(|word| (*word).into()).collect()
        }
        _ => Vec::new(),
    }
}
