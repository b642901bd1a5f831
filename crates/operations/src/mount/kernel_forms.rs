//! What the kernel says, as the protocol of files has it, and the other way round.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use fuser::{FileAttr, FileType, INodeNo, ReplyEmpty, TimeOrNow};
use lantern_ssh::sftp::{Attributes, FileKind, OpenFlags};

use super::trouble::Trouble;

/// What sizes are told in.
pub(super) const BLOCK: u32 = 4096;

pub(super) fn name(name: &OsStr) -> Vec<u8> {
    name.as_bytes().to_vec()
}

fn time(seconds: u32) -> SystemTime {
    UNIX_EPOCH + Duration::from_secs(seconds.into())
}

pub(super) fn kind(kind: FileKind) -> FileType {
    match kind {
        FileKind::Folder => FileType::Directory,
        FileKind::Link => FileType::Symlink,
        FileKind::Fifo => FileType::NamedPipe,
        FileKind::Socket => FileType::Socket,
        FileKind::Device => FileType::CharDevice,
        FileKind::Regular | FileKind::Unknown => FileType::RegularFile,
    }
}

/// Answers that something was done, or why not.
pub(super) fn done(reply: ReplyEmpty, outcome: Result<(), Trouble>) {
    match outcome {
        Ok(()) => reply.ok(),
        Err(trouble) => reply.error(trouble.number()),
    }
}

pub(super) fn attr(number: u64, attributes: &Attributes, (uid, gid): (u32, u32)) -> FileAttr {
    let size = attributes.size.unwrap_or(0);
    let (read, changed) =
        attributes.times.map_or((UNIX_EPOCH, UNIX_EPOCH), |(read, changed)| (time(read), time(changed)));
    let usual = if attributes.kind() == FileKind::Folder { 0o755 } else { 0o644 };
    FileAttr {
        ino: INodeNo(number),
        size,
        blocks: size.div_ceil(512),
        atime: read,
        mtime: changed,
        ctime: changed,
        crtime: changed,
        kind: kind(attributes.kind()),
        // Marks that give away rights mean nothing here.
        perm: u16::try_from(attributes.permissions().unwrap_or(usual) & 0o777).unwrap_or(0o644),
        nlink: 1,
        uid,
        gid,
        rdev: 0,
        blksize: BLOCK,
        flags: 0,
    }
}

/// The kernel's flags for opening a file, as the machine has them.
pub(super) fn flags(bits: i32) -> OpenFlags {
    let bits = rustix::fs::OFlags::from_bits_retain(u32::try_from(bits).unwrap_or(0));
    let access = bits & rustix::fs::OFlags::ACCMODE;
    let has = |flag| bits.contains(flag);
    OpenFlags {
        read: access != rustix::fs::OFlags::WRONLY,
        write: access != rustix::fs::OFlags::RDONLY,
        append: has(rustix::fs::OFlags::APPEND),
        create: false,
        truncate: has(rustix::fs::OFlags::TRUNC),
        exclusive: false,
    }
}

/// Whole seconds, which are all that version 3 has.
pub(super) fn seconds(time: TimeOrNow) -> u32 {
    let time = match time {
        TimeOrNow::SpecificTime(time) => time,
        TimeOrNow::Now => SystemTime::now(),
    };
    let since = time.duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    u32::try_from(since).unwrap_or(u32::MAX)
}
