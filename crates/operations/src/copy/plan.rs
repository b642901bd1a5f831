//! What is to be done, from what is on both sides: nothing is changed by it.

use std::collections::{HashMap, HashSet};

use lantern_ssh::sftp::{Attributes, FileKind};

use super::{CopyOptions, CopyWatch, Left, News, Root, Roots, Same};
use crate::files::{FileFault, Side, TreeError, TreeItem, join, parent_of, walk};

/// Deepest that links to folders are followed.
const DEEPEST_LINKS: usize = 16;

/// A folder that is to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FolderDeed {
    /// Its path.
    pub to: Vec<u8>,
    /// What is known of the one that it is made after.
    pub attributes: Attributes,
}

/// A file that is to be copied.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileDeed {
    /// From here.
    pub from: Vec<u8>,
    /// To here.
    pub to: Vec<u8>,
    /// What is known of it.
    pub attributes: Attributes,
    /// What is known of the file that it replaces.
    pub replaces: Option<Attributes>,
}

impl FileDeed {
    /// Its bytes, as far as is known.
    pub fn bytes(&self) -> u64 {
        self.attributes.size.unwrap_or(0)
    }
}

/// A link that is to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkDeed {
    /// From here.
    pub from: Vec<u8>,
    /// To here.
    pub to: Vec<u8>,
    /// Whether something has its name.
    pub replaces: bool,
    /// What is known of it.
    pub attributes: Attributes,
}

/// Something that is to be removed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Removal {
    /// Which.
    pub path: Vec<u8>,
    /// Whether it is a folder, which is empty by then.
    pub folder: bool,
}

/// Everything that is to be done.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// Folders to make, those above first.
    pub folders: Vec<FolderDeed>,
    /// Files to copy.
    pub files: Vec<FileDeed>,
    /// Links to make.
    pub links: Vec<LinkDeed>,
    /// What to remove, files before the folders that they are in.
    pub removals: Vec<Removal>,
    /// What is left out, by its path at the source, and why.
    pub left: Vec<(Vec<u8>, Left)>,
    /// What could not be looked at, by its path at the source.
    pub faults: Vec<(Vec<u8>, FileFault)>,
}

impl Plan {
    /// Bytes of all files.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(FileDeed::bytes).fold(0, u64::saturating_add)
    }
}

/// Why nothing can be planned.
#[derive(Debug, Clone, thiserror::Error)]
pub enum PlanError {
    /// A tree cannot be walked.
    #[error(transparent)]
    Tree(#[from] TreeError),
    /// There is too little room.
    #[error("on {side} there is room for {room} bytes, and {wanted} are to be copied there")]
    NoRoom {
        /// Where.
        side: String,
        /// Bytes that may be written.
        room: u64,
        /// Bytes that are to be.
        wanted: u64,
    },
}

impl From<FileFault> for PlanError {
    fn from(fault: FileFault) -> Self {
        Self::Tree(fault.into())
    }
}

/// Looks at both sides and says what is to be done.
///
/// # Errors
/// A tree cannot be walked; there is no room for it.
pub async fn plan(
    from: &Side,
    to: &Side,
    roots: &Roots,
    options: &CopyOptions,
    watch: &dyn CopyWatch,
) -> Result<Plan, PlanError> {
    let mut plan = Plan::default();
    let mut planner = Planner { from, to, options, watch, plan: &mut plan, found: 0 };
    for root in &roots.roots {
        planner.root(root).await?;
    }
    let new = |path: &Vec<u8>| FolderDeed { to: path.clone(), attributes: Attributes::with_mode(0o755) };
    plan.folders.splice(..0, roots.folders.iter().map(new));
    plan.removals.sort_by(|one, other| other.path.cmp(&one.path));
    let wanted = plan.bytes();
    if options.check_space
        && wanted > 0
        && let Some(first) = roots.roots.first()
        && let Some(room) = room_for(to, &first.to).await?
        && room < wanted
    {
        return Err(PlanError::NoRoom { side: to.name().to_owned(), room, wanted });
    }
    Ok(plan)
}

/// How much room there is where this would be; none where that cannot be told.
async fn room_for(side: &Side, path: &[u8]) -> Result<Option<u64>, FileFault> {
    let mut folder = path;
    loop {
        let above = parent_of(folder);
        if let Some(room) = side.space(folder).await? {
            return Ok(Some(room));
        }
        if folder.is_empty() || above == folder {
            return Ok(None);
        }
        folder = above;
    }
}

struct Planner<'a> {
    from: &'a Side,
    to: &'a Side,
    options: &'a CopyOptions,
    watch: &'a dyn CopyWatch,
    plan: &'a mut Plan,
    found: usize,
}

