//! Who has a port of this computer, and which one is free. What differs between operating systems is here.

use std::fmt;
use std::fs;
use std::net::TcpListener;

use lantern_book::TunnelEnd;

/// How many ports behind the one that was wanted are tried.
const TRIES: u16 = 100;
/// The state of a socket that listens, in the system's list (proc_net_tcp, include/net/tcp_states.h).
const LISTENS: &str = "0A";

/// The process that listens at a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PortHolder {
    /// Its number.
    pub pid: u32,
    /// Its name, as the system has it.
    pub name: String,
}

impl fmt::Display for PortHolder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} (process {})", lantern_ssh::neutralize_line(&self.name, 64), self.pid)
    }
}

/// Who listens there, where the system tells: of other users' processes it does not.
pub fn port_holder(at: &TunnelEnd) -> Option<PortHolder> {
    match at {
        TunnelEnd::Tcp { port, .. } => {
            let sockets = listening_sockets(*port);
            processes().find(|holder| has_any(holder.pid, &sockets))
        }
        TunnelEnd::Unix(path) => {
            let peer = std::os::unix::net::UnixStream::connect(path).ok()?;
            let pid = rustix::net::sockopt::socket_peercred(&peer).ok()?.pid.as_raw_nonzero().get();
            holder(u32::try_from(pid).ok()?)
        }
    }
}

/// The inodes of sockets that listen at a port.
fn listening_sockets(port: u16) -> Vec<String> {
    let port = format!(":{port:04X}");
    let mut inodes = Vec::new();
    for list in ["/proc/net/tcp", "/proc/net/tcp6"] {
        for line in fs::read_to_string(list).unwrap_or_default().lines().skip(1) {
            // Number, local and remote address, state, and the inode as the tenth (proc(5)).
            let fields: Vec<&str> = line.split_whitespace().collect();
            if let [_, local, _, LISTENS, _, _, _, _, _, inode, ..] = fields.as_slice()
                && local.ends_with(&port)
            {
                inodes.push(format!("socket:[{inode}]"));
            }
        }
    }
    inodes
}

fn holder(pid: u32) -> Option<PortHolder> {
    let name = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
    Some(PortHolder { pid, name: name.trim().to_owned() })
}

fn processes() -> impl Iterator<Item = PortHolder> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries.filter_map(|entry| holder(entry.file_name().to_str()?.parse().ok()?))
}

fn has_any(pid: u32, sockets: &[String]) -> bool {
    let files = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    files
        .filter_map(|file| fs::read_link(file.path()).ok())
        .any(|target| sockets.iter().any(|socket| target.as_os_str() == socket.as_str()))
}

/// The next port that is free at the same address.
pub fn next_free_port(at: &TunnelEnd) -> Option<u16> {
    let TunnelEnd::Tcp { host, port } = at else { return None };
    let last = port.saturating_add(TRIES);
    (port.saturating_add(1)..=last).find(|port| TcpListener::bind((host.as_str(), *port)).is_ok())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn who_listens_is_told_and_a_free_port_behind_it() {
        let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
        let at = TunnelEnd::Tcp { host: "127.0.0.1".into(), port: listener.local_addr().unwrap().port() };
        assert_eq!(port_holder(&at).unwrap().pid, std::process::id());
        assert_ne!(next_free_port(&at), Some(listener.local_addr().unwrap().port()));
        drop(listener);
        assert_eq!(port_holder(&at), None);
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x.sock");
        let _listener = std::os::unix::net::UnixListener::bind(&path).unwrap();
        let at = TunnelEnd::Unix(path.to_str().unwrap().to_owned());
        assert_eq!(port_holder(&at).unwrap().pid, std::process::id());
        assert_eq!(next_free_port(&at), None);
    }
}
