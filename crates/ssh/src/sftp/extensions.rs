//! What a server can do beyond the draft, as it announces it with its version (draft §4).

use lantern_keys::wire::{Reader, WireError, Writer};

/// An extension that we know.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Extension {
    /// Rename over what is there, in one step.
    PosixRename,
    /// Make a hard link.
    Hardlink,
    /// Bring a file's bytes to disk.
    Fsync,
    /// How much room there is.
    Statvfs,
    /// Set attributes of a link itself.
    Lsetstat,
    /// What the server takes.
    Limits,
    /// What a path with `~` means.
    ExpandPath,
    /// Copy within the machine.
    CopyData,
    /// Digests of files.
    CheckFile,
}

/// Each with its name and the version that we speak.
const KNOWN: [(Extension, &str, &str); 9] = [
    (Extension::PosixRename, "posix-rename@openssh.com", "1"),
    (Extension::Hardlink, "hardlink@openssh.com", "1"),
    (Extension::Fsync, "fsync@openssh.com", "1"),
    (Extension::Statvfs, "statvfs@openssh.com", "2"),
    (Extension::Lsetstat, "lsetstat@openssh.com", "1"),
    (Extension::Limits, "limits@openssh.com", "1"),
    (Extension::ExpandPath, "expand-path@openssh.com", "1"),
    (Extension::CopyData, "copy-data", "1"),
    (Extension::CheckFile, "check-file", "1"),
];

impl Extension {
    /// All that we know.
    pub fn all() -> impl Iterator<Item = Self> {
        KNOWN.iter().map(|(extension, ..)| *extension)
    }

    /// Its name on the wire.
    pub fn name(self) -> &'static str {
        KNOWN.iter().find(|(known, ..)| *known == self).map(|(_, name, _)| *name).unwrap_or_default()
    }

    /// The name by which it is asked for, which is another where there are several ways to ask.
    pub(super) fn asked_as(self) -> &'static str {
        match self {
            Self::CheckFile => "check-file-name",
            other => other.name(),
        }
    }

    pub(super) fn by_name(name: &[u8]) -> Option<Self> {
        Self::all().find(|known| known.asked_as().as_bytes() == name)
    }
}

/// A set of extensions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Extensions {
    bits: u16,
    links_reversed: bool,
}

impl Extensions {
    /// All that a server of the common make has.
    pub fn all() -> Self {
        Self { bits: u16::MAX, links_reversed: true }.without(Extension::CheckFile)
    }

    /// This one too.
    #[must_use]
    pub fn and(self, extension: Extension) -> Self {
        Self { bits: self.bits | 1 << extension as u8, ..self }
    }

    /// All of them but this one.
    #[must_use]
    pub fn without(self, extension: Extension) -> Self {
        Self { bits: self.bits & !(1 << extension as u8), ..self }
    }

    /// Whether the server has it.
    pub fn has(self, extension: Extension) -> bool {
        self.bits & 1 << extension as u8 != 0
    }

    /// Whether a link's target comes first in the request that makes one. The draft (§6.10) has it last; the most common server took them the other
    /// way round from its beginning, says so in its notes on the protocol, and those that follow its extensions follow that as well.
    pub fn links_reversed(self) -> bool {
        self.links_reversed
    }

    /// Reads the pairs of name and version that follow the version's number. Those that we do not know are passed over.
    pub(super) fn read(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let mut extensions = Self::default();
        while !reader.rest().is_empty() {
            let (name, version) = (reader.string("extension name")?, reader.string("extension data")?);
            extensions.links_reversed |= name.ends_with(b"@openssh.com");
            let known = KNOWN
                .iter()
                .find(|(_, known, wanted)| known.as_bytes() == name && wanted.as_bytes() == version);
            if let Some((extension, ..)) = known {
                extensions = extensions.and(*extension);
            }
        }
        Ok(extensions)
    }

    /// Writes them.
    pub(super) fn write(self, out: &mut Vec<u8>) {
        for (_, name, version) in KNOWN.iter().filter(|(extension, ..)| self.has(*extension)) {
            out.put_string(name.as_bytes());
            out.put_string(version.as_bytes());
        }
    }
}

/// What a server takes at most (`limits@openssh.com`); 0 is said where there is no limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ServerLimits {
    /// Bytes of a message.
    pub packet: u64,
    /// Bytes of one read.
    pub read: u64,
    /// Bytes of one write.
    pub write: u64,
    /// Handles that are open at once.
    pub handles: u64,
}

impl ServerLimits {
    /// What every server takes: the draft (§3) has them take messages of 34000 bytes.
    pub const ASSUMED: Self = Self { packet: 34_000, read: 32 * 1024, write: 32 * 1024, handles: 0 };

    pub(super) fn read(content: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(content);
        Ok(Self {
            packet: reader.u64("max-packet-length")?,
            read: reader.u64("max-read-length")?,
            write: reader.u64("max-write-length")?,
            handles: reader.u64("max-open-handles")?,
        })
    }

    pub(super) fn encode(self) -> Vec<u8> {
        [self.packet, self.read, self.write, self.handles]
            .iter()
            .flat_map(|limit| limit.to_be_bytes())
            .collect()
    }
}
