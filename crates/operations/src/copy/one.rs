//! One file: written beside its place, proven where that is wanted, and renamed.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use lantern_ssh::sftp::{Attributes, FileKind};
use tokio::time::sleep;

use super::digest::{Growing, digest};
use super::part::{find_part, new_part};
use super::{CopyFault, CopyOptions, CopyWatch, FileDeed, Moved, News, Same, Stop};
use crate::files::{FileFault, Side, Source};

/// Smallest file whose part is kept when it is cut, in bytes: what is smaller is sooner copied than looked for.
pub(super) const WORTH_KEEPING: u64 = 4 * 1024 * 1024;
/// A part that was changed so recently may be somebody's who is at it, in seconds.
const FRESH: u64 = 30;
/// How long such a part is watched.
const WATCH: Duration = Duration::from_millis(1500);

/// What is the same for all files of a copy.
pub(super) struct Shared<'a> {
    pub(super) from: &'a Side,
    pub(super) to: &'a Side,
    pub(super) options: &'a CopyOptions,
    pub(super) watch: &'a dyn CopyWatch,
    pub(super) stop: &'a Stop,
}

/// A file that was not copied: why, and what is left of it at the destination.
pub(super) struct Broken {
    pub(super) fault: CopyFault,
    /// The path of its part, with how many bytes are in it.
    pub(super) part: Option<(Vec<u8>, u64)>,
}

impl From<FileFault> for Broken {
    fn from(fault: FileFault) -> Self {
        Self { fault: fault.into(), part: None }
    }
}

/// Copies one file.
pub(super) async fn transfer(shared: &Shared<'_>, deed: &FileDeed, number: usize) -> Result<Moved, Broken> {
    if shared.options.same == Same::ByContent
        && let Some(there) = deed.replaces
        && there.size == deed.attributes.size
        && is_same(shared, deed).await?
    {
        return Ok(Moved { bytes: deed.bytes(), same: true, ..Moved::default() });
    }
    let part = new_part(&deed.to);
    let from_before = match shared.options.resume && deed.bytes() >= WORTH_KEEPING {
        true => take_over(shared, deed, &part).await?,
        false => 0,
    };
    shared.watch.news(News::Begins { number, path: &deed.to, bytes: deed.bytes(), from: from_before });
    let mut there = Written { bytes: from_before };
    let copied = tokio::select! {
        copied = write(shared, deed, &part, number, &mut there) => copied,
        () = shared.stop.wanted() => Err(CopyFault::Stopped),
    };
    copied.map_err(|fault| Broken { fault, part: Some((part, there.bytes)) })
}

/// How much of a part is there.
struct Written {
    bytes: u64,
}

async fn write(
    shared: &Shared<'_>,
    deed: &FileDeed,
    part: &[u8],
    number: usize,
    there: &mut Written,
) -> Result<Moved, CopyFault> {
    let Shared { from, to, options, .. } = shared;
    let start = there.bytes;
    let mut source = from.read(&deed.from, start).await?;
    let mut sink = match start {
        0 => to.create(part).await?,
        _ => to.reopen(part).await?,
    };
    let mut growing = (options.verify && start == 0).then(Growing::new);
    let (mut end, mut sent) = (start, 0);
    while let Some((offset, pieces)) = source.next().await? {
        let len: u64 = pieces.iter().map(|piece| piece.len() as u64).sum();
        if let Some(growing) = &mut growing {
            growing.add(offset, &pieces);
        }
        sink.write(offset, pieces).await?;
        (end, sent) = (offset + len, sent + len);
        there.bytes = end;
        shared.watch.news(News::Bytes { number, bytes: len });
    }
    let opened = source.attributes();
    let after = source.look().await?;
    let size = match &source {
        Source::Here { .. } => whole(&opened, &after, end),
        // A machine sends what it has, holes and all: what it says of the size is a word, and no more.
        Source::There(_) => end,
    };
    drop(source);
    sink.finish(as_it_is_to_be(deed, &opened, options, size), true).await?;
    let mut moved = Moved {
        bytes: size,
        from_before: start,
        holes: size.saturating_sub(start + sent),
        changed: is_changed(&opened, &after),
        ..Moved::default()
    };
    if options.verify {
        shared.watch.news(News::Verifies { number });
        let sent = match growing {
            Some(growing) => Some(growing.finish(size)),
            None => digest(from, &deed.from, size, true).await?,
        };
        let side = || to.name().to_owned();
        match (sent, digest(to, part, size, true).await?) {
            (Some(sent), Some(there)) if sent == there => moved.verified = true,
            (Some(_), Some(_)) => return Err(CopyFault::Differs { side: side() }),
            _ => return Err(CopyFault::NotVerified { side: side() }),
        }
    }
    to.rename_over(part, &deed.to).await?;
    Ok(moved)
}

