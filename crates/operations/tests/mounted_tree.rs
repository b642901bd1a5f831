//! A mounted folder without a kernel: what is asked of it by number, over lines that break, and from machines that lie.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod desk;
mod mounted;
#[path = "../../link/tests/scene/polls.rs"]
mod polls;
mod rig;

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use bytes::Bytes;
use fuser::Errno;
use lantern_link::FilesError;
use lantern_operations::mount::{Lifeline, RemoteTree, TreeOptions};
use lantern_ssh::sftp::{Attributes, FileKind, OpenFlags};
use mounted::{BOTH, ROOT, content, files, machine, on_this_thread, tree, usual};
use polls::poll_times;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// Lines to a machine, each of which breaks off after so many bytes from it; the last number is for all that follow.
async fn breaking(target: SocketAddr, after: Vec<usize>) -> (SocketAddr, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let lines = Arc::new(AtomicUsize::new(0));
    let count = lines.clone();
    tokio::spawn(async move {
        while let Ok((client, _)) = listener.accept().await {
            let number = count.fetch_add(1, Ordering::Relaxed);
            let mut left = *after.get(number).or(after.last()).unwrap();
            tokio::spawn(async move {
                let (mut from, mut to_client) = client.into_split();
                let (mut answers, mut to) = TcpStream::connect(target).await.unwrap().into_split();
                let there = tokio::spawn(async move { tokio::io::copy(&mut from, &mut to).await });
                let mut buffer = vec![0; 16 * 1024];
                while left > 0 {
                    let room = left.min(buffer.len());
                    let Ok(len @ 1..) = answers.read(&mut buffer[..room]).await else { break };
                    if to_client.write_all(&buffer[..len]).await.is_err() {
                        break;
                    }
                    left -= len;
                }
                there.abort();
            });
        }
    });
    (address, lines)
}

async fn read_all(tree: &RemoteTree, handle: u64, mut at: u64) -> Vec<u8> {
    let mut all = Vec::new();
    loop {
        let piece = tree.read(handle, at, 100_000).await.unwrap();
        if piece.is_empty() {
            return all;
        }
        at += piece.len() as u64;
        all.extend_from_slice(&piece);
    }
}

#[test]
fn what_is_written_through_one_handle_is_read_through_another() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        let mut expected = content(3_000_000, 1);
        machine.put_file("keeper", "/srv/chart", &expected);
        let tree = tree(&scene, machine.address, usual()).await;
        let (number, known) = tree.find(ROOT, b"chart").await.unwrap();
        assert_eq!((known.size, known.kind()), (Some(3_000_000), FileKind::Regular));
        let (reader, _) = tree.open_file(number, OpenFlags::READ).await.unwrap();
        let (writer, _) = tree.open_file(number, BOTH).await.unwrap();
        let mut at = 0;
        // Far enough that what follows has been read ahead.
        while at < 1_000_000 {
            at += tree.read(reader, at, 100_000).await.unwrap().len() as u64;
        }
        tree.write(writer, 1_500_000, Bytes::from_static(b"a lamp")).await.unwrap();
        expected[1_500_000..1_500_006].copy_from_slice(b"a lamp");
        tree.flush(writer, true).await.unwrap();
        assert!(read_all(&tree, reader, at).await == expected[at as usize..]);
        // Its own handle sees it before it is told to be there.
        tree.write(writer, 0, Bytes::from_static(b"fog")).await.unwrap();
        assert_eq!(&tree.read(writer, 0, 3).await.unwrap()[..], b"fog");
        let size = Attributes { size: Some(2_000_000), ..Attributes::default() };
        assert_eq!(tree.change(number, size).await.unwrap().size, Some(2_000_000));
        assert_eq!(read_all(&tree, reader, 1_999_990).await.len(), 10);
        tree.close(reader).await.unwrap();
        tree.close(writer).await.unwrap();
        assert_eq!(machine.file("keeper", "/srv/chart").unwrap().len(), 2_000_000);
    });
}

