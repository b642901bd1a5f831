//! Carrying out what was planned: folders, then files, many at once, then links, and at the end what is to go.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use lantern_ssh::sftp::Attributes;
use tokio::task::JoinSet;
use tokio::time::timeout;

use super::one::{Broken, Shared, WORTH_KEEPING, transfer};
use super::{
    CopyFault, CopyOptions, CopyWatch, FileDeed, FolderDeed, LinkDeed, Moved, News, Plan, Removal, Report,
    Stop,
};
use crate::files::{FileFault, Machine, Side, parent_of};

/// Files that are under way at once where they are small: each waits for three answers in turn, so that a machine a tenth of a second away still takes a
/// thousand a second.
const AT_ONCE: usize = 384;
/// The same where a machine does not say how many it opens.
const UNSAID_AT_ONCE: usize = 192;
/// Bytes for which a file counts as one more, and how many it counts as at most: of large ones, some two dozen fill any line.
const ONE_MORE: u64 = 256 * 1024;
const AT_MOST: usize = 16;
/// Folders, links and removals that are under way at once.
const SMALL_AT_ONCE: usize = 64;
/// How long what is left of a copy is taken away after it was stopped.
const TIDY: Duration = Duration::from_secs(3);

/// Does what was planned. Never fails as a whole: what fails is in the report.
pub async fn carry_out(
    from: &Side,
    to: &Side,
    plan: Plan,
    options: &CopyOptions,
    watch: Arc<dyn CopyWatch>,
    stop: Arc<Stop>,
) -> Report {
    let mut carrier = Carrier {
        from: from.clone(),
        to: to.clone(),
        options: *options,
        watch,
        stop,
        report: Report { left: plan.left, ..Report::default() },
        barred: HashSet::new(),
    };
    carrier.report.failed = plan.faults.into_iter().map(|(path, fault)| (path, fault.into())).collect();
    carrier.folders(&plan.folders).await;
    let Plan { mut files, mut links, .. } = plan;
    files.retain(|deed| !carrier.is_barred(&deed.to));
    links.retain(|deed| !carrier.is_barred(&deed.to));
    carrier.files(files).await;
    if !carrier.is_over() {
        carrier.links(links).await;
        carrier.removals(plan.removals).await;
        // What is put into a folder changes its time.
        carrier.settle_folders(&plan.folders).await;
    }
    carrier.report.stopped = carrier.stop.is_wanted();
    carrier.report
}

/// What a file counts as among those that are under way.
fn weight_of(deed: &FileDeed) -> usize {
    let more = usize::try_from(deed.bytes() / ONE_MORE).unwrap_or(usize::MAX);
    more.saturating_add(1).min(AT_MOST)
}

struct Carrier {
    from: Side,
    to: Side,
    options: CopyOptions,
    watch: Arc<dyn CopyWatch>,
    stop: Arc<Stop>,
    report: Report,
    /// Folders that could not be made.
    barred: HashSet<Vec<u8>>,
}

impl Carrier {
    fn is_over(&self) -> bool {
        self.stop.is_wanted() || self.report.ended.is_some()
    }

    /// Whether the folder that it would be in could not be made: it would end elsewhere, or nowhere.
    fn is_barred(&self, path: &[u8]) -> bool {
        let mut folder = parent_of(path);
        while !self.barred.is_empty() && !folder.is_empty() && folder != b"/" {
            if self.barred.contains(folder) {
                return true;
            }
            folder = parent_of(folder);
        }
        false
    }

    fn failed(&mut self, path: &[u8], fault: FileFault) {
        if fault.is_end() {
            self.report.ended.get_or_insert(fault);
        } else {
            self.report.failed.push((path.to_vec(), fault.into()));
        }
    }

