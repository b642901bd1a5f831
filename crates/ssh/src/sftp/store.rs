//! What the server role takes files from.

use bytes::Bytes;

use super::{Attributes, OpenFlags, Refusal, Space};

/// What came of something, or why it was not done.
pub type StoreResult<T> = Result<T, Refusal>;

/// A file, by a number that stays the same whatever its names are.
pub type FileNumber = u64;

/// Files, by their names and their numbers. Everything is done at once.
pub trait FileStore {
    /// Opens a file, and makes it where the flags say so.
    fn open(&mut self, path: &[u8], flags: OpenFlags, attributes: Attributes) -> StoreResult<FileNumber>;
    /// The last handle of it was closed.
    fn closed(&mut self, file: FileNumber);
    /// Bytes from there on, `len` at most; none at the end.
    fn read(&mut self, file: FileNumber, offset: u64, len: usize) -> StoreResult<Bytes>;
    /// Writes bytes there.
    fn write(&mut self, file: FileNumber, offset: u64, data: &[u8]) -> StoreResult<()>;
    /// How long it is, in bytes: where writes go that go to its end.
    fn len(&mut self, file: FileNumber) -> StoreResult<u64>;
    /// What is known of an open file.
    fn look_at(&mut self, file: FileNumber) -> StoreResult<Attributes>;
    /// Changes that.
    fn change_open(&mut self, file: FileNumber, attributes: Attributes) -> StoreResult<()>;
    /// What is known of a file, behind links or not.
    fn look(&mut self, path: &[u8], follow: bool) -> StoreResult<Attributes>;
    /// Changes that.
    fn change(&mut self, path: &[u8], follow: bool, attributes: Attributes) -> StoreResult<()>;
    /// The names in a folder.
    fn list(&mut self, path: &[u8]) -> StoreResult<Vec<(Vec<u8>, Attributes)>>;
    /// Removes a file, or an empty folder.
    fn remove(&mut self, path: &[u8], folder: bool) -> StoreResult<()>;
    /// Makes a folder.
    fn make_folder(&mut self, path: &[u8], attributes: Attributes) -> StoreResult<()>;
    /// Gives it another name; over what is there, or not.
    fn rename(&mut self, old: &[u8], new: &[u8], over: bool) -> StoreResult<()>;
    /// Where a link leads.
    fn read_link(&mut self, path: &[u8]) -> StoreResult<Vec<u8>>;
    /// Makes a symbolic link.
    fn make_link(&mut self, link: &[u8], target: &[u8]) -> StoreResult<()>;
    /// Gives a file a second name.
    fn hard_link(&mut self, old: &[u8], new: &[u8]) -> StoreResult<()>;
    /// The absolute name of a path, by which it is called from anywhere; `expand`: `~` in front means a home.
    fn real_path(&mut self, path: &[u8], expand: bool) -> StoreResult<Vec<u8>>;
    /// How much room there is.
    fn space(&mut self, path: &[u8]) -> StoreResult<Space>;
    /// Brings it to disk.
    fn sync(&mut self, file: FileNumber) -> StoreResult<()>;
}