/// More readers and writers than memory is given to: each goes on, and gets what is its own.
#[test]
fn many_files_share_the_memory_and_all_go_on() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        for at in 0..30_usize {
            machine.put_file("keeper", &format!("/srv/log-{at}"), &content(2_000_000, at));
        }
        let tree = tree(&scene, machine.address, usual()).await;
        let mut handles = Vec::new();
        for at in 0..30_usize {
            let name = format!("log-{at}").into_bytes();
            let (number, _) = tree.find(ROOT, &name).await.unwrap();
            handles.push(tree.open_file(number, BOTH).await.unwrap().0);
        }
        // All have begun to read in order and stop in the middle, each with what was read ahead for it.
        for handle in &handles {
            let mut at = 0;
            while at < 900_000 {
                at += tree.read(*handle, at, 100_000).await.unwrap().len() as u64;
            }
        }
        for (at, handle) in handles.iter().enumerate() {
            assert!(read_all(&tree, *handle, 900_000).await == content(2_000_000, at)[900_000..], "{at}");
            tree.write(*handle, 10, content(1_500_000, at + 1).into()).await.unwrap();
        }
        for (at, handle) in handles.into_iter().enumerate() {
            tree.close(handle).await.unwrap();
            let there = machine.file("keeper", &format!("/srv/log-{at}")).unwrap();
            assert!(there[10..1_500_010] == content(1_500_000, at + 1), "{at}");
        }
    });
}

/// Wherever the connection breaks, whoever reads gets every byte, over as many connections as it takes.
#[test]
fn reading_goes_on_over_one_connection_after_another() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        let expected = content(2_000_000, 2);
        machine.put_file("keeper", "/srv/chart", &expected);
        for after in [vec![400_000, 700_000, usize::MAX], vec![60_000, 1_500_000, 5_000, 900_000, usize::MAX]]
        {
            let (address, lines) = breaking(machine.address, after.clone()).await;
            let tree = tree(&scene, address, usual()).await;
            let (number, _) = tree.find(ROOT, b"chart").await.unwrap();
            let (handle, _) = tree.open_file(number, OpenFlags::READ).await.unwrap();
            assert!(read_all(&tree, handle, 0).await == expected, "{after:?}");
            assert!(lines.load(Ordering::Relaxed) > 1, "{after:?}");
            tree.close(handle).await.unwrap();
        }
    });
}

/// Accounts lock: where a login was refused, nobody tries it again, whatever programs ask.
#[test]
fn a_refused_login_is_not_tried_again() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        machine.put_file("keeper", "/srv/chart", b"lit");
        let (address, _) = breaking(machine.address, vec![30_000]).await;
        let first = files(rig::connect_at(&scene, address)).await.unwrap();
        let tries = Arc::new(AtomicUsize::new(0));
        let count = tries.clone();
        let refused = FilesError::PathTooLong { machine: "lamp-01".into() };
        let again = move || {
            count.fetch_add(1, Ordering::Relaxed);
            let refused = refused.clone();
            Box::pin(async move { Err((refused, true)) }) as std::pin::Pin<Box<dyn Future<Output = _> + Send>>
        };
        let line = Lifeline::new(first, Box::new(again));
        let options = TreeOptions { lasts: Duration::ZERO, read_only: false };
        let tree = RemoteTree::new(b"/srv".to_vec(), line, options);
        let mut failed = 0;
        for _ in 0..2000 {
            failed += u32::from(tree.find(ROOT, b"chart").await.is_err());
            if failed > 20 {
                break;
            }
        }
        tokio::time::sleep(Duration::from_millis(2200)).await;
        assert!(tree.find(ROOT, b"chart").await.is_err());
        assert_eq!((failed > 20, tries.load(Ordering::Relaxed)), (true, 1));
    });
}

/// A write that was under way when the connection broke is told; one after that goes on.
#[test]
fn a_write_that_may_be_lost_is_told() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        machine.put_file("keeper", "/srv/chart", b"");
        let (address, lines) = breaking(machine.address, vec![40_000, usize::MAX]).await;
        let tree = tree(&scene, address, usual()).await;
        let (number, _) = tree.find(ROOT, b"chart").await.unwrap();
        let (handle, _) = tree.open_file(number, BOTH).await.unwrap();
        let mut told = 0;
        for turn in 0..2000 {
            let written = tree.write(handle, turn * 1000, content(1000, 4).into()).await;
            told += u32::from(written.is_err());
            told += u32::from(tree.flush(handle, false).await.is_err());
            if told > 0 {
                break;
            }
        }
        assert!(told > 0, "{}", lines.load(Ordering::Relaxed));
        tree.write(handle, 0, content(300_000, 5).into()).await.unwrap();
        tree.flush(handle, true).await.unwrap();
        assert!(machine.file("keeper", "/srv/chart").unwrap()[..300_000] == content(300_000, 5));
        assert_eq!(lines.load(Ordering::Relaxed), 2);
    });
}