/// Where a file ends: as it said when it was opened, or where reading it ended, which is before that where it was cut meanwhile.
pub(super) fn whole(opened: &Attributes, after: &Attributes, end: u64) -> u64 {
    match opened.size {
        Some(size) if size > 0 => size.min(after.size.unwrap_or(size)).max(end),
        _ => end,
    }
}

/// What a file is to be known as: it has its size, which counts where it ends in nothing, its time, and the permissions that were said, or those of the
/// file that it replaces, or its own.
fn as_it_is_to_be(deed: &FileDeed, opened: &Attributes, options: &CopyOptions, size: u64) -> Attributes {
    let own = opened.permissions().map(|mode| mode & 0o777);
    let replaced = deed.replaces.and_then(|replaced| replaced.permissions()).map(|mode| mode & 0o777);
    Attributes {
        size: Some(size),
        owner: None,
        mode: options.permissions.or(replaced).or(own),
        times: opened.times.filter(|_| options.keep_times),
    }
}

/// Whether a file is another one now than when it was opened. One that has grown at its end, as a log does, is not.
fn is_changed(opened: &Attributes, after: &Attributes) -> bool {
    let changed = |attributes: &Attributes| attributes.times.map(|(_, changed)| changed);
    match (opened.size, after.size) {
        (Some(before), Some(now)) if now > before => false,
        (before, now) => before != now || changed(opened) != changed(after),
    }
}

/// Whether what is there has the same content.
async fn is_same(shared: &Shared<'_>, deed: &FileDeed) -> Result<bool, FileFault> {
    let len = deed.bytes();
    let here = digest(shared.from, &deed.from, len, true).await?;
    Ok(here.is_some() && here == digest(shared.to, &deed.to, len, true).await?)
}

/// Takes what is there of a file from before, under the new name of its part; how many bytes that are, all of which prove equal.
async fn take_over(shared: &Shared<'_>, deed: &FileDeed, part: &[u8]) -> Result<u64, FileFault> {
    let Shared { from, to, .. } = shared;
    let Some((old, attributes)) = find_part(to, &deed.to, deed.bytes()).await? else { return Ok(0) };
    let len = attributes.size.unwrap_or(0);
    if is_fresh(&attributes) {
        sleep(WATCH).await;
        let now = to.look(&old, false).await?;
        if now.is_none_or(|now| (now.size, now.times) != (attributes.size, attributes.times)) {
            // Somebody is at it.
            return Ok(0);
        }
    }
    let there = digest(to, &old, len, false).await?;
    if there.is_none() || there != digest(from, &deed.from, len, true).await? {
        return Ok(0);
    }
    // Whoever renames it has it: another who had the same in mind finds it gone.
    match to.rename(&old, part).await {
        Ok(()) => Ok(len),
        Err(fault) if fault.is_end() => Err(fault),
        Err(_) => Ok(0),
    }
}

fn is_fresh(attributes: &Attributes) -> bool {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    attributes.times.is_none_or(|(_, changed)| u64::from(changed).abs_diff(now) < FRESH)
}

/// A file that is copied to no name: its bytes go where they are wanted.
pub(super) async fn open(side: &Side, path: &[u8]) -> Result<Source, FileFault> {
    let source = side.read(path, 0).await?;
    match source.attributes().kind() {
        FileKind::Folder => Err(FileFault::here("read", "", std::io::ErrorKind::IsADirectory.into())),
        _ => Ok(source),
    }
}
