//! The file on its machine: what it is, whether somebody else has changed it, and how it is put back.

use aws_lc_rs::digest::{SHA256, digest};
use bytes::Bytes;
use lantern_ssh::sftp::{Attributes, FileKind};

use crate::copy::part_name;
use crate::files::{FileFault, Side};

/// Largest file that is edited, in bytes: editors read a file whole.
const LARGEST: u64 = 64 * 1024 * 1024;

/// Why a file cannot be edited.
#[derive(Debug, Clone, thiserror::Error)]
pub enum EditFault {
    /// The machine.
    #[error(transparent)]
    File(#[from] FileFault),
    /// It is no file.
    #[error("{} is no file", String::from_utf8_lossy(path))]
    NoFile {
        /// Which.
        path: Vec<u8>,
    },
    /// It is too large.
    #[error("{} has more than {LARGEST} bytes", String::from_utf8_lossy(path))]
    TooLarge {
        /// Which.
        path: Vec<u8>,
    },
    /// There is none.
    #[error("there is no {}", String::from_utf8_lossy(path))]
    NotThere {
        /// Which.
        path: Vec<u8>,
    },
}

/// What came of a save.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Saved {
    /// It is there.
    Done,
    /// It is there; the owner could not be kept by a new file, so the old one was written over, while a whole copy stood beside it.
    InPlace,
    /// Somebody else has changed it: this is what is there now; none where it is gone.
    Conflict(Option<Vec<u8>>),
}

/// A file of a machine.
#[derive(Debug)]
pub struct RemoteFile {
    /// Where it really is, behind links.
    path: Vec<u8>,
    /// What was known of it when it was read or written last; none: it is new.
    known: Option<Attributes>,
    /// What was in it then.
    content: Vec<u8>,
    /// Whether its lines end as those of Windows do.
    has_returns: bool,
}

impl RemoteFile {
    /// Fetches a file. With `new`, one that is not there is begun.
    ///
    /// # Errors
    /// [`EditFault`].
    pub async fn fetch(side: &Side, path: &[u8], new: bool) -> Result<Self, EditFault> {
        let Some(known) = side.look(path, true).await? else {
            return match new {
                true => {
                    Ok(Self { path: path.to_vec(), known: None, content: Vec::new(), has_returns: false })
                }
                false => Err(EditFault::NotThere { path: path.to_vec() }),
            };
        };
        if known.kind() != FileKind::Regular {
            return Err(EditFault::NoFile { path: path.to_vec() });
        }
        // A link stays one, and what it leads to is edited.
        let path = side.real_path(path).await?;
        let content = read(side, &path).await?;
        let has_returns = content.contains(&b'\n') && lone_line_feeds(&content) == 0;
        Ok(Self { path, known: Some(known), content, has_returns })
    }

    /// Where it really is.
    pub fn path(&self) -> &[u8] {
        &self.path
    }

    /// What was in it when it was read or written last.
    pub fn content(&self) -> &[u8] {
        &self.content
    }

    /// A text with the line ends that the file had, where all of its were those of Windows; whether that changed it.
    pub fn with_its_line_ends(&self, text: Vec<u8>) -> (Vec<u8>, bool) {
        if !self.has_returns || lone_line_feeds(&text) == 0 {
            return (text, false);
        }
        let mut out = Vec::with_capacity(text.len() + text.len() / 32);
        for byte in text {
            if byte == b'\n' && out.last() != Some(&b'\r') {
                out.push(b'\r');
            }
            out.push(byte);
        }
        (out, true)
    }

    /// Puts this in its place, unless somebody else has changed what is there; `over`: even then.
    ///
    /// # Errors
    /// It could not be written: what was there is there as it was, or a whole copy of the new one stands beside it.
    pub async fn save(&mut self, side: &Side, text: &[u8], over: bool) -> Result<Saved, EditFault> {
        let there = side.look(&self.path, true).await?;
        if !over && let Some(conflict) = self.conflict(side, there).await? {
            return Ok(Saved::Conflict(conflict));
        }
        let part = part_name(&self.path);
        let written = self.write(side, &part, text, there).await;
        let in_place = match written {
            Ok(is_there) => !is_there,
            Err(fault) => {
                let _ = side.remove(&part).await;
                return Err(fault.into());
            }
        };
        if in_place {
            // Where this breaks off, the whole copy beside it is what is left on the machine.
            self.write_over(side, text).await?;
            side.remove(&part).await.map_err(EditFault::from)?;
        }
        self.known = side.look(&self.path, true).await?;
        self.content = text.to_vec();
        Ok(if in_place { Saved::InPlace } else { Saved::Done })
    }

