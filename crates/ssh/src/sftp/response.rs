//! What a server of files answers (draft §7), encoded and decoded.

use bytes::Bytes;
use lantern_keys::wire::{Reader, WireError, Writer};

use super::extensions::Extensions;
use super::frames::joined;
use super::status::{Refusal, StatusCode};
use super::{Attributes, numbers};

/// Bytes that the shortest entry of a listing takes: two empty strings and the flags of no attributes.
const SHORTEST_ENTRY: usize = 12;
/// Longest words that are kept of a refusal, in bytes.
const MAX_WORDS: usize = 1024;

/// A name, with what is known of its file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameEntry {
    /// The name: bytes as the machine has them.
    pub name: Vec<u8>,
    /// What servers write for people to read; some have the names of owner and group there and nowhere else.
    pub line: Vec<u8>,
    /// What is known of it.
    pub attributes: Attributes,
}

/// How much room there is where files are (`statvfs@openssh.com`), in the terms of POSIX.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Space {
    /// Size of what the next three count, in bytes.
    pub unit: u64,
    /// How many there are.
    pub units: u64,
    /// How many are free.
    pub free: u64,
    /// How many are free for users.
    pub available: u64,
    /// How many files there can be.
    pub files: u64,
    /// How many more.
    pub files_free: u64,
    /// Whether nothing can be written.
    pub read_only: bool,
    /// Longest name, in bytes.
    pub longest_name: u64,
}

impl Space {
    /// Bytes that a user may still write.
    pub fn available_bytes(&self) -> u64 {
        self.available.saturating_mul(self.unit)
    }

    /// Reads what an extended reply carries.
    ///
    /// # Errors
    /// Malformed bytes.
    pub fn decode(content: &[u8]) -> Result<Self, WireError> {
        let mut reader = Reader::new(content);
        let r = &mut reader;
        let _block = r.u64("f_bsize")?;
        let (unit, units, free, available) =
            (r.u64("f_frsize")?, r.u64("f_blocks")?, r.u64("f_bfree")?, r.u64("f_bavail")?);
        let (files, files_free, _) = (r.u64("f_files")?, r.u64("f_ffree")?, r.u64("f_favail")?);
        let (_id, flags, longest_name) = (r.u64("f_fsid")?, r.u64("f_flag")?, r.u64("f_namemax")?);
        Ok(Self { unit, units, free, available, files, files_free, read_only: flags & 1 != 0, longest_name })
    }

    /// Writes that.
    pub fn encode(&self) -> Vec<u8> {
        let numbers = [
            self.unit,
            self.unit,
            self.units,
            self.free,
            self.available,
            self.files,
            self.files_free,
            self.files_free,
            0,
            u64::from(self.read_only),
            self.longest_name,
        ];
        numbers.iter().flat_map(|number| number.to_be_bytes()).collect()
    }
}

/// One answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SftpResponse {
    /// The first message: which version is spoken, and what beyond it.
    Version {
        /// The version.
        version: u32,
        /// What the server can do beyond the draft.
        extensions: Extensions,
    },
    /// How it went.
    Status(Refusal),
    /// A file or a folder that is open.
    Handle(Bytes),
    /// Bytes of a file, in the pieces that they came in.
    Data(Vec<Bytes>),
    /// Names.
    Names(Vec<NameEntry>),
    /// What is known of a file.
    Attributes(Attributes),
    /// What an extension answers.
    Extended(Bytes),
}

