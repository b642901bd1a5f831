//! Listings of files.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use lantern_book::natural;
use lantern_operations::files::Entry;
use lantern_ssh::sftp::{Attributes, FileKind};
use serde_json::{Value, json};

use super::copy::shown;
use super::failure::Failure;
use super::fit::Fit;
use super::output;
use super::size::bytes;

/// A file in a listing.
#[derive(Debug, Clone)]
pub(crate) struct Listed {
    pub(crate) machine: String,
    pub(crate) path: Vec<u8>,
    /// By the name that it is shown with.
    pub(crate) entry: Entry,
    /// Where it leads.
    pub(crate) target: Option<Vec<u8>>,
}

/// The word for a kind of file.
fn kind(kind: FileKind) -> &'static str {
    match kind {
        FileKind::Regular => "file",
        FileKind::Folder => "folder",
        FileKind::Link => "link",
        FileKind::Fifo => "pipe",
        FileKind::Socket => "socket",
        FileKind::Device => "device",
        FileKind::Unknown => "unknown",
    }
}

fn name(listed: &Listed) -> String {
    let name = shown(&listed.entry.name);
    match (listed.entry.kind(), &listed.target) {
        (FileKind::Folder, _) => format!("{name}/"),
        (FileKind::Link, Some(target)) => format!("{name} -> {}", shown(target)),
        _ => name.into_owned(),
    }
}

/// Permissions as people read them: three letters for the owner, the group, and all others.
fn permissions(attributes: &Attributes) -> String {
    let Some(mode) = attributes.permissions() else { return String::new() };
    let letters = |shift: u32, special: bool, mark: char| {
        let bit = |bit: u32, letter: char| if mode >> shift & bit != 0 { letter } else { '-' };
        let run = match (special, bit(1, 'x')) {
            (false, letter) => letter,
            (true, 'x') => mark,
            (true, _) => mark.to_ascii_uppercase(),
        };
        [bit(4, 'r'), bit(2, 'w'), run].iter().collect::<String>()
    };
    let special = |bit: u32| mode & bit != 0;
    [letters(6, special(0o4000), 's'), letters(3, special(0o2000), 's'), letters(0, special(0o1000), 't')]
        .concat()
}

