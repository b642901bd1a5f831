//! What is asked of a server of files (draft §4, §6), encoded and decoded.

use bytes::Bytes;
use lantern_keys::wire::{Reader, WireError, Writer};

use super::check_file;
use super::extensions::Extension;
use super::{Attributes, FileHandle, OpenFlags, VERSION, numbers};

/// One question. Paths and names are bytes as the machine has them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SftpRequest {
    /// The first message: which version is spoken.
    Init {
        /// The version.
        version: u32,
    },
    /// Open a file.
    Open {
        /// Which.
        path: Vec<u8>,
        /// How.
        flags: OpenFlags,
        /// What a new one is to be.
        attributes: Attributes,
    },
    /// Close a file or a folder.
    Close(Bytes),
    /// Read of a file.
    Read {
        /// Which.
        handle: Bytes,
        /// From this byte.
        offset: u64,
        /// So many bytes at most.
        len: u32,
    },
    /// Write to a file.
    Write {
        /// Which.
        handle: Bytes,
        /// From this byte.
        offset: u64,
        /// These bytes.
        data: Bytes,
    },
    /// What is known of a file, behind links.
    Stat(Vec<u8>),
    /// What is known of a file, or of a link itself.
    LinkStat(Vec<u8>),
    /// What is known of an open file.
    HandleStat(Bytes),
    /// Change what is known of a file.
    SetStat(Vec<u8>, Attributes),
    /// The same of a link itself (`lsetstat@openssh.com`).
    LinkSetStat(Vec<u8>, Attributes),
    /// Change what is known of an open file.
    HandleSetStat(Bytes, Attributes),
    /// Open a folder to list it.
    OpenFolder(Vec<u8>),
    /// The next names in it.
    ReadFolder(Bytes),
    /// Remove a file.
    Remove(Vec<u8>),
    /// Make a folder.
    MakeFolder(Vec<u8>, Attributes),
    /// Remove an empty folder.
    RemoveFolder(Vec<u8>),
    /// The one absolute name of a path.
    RealPath(Vec<u8>),
    /// What a path with `~` in front means (`expand-path@openssh.com`).
    ExpandPath(Vec<u8>),
    /// Give a file another name, which must be free.
    Rename {
        /// The name that it has.
        old: Vec<u8>,
        /// The name that it gets.
        new: Vec<u8>,
    },
    /// The same over what is there, in one step (`posix-rename@openssh.com`).
    RenameOver {
        /// The name that it has.
        old: Vec<u8>,
        /// The name that it gets.
        new: Vec<u8>,
    },
    /// Where a link leads.
    ReadLink(Vec<u8>),
    /// Make a symbolic link.
    MakeLink {
        /// Its name.
        link: Vec<u8>,
        /// Where it leads.
        target: Vec<u8>,
    },
    /// Give a file a second name (`hardlink@openssh.com`).
    HardLink {
        /// The name that it has.
        old: Vec<u8>,
        /// The name that it gets as well.
        new: Vec<u8>,
    },
    /// Bring an open file to disk (`fsync@openssh.com`).
    Sync(Bytes),
    /// How much room there is (`statvfs@openssh.com`).
    Space(Vec<u8>),
    /// What the server takes (`limits@openssh.com`).
    Limits,
    /// Copy from one open file to another (`copy-data`).
    CopyData {
        /// From this file.
        from: Bytes,
        /// From this byte.
        from_offset: u64,
        /// So many bytes; 0 is to its end.
        len: u64,
        /// To this file.
        to: Bytes,
        /// From this byte on.
        to_offset: u64,
    },
    /// What a file holds, as a digest (`check-file`).
    Digest {
        /// Which.
        path: Vec<u8>,
        /// From this byte.
        offset: u64,
        /// So many bytes; 0 is to its end.
        len: u64,
    },
    /// An extension that we do not know, or a message that we do not.
    Unknown,
}

