//! Copies over lines that are cut at any place, by futures that are dropped at any poll, and from machines that lie.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod desk;
#[path = "../../link/tests/scene/polls.rs"]
mod polls;
mod rig;

use std::net::SocketAddr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use desk::Scene;
use lantern_harbour::LitMachine;
use lantern_link::{Files, Remote};
use lantern_operations::copy::{CopyOptions, Destination, Report, Stop, carry_out, plan, roots};
use lantern_operations::files::{FileFault, Machine, Side, walk};
use lantern_ssh::sftp::OpenFlags;
use polls::poll_times;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// A line to a machine that breaks off after so many bytes towards it.
async fn line_of(target: SocketAddr, mut bytes: usize) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let (client, _) = listener.accept().await.unwrap();
        let (mut from, mut to_client) = client.into_split();
        let (mut answers, mut to) = TcpStream::connect(target).await.unwrap().into_split();
        let back = tokio::spawn(async move { tokio::io::copy(&mut answers, &mut to_client).await });
        let mut buffer = vec![0; 16 * 1024];
        while bytes > 0 {
            let room = bytes.min(buffer.len());
            let Ok(len @ 1..) = from.read(&mut buffer[..room]).await else { break };
            if to.write_all(&buffer[..len]).await.is_err() {
                break;
            }
            bytes -= len;
        }
        back.abort();
    });
    address
}

async fn reach(scene: &Scene, address: SocketAddr) -> Result<Machine, FileFault> {
    let trunk = rig::connect_at(scene, address)().await.map_err(|error| match error {
        lantern_operations::OperationError::Link(error) => FileFault::from(error),
        other => panic!("{other}"),
    })?;
    Machine::of(Remote::from(trunk)).await
}

async fn copy(
    from: &Side,
    path: &[u8],
    to: &Side,
    target: &[u8],
    options: &CopyOptions,
) -> Result<Report, String> {
    let destination = Destination::of(target);
    let roots = roots(from, &[path.to_vec()], to, &destination).await.map_err(|error| error.to_string())?;
    let plan = plan(from, to, &roots, options, &()).await.map_err(|error| error.to_string())?;
    Ok(carry_out(from, to, plan, options, Arc::new(()), Arc::new(Stop::default())).await)
}

fn content(len: usize, seed: usize) -> Vec<u8> {
    (0..len).map(|at| ((at * 31 + at / 251 + seed) % 253) as u8).collect()
}

fn on_this_thread<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime
        .block_on(async { tokio::time::timeout(Duration::from_secs(120), future).await.expect("it hangs") })
}

fn machine(scene: &Scene) -> LitMachine {
    scene.harbour.machines()[0].clone()
}

/// Wherever an upload is cut, there is the old file or the new one; and the next one goes on.
#[test]
fn a_cut_leaves_the_old_file_or_the_new_one_and_the_next_copy_ends_equal() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        let (old, new) = (content(300_000, 1), content(6_000_000, 2));
        let file = scene.home.path().join("chart");
        std::fs::write(&file, &new).unwrap();
        let options = CopyOptions { replace_newer: true, ..CopyOptions::default() };
        let mut went_on = 0;
        for cut in
            [3_000, 5_000, 7_000, 40_000, 1_000_000, 4_500_000, 5_990_000, 6_005_000, 6_012_000, usize::MAX]
        {
            machine.put_file("keeper", "/srv/chart", &old);
            let line = line_of(machine.address, cut).await;
            let report = match reach(&scene, line).await {
                Ok(there) => {
                    let path = file.as_os_str().as_bytes();
                    copy(&Side::Here, path, &Side::There(there), b"/srv/chart", &options).await
                }
                Err(fault) => Err(fault.to_string()),
            };
            let there = machine.file("keeper", "/srv/chart").unwrap();
            let copied = report.as_ref().is_ok_and(|report| report.copied == 1);
            assert!(there == new || there == old && !copied, "cut after {cut}: {report:?}");
            if let Ok(report) = report {
                went_on += u64::from(report.from_before > 4_000_000);
                assert!(copied || report.ended.is_some(), "cut after {cut}: {report:?}");
            }
        }
        assert!(went_on > 0, "no copy went on where another was cut");
        assert!(machine.file("keeper", "/srv/chart").unwrap() == new);
        assert_eq!(machine.open_files(), 0);
    });
}

/// What is given up at any moment leaves nothing open on the machine, and the conversation goes on.
#[test]
fn futures_can_be_dropped_at_every_poll() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        machine.put_file("keeper", "/srv/chart", &content(900_000, 3));
        let there = reach(&scene, machine.address).await.unwrap();
        let files: &Files = &there.files;
        for polls in 1..12 {
            drop(poll_times(files.read(b"/srv/chart", 0), polls).await);
            drop(poll_times(files.list(b"/srv"), polls).await);
            drop(poll_times(files.look(b"/srv/chart"), polls).await);
            drop(poll_times(files.write(b"/srv/other", OpenFlags::NEW, None), polls).await);
            if let Some(Ok(mut reader)) = poll_times(files.read(b"/srv/chart", 0), 50).await {
                drop(poll_times(reader.next(), polls).await);
            }
            drop(files.remove(b"/srv/other").await);
        }
        // Folders as well: more than the machine lets be open at once.
        for round in 0..1200 {
            drop(poll_times(files.list(b"/srv"), 2 + round % 3).await);
        }
        assert_eq!(files.list(b"/srv").await.unwrap().len(), 1);
        // It still answers what it is asked, and has closed what nobody holds.
        let mut reader = files.read(b"/srv/chart", 0).await.unwrap();
        let mut got = Vec::new();
        while let Some((offset, pieces)) = reader.next().await.unwrap() {
            assert_eq!(offset, got.len() as u64);
            got.extend(pieces.concat());
        }
        assert!(got == content(900_000, 3));
        drop(reader);
        files.look(b"/srv/chart").await.unwrap();
        assert_eq!(machine.open_files(), 0);
    });
}

/// Names that lead elsewhere are no names, and a folder in whose place there is a link is not gone into.
#[test]
fn nothing_is_written_outside_of_the_destination() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        let there = Side::There(reach(&scene, machine.address).await.unwrap());
        there.make_folder(b"/srv/site", None).await.unwrap();
        there.make_folder(b"/srv/site/deep", None).await.unwrap();
        machine.put_file("keeper", "/srv/site/deep/chart", b"from there");
        let outside = scene.home.path().join("outside");
        std::fs::create_dir(&outside).unwrap();
        let to = scene.home.path().join("site");
        std::fs::create_dir(&to).unwrap();
        // Somebody has put a link where the folder is to be.
        std::os::unix::fs::symlink(&outside, to.join("deep")).unwrap();
        let path = |path: &Path| path.as_os_str().as_bytes().to_vec();
        let report =
            copy(&there, b"/srv/site", &Side::Here, &path(scene.home.path()), &CopyOptions::default())
                .await
                .unwrap();
        assert_eq!(std::fs::read_dir(&outside).unwrap().count(), 0, "{report:?}");
        assert!(report.copied == 0 && !report.left.is_empty(), "{report:?}");
        let items = walk(&there, b"/srv/site", |_, fault| panic!("{fault}"), |_| {}).await.unwrap();
        assert_eq!(
            items.iter().map(|item| item.below.clone()).collect::<Vec<_>>(),
            [&b"deep"[..], b"deep/chart"]
        );
    });
}