impl Planner<'_> {
    async fn root(&mut self, root: &Root) -> Result<(), PlanError> {
        if root.attributes.kind() != FileKind::Folder {
            let there = self.to.look(&root.to, false).await?;
            self.found += 1;
            self.file(root.from.clone(), root.to.clone(), root.attributes, there);
            return Ok(());
        }
        let items = self.walk_source(&root.from).await?;
        let there = match self.to.look(&root.to, true).await? {
            Some(_) => self.walk_destination(&root.to).await?,
            None => {
                self.plan.folders.push(FolderDeed { to: root.to.clone(), attributes: root.attributes });
                HashMap::new()
            }
        };
        if self.options.mirror {
            self.remove_others(root, &items, &there);
        }
        // Folders whose place something else has: what is below them would end elsewhere.
        let mut barred: HashSet<Vec<u8>> = HashSet::new();
        for item in items {
            let is_barred = barred.contains(parent_of(&item.below));
            if item.kind() == FileKind::Folder && (is_barred || self.is_barred(&there, &item)) {
                barred.insert(item.below.clone());
            }
            if !is_barred {
                self.item(root, item, &there).await?;
            }
        }
        Ok(())
    }

    /// Whether something that is no folder has the place of one.
    fn is_barred(&self, there: &HashMap<Vec<u8>, Attributes>, folder: &TreeItem) -> bool {
        there.get(&folder.below).is_some_and(|there| there.kind() != FileKind::Folder)
    }

    async fn walk_source(&mut self, root: &[u8]) -> Result<Vec<TreeItem>, PlanError> {
        let (before, watch) = (self.found, self.watch);
        let mut faults = Vec::new();
        let on_fault = |below: &[u8], fault| faults.push((join(root, below), fault));
        let mut items =
            walk(self.from, root, on_fault, |found| watch.news(News::Found(before + found))).await?;
        self.plan.faults.append(&mut faults);
        if self.options.follow_links {
            let real = self.from.real_path(root).await?;
            items = self.followed(root, &real, items).await?;
        }
        self.found += items.len();
        Ok(items)
    }

    /// The same tree with what links lead to in their places, as far as that is within it.
    async fn followed(
        &mut self,
        root: &[u8],
        real_root: &[u8],
        items: Vec<TreeItem>,
    ) -> Result<Vec<TreeItem>, PlanError> {
        let mut all = Vec::new();
        let mut waiting: Vec<(TreeItem, usize)> = items.into_iter().rev().map(|item| (item, 0)).collect();
        while let Some((item, depth)) = waiting.pop() {
            if item.kind() != FileKind::Link {
                all.push(item);
                continue;
            }
            let path = join(root, &item.below);
            let led = match self.from.look(&path, true).await? {
                None => Err(Left::Dangling),
                Some(attributes) => match self.from.real_path(&path).await {
                    Ok(real) if is_within(&real, real_root) => Ok((attributes, real)),
                    Err(fault) if fault.is_end() => return Err(fault.into()),
                    _ => Err(Left::LeadsOut),
                },
            };
            let (attributes, real) = match led {
                Ok(led) => led,
                Err(left) => {
                    self.plan.left.push((path, left));
                    continue;
                }
            };
            if attributes.kind() == FileKind::Folder {
                let above = self.from.real_path(&join(root, parent_of(&item.below))).await?;
                if is_within(&above, &real) || depth >= DEEPEST_LINKS {
                    self.plan.left.push((path, Left::Circle));
                    continue;
                }
                let mut faults = Vec::new();
                let below =
                    walk(self.from, &path, |_, fault| faults.push((path.clone(), fault)), |_| {}).await?;
                self.plan.faults.append(&mut faults);
                let inside = below.into_iter().rev().map(|inner| {
                    let inner = TreeItem { below: join(&item.below, &inner.below), ..inner };
                    (inner, depth + 1)
                });
                waiting.extend(inside);
            }
            all.push(TreeItem { attributes, ..item });
        }
        Ok(all)
    }

    async fn walk_destination(&mut self, root: &[u8]) -> Result<HashMap<Vec<u8>, Attributes>, PlanError> {
        let mut faults = Vec::new();
        let on_fault = |below: &[u8], fault| faults.push((join(root, below), fault));
        let items = walk(self.to, root, on_fault, |_| {}).await?;
        if self.options.mirror {
            // What cannot be seen cannot be made equal.
            self.plan.faults.append(&mut faults);
        }
        Ok(items.into_iter().map(|item| (item.below, item.attributes)).collect())
    }

    fn remove_others(&mut self, root: &Root, items: &[TreeItem], there: &HashMap<Vec<u8>, Attributes>) {
        if !self.plan.faults.is_empty() {
            // What could not be looked at here is not gone here.
            return;
        }
        let here: HashSet<&[u8]> = items.iter().map(|item| item.below.as_slice()).collect();
        let others = there.iter().filter(|(below, _)| !here.contains(below.as_slice()));
        self.plan.removals.extend(others.map(|(below, attributes)| Removal {
            path: join(&root.to, below),
            folder: attributes.kind() == FileKind::Folder,
        }));
    }

    async fn item(
        &mut self,
        root: &Root,
        item: TreeItem,
        there: &HashMap<Vec<u8>, Attributes>,
    ) -> Result<(), PlanError> {
        let (from, to) = (join(&root.from, &item.below), join(&root.to, &item.below));
        let is_there = there.get(&item.below).copied();
        match item.kind() {
            FileKind::Folder => match is_there.map(|there| there.kind()) {
                None => self.plan.folders.push(FolderDeed { to, attributes: item.attributes }),
                Some(FileKind::Folder) => {}
                Some(_) => self.plan.left.push((from, Left::OtherKind)),
            },
            FileKind::Link => match is_there {
                Some(_) if self.options.keep_existing => self.plan.left.push((from, Left::Existing)),
                Some(there) if there.kind() == FileKind::Folder => {
                    self.plan.left.push((from, Left::OtherKind));
                }
                Some(there) if there.kind() == FileKind::Link => {
                    let same = self.from.read_link(&from).await? == self.to.read_link(&to).await?;
                    match same {
                        true => self.plan.left.push((from, Left::Same)),
                        false => self.link(from, to, true, item.attributes),
                    }
                }
                there => self.link(from, to, there.is_some(), item.attributes),
            },
            _ => self.file(from, to, item.attributes, is_there),
        }
        Ok(())
    }

    fn link(&mut self, from: Vec<u8>, to: Vec<u8>, replaces: bool, attributes: Attributes) {
        self.plan.links.push(LinkDeed { from, to, replaces, attributes });
    }

    fn file(&mut self, from: Vec<u8>, to: Vec<u8>, attributes: Attributes, there: Option<Attributes>) {
        if !matches!(attributes.kind(), FileKind::Regular | FileKind::Unknown) {
            return self.plan.left.push((from, Left::Special));
        }
        let left = there.and_then(|there| self.judge(&attributes, &there));
        match left {
            Some(left) => self.plan.left.push((from, left)),
            // A link in its place is replaced, and not what it leads to.
            None => self.plan.files.push(FileDeed {
                from,
                to,
                attributes,
                replaces: there.filter(|there| there.kind() == FileKind::Regular),
            }),
        }
    }

    /// Why a file is left out, for what is there already.
    fn judge(&self, attributes: &Attributes, there: &Attributes) -> Option<Left> {
        let options = self.options;
        let changed = |attributes: &Attributes| attributes.times.map(|(_, changed)| changed);
        match there.kind() {
            FileKind::Regular | FileKind::Unknown | FileKind::Link => {}
            _ => return Some(Left::OtherKind),
        }
        let is_file = there.kind() == FileKind::Regular;
        let same = is_file && attributes.size == there.size && changed(attributes) == changed(there);
        if same && options.same == Same::BySizeAndTime && attributes.size.is_some() {
            return Some(Left::Same);
        }
        if options.keep_existing {
            return Some(Left::Existing);
        }
        let is_newer = is_file && changed(there) > changed(attributes);
        if is_newer && !options.replace_newer && !options.mirror {
            return Some(Left::Newer);
        }
        None
    }
}

/// Whether a path is that folder, or in it.
fn is_within(path: &[u8], folder: &[u8]) -> bool {
    path == folder || folder == b"/" || path.strip_prefix(folder).is_some_and(|rest| rest.starts_with(b"/"))
}