#[test]
fn futures_can_be_dropped_at_every_poll_and_nothing_stays_open() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        machine.put_file("keeper", "/srv/chart", &content(900_000, 6));
        let tree = tree(&scene, machine.address, TreeOptions { lasts: Duration::ZERO, ..usual() }).await;
        let (number, _) = tree.find(ROOT, b"chart").await.unwrap();
        let (handle, _) = tree.open_file(number, BOTH).await.unwrap();
        for polls in 1..10 {
            drop(poll_times(tree.find(ROOT, b"chart"), polls).await);
            drop(poll_times(tree.list(ROOT), polls).await);
            drop(poll_times(tree.open_file(number, OpenFlags::READ), polls).await);
            drop(poll_times(tree.read(handle, 0, 300_000), polls).await);
            drop(poll_times(tree.create(ROOT, b"new", 0o600, BOTH), polls).await);
            drop(poll_times(tree.remove(ROOT, b"new", false), polls).await);
        }
        assert!(read_all(&tree, handle, 0).await == content(900_000, 6));
        assert_eq!(tree.look(number).await.unwrap().size, Some(900_000));
        drop(tree);
        let since = std::time::Instant::now();
        while machine.open_files() > 0 {
            assert!(since.elapsed() < Duration::from_secs(10), "{}", machine.open_files());
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    });
}

#[test]
fn refusals_have_their_numbers_and_nothing_is_written_where_nothing_may_be() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        machine.put_file("keeper", "/srv/chart", b"lit");
        let tree_here = tree(&scene, machine.address, usual()).await;
        let number = |trouble: lantern_operations::mount::Trouble| trouble.number();
        assert_eq!(tree_here.find(ROOT, b"none").await.map_err(number).unwrap_err(), Errno::ENOENT);
        let made = tree_here.make_folder(ROOT, b"chart", 0o755).await;
        assert_eq!(made.map_err(number).unwrap_err(), Errno::EEXIST);
        let (folder, _) = tree_here.make_folder(ROOT, b"folder", 0o755).await.unwrap();
        tree_here.make_folder(folder, b"below", 0o755).await.unwrap();
        assert_eq!(
            tree_here.remove(ROOT, b"folder", true).await.map_err(number).unwrap_err(),
            Errno::ENOTEMPTY
        );
        // Many names, one by one: from then on all are known, and one that is not there costs nothing.
        for turn in 0..20 {
            let name = format!("none-{turn}");
            assert!(tree_here.find(ROOT, name.as_bytes()).await.is_err());
        }
        machine.put_file("keeper", "/srv/later", b"x");
        assert_eq!(tree_here.find(ROOT, b"later").await.map_err(number).unwrap_err(), Errno::ENOENT);
        // What we do ourselves is known at once.
        tree_here.rename((ROOT, b"chart"), (folder, b"chart"), true).await.unwrap();
        assert!(tree_here.find(ROOT, b"chart").await.is_err());
        let (moved, _) = tree_here.find(folder, b"chart").await.unwrap();
        assert_eq!(tree_here.look(moved).await.unwrap().size, Some(3));
        assert_eq!(
            tree_here.rename((ROOT, b"later"), (folder, b"chart"), false).await.map_err(number).unwrap_err(),
            Errno::EEXIST
        );

        let only = tree(&scene, machine.address, TreeOptions { read_only: true, ..usual() }).await;
        for outcome in [
            only.make_folder(ROOT, b"x", 0o755).await.map(drop),
            only.create(ROOT, b"x", 0o644, BOTH).await.map(drop),
            only.remove(ROOT, b"later", false).await,
            only.rename((ROOT, b"later"), (ROOT, b"x"), true).await,
            only.make_link(ROOT, b"x", b"later").await.map(drop),
        ] {
            assert_eq!(outcome.map_err(number).unwrap_err(), Errno::EROFS);
        }
        let (later, _) = only.find(ROOT, b"later").await.unwrap();
        assert_eq!(only.open_file(later, BOTH).await.map_err(number).unwrap_err(), Errno::EROFS);
        assert_eq!(machine.names("keeper", "/srv"), ["folder", "later"]);
    });
}
