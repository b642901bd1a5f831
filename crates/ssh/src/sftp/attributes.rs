//! What is known of a file (draft §5).

use lantern_keys::wire::{Reader, WireError, Writer};

const SIZE: u32 = 0x1;
const UIDGID: u32 = 0x2;
const PERMISSIONS: u32 = 0x4;
const ACMODTIME: u32 = 0x8;
const EXTENDED: u32 = 0x8000_0000;

/// The bits of POSIX modes that say what kind a file is, and their values.
const KIND_BITS: u32 = 0o170_000;
const SOCKET: u32 = 0o140_000;
const LINK: u32 = 0o120_000;
const REGULAR: u32 = 0o100_000;
const BLOCK: u32 = 0o060_000;
const FOLDER: u32 = 0o040_000;
const CHARACTER: u32 = 0o020_000;
const FIFO: u32 = 0o010_000;

/// What kind of file something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum FileKind {
    /// Bytes.
    Regular,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A named pipe.
    Fifo,
    /// A socket.
    Socket,
    /// A device.
    Device,
    /// The server does not say, or says something else.
    Unknown,
}

impl FileKind {
    /// Its bits in a mode.
    pub fn mode_bits(self) -> u32 {
        match self {
            Self::Regular => REGULAR,
            Self::Folder => FOLDER,
            Self::Link => LINK,
            Self::Fifo => FIFO,
            Self::Socket => SOCKET,
            Self::Device => CHARACTER,
            Self::Unknown => 0,
        }
    }

    /// The kind that a mode tells.
    pub fn of_mode(mode: u32) -> Self {
        match mode & KIND_BITS {
            REGULAR => Self::Regular,
            FOLDER => Self::Folder,
            LINK => Self::Link,
            FIFO => Self::Fifo,
            SOCKET => Self::Socket,
            BLOCK | CHARACTER => Self::Device,
            _ => Self::Unknown,
        }
    }
}

/// What is known of a file, or what is to become of it; what is none is not known, or stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Attributes {
    /// Its size, in bytes.
    pub size: Option<u64>,
    /// The numbers of its owner and its group.
    pub owner: Option<(u32, u32)>,
    /// Its mode as in POSIX, with the bits of its kind.
    pub mode: Option<u32>,
    /// When it was last read and last changed, in seconds since 1970; a number of 32 bits without a sign.
    pub times: Option<(u32, u32)>,
}

impl Attributes {
    /// A mode alone.
    pub fn with_mode(mode: u32) -> Self {
        Self { mode: Some(mode), ..Self::default() }
    }

    /// What kind of file it is.
    pub fn kind(&self) -> FileKind {
        self.mode.map_or(FileKind::Unknown, FileKind::of_mode)
    }

    /// Its permissions: the mode without the kind.
    pub fn permissions(&self) -> Option<u32> {
        self.mode.map(|mode| mode & 0o7777)
    }

    /// Reads them. Extended pairs are passed over: no extension that we know has any.
    ///
    /// # Errors
    /// Malformed bytes.
    pub(super) fn read(reader: &mut Reader<'_>) -> Result<Self, WireError> {
        let flags = reader.u32("attribute flags")?;
        let has = |flag| flags & flag != 0;
        let mut attributes = Self::default();
        if has(SIZE) {
            attributes.size = Some(reader.u64("size")?);
        }
        if has(UIDGID) {
            attributes.owner = Some((reader.u32("uid")?, reader.u32("gid")?));
        }
        if has(PERMISSIONS) {
            attributes.mode = Some(reader.u32("permissions")?);
        }
        if has(ACMODTIME) {
            attributes.times = Some((reader.u32("atime")?, reader.u32("mtime")?));
        }
        if has(EXTENDED) {
            // Each pair takes bytes of the message, so a large count ends with them.
            for _ in 0..reader.u32("extended count")? {
                reader.string("extended type")?;
                reader.string("extended data")?;
            }
        }
        Ok(attributes)
    }

    /// Writes them.
    pub(super) fn write(&self, out: &mut Vec<u8>) {
        let flag = |known: bool, flag: u32| if known { flag } else { 0 };
        out.put_uint32(
            flag(self.size.is_some(), SIZE)
                | flag(self.owner.is_some(), UIDGID)
                | flag(self.mode.is_some(), PERMISSIONS)
                | flag(self.times.is_some(), ACMODTIME),
        );
        if let Some(size) = self.size {
            out.put(&size.to_be_bytes());
        }
        if let Some((uid, gid)) = self.owner {
            out.put_uint32(uid);
            out.put_uint32(gid);
        }
        if let Some(mode) = self.mode {
            out.put_uint32(mode);
        }
        if let Some((read, changed)) = self.times {
            out.put_uint32(read);
            out.put_uint32(changed);
        }
    }
}
