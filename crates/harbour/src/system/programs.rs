//! The programs of the made-up system, but for the shell and the full-screen one.

use std::time::{Duration, Instant};

use aws_lc_rs::digest;
use lantern_link::Entering;
use lantern_ssh::sftp::FileStore;

use super::lamp_view::LampView;
use super::{
    ActingProgram, Exit, OUTPUT_HIGH_WATER, Program, ProgramIo, Progress, Surroundings, fatal_signal, logins,
    panel,
};
use crate::tree::FilesOfUser;

const HELP: &str = "\
whoami            who you are
hostname          where you are
uptime            since when the machine is up
ls                the files
cat FILE          a file
echo WORDS        the words
env               the environment
count N           N numbered lines
slow N            N lines, one every 200 ms
fail [STATUS]     a complaint and this exit status
crash             death by a signal
mirror            standard input, back again
checksum          SHA-256 of standard input
swallow           standard input, counted
flood BYTES       that many bytes
wait              nothing, until a signal comes
draw-burst N      N small requests to your display, timed
panel             a full-screen view; q leaves it
lamp-view [N]     the lamp in a window on your display, for N seconds or until it is closed
";

/// Starts the program that a command line names.
pub(crate) fn start(line: &str, now: Instant) -> Box<dyn Program> {
    if let Some(program) = logins::start(line) {
        return program;
    }
    if let Some(entering) = Entering::read(line) {
        return Box::new(ActingProgram::new(entering, start));
    }
    if line == lantern_link::remote_digest::DIGEST_COMMAND {
        return Box::new(FileDigest);
    }
    if line == lantern_link::WHO_AND_WHERE {
        return Box::new(Tell(|io| {
            let Surroundings { user, host, .. } = &io.surroundings;
            let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
            format!("who and where\n{user}\n{host}\nHarbour 1.0 lamp\n{}\n/bin/sh\n", now.as_secs())
        }));
    }
    let mut words = line.split_whitespace();
    let name = words.next().unwrap_or_default();
    let rest: Vec<&str> = words.collect();
    let number = |fallback: u64| rest.first().and_then(|word| word.parse().ok()).unwrap_or(fallback);
    match name {
        "" => done("", "", 0),
        "count" => Box::new(Count { next: 1, last: number(100) }),
        "slow" => Box::new(Slow { next: 1, last: number(5), due: now }),
        "mirror" => Box::new(Mirror),
        "checksum" => Box::new(Checksum(digest::Context::new(&digest::SHA256))),
        "swallow" => Box::new(Swallow(0)),
        "flood" => Box::new(Flood { left: number(1_000_000), at: 0 }),
        "wait" => Box::new(Wait { told: false }),
        "lamp-view" => Box::new(LampView::new(rest.first().and_then(|word| word.parse().ok()))),
        "draw-burst" => Box::new(LampView::burst(number(10_000) as usize)),
        "panel" => Box::new(panel::Panel::default()),
        "crash" => Box::new(Crash),
        "fail" => done("", "the lamp is out of oil\n", number(1) as u32),
        "help" => done(HELP, "", 0),
        "ls" => {
            let folder = rest.first().copied().unwrap_or("").to_owned();
            Box::new(Look(move |files: &mut FilesOfUser| {
                let names = files.list(folder.as_bytes()).ok()?;
                Some(names.iter().flat_map(|(name, _)| [&name[..], b"\n"].concat()).collect())
            }))
        }
        "echo" => done(&format!("{}\n", rest.join(" ")), "", 0),
        "cat" => match rest.first().map(|name| name.to_string()) {
            Some(name) => Box::new(Look(move |files: &mut FilesOfUser| files.whole(name.as_bytes()))),
            None => Box::new(Mirror),
        },
        "uptime" => done("up 41 days, 6 hours; 1 keeper; load 0.07\n", "", 0),
        "whoami" => Box::new(Tell(|io| format!("{}\n", io.surroundings.user))),
        "id" if rest.is_empty() => {
            Box::new(Tell(|io| format!("{0} in the group {0}\n", io.surroundings.user)))
        }
        "id" | "getent" => {
            // Each user has a group of that name, and a folder.
            let account = line.split('\'').nth(1).unwrap_or_default().to_owned();
            let is_group = name == "getent";
            Box::new(Look(move |files: &mut FilesOfUser| {
                let folder = if account == "root" { "/".to_owned() } else { format!("/home/{account}") };
                let owner = files.look(folder.as_bytes(), true).ok().and_then(|known| known.owner);
                Some(match owner {
                    Some((number, _)) if is_group => format!("{account}:x:{number}:\n").into_bytes(),
                    Some((number, _)) => format!("{number}\n").into_bytes(),
                    None => b"none\n".to_vec(),
                })
            }))
        }
        "hostname" => Box::new(Tell(|io| format!("{}\n", io.surroundings.host))),
        "env" => Box::new(Tell(|io| {
            io.surroundings.environment.iter().map(|(name, value)| format!("{name}={value}\n")).collect()
        })),
        other => done("", &format!("{other}: no such program; try help\n"), 127),
    }
}

/// A program whose output is settled from the start.
struct Done {
    out: String,
    err: String,
    status: u32,
}

fn done(out: &str, err: &str, status: u32) -> Box<dyn Program> {
    Box::new(Done { out: out.to_owned(), err: err.to_owned(), status })
}

impl Program for Done {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        io.out.extend_from_slice(self.out.as_bytes());
        io.err.extend_from_slice(self.err.as_bytes());
        Progress::Ended(Exit::Status(self.status))
    }
}

/// A program that tells one thing about its surroundings.
struct Tell(fn(&ProgramIo) -> String);

impl Program for Tell {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        let text = (self.0)(io);
        io.out.extend_from_slice(text.as_bytes());
        Progress::Ended(Exit::Status(0))
    }
}

