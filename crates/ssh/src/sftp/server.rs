//! The answering side: what simulated machines speak.

use std::collections::{HashMap, VecDeque};

use bytes::Bytes;

use super::check_file;
use super::extensions::Extensions;
use super::frames::{Frames, joined};
use super::store::{FileNumber, FileStore, StoreResult};
use super::{
    Attributes, FileKind, MAX_SFTP_FRAME, NameEntry, Refusal, ServerLimits, SftpError, SftpRequest,
    SftpResponse, StatusCode, VERSION,
};

/// Most files and folders that are open at once.
const MAX_HANDLES: usize = 1024;
/// Bytes of one read at most: a message less its head.
const MAX_READ: usize = MAX_SFTP_FRAME - 1024;
/// Names in one page of a listing.
const PAGE: usize = 100;
/// Bytes of answers that wait above which no question is looked at.
const MAX_WAITING: usize = 1024 * 1024;

/// What is open.
#[derive(Debug)]
enum Open {
    File { number: FileNumber, appends: bool },
    Folder { names: VecDeque<(Vec<u8>, Attributes)>, begun: bool },
}

/// What servers have been met to do wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Flaws {
    /// Files that are open at the same time have one handle, which means the last of them.
    pub one_handle: bool,
    /// A listing begins with a page that has no names on it.
    pub empty_page: bool,
    /// Reads bring half of what was asked for.
    pub short_reads: bool,
}

/// The answering side of a conversation about files.
#[derive(Debug)]
pub struct SftpServer {
    flaws: Flaws,
    frames: Frames,
    extensions: Extensions,
    open: HashMap<u32, Open>,
    next: u32,
    out: VecDeque<Bytes>,
    waiting: usize,
}

impl SftpServer {
    /// One that has these extensions, and does this wrong.
    pub fn new(extensions: Extensions, flaws: Flaws) -> Self {
        Self {
            flaws,
            frames: Frames::default(),
            extensions,
            open: HashMap::new(),
            next: 0,
            out: VecDeque::new(),
            waiting: 0,
        }
    }

    /// Takes what the client sent.
    pub fn feed(&mut self, piece: Bytes) {
        self.frames.feed(piece);
    }

    /// Whether more may be fed now: it is to wait where questions do.
    pub fn wants_input(&self) -> bool {
        self.frames.held() < 2 * MAX_SFTP_FRAME
    }