    /// What is there now, where it is another than was read or written here.
    async fn conflict(
        &self,
        side: &Side,
        there: Option<Attributes>,
    ) -> Result<Option<Option<Vec<u8>>>, EditFault> {
        let looks = |attributes: &Attributes| (attributes.size, attributes.times.map(|(_, changed)| changed));
        match (&self.known, there) {
            (None, None) => Ok(None),
            (Some(_), None) => Ok(Some(None)),
            // Two changes within one second may look alike, so a young one is compared as well.
            (Some(known), Some(there)) if looks(known) == looks(&there) && !is_young(&there) => Ok(None),
            (_, Some(_)) => {
                let content = read(side, &self.path).await?;
                let same = digest(&SHA256, &content).as_ref() == digest(&SHA256, &self.content).as_ref();
                Ok((!same).then_some(Some(content)))
            }
        }
    }

    /// Writes a whole copy beside it, gives that what the file has, and puts it in its place; whether that could be: not where a new file
    /// cannot have the owner.
    async fn write(
        &self,
        side: &Side,
        part: &[u8],
        text: &[u8],
        there: Option<Attributes>,
    ) -> Result<bool, FileFault> {
        let mut sink = side.create(part).await?;
        sink.write(0, vec![Bytes::copy_from_slice(text)]).await?;
        let size = Some(text.len() as u64);
        let Some(there) = there else {
            sink.finish(Attributes { size, mode: Some(0o644), ..Attributes::default() }, true).await?;
            side.rename_over(part, &self.path).await?;
            return Ok(true);
        };
        sink.finish(Attributes { size, mode: there.permissions(), ..Attributes::default() }, true).await?;
        let ours = side.look(part, false).await?.and_then(|part| part.owner);
        if there.owner.is_some() && ours != there.owner {
            let owner = Attributes { owner: there.owner, ..Attributes::default() };
            match side.change(part, owner, false).await {
                Ok(()) => {
                    // Whoever gives a file away loses its special marks.
                    let mode = Attributes { mode: there.permissions(), ..Attributes::default() };
                    side.change(part, mode, false).await?;
                }
                Err(fault) if fault.is_end() => return Err(fault),
                Err(_) => return Ok(false),
            }
        }
        side.rename_over(part, &self.path).await?;
        Ok(true)
    }

    /// Writes over the old file, whose owner and name stay.
    async fn write_over(&self, side: &Side, text: &[u8]) -> Result<(), FileFault> {
        let mut sink = side.reopen(&self.path).await?;
        sink.write(0, vec![Bytes::copy_from_slice(text)]).await?;
        let size = Some(text.len() as u64);
        sink.finish(Attributes { size, ..Attributes::default() }, true).await
    }
}

async fn read(side: &Side, path: &[u8]) -> Result<Vec<u8>, EditFault> {
    let mut source = side.read(path, 0).await?;
    let too_large = || EditFault::TooLarge { path: path.to_vec() };
    if source.attributes().size.is_some_and(|size| size > LARGEST) {
        return Err(too_large());
    }
    let mut content = Vec::new();
    while let Some((offset, pieces)) = source.next().await? {
        content.resize(usize::try_from(offset).unwrap_or(usize::MAX).max(content.len()), 0);
        content.extend(pieces.concat());
        if content.len() as u64 > LARGEST {
            return Err(too_large());
        }
    }
    Ok(content)
}

/// Line feeds that no carriage return stands before.
fn lone_line_feeds(text: &[u8]) -> usize {
    let returned = text.windows(2).filter(|two| two == b"\r\n").count();
    text.iter().filter(|byte| **byte == b'\n').count() - returned
}

/// Whether a file was changed so lately that another change would not show in its time.
fn is_young(attributes: &Attributes) -> bool {
    let now =
        std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_secs();
    attributes.times.is_none_or(|(_, changed)| u64::from(changed).abs_diff(now) < 5)
}
