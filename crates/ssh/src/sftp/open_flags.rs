//! How a file is opened.

/// How a file is opened (draft §6.3).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct OpenFlags {
    /// To read it.
    pub read: bool,
    /// To write to it.
    pub write: bool,
    /// Every write goes to its end.
    pub append: bool,
    /// It is made where there is none.
    pub create: bool,
    /// It is emptied.
    pub truncate: bool,
    /// There must be none.
    pub exclusive: bool,
}

impl OpenFlags {
    /// To read what is there.
    pub const READ: Self =
        Self { read: true, write: false, append: false, create: false, truncate: false, exclusive: false };
    /// To write to what is there.
    pub const WRITE: Self = Self { read: false, write: true, ..Self::READ };
    /// To write a file that nobody has made before, not even a link to one.
    pub const NEW: Self = Self { write: true, create: true, exclusive: true, read: false, ..Self::READ };

    fn bits(self) -> [(bool, u32); 6] {
        [
            (self.read, 0x01),
            (self.write, 0x02),
            (self.append, 0x04),
            (self.create, 0x08),
            (self.truncate, 0x10),
            (self.exclusive, 0x20),
        ]
    }

    pub(super) fn to_number(self) -> u32 {
        self.bits().iter().filter(|(set, _)| *set).map(|(_, bit)| bit).sum()
    }

    pub(super) fn from_number(number: u32) -> Self {
        let has = |bit: u32| number & bit != 0;
        Self {
            read: has(0x01),
            write: has(0x02),
            append: has(0x04),
            create: has(0x08),
            truncate: has(0x10),
            exclusive: has(0x20),
        }
    }
}