/// The time of the last change, in the clock of this computer.
fn changed(attributes: &Attributes) -> String {
    let Some((_, changed)) = attributes.times else { return String::new() };
    let Ok(time) = Timestamp::from_second(changed.into()) else { return String::new() };
    time.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// Owner and group: by their names, where the server writes those in the line that it makes of a file, as the long form of listings in POSIX has it; else by
/// their numbers.
fn owner(entry: &Entry) -> String {
    let line = String::from_utf8_lossy(&entry.line);
    let words: Vec<&str> = line.split_ascii_whitespace().collect();
    let is_long = words.len() >= 9 && words.first().is_some_and(|mode| mode.len() >= 10);
    match (is_long.then_some(words.as_slice()), entry.attributes.owner) {
        (Some([_, _, user, group, ..]), _) => format!("{user}:{group}"),
        (_, Some((user, group))) => format!("{user}:{group}"),
        _ => String::new(),
    }
}

fn size(entry: &Entry) -> String {
    match (entry.kind(), entry.attributes.size) {
        (FileKind::Regular | FileKind::Unknown, Some(size)) => bytes(size),
        _ => String::new(),
    }
}

/// Prints it in columns.
///
/// # Errors
/// Nobody reads it.
pub(crate) fn print_table(all: &[Listed], several: bool) -> Result<(), Failure> {
    if all.is_empty() {
        output::say("Nothing is in it.");
        return Ok(());
    }
    // Windows has lists of who may do what, and neither of these.
    let has_owners = all.iter().any(|listed| listed.entry.attributes.owner.is_some());
    let row = |listed: &Listed| {
        let mut row: Vec<Cow<'static, str>> =
            vec![name(listed).into(), size(&listed.entry).into(), changed(&listed.entry.attributes).into()];
        if has_owners {
            row.extend([permissions(&listed.entry.attributes).into(), owner(&listed.entry).into()]);
        }
        if several {
            row.insert(0, listed.machine.clone().into());
        }
        row
    };
    let rows: Vec<_> = all.iter().map(row).collect();
    let heading = ["MACHINE", "NAME", "SIZE", "CHANGED", "PERMISSIONS", "OWNER"];
    let columns = usize::from(!several)..if has_owners { heading.len() } else { heading.len() - 2 };
    output::print(&output::table(heading.get(columns).unwrap_or_default(), rows))
}

/// Prints names alone, as they are: on a terminal made harmless.
///
/// # Errors
/// Nobody reads it.
pub(crate) fn print_names(all: &[Listed]) -> Result<(), Failure> {
    let text: Vec<u8> = all.iter().flat_map(|listed| [&listed.entry.name[..], b"\n"].concat()).collect();
    output::print_raw(&text)
}

/// Prints it as a tree: the names of each folder below it, further to the right.
///
/// # Errors
/// Nobody reads it.
pub(crate) fn print_tree(all: &[Listed], several: bool) -> Result<(), Failure> {
    let mut machines: BTreeMap<&str, Vec<&Listed>> = BTreeMap::new();
    for listed in all {
        machines.entry(&listed.machine).or_default().push(listed);
    }
    let mut text = Fit::default();
    for (machine, mut listed) in machines {
        if several {
            text.push(machine);
            text.end_line();
        }
        // By their names from the top: what is in a folder stands right below it.
        listed.sort_by(|one, other| by_parts(one, other));
        for one in listed {
            let below = &one.entry.name;
            let depth = below.iter().filter(|byte| **byte == b'/').count() + usize::from(several);
            let last = below.rsplit(|byte| *byte == b'/').next().unwrap_or_default().to_vec();
            let entry = Entry { name: last, ..one.entry.clone() };
            let size = size(&entry);
            let name = name(&Listed { entry, ..one.clone() });
            text.push(Fit::picture("  ".repeat(depth)));
            text.push(&name);
            if !size.is_empty() {
                text.push(Fit::literal("  "));
                text.push(&size);
            }
            text.end_line();
        }
    }
    output::print(&text)
}

fn by_parts(one: &Listed, other: &Listed) -> Ordering {
    let is_slash = |byte: &u8| *byte == b'/';
    let (mut left, mut right) = (one.entry.name.split(is_slash), other.entry.name.split(is_slash));
    loop {
        match (left.next(), right.next()) {
            (Some(left), Some(right)) => match by_name(left, right) {
                Ordering::Equal => {}
                unequal => return unequal,
            },
            (left, right) => return left.is_some().cmp(&right.is_some()),
        }
    }
}

/// The order of names, in which numbers count as such; names that read alike are still two.
pub(crate) fn by_name(one: &[u8], other: &[u8]) -> Ordering {
    natural(&String::from_utf8_lossy(one), &String::from_utf8_lossy(other)).then_with(|| one.cmp(other))
}

/// Prints it as JSON.
///
/// # Errors
/// Nobody reads it.
pub(crate) fn print_json(all: &[Listed]) -> Result<(), Failure> {
    output::print_json(&all.iter().map(value).collect::<Vec<Value>>())
}

fn value(listed: &Listed) -> Value {
    let Entry { attributes, .. } = &listed.entry;
    let time = |seconds: u32| Timestamp::from_second(seconds.into()).ok().map(|time| time.to_string());
    json!({
        "machine": listed.machine,
        "path": shown(&listed.path),
        "kind": kind(listed.entry.kind()),
        "bytes": attributes.size,
        "permissions": attributes.permissions().map(|mode| format!("{mode:04o}")),
        "user": attributes.owner.map(|(user, _)| user),
        "group": attributes.owner.map(|(_, group)| group),
        "changed": attributes.times.and_then(|(_, changed)| time(changed)),
        "read": attributes.times.and_then(|(read, _)| time(read)),
        "target": listed.target.as_deref().map(|target| shown(target).into_owned()),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn permissions_and_owners_are_told_as_people_read_them() {
        for (mode, words) in [
            (0o100_644, "rw-r--r--"),
            (0o104_755, "rwsr-xr-x"),
            (0o102_644, "rw-r-Sr--"),
            (0o041_777, "rwxrwxrwt"),
            (0o100_000, "---------"),
        ] {
            assert_eq!(permissions(&Attributes::with_mode(mode)), words);
        }
        let entry = |line: &str, owner| Entry {
            name: b"chart".to_vec(),
            attributes: Attributes { owner, ..Attributes::default() },
            line: line.as_bytes().to_vec(),
        };
        let long = "-rw-r--r--    1 keeper   lamps    6 Nov 27 05:00 chart of the bay";
        assert_eq!(owner(&entry(long, Some((1, 2)))), "keeper:lamps");
        assert_eq!(owner(&entry("- chart", Some((1, 2)))), "1:2");
        assert_eq!(owner(&entry("", None)), "");
    }
}