    /// The next bytes for the client, in order.
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        let piece = self.out.pop_front()?;
        self.waiting -= piece.len();
        Some(piece)
    }

    /// Answers what was asked, until too many answers wait.
    ///
    /// # Errors
    /// What was said makes no sense.
    pub fn work(&mut self, store: &mut dyn FileStore) -> Result<(), SftpError> {
        while self.waiting < MAX_WAITING {
            let Some(frame) = self.frames.next_frame().map_err(SftpError::Length)? else { break };
            let message = joined(frame);
            let (id, request) = SftpRequest::decode(&message, self.extensions.links_reversed())?;
            let (id, answer) = match id {
                Some(id) => (id, self.answer(request, store).unwrap_or_else(SftpResponse::Status)),
                None => (0, SftpResponse::Version { version: VERSION, extensions: self.extensions }),
            };
            let answer = answer.encode(id);
            self.waiting += answer.len();
            self.out.push_back(answer.into());
        }
        Ok(())
    }

    fn answer(&mut self, request: SftpRequest, store: &mut dyn FileStore) -> StoreResult<SftpResponse> {
        if request.extension().is_some_and(|extension| !self.extensions.has(extension)) {
            return Err(Refusal::new(StatusCode::Unsupported));
        }
        match request {
            SftpRequest::Init { .. } => return Err(Refusal::new(StatusCode::BadMessage)),
            SftpRequest::Open { path, flags, attributes } => {
                self.room_for_one()?;
                let number = store.open(&path, flags, attributes)?;
                return Ok(self.hold(Open::File { number, appends: flags.append }));
            }
            SftpRequest::OpenFolder(path) => {
                self.room_for_one()?;
                let mut names: VecDeque<_> = store.list(&path)?.into();
                let folder = store.look(&path, true)?;
                names.extend([(b".".to_vec(), folder), (b"..".to_vec(), folder)]);
                return Ok(self.hold(Open::Folder { names, begun: !self.flaws.empty_page }));
            }
            SftpRequest::Close(handle) => {
                if let Some(Open::File { number, .. }) =
                    handle_number(&handle).and_then(|number| self.open.remove(&number))
                {
                    store.closed(number);
                }
            }
            SftpRequest::Read { handle, offset, len } => {
                let len = if self.flaws.short_reads { len.div_ceil(2) } else { len };
                let data = store.read(self.file(&handle)?.0, offset, (len as usize).min(MAX_READ))?;
                if data.is_empty() && len > 0 {
                    return Err(Refusal::new(StatusCode::EndOfFile));
                }
                return Ok(SftpResponse::Data(vec![data]));
            }
            SftpRequest::Write { handle, offset, data } => {
                let (file, appends) = self.file(&handle)?;
                let offset = if appends { store.len(file)? } else { offset };
                store.write(file, offset, &data)?;
            }
            SftpRequest::Stat(path) => return Ok(SftpResponse::Attributes(store.look(&path, true)?)),
            SftpRequest::LinkStat(path) => return Ok(SftpResponse::Attributes(store.look(&path, false)?)),
            SftpRequest::HandleStat(handle) => {
                return Ok(SftpResponse::Attributes(store.look_at(self.file(&handle)?.0)?));
            }
            SftpRequest::SetStat(path, attributes) => store.change(&path, true, attributes)?,
            SftpRequest::LinkSetStat(path, attributes) => store.change(&path, false, attributes)?,
            SftpRequest::HandleSetStat(handle, attributes) => {
                store.change_open(self.file(&handle)?.0, attributes)?;
            }
            SftpRequest::ReadFolder(handle) => return self.page(&handle),
            SftpRequest::Remove(path) => store.remove(&path, false)?,
            SftpRequest::RemoveFolder(path) => store.remove(&path, true)?,
            SftpRequest::MakeFolder(path, attributes) => store.make_folder(&path, attributes)?,
            SftpRequest::RealPath(path) => return Ok(one_name(store.real_path(&path, false)?)),
            SftpRequest::ExpandPath(path) => return Ok(one_name(store.real_path(&path, true)?)),
            SftpRequest::Rename { old, new } => store.rename(&old, &new, false)?,
            SftpRequest::RenameOver { old, new } => store.rename(&old, &new, true)?,
            SftpRequest::ReadLink(path) => return Ok(one_name(store.read_link(&path)?)),
            SftpRequest::MakeLink { link, target } => store.make_link(&link, &target)?,
            SftpRequest::HardLink { old, new } => store.hard_link(&old, &new)?,
            SftpRequest::Sync(handle) => store.sync(self.file(&handle)?.0)?,
            SftpRequest::Space(path) => {
                return Ok(SftpResponse::Extended(store.space(&path)?.encode().into()));
            }
            SftpRequest::Limits => {
                let limits = ServerLimits {
                    packet: MAX_SFTP_FRAME as u64,
                    read: MAX_READ as u64,
                    write: MAX_READ as u64,
                    handles: MAX_HANDLES as u64,
                };
                return Ok(SftpResponse::Extended(limits.encode().into()));
            }
            SftpRequest::CopyData { from, from_offset, len, to, to_offset } => {
                self.copy(store, (&from, from_offset), len, (&to, to_offset))?;
            }
            SftpRequest::Digest { path, offset, len } => {
                return Ok(SftpResponse::Extended(check_file::digest(store, &path, offset, len)?));
            }
            SftpRequest::Unknown => return Err(Refusal::new(StatusCode::Unsupported)),
        }
        Ok(SftpResponse::Status(Refusal::new(StatusCode::Ok)))
    }

    fn copy(
        &self,
        store: &mut dyn FileStore,
        (from, mut from_offset): (&Bytes, u64),
        len: u64,
        (to, mut to_offset): (&Bytes, u64),
    ) -> StoreResult<()> {
        let (from, to) = (self.file(from)?.0, self.file(to)?.0);
        let whole = store.len(from)?.saturating_sub(from_offset);
        let mut left = if len == 0 { whole } else { len.min(whole) };
        while left > 0 {
            let piece =
                store.read(from, from_offset, usize::try_from(left).unwrap_or(MAX_READ).min(MAX_READ))?;
            if piece.is_empty() {
                break;
            }
            store.write(to, to_offset, &piece)?;
            let len = piece.len() as u64;
            (from_offset, to_offset, left) = (from_offset + len, to_offset + len, left - len);
        }
        Ok(())
    }

    fn room_for_one(&self) -> StoreResult<()> {
        match self.open.len() < MAX_HANDLES {
            true => Ok(()),
            false => Err(Refusal { code: StatusCode::Failure, message: "too many open files".to_owned() }),
        }
    }

    fn hold(&mut self, open: Open) -> SftpResponse {
        if self.flaws.one_handle {
            self.next = 0;
        }
        while !self.flaws.one_handle && self.open.contains_key(&self.next) {
            self.next = self.next.wrapping_add(1);
        }
        let number = self.next;
        self.next = self.next.wrapping_add(1);
        self.open.insert(number, open);
        SftpResponse::Handle(Bytes::copy_from_slice(&number.to_be_bytes()))
    }

    fn file(&self, handle: &Bytes) -> StoreResult<(FileNumber, bool)> {
        match handle_number(handle).and_then(|number| self.open.get(&number)) {
            Some(Open::File { number, appends }) => Ok((*number, *appends)),
            _ => Err(Refusal { code: StatusCode::Failure, message: "no such handle".to_owned() }),
        }
    }

    fn page(&mut self, handle: &Bytes) -> StoreResult<SftpResponse> {
        let Some(Open::Folder { names, begun }) =
            handle_number(handle).and_then(|number| self.open.get_mut(&number))
        else {
            return Err(Refusal { code: StatusCode::Failure, message: "no such handle".to_owned() });
        };
        if !std::mem::replace(begun, true) {
            return Ok(SftpResponse::Names(Vec::new()));
        }
        let page = names.drain(..names.len().min(PAGE)).map(|(name, attributes)| {
            let kind = if attributes.kind() == FileKind::Folder { "d" } else { "-" };
            let line = [kind.as_bytes(), b" ", &name].concat();
            NameEntry { name, line, attributes }
        });
        let page: Vec<_> = page.collect();
        match page.is_empty() {
            true => Err(Refusal::new(StatusCode::EndOfFile)),
            false => Ok(SftpResponse::Names(page)),
        }
    }

    /// The conversation is over: what it had open is closed.
    pub fn end(&mut self, store: &mut dyn FileStore) {
        for (_, open) in self.open.drain() {
            if let Open::File { number, .. } = open {
                store.closed(number);
            }
        }
    }
}

fn handle_number(handle: &Bytes) -> Option<u32> {
    Some(u32::from_be_bytes(handle.as_ref().try_into().ok()?))
}

fn one_name(name: Vec<u8>) -> SftpResponse {
    SftpResponse::Names(vec![NameEntry { line: name.clone(), name, attributes: Attributes::default() }])
}
