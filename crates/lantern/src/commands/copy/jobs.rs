//! From what was typed to what is copied between which machines.

use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;

use lantern_book::Home;
use lantern_operations::files::{Location, as_served, join};

use crate::cli::copy::CopyArgs;
use crate::commands::errand::Errand;
use crate::commands::places::{location, machines};
use crate::commands::sharing::sharing_gateways;
use crate::screen::failure::{Failure, code};

/// One end of a copy: here, or one of the machines by its place among them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    Here,
    There(usize),
}

/// Paths from one side to another.
#[derive(Debug, Clone)]
pub(super) struct Job {
    pub(super) from: End,
    pub(super) paths: Vec<Vec<u8>>,
    pub(super) to: End,
    pub(super) destination: Vec<u8>,
    /// What it is called where there are several: the machine that makes the difference.
    pub(super) label: String,
}

/// What is to be done.
pub(super) enum Task {
    /// Files between sides.
    Files { errands: Vec<Arc<Errand>>, jobs: Vec<Job> },
    /// Standard input to a file.
    In { errand: Box<Errand>, path: Vec<u8> },
    /// A file to standard output.
    Out { errand: Box<Errand>, path: Vec<u8> },
}

impl Task {
    /// Paths on machines become what their file services take.
    fn settle_paths(&mut self) {
        let settle = |errand: &Errand, path: &mut Vec<u8>| {
            *path = as_served(std::mem::take(path), errand.target.protocol);
        };
        match self {
            Self::Files { errands, jobs } => {
                for job in jobs {
                    if let End::There(at) = job.from
                        && let Some(errand) = errands.get(at)
                    {
                        job.paths.iter_mut().for_each(|path| settle(errand, path));
                    }
                    if let End::There(at) = job.to
                        && let Some(errand) = errands.get(at)
                    {
                        settle(errand, &mut job.destination);
                    }
                }
            }
            Self::In { errand, path } | Self::Out { errand, path } => settle(errand, path),
        }
    }

    /// The labels of its jobs.
    pub(super) fn jobs(&self) -> Vec<String> {
        match self {
            Self::Files { jobs, .. } => jobs.iter().map(|job| job.label.clone()).collect(),
            Self::In { errand, .. } | Self::Out { errand, .. } => vec![errand.target.name.clone()],
        }
    }
}

fn usage(words: impl Into<String>) -> Failure {
    Failure::new(code::USAGE, words)
}

/// Understands what was typed.
pub(super) fn task(home: &Home, args: &CopyArgs) -> Result<Task, Failure> {
    let Some((to, from)) = args.places.split_last() else { return Err(usage("nothing to copy")) };
    let to = location(to)?;
    let from = from.iter().map(|text| location(text)).collect::<Result<Vec<_>, _>>()?;
    let is_stream = |location: &Location| *location == Location::Stream;
    if from.iter().any(is_stream) || is_stream(&to) {
        let mut task = stream(home, args, from, to)?;
        task.settle_paths();
        return Ok(task);
    }
    let mut here = Vec::new();
    let mut there: Vec<(String, Vec<Vec<u8>>)> = Vec::new();
    for location in from {
        match location {
            Location::Here(path) => here.push(path.as_os_str().as_bytes().to_vec()),
            Location::There { machine, path } => {
                match there.iter_mut().find(|(known, _)| *known == machine) {
                    Some((_, paths)) => paths.push(path),
                    None => there.push((machine, vec![path])),
                }
            }
            Location::Stream => {}
        }
    }
    let task = match to {
        Location::Here(_) if !here.is_empty() => Err(usage("both ends are on this computer")
            .hint("a place on a machine is MACHINE:PATH, as lamp-01:/srv/")),
        Location::Here(path) => to_here(home, args, there, path.as_os_str().as_bytes()),
        Location::There { machine, path } => to_there(home, args, here, there, &machine, path),
        Location::Stream => Err(usage("nothing to copy")),
    };
    let (mut errands, jobs) = task?;
    if errands.len() > 1 {
        let shares = sharing_gateways(home, &args.connect);
        errands.iter_mut().for_each(|errand| errand.options.shares = Some(shares.clone()));
    }
    let mut task = Task::Files { errands: errands.into_iter().map(Arc::new).collect(), jobs };
    task.settle_paths();
    Ok(task)
}