impl SftpResponse {
    /// What kind of answer it is, in words.
    pub(super) fn kind(&self) -> &'static str {
        match self {
            Self::Version { .. } => "a version",
            Self::Status(_) => "a status",
            Self::Handle(_) => "a handle",
            Self::Data(_) => "data",
            Self::Names(_) => "names",
            Self::Attributes(_) => "attributes",
            Self::Extended(_) => "an extended reply",
        }
    }

    /// The message with its length.
    pub fn encode(&self, id: u32) -> Vec<u8> {
        let mut out = vec![0; 4];
        let number = match self {
            Self::Version { .. } => numbers::VERSION,
            Self::Status(_) => numbers::STATUS,
            Self::Handle(_) => numbers::HANDLE,
            Self::Data(_) => numbers::DATA,
            Self::Names(_) => numbers::NAME,
            Self::Attributes(_) => numbers::ATTRS,
            Self::Extended(_) => numbers::EXTENDED_REPLY,
        };
        out.put_byte(number);
        if !matches!(self, Self::Version { .. }) {
            out.put_uint32(id);
        }
        match self {
            Self::Version { version, extensions } => {
                out.put_uint32(*version);
                extensions.write(&mut out);
            }
            Self::Status(Refusal { code, message }) => {
                out.put_uint32(code.number());
                out.put_string(message.as_bytes());
                out.put_string(b"");
            }
            Self::Handle(handle) => out.put_string(handle),
            Self::Data(pieces) => {
                let len: usize = pieces.iter().map(Bytes::len).sum();
                out.put_uint32(u32::try_from(len).unwrap_or(u32::MAX));
                pieces.iter().for_each(|piece| out.put(piece));
            }
            Self::Names(entries) => {
                out.put_uint32(u32::try_from(entries.len()).unwrap_or(u32::MAX));
                for entry in entries {
                    out.put_string(&entry.name);
                    out.put_string(&entry.line);
                    entry.attributes.write(&mut out);
                }
            }
            Self::Attributes(attributes) => attributes.write(&mut out),
            Self::Extended(content) => out.put(content),
        }
        let length = u32::try_from(out.len() - 4).unwrap_or(u32::MAX).to_be_bytes();
        out.iter_mut().zip(length).for_each(|(place, byte)| *place = byte);
        out
    }

    /// Reads a message without its length, in the pieces that it came in; the number of the question is none for the first message.
    ///
    /// # Errors
    /// Malformed bytes, or a number that is no answer.
    pub fn decode(mut pieces: Vec<Bytes>) -> Result<(Option<u32>, Self), WireError> {
        if let Some(answer) = data(&mut pieces)? {
            return Ok(answer);
        }
        let message = joined(pieces);
        let mut reader = Reader::new(&message);
        let r = &mut reader;
        let number = r.u8("message number")?;
        if number == numbers::VERSION {
            let version = r.u32("version")?;
            return Ok((None, Self::Version { version, extensions: Extensions::read(reader)? }));
        }
        let id = r.u32("id")?;
        let response = match number {
            numbers::STATUS => {
                let code = StatusCode::from_number(r.u32("status code")?);
                // Servers of older versions end here; what language the words are in, nobody needs.
                let words = if r.rest().is_empty() { &[][..] } else { r.string("error message")? };
                let words = String::from_utf8_lossy(words.get(..MAX_WORDS).unwrap_or(words)).into_owned();
                return Ok((Some(id), Self::Status(Refusal { code, message: words })));
            }
            numbers::HANDLE => Self::Handle(Bytes::copy_from_slice(r.string("handle")?)),
            numbers::NAME => {
                let count = r.u32("count")? as usize;
                if count > r.rest().len() / SHORTEST_ENTRY {
                    return Err(WireError::Invalid {
                        field: "count",
                        rule: "more names than there are bytes for",
                    });
                }
                let mut entries = Vec::with_capacity(count);
                for _ in 0..count {
                    let (name, line) = (r.string("filename")?.to_vec(), r.string("longname")?.to_vec());
                    entries.push(NameEntry { name, line, attributes: Attributes::read(r)? });
                }
                // Some servers say here whether it was the last page (version 6).
                return Ok((Some(id), Self::Names(entries)));
            }
            numbers::ATTRS => Self::Attributes(Attributes::read(r)?),
            numbers::EXTENDED_REPLY => return Ok((Some(id), Self::Extended(message.slice(5..)))),
            _ => return Err(WireError::Invalid { field: "message number", rule: "must be an answer" }),
        };
        reader.finish()?;
        Ok((Some(id), response))
    }
}

/// Where this is an answer with data: its number and the data, still in pieces and not copied.
fn data(pieces: &mut Vec<Bytes>) -> Result<Option<(Option<u32>, SftpResponse)>, WireError> {
    const HEAD: usize = 9;
    if pieces.first().and_then(|piece| piece.first()) != Some(&numbers::DATA) {
        return Ok(None);
    }
    let mut head = [0; HEAD];
    let mut came = 0;
    while came < HEAD {
        let Some(first) = pieces.first_mut() else {
            return Err(WireError::Truncated { field: "data", needed: HEAD, left: came });
        };
        let part = first.split_to(first.len().min(HEAD - came));
        head.iter_mut().skip(came).zip(&part).for_each(|(place, byte)| *place = *byte);
        came += part.len();
        if first.is_empty() {
            pieces.remove(0);
        }
    }
    let mut reader = Reader::new(&head);
    let _number = reader.u8("message number")?;
    let (id, len) = (reader.u32("id")?, reader.u32("data length")? as usize);
    let held: usize = pieces.iter().map(Bytes::len).sum();
    match held.cmp(&len) {
        std::cmp::Ordering::Less => Err(WireError::Truncated { field: "data", needed: len, left: held }),
        std::cmp::Ordering::Greater => Err(WireError::LeftOver(held - len)),
        std::cmp::Ordering::Equal => Ok(Some((Some(id), SftpResponse::Data(std::mem::take(pieces))))),
    }
}
