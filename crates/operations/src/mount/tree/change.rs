//! What is made, changed, renamed and removed.

use std::time::Instant;

use fuser::Errno;
use lantern_ssh::sftp::{Attributes, Extension, FileKind};

use super::{Done, RemoteTree, asking};
use crate::mount::trouble::Trouble;

impl RemoteTree {
    /// Changes what is known of a file.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn change(&self, number: u64, attributes: Attributes) -> Done<Attributes> {
        self.may_write()?;
        self.settle(number).await;
        self.file_changed(number);
        if attributes != Attributes::default() {
            match self.path(number) {
                Ok(path) => self.line.files().await?.change(&path, attributes, false).await?,
                Err(trouble) => match self.opened(number) {
                    Some(open) => open.file().await.ok_or(trouble)?.change(attributes).await?,
                    None => return Err(trouble),
                },
            }
        }
        self.file_changed(number);
        self.is_changed(number);
        self.look(number).await
    }

    async fn new_one(&self, parent: u64, name: &[u8], path: &[u8]) -> Done<(u64, Attributes)> {
        let (now, moment) = (Instant::now(), self.known().moment());
        let attributes = asking!(self, files => files.look_at_link(path))?;
        let told = self.tell(parent, name, attributes, (now, moment));
        self.now_is(parent, name, Some(attributes));
        Ok(told)
    }

    /// Makes a folder.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn make_folder(&self, parent: u64, name: &[u8], permissions: u32) -> Done<(u64, Attributes)> {
        self.may_write()?;
        let path = self.path_in(parent, name)?;
        let files = self.line.files().await?;
        self.doubt(parent, name);
        let made = files.make_folder(&path, Some(permissions & 0o7777)).await;
        self.explained(made, &files, &path, Errno::EEXIST).await?;
        self.new_one(parent, name, &path).await
    }

    /// Makes a symbolic link.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn make_link(&self, parent: u64, name: &[u8], target: &[u8]) -> Done<(u64, Attributes)> {
        self.may_write()?;
        let path = self.path_in(parent, name)?;
        let files = self.line.files().await?;
        self.doubt(parent, name);
        let made = files.make_link(&path, target).await;
        self.explained(made, &files, &path, Errno::EEXIST).await?;
        self.new_one(parent, name, &path).await
    }

    /// Gives a file a second name.
    ///
    /// # Errors
    /// The machine's refusal, or it has no such step.
    pub async fn hard_link(&self, number: u64, parent: u64, name: &[u8]) -> Done<(u64, Attributes)> {
        self.may_write()?;
        let (old, new) = (self.path(number)?, self.path_in(parent, name)?);
        let files = self.line.files().await?;
        self.doubt(parent, name);
        let made = files.hard_link(&old, &new).await;
        self.explained(made, &files, &new, Errno::EEXIST).await?;
        self.new_one(parent, name, &new).await
    }

    /// Removes a file, or an empty folder.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn remove(&self, parent: u64, name: &[u8], folder: bool) -> Done<()> {
        self.may_write()?;
        let path = self.path_in(parent, name)?;
        let files = self.line.files().await?;
        self.doubt(parent, name);
        let removed = match folder {
            true => files.remove_folder(&path).await,
            false => files.remove(&path).await,
        };
        if folder {
            self.explained(removed, &files, &path, Errno::ENOTEMPTY).await?;
        } else {
            removed?;
        }
        let number = self.nodes().find(parent, name);
        self.nodes().remove(parent, name);
        if let Some(number) = number {
            self.known().forget(number);
        }
        self.now_is(parent, name, None);
        Ok(())
    }

    /// Gives a file another name, in the place of what has it or of nothing.
    ///
    /// # Errors
    /// The machine's refusal.
    pub async fn rename(&self, from: (u64, &[u8]), to: (u64, &[u8]), may_replace: bool) -> Done<()> {
        self.may_write()?;
        let (old, new) = (self.path_in(from.0, from.1)?, self.path_in(to.0, to.1)?);
        let number = self.nodes().find(from.0, from.1);
        if let Some(number) = number {
            self.settle(number).await;
        }
        let files = self.line.files().await?;
        let moved = number.and_then(|number| self.known().file(number, Instant::now()));
        self.doubt(from.0, from.1);
        self.doubt(to.0, to.1);
        if may_replace && files.has(Extension::PosixRename) {
            files.rename_over(&old, &new).await?;
        } else {
            let there = files.look_at_link(&new).await.ok();
            match there.map(|there| there.kind()) {
                Some(_) if !may_replace => return Err(Trouble::Rule(Errno::EEXIST)),
                // Without the step that does both, there is a moment without it.
                Some(FileKind::Folder) => files.remove_folder(&new).await?,
                Some(_) => files.remove(&new).await?,
                None => {}
            }
            files.rename(&old, &new).await?;
        }
        let replaced = self.nodes().find(to.0, to.1).filter(|replaced| Some(*replaced) != number);
        self.nodes().rename(from, to);
        if let Some(replaced) = replaced {
            self.known().forget(replaced);
        }
        self.now_is(from.0, from.1, None);
        if let Some(moved) = moved {
            self.now_is(to.0, to.1, Some(moved));
        }
        Ok(())
    }
}