/// What a file holds, as the command for it has it computed.
struct FileDigest;

impl Program for FileDigest {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        if !io.input_ended {
            return Progress::Waiting(None);
        }
        let mut parts = io.input.splitn(2, |byte| *byte == b'\n');
        let len = parts.next().and_then(|len| str::from_utf8(len).ok()?.parse::<usize>().ok());
        let content = io.surroundings.files.whole(parts.next().unwrap_or_default());
        let (Some(len), Some(content)) = (len, content) else { return Progress::Ended(Exit::Status(96)) };
        let digest = digest::digest(&digest::SHA256, content.get(..len).unwrap_or(&content));
        let hex: String = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        io.out.extend_from_slice(format!("{hex}  -\n").as_bytes());
        io.input.clear();
        Progress::Ended(Exit::Status(0))
    }
}

/// A program that shows what is in the files, or complains.
struct Look<F>(F);

impl<F: Fn(&mut FilesOfUser) -> Option<Vec<u8>> + Send> Program for Look<F> {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        match (self.0)(&mut io.surroundings.files) {
            Some(content) => {
                io.out.extend_from_slice(&content);
                Progress::Ended(Exit::Status(0))
            }
            None => {
                io.err.extend_from_slice(b"no such file here\n");
                Progress::Ended(Exit::Status(1))
            }
        }
    }
}

struct Count {
    next: u64,
    last: u64,
}

impl Program for Count {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        if let Some(exit) = fatal_signal(io) {
            return Progress::Ended(exit);
        }
        while self.next <= self.last {
            if io.out.len() >= OUTPUT_HIGH_WATER {
                return Progress::Waiting(None);
            }
            io.out.extend_from_slice(format!("{} the light turns\n", self.next).as_bytes());
            self.next += 1;
        }
        Progress::Ended(Exit::Status(0))
    }
}

struct Slow {
    next: u64,
    last: u64,
    due: Instant,
}

impl Program for Slow {
    fn advance(&mut self, io: &mut ProgramIo, now: Instant) -> Progress {
        if let Some(exit) = fatal_signal(io) {
            return Progress::Ended(exit);
        }
        while self.next <= self.last {
            if now < self.due {
                return Progress::Waiting(Some(self.due));
            }
            io.out.extend_from_slice(format!("flash {}\n", self.next).as_bytes());
            self.next += 1;
            self.due = now + Duration::from_millis(200);
        }
        Progress::Ended(Exit::Status(0))
    }
}

struct Mirror;

impl Program for Mirror {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        if let Some(exit) = fatal_signal(io) {
            return Progress::Ended(exit);
        }
        if io.out.len() < OUTPUT_HIGH_WATER {
            io.out.append(&mut io.input);
        }
        match io.input_ended && io.input.is_empty() {
            true => Progress::Ended(Exit::Status(0)),
            false => Progress::Waiting(None),
        }
    }
}

struct Checksum(digest::Context);

impl Program for Checksum {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        self.0.update(&io.input);
        io.input.clear();
        if !io.input_ended {
            return fatal_signal(io).map_or(Progress::Waiting(None), Progress::Ended);
        }
        let digest = self.0.clone().finish();
        let hex: String = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        io.out.extend_from_slice(format!("{hex}\n").as_bytes());
        Progress::Ended(Exit::Status(0))
    }
}

struct Swallow(usize);

impl Program for Swallow {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        self.0 += io.input.len();
        io.input.clear();
        if !io.input_ended {
            return fatal_signal(io).map_or(Progress::Waiting(None), Progress::Ended);
        }
        io.out.extend_from_slice(format!("{}\n", self.0).as_bytes());
        Progress::Ended(Exit::Status(0))
    }
}

/// A pattern that repeats every 251 bytes, so that a lost or doubled block shows.
/// A prime, so that what is lost or doubled shows wherever blocks begin.
const FLOOD_PERIOD: usize = 251;
const FLOOD: [u8; 32 * FLOOD_PERIOD] = {
    let mut bytes = [0; 32 * FLOOD_PERIOD];
    let mut at = 0;
    while at < bytes.len() {
        bytes[at] = (at % FLOOD_PERIOD) as u8;
        at += 1;
    }
    bytes
};

struct Flood {
    left: u64,
    at: u64,
}

impl Program for Flood {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        if let Some(exit) = fatal_signal(io) {
            return Progress::Ended(exit);
        }
        let room = OUTPUT_HIGH_WATER.saturating_sub(io.out.len()) as u64;
        let len = self.left.min(room);
        let mut to_do = len as usize;
        while to_do > 0 {
            let piece = &FLOOD[(self.at % FLOOD_PERIOD as u64) as usize..];
            let piece = &piece[..piece.len().min(to_do)];
            io.out.extend_from_slice(piece);
            self.at += piece.len() as u64;
            to_do -= piece.len();
        }
        self.left -= len;
        if self.left == 0 { Progress::Ended(Exit::Status(0)) } else { Progress::Waiting(None) }
    }
}

struct Wait {
    told: bool,
}

impl Program for Wait {
    fn advance(&mut self, io: &mut ProgramIo, _: Instant) -> Progress {
        if !std::mem::replace(&mut self.told, true) {
            io.out.extend_from_slice(b"waiting for a signal\n");
        }
        match fatal_signal(io) {
            Some(exit) => {
                io.err.extend_from_slice(b"woken by a signal\n");
                Progress::Ended(exit)
            }
            None => Progress::Waiting(None),
        }
    }
}

struct Crash;

impl Program for Crash {
    fn advance(&mut self, _: &mut ProgramIo, _: Instant) -> Progress {
        Progress::Ended(Exit::Signal("SEGV"))
    }
}