    /// Does small things, many at once; what came of each goes to `done`.
    async fn many<T: Send + Sync + 'static, F>(
        &mut self,
        deeds: Vec<T>,
        path: impl Fn(&T) -> &[u8],
        act: impl Fn(Side, Side, Arc<T>) -> F + Clone + Send + 'static,
    ) -> usize
    where
        F: Future<Output = Result<(), FileFault>> + Send + 'static,
    {
        let mut under_way = JoinSet::new();
        let mut waiting = deeds.into_iter();
        let mut done = 0;
        loop {
            while under_way.len() < SMALL_AT_ONCE
                && !self.is_over()
                && let Some(deed) = waiting.next()
            {
                let (from, to, act) = (self.from.clone(), self.to.clone(), act.clone());
                under_way.spawn(async move {
                    let deed = Arc::new(deed);
                    let outcome = act(from, to, deed.clone()).await;
                    (deed, outcome)
                });
            }
            match under_way.join_next().await {
                Some(Ok((_, Ok(())))) => done += 1,
                Some(Ok((deed, Err(fault)))) => self.failed(path(&deed), fault),
                // A fault of ours, which is not to look like a copy.
                Some(Err(error)) => std::panic::resume_unwind(error.into_panic()),
                None => return done,
            }
        }
    }

    /// Folders above before those below.
    async fn folders(&mut self, folders: &[FolderDeed]) {
        let depth = |path: &[u8]| path.iter().filter(|byte| **byte == b'/').count();
        let mut levels: Vec<Vec<Vec<u8>>> = Vec::new();
        for folder in folders {
            let depth = depth(&folder.to);
            if levels.len() <= depth {
                levels.resize(depth + 1, Vec::new());
            }
            if let Some(level) = levels.get_mut(depth) {
                level.push(folder.to.clone());
            }
        }
        let before = self.report.failed.len();
        for level in levels {
            // What goes into it is written before it gets its own permissions, which may forbid that.
            let made = self
                .many(
                    level,
                    |path| path,
                    |_, to, path| async move { to.make_folder(&path, Some(0o700)).await },
                )
                .await;
            self.report.folders += made;
            self.barred = self.report.failed.iter().skip(before).map(|(path, _)| path.clone()).collect();
        }
    }

    async fn settle_folders(&mut self, folders: &[FolderDeed]) {
        let keep_times = self.options.keep_times;
        let deeds: Vec<FolderDeed> = folders.to_vec();
        self.many(
            deeds,
            |deed| &deed.to,
            move |_, to, deed| async move {
                let mode = deed.attributes.permissions().map(|mode| mode & 0o777);
                let times = deed.attributes.times.filter(|_| keep_times);
                let attributes = Attributes { mode, times, ..Attributes::default() };
                to.change(&deed.to, attributes, false).await
            },
        )
        .await;
    }

    async fn links(&mut self, links: Vec<LinkDeed>) {
        let made = self
            .many(
                links,
                |deed| &deed.to,
                |from, to, deed| async move {
                    let target = from.read_link(&deed.from).await?;
                    if !deed.replaces {
                        return to.make_link(&deed.to, &target).await;
                    }
                    let part = super::part::new_part(&deed.to);
                    to.make_link(&part, &target).await?;
                    to.rename_over(&part, &deed.to).await
                },
            )
            .await;
        self.report.links = made;
    }

    /// Files, and then folders, those below first.
    async fn removals(&mut self, removals: Vec<Removal>) {
        let (folders, files): (Vec<_>, Vec<_>) = removals.into_iter().partition(|removal| removal.folder);
        let remove = |_, to: Side, removal: Arc<Removal>| async move { to.remove(&removal.path).await };
        self.report.removed += self.many(files, |removal| &removal.path, remove).await;
        for folder in folders {
            if self.is_over() {
                return;
            }
            match self.to.remove_folder(&folder.path).await {
                Ok(()) => self.report.removed += 1,
                Err(fault) => self.failed(&folder.path, fault),
            }
        }
    }

    async fn files(&mut self, files: Vec<FileDeed>) {
        let mut waiting: Vec<(usize, FileDeed)> = files.into_iter().enumerate().rev().collect();
        let mut at_once = self.most_at_once();
        loop {
            let again = self.files_at_once(&mut waiting, at_once).await;
            if again.is_empty() || self.stop.is_wanted() {
                return;
            }
            // One after the other, nothing is mixed up.
            if at_once == 1 || !self.begin_anew().await {
                return;
            }
            at_once = 1;
            waiting.extend(again.into_iter().rev());
        }
    }

    fn most_at_once(&self) -> usize {
        let most = |side: &Side| match side {
            Side::There(machine) => match usize::try_from(machine.files.most_open()).unwrap_or(AT_ONCE) {
                0 => UNSAID_AT_ONCE,
                most => (most / 2).max(1),
            },
            Side::Here => self.options.most_open_here.max(1),
        };
        AT_ONCE.min(most(&self.from)).min(most(&self.to))
    }

    /// Copies files, so many at once. Those are returned that are to be done again, one at a time: their machine's service gave one handle to two of them,
    /// and nobody knows whose bytes went where. None of them has its name.
    async fn files_at_once(
        &mut self,
        waiting: &mut Vec<(usize, FileDeed)>,
        at_once: usize,
    ) -> Vec<(usize, FileDeed)> {
        let mut under_way = JoinSet::new();
        let mut again = Vec::new();
        let mut leftovers = Vec::new();
        let mut weight = 0;
        loop {
            while under_way.len() < at_once
                && !self.is_over()
                && again.is_empty()
                && let Some((number, deed)) =
                    waiting.pop_if(|(_, deed)| weight == 0 || weight + weight_of(deed) <= AT_ONCE)
            {
                weight += weight_of(&deed);
                let (from, to, options) = (self.from.clone(), self.to.clone(), self.options);
                let (watch, stop) = (self.watch.clone(), self.stop.clone());
                under_way.spawn(async move {
                    let shared =
                        Shared { from: &from, to: &to, options: &options, watch: &*watch, stop: &stop };
                    let outcome = transfer(&shared, &deed, number).await;
                    (number, deed, outcome)
                });
            }
            let Some(ended) = under_way.join_next().await else { break };
            let (number, deed, outcome) =
                ended.unwrap_or_else(|error| std::panic::resume_unwind(error.into_panic()));
            weight -= weight_of(&deed);
            match outcome {
                Ok(moved) => self.copied(number, &deed, &moved),
                Err(Broken { fault: CopyFault::File(fault), part }) if fault.is_shared_handle() => {
                    leftovers.extend(part.map(|(path, _)| path));
                    again.push((number, deed));
                }
                Err(broken) => self.broken(number, &deed, broken).await,
            }
        }
        if !again.is_empty() {
            let machine = self.mixed_up().unwrap_or_default();
            self.watch.news(News::OneAtATime { machine: &machine });
            again.sort_by_key(|(number, _)| *number);
        }
        if !leftovers.is_empty() && self.begin_anew().await {
            for part in leftovers {
                let _ = self.to.remove(&part).await;
            }
        }
        again
    }

    /// The machine whose conversation is over.
    fn mixed_up(&self) -> Option<String> {
        let sides = [&self.from, &self.to].into_iter();
        sides
            .filter_map(|side| match side {
                Side::There(machine) if machine.files.is_over() => Some(machine.files.machine().to_owned()),
                _ => None,
            })
            .next()
    }

    /// Begins conversations anew that are over; whether that worked.
    async fn begin_anew(&mut self) -> bool {
        for side in [&mut self.from, &mut self.to] {
            let Side::There(machine) = side else { continue };
            if !machine.files.is_over() {
                continue;
            }
            match Machine::of(machine.remote.clone()).await {
                Ok(anew) => *machine = anew,
                Err(fault) => {
                    self.report.ended.get_or_insert(fault);
                    return false;
                }
            }
        }
        true
    }

    fn copied(&mut self, number: usize, deed: &FileDeed, moved: &Moved) {
        let report = &mut self.report;
        if moved.same {
            report.same += 1;
        } else {
            report.copied += 1;
            report.bytes += moved.bytes;
            report.from_before += moved.from_before;
            report.holes += moved.holes;
            report.verified += usize::from(moved.verified);
        }
        if moved.changed {
            report.changed.push(deed.from.clone());
        }
        self.watch.news(News::Ended { number, path: &deed.to, outcome: Ok(moved) });
    }

    /// A file was not copied. What is there of it is kept where it is worth it and can be gone on with, and is taken away where that is possible.
    async fn broken(&mut self, number: usize, deed: &FileDeed, broken: Broken) {
        self.watch.news(News::Ended { number, path: &deed.to, outcome: Err(&broken.fault) });
        let is_end = matches!(&broken.fault, CopyFault::File(fault) if fault.is_end());
        if let Some((part, bytes)) = broken.part {
            let goes_on = (is_end || matches!(broken.fault, CopyFault::Stopped)) && self.options.resume;
            if goes_on && bytes >= WORTH_KEEPING {
                self.report.kept.push((deed.to.clone(), bytes));
            } else if !matches!(&broken.fault, CopyFault::File(fault) if fault.is_end() && self.is_lost()) {
                let _ = timeout(TIDY, self.to.remove(&part)).await;
            }
        }
        match broken.fault {
            CopyFault::File(fault) if is_end => {
                self.report.failed.push((deed.to.clone(), fault.clone().into()));
                self.report.ended.get_or_insert(fault);
            }
            CopyFault::Stopped => {}
            fault => self.report.failed.push((deed.to.clone(), fault)),
        }
    }

    /// Whether nothing can be asked at the destination any more.
    fn is_lost(&self) -> bool {
        matches!(&self.to, Side::There(machine) if machine.files.is_over())
    }
}
