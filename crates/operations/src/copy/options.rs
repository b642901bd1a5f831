//! What a copy is to do.

/// When a file that is there already is taken for the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Same {
    /// Its size and its time are the same.
    #[default]
    BySizeAndTime,
    /// Its content is the same.
    ByContent,
    /// Never: everything is copied.
    Never,
}

/// What a copy is to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CopyOptions {
    /// Whether what links lead to is copied, and not the links.
    pub follow_links: bool,
    /// Whether files keep the time of their last change.
    pub keep_times: bool,
    /// What every file is to have as its permissions; else what it has, or what a file has that it replaces.
    pub permissions: Option<u32>,
    /// When a file that is there is left as it is.
    pub same: Same,
    /// Whether files are replaced that were changed there after they were here.
    pub replace_newer: bool,
    /// Whether nothing that is there is touched.
    pub keep_existing: bool,
    /// Whether what is there of a file that was cut is gone on with, where it proves equal.
    pub resume: bool,
    /// Whether each file is compared when it is there, before it gets its name.
    pub verify: bool,
    /// Whether what is at the destination and not at the source is removed.
    pub mirror: bool,
    /// Whether the room is asked for first.
    pub check_space: bool,
    /// Files of this computer that may be open at once.
    pub most_open_here: usize,
}

impl Default for CopyOptions {
    fn default() -> Self {
        Self {
            follow_links: false,
            keep_times: true,
            permissions: None,
            same: Same::default(),
            replace_newer: false,
            keep_existing: false,
            resume: true,
            verify: false,
            mirror: false,
            check_space: true,
            most_open_here: 256,
        }
    }
}
