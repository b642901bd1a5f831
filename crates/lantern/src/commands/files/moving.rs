//! `lantern files move`.

use std::os::unix::ffi::OsStrExt;

use lantern_book::Protocol;
use lantern_operations::files::{Location, Side, as_served, join, name_of};
use lantern_ssh::sftp::FileKind;
use serde_json::json;

use super::{block_on, not_there};
use crate::cli::files::MoveArgs;
use crate::cli::global::Global;
use crate::cli::settings;
use crate::commands::connecting::{asking_as, attend};
use crate::commands::places::{places, reach, typed};
use crate::screen::copy::shown;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

pub(super) fn run(args: &MoveArgs, global: &Global) -> Result<u8, Failure> {
    let home = settings::home(global)?;
    let ask = asking_as(&args.connect, &args.acting)?;
    let all = places(&home, &[&args.from], &args.but, &args.connect)?;
    let [place] = all.as_slice() else {
        return Err(Failure::new(code::USAGE, "one machine at a time: names differ from one to the next"));
    };
    let name = &place.errand.target.name;
    // The same machine may be said once more.
    let protocol = place.errand.target.protocol;
    let typed_path = || as_served(args.to.as_os_str().as_bytes().to_vec(), protocol);
    let is_drive = |machine: &str| protocol == Protocol::Winrm && machine.len() == 1;
    let to = match Location::parse(&args.to) {
        // A letter in front of a colon is a drive there.
        Ok(Location::There { machine, .. }) if is_drive(&machine) => typed_path(),
        Ok(Location::There { machine, path }) if machine == *name || machine == place.errand.typed => {
            as_served(path, protocol)
        }
        Ok(Location::There { machine, .. }) => {
            return Err(Failure::new(
                code::USAGE,
                format!("a file moves on its machine, and {machine} is another"),
            )
            .hint("`lantern copy` takes it from one to another"));
        }
        _ => typed_path(),
    };
    block_on(async {
        let side = reach(&home, &place.errand, args.acting.other.as_deref(), &ask).await?;
        let moved =
            attend(&place.errand.target, &ask, move_to(&side, name, &place.path, &to, args.replace)).await;
        side.leave().await;
        let new = moved??;
        match global.json {
            true => output::print_json(&json!({
                "machine": name, "from": shown(&place.path), "to": shown(&new),
            }))?,
            false => output::say(format!("{} is {} now.", shown(&place.path), shown(&new))),
        }
        Ok(0)
    })
}

/// Gives it its new name, which is returned.
async fn move_to(
    side: &Side,
    machine: &str,
    old: &[u8],
    to: &[u8],
    replace: bool,
) -> Result<Vec<u8>, Failure> {
    if side.look(old, false).await?.is_none() {
        return Err(not_there(machine, old));
    }
    let there = side.look(to, true).await?;
    let is_folder = there.is_some_and(|there| there.kind() == FileKind::Folder);
    if !is_folder && to.ends_with(b"/") {
        return Err(not_there(machine, to).hint(format!("lantern files make-folder {}", typed(machine, to))));
    }
    let new = if is_folder { join(to, name_of(old)) } else { to.to_vec() };
    match side.look(&new, false).await? {
        Some(there) if there.kind() == FileKind::Folder => {
            return Err(Failure::new(
                code::SESSION,
                format!("there is a folder {} on {machine}", shown(&new)),
            ));
        }
        Some(_) if !replace => {
            return Err(Failure::new(
                code::SESSION,
                format!("there is {} on {machine} already", shown(&new)),
            )
            .hint("--replace puts it in its place"));
        }
        Some(_) => side.rename_over(old, &new).await?,
        None => side.rename(old, &new).await?,
    }
    Ok(new)
}
