//! How much is read of a machine, and why.

/// Longest message, in bytes, put together from its fragments: services send objects of up to 10 MB unless they are told otherwise, and an object of text is
/// twice that in XML.
pub const MAX_MESSAGE: usize = 32 * 1024 * 1024;
/// Deepest nesting of objects: services go eight levels deep, and the standard's own messages a few.
pub const MAX_NESTING: usize = 64;
/// Most values of a message: the shortest takes some six bytes, and one of ours in memory some sixty.
pub const MAX_VALUES: usize = 1_000_000;
/// Most names of types that one object has: a class and those above it.
pub const MAX_TYPES: usize = 64;
/// Most bytes that a fragment brings: a whole envelope has no more.
pub const MAX_BLOB: usize = 8 * 1024 * 1024;
/// Most bytes of one object as JSON: four times the longest message, which few references can turn into as much as there is memory.
pub const MAX_JSON: usize = 128 * 1024 * 1024;
/// Most questions of one pipeline that wait for an answer: it stops at each.
pub const MAX_ASKED: usize = 16;