impl SftpRequest {
    /// The message with its length, and the data that follows it and is counted in that length.
    pub(super) fn encode(&self, id: u32, links_reversed: bool) -> (Vec<u8>, Option<Bytes>) {
        let mut out = vec![0; 4];
        let mut data = None;
        out.put_byte(self.number());
        match self {
            Self::Init { version } => out.put_uint32(*version),
            _ => out.put_uint32(id),
        }
        if let Some(extension) = self.extension() {
            out.put_string(extension.asked_as().as_bytes());
        }
        match self {
            Self::Init { .. } | Self::Limits | Self::Unknown => {}
            Self::Open { path, flags, attributes } => {
                out.put_string(path);
                out.put_uint32(flags.to_number());
                attributes.write(&mut out);
            }
            Self::Close(handle)
            | Self::HandleStat(handle)
            | Self::ReadFolder(handle)
            | Self::Sync(handle) => {
                out.put_string(handle);
            }
            Self::Read { handle, offset, len } => {
                out.put_string(handle);
                out.put(&offset.to_be_bytes());
                out.put_uint32(*len);
            }
            Self::Write { handle, offset, data: bytes } => {
                out.put_string(handle);
                out.put(&offset.to_be_bytes());
                out.put_uint32(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
                data = Some(bytes.clone());
            }
            Self::Stat(path)
            | Self::LinkStat(path)
            | Self::OpenFolder(path)
            | Self::Remove(path)
            | Self::RemoveFolder(path)
            | Self::RealPath(path)
            | Self::ExpandPath(path)
            | Self::ReadLink(path)
            | Self::Space(path) => out.put_string(path),
            Self::SetStat(path, attributes)
            | Self::LinkSetStat(path, attributes)
            | Self::MakeFolder(path, attributes) => {
                out.put_string(path);
                attributes.write(&mut out);
            }
            Self::HandleSetStat(handle, attributes) => {
                out.put_string(handle);
                attributes.write(&mut out);
            }
            Self::Rename { old, new } | Self::RenameOver { old, new } | Self::HardLink { old, new } => {
                out.put_string(old);
                out.put_string(new);
            }
            Self::MakeLink { link, target } => {
                let (first, second) = if links_reversed { (target, link) } else { (link, target) };
                out.put_string(first);
                out.put_string(second);
            }
            Self::Digest { path, offset, len } => {
                out.put_string(path);
                out.put_string(check_file::ALGORITHM);
                out.put(&offset.to_be_bytes());
                out.put(&len.to_be_bytes());
                // One digest for all of it.
                out.put_uint32(0);
            }
            Self::CopyData { from, from_offset, len, to, to_offset } => {
                out.put_string(from);
                out.put(&from_offset.to_be_bytes());
                out.put(&len.to_be_bytes());
                out.put_string(to);
                out.put(&to_offset.to_be_bytes());
            }
        }
        let len = out.len() - 4 + data.as_ref().map_or(0, Bytes::len);
        let length = u32::try_from(len).unwrap_or(u32::MAX).to_be_bytes();
        out.iter_mut().zip(length).for_each(|(place, byte)| *place = byte);
        (out, data)
    }

    fn number(&self) -> u8 {
        match self {
            Self::Init { .. } => numbers::INIT,
            Self::Open { .. } => numbers::OPEN,
            Self::Close(_) => numbers::CLOSE,
            Self::Read { .. } => numbers::READ,
            Self::Write { .. } => numbers::WRITE,
            Self::Stat(_) => numbers::STAT,
            Self::LinkStat(_) => numbers::LSTAT,
            Self::HandleStat(_) => numbers::FSTAT,
            Self::SetStat(..) => numbers::SETSTAT,
            Self::HandleSetStat(..) => numbers::FSETSTAT,
            Self::OpenFolder(_) => numbers::OPENDIR,
            Self::ReadFolder(_) => numbers::READDIR,
            Self::Remove(_) => numbers::REMOVE,
            Self::MakeFolder(..) => numbers::MKDIR,
            Self::RemoveFolder(_) => numbers::RMDIR,
            Self::RealPath(_) => numbers::REALPATH,
            Self::Rename { .. } => numbers::RENAME,
            Self::ReadLink(_) => numbers::READLINK,
            Self::MakeLink { .. } => numbers::SYMLINK,
            _ => numbers::EXTENDED,
        }
    }

    /// The extension that this is a request of.
    pub fn extension(&self) -> Option<Extension> {
        Some(match self {
            Self::LinkSetStat(..) => Extension::Lsetstat,
            Self::ExpandPath(_) => Extension::ExpandPath,
            Self::RenameOver { .. } => Extension::PosixRename,
            Self::HardLink { .. } => Extension::Hardlink,
            Self::Sync(_) => Extension::Fsync,
            Self::Space(_) => Extension::Statvfs,
            Self::Limits => Extension::Limits,
            Self::CopyData { .. } => Extension::CopyData,
            Self::Digest { .. } => Extension::CheckFile,
            _ => return None,
        })
    }

    /// Reads a message without its length: what is asked, and the number that the answer is to have, which is none for the first message.
    ///
    /// # Errors
    /// Malformed bytes.
    pub fn decode(message: &[u8], links_reversed: bool) -> Result<(Option<u32>, Self), WireError> {
        let mut reader = Reader::new(message);
        let number = reader.u8("message number")?;
        if number == numbers::INIT {
            // What follows the version is for extensions of clients, of which there are none.
            return Ok((None, Self::Init { version: reader.u32("version")? }));
        }
        let id = reader.u32("id")?;
        let r = &mut reader;
        let path = |r: &mut Reader<'_>| r.string("path").map(<[u8]>::to_vec);
        let handle = |r: &mut Reader<'_>| r.string("handle").map(Bytes::copy_from_slice);
        let request = match number {
            numbers::OPEN => Self::Open {
                path: path(r)?,
                flags: OpenFlags::from_number(r.u32("pflags")?),
                attributes: Attributes::read(r)?,
            },
            numbers::CLOSE => Self::Close(handle(r)?),
            numbers::READ => Self::Read { handle: handle(r)?, offset: r.u64("offset")?, len: r.u32("len")? },
            numbers::WRITE => Self::Write {
                handle: handle(r)?,
                offset: r.u64("offset")?,
                data: Bytes::copy_from_slice(r.string("data")?),
            },
            numbers::STAT => Self::Stat(path(r)?),
            numbers::LSTAT => Self::LinkStat(path(r)?),
            numbers::FSTAT => Self::HandleStat(handle(r)?),
            numbers::SETSTAT => Self::SetStat(path(r)?, Attributes::read(r)?),
            numbers::FSETSTAT => Self::HandleSetStat(handle(r)?, Attributes::read(r)?),
            numbers::OPENDIR => Self::OpenFolder(path(r)?),
            numbers::READDIR => Self::ReadFolder(handle(r)?),
            numbers::REMOVE => Self::Remove(path(r)?),
            numbers::MKDIR => Self::MakeFolder(path(r)?, Attributes::read(r)?),
            numbers::RMDIR => Self::RemoveFolder(path(r)?),
            numbers::REALPATH => Self::RealPath(path(r)?),
            numbers::RENAME => Self::Rename { old: path(r)?, new: path(r)? },
            numbers::READLINK => Self::ReadLink(path(r)?),
            numbers::SYMLINK => {
                let (first, second) = (path(r)?, path(r)?);
                let (link, target) = if links_reversed { (second, first) } else { (first, second) };
                Self::MakeLink { link, target }
            }
            numbers::EXTENDED => match Extension::by_name(r.string("extended request")?) {
                Some(Extension::PosixRename) => Self::RenameOver { old: path(r)?, new: path(r)? },
                Some(Extension::Hardlink) => Self::HardLink { old: path(r)?, new: path(r)? },
                Some(Extension::Fsync) => Self::Sync(handle(r)?),
                Some(Extension::Statvfs) => Self::Space(path(r)?),
                Some(Extension::Lsetstat) => Self::LinkSetStat(path(r)?, Attributes::read(r)?),
                Some(Extension::Limits) => Self::Limits,
                Some(Extension::ExpandPath) => Self::ExpandPath(path(r)?),
                Some(Extension::CopyData) => Self::CopyData {
                    from: handle(r)?,
                    from_offset: r.u64("read-from-offset")?,
                    len: r.u64("read-data-length")?,
                    to: handle(r)?,
                    to_offset: r.u64("write-to-offset")?,
                },
                Some(Extension::CheckFile) => {
                    let (path, algorithms) = (path(r)?, r.string("hash-algorithm-list")?);
                    let knows =
                        algorithms.split(|byte| *byte == b',').any(|name| name == check_file::ALGORITHM);
                    let (offset, len) = (r.u64("start-offset")?, r.u64("length")?);
                    match r.u32("block-size")? {
                        0 if knows => Self::Digest { path, offset, len },
                        _ => return Ok((Some(id), Self::Unknown)),
                    }
                }
                None => return Ok((Some(id), Self::Unknown)),
            },
            _ => return Ok((Some(id), Self::Unknown)),
        };
        reader.finish()?;
        Ok((Some(id), request))
    }

    /// To read of an open file.
    pub fn read(file: &FileHandle, offset: u64, len: u32) -> Self {
        Self::Read { handle: file.0.clone(), offset, len }
    }

    /// To write to an open file.
    pub fn write(file: &FileHandle, offset: u64, data: Bytes) -> Self {
        Self::Write { handle: file.0.clone(), offset, data }
    }

    /// To close a file or a folder, whose handle means nothing from then on.
    pub fn close(file: FileHandle) -> Self {
        Self::Close(file.0)
    }

    /// What is known of an open file.
    pub fn look_at(file: &FileHandle) -> Self {
        Self::HandleStat(file.0.clone())
    }

    /// Change what is known of an open file.
    pub fn change(file: &FileHandle, attributes: Attributes) -> Self {
        Self::HandleSetStat(file.0.clone(), attributes)
    }

    /// The next names in an open folder.
    pub fn list(folder: &FileHandle) -> Self {
        Self::ReadFolder(folder.0.clone())
    }

    /// Bring an open file to disk.
    pub fn sync(file: &FileHandle) -> Self {
        Self::Sync(file.0.clone())
    }

    /// The first message.
    pub(super) fn init() -> Self {
        Self::Init { version: VERSION }
    }
}
