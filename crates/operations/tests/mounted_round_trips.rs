//! What work on a mounted folder costs in round trips.

// A test that cannot go on says so by panicking.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod desk;
mod mounted;
mod rig;

use std::time::Duration;

use bytes::Bytes;
use fuser::Errno;
use lantern_harbour::LatencyLink;
use lantern_ssh::sftp::OpenFlags;
use mounted::{BOTH, ROOT, content, machine, on_this_thread, tree, usual};

/// What a compiler does with its files, counted in round trips: names that are not there, sources that are read once, and a result that is written piece by
/// piece and looked at in between.
#[test]
fn what_is_known_costs_no_round_trip() {
    on_this_thread(async {
        let scene = rig::scene().await;
        let machine = machine(&scene);
        for name in ["lamp.c", "lamp.h", "chart"] {
            machine.put_file("keeper", &format!("/srv/{name}"), b"int lamp(int at);\n");
        }
        let line = LatencyLink::open(machine.address, Duration::from_millis(15)).await.unwrap();
        let tree = tree(&scene, line.address, usual()).await;
        tree.list(ROOT).await.unwrap();
        let trips = async || {
            // What nobody waits for is under way for a moment.
            tokio::time::sleep(Duration::from_millis(80)).await;
            // A connection's own is always among them.
            let trips = line.round_trips() - 1;
            line.reset();
            trips
        };
        trips().await;
        let refused =
            async |name: &[u8]| matches!(tree.find(ROOT, name).await.unwrap_err().number(), Errno::ENOENT);
        for _ in 0..20 {
            assert!(refused(b"lamp.o").await && refused(b"lamp.c.gch").await);
        }
        let (source, _) = tree.find(ROOT, b"lamp.c").await.unwrap();
        assert_eq!(trips().await, 0);

        let (handle, _) = tree.open_file(source, OpenFlags::READ).await.unwrap();
        assert_eq!(tree.read(handle, 0, 4096).await.unwrap().len(), 18);
        assert_eq!(trips().await, 2);
        tree.close(handle).await.unwrap();
        trips().await;

        let flags = OpenFlags { truncate: true, create: true, ..BOTH };
        let (object, known, handle) = tree.create(ROOT, b"lamp.o", 0o644, flags).await.unwrap();
        assert_eq!((known.size, trips().await), (Some(0), 1));
        for at in 0..5 {
            tree.write(handle, at * 1000, Bytes::from(content(1000, 1))).await.unwrap();
            assert_eq!(tree.look(object).await.unwrap().size, Some((at + 1) * 1000));
        }
        tree.flush(handle, false).await.unwrap();
        assert_eq!(trips().await, 1);
        tree.close(handle).await.unwrap();
        trips().await;
        // Its time is that of the machine.
        let (again, known) = tree.find(ROOT, b"lamp.o").await.unwrap();
        assert_eq!((again, known.size, trips().await), (object, Some(5000), 1));
        assert!(refused(b"lamp.d").await && tree.find(ROOT, b"lamp.h").await.is_ok());
        assert_eq!(trips().await, 0);

        tree.rename((ROOT, b"lamp.o"), (ROOT, b"lamp.so"), true).await.unwrap();
        assert_eq!(tree.find(ROOT, b"lamp.so").await.unwrap().0, object);
        assert!(refused(b"lamp.o").await);
        assert_eq!(trips().await, 1);
        tree.remove(ROOT, b"lamp.so", false).await.unwrap();
        assert!(refused(b"lamp.so").await);
        assert_eq!(trips().await, 1);
        // A file of the same name is another one, and nothing is known of it from before.
        let (_, known, handle) = tree.create(ROOT, b"lamp.o", 0o600, flags).await.unwrap();
        assert_eq!((known.size, known.permissions().map(|mode| mode & 0o777)), (Some(0), Some(0o600)));
        tree.close(handle).await.unwrap();
        let mut names: Vec<_> = tree.list(ROOT).await.unwrap().0.keys().cloned().collect();
        names.sort();
        assert!(names.contains(&b"lamp.o".to_vec()) && !names.contains(&b"lamp.so".to_vec()), "{names:?}");
    });
}