fn to_here(
    home: &Home,
    args: &CopyArgs,
    there: Vec<(String, Vec<Vec<u8>>)>,
    destination: &[u8],
) -> Result<(Vec<Errand>, Vec<Job>), Failure> {
    let (mut errands, mut jobs) = (Vec::new(), Vec::new());
    let many = there.len() > 1;
    for (word, paths) in there {
        let (found, by_nature) = machines(home, &word, &args.but, &args.connect)?;
        for errand in found {
            let label = errand.target.name.clone();
            // One folder for each machine, or they would write over each other's.
            let destination = match by_nature || many {
                true => [&join(destination, label.as_bytes())[..], b"/"].concat(),
                false => destination.to_vec(),
            };
            let from = End::There(errands.len());
            errands.push(errand);
            jobs.push(Job { from, paths: paths.clone(), to: End::Here, destination, label });
        }
    }
    Ok((errands, jobs))
}

fn to_there(
    home: &Home,
    args: &CopyArgs,
    here: Vec<Vec<u8>>,
    there: Vec<(String, Vec<Vec<u8>>)>,
    machine: &str,
    destination: Vec<u8>,
) -> Result<(Vec<Errand>, Vec<Job>), Failure> {
    let (mut errands, mut jobs) = (Vec::new(), Vec::new());
    let mut sources = Vec::new();
    for (word, paths) in there {
        let (mut found, by_nature) = machines(home, &word, &args.but, &args.connect)?;
        if by_nature {
            return Err(usage("files of several machines cannot go to others in one command")
                .hint("copy them here first, or one machine after the other"));
        }
        sources.push((End::There(errands.len()), paths));
        errands.append(&mut found);
    }
    if !here.is_empty() {
        sources.push((End::Here, here));
    }
    let (found, _) = machines(home, machine, &args.but, &args.connect)?;
    for errand in found {
        let label = errand.target.name.clone();
        // The same machine at both ends is reached once.
        let same = errands.iter().position(|known: &Errand| known.target.name == label);
        let to = End::There(same.unwrap_or(errands.len()));
        if same.is_none() {
            errands.push(errand);
        }
        jobs.extend(sources.iter().map(|(from, paths)| Job {
            from: *from,
            paths: paths.clone(),
            to,
            destination: destination.clone(),
            label: label.clone(),
        }));
    }
    Ok((errands, jobs))
}

fn stream(home: &Home, args: &CopyArgs, from: Vec<Location>, to: Location) -> Result<Task, Failure> {
    let one = |machine: &str| match machines(home, machine, &args.but, &args.connect)? {
        (mut found, false) => found.pop().ok_or_else(|| usage("no machine")),
        _ => Err(usage("a stream is of one machine")),
    };
    if args.mirror || args.plan {
        return Err(usage("a stream is copied as it comes, and leaves nothing to plan"));
    }
    match (from.as_slice(), to) {
        ([Location::Stream], Location::There { machine, path }) => {
            if path.is_empty() || path.ends_with(b"/") {
                return Err(usage("a stream has no name: say which file it becomes, as lamp-01:/srv/FILE"));
            }
            Ok(Task::In { errand: Box::new(one(&machine)?), path })
        }
        ([Location::There { machine, path }], Location::Stream) => {
            Ok(Task::Out { errand: Box::new(one(machine)?), path: path.clone() })
        }
        _ => Err(usage("a stream (-) goes to one file on a machine, or comes from one")
            .hint("lantern copy - lamp-01:/srv/FILE")
            .hint("lantern copy lamp-01:/srv/FILE -")),
    }
}
