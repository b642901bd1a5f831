//! Bytes to a machine's file and from it.

use bytes::Bytes;
use lantern_operations::files::Machine;
use lantern_ssh::sftp::{Attributes, OpenFlags};

/// Writes a file of so many bytes.
pub(crate) async fn write(machine: &Machine, path: &[u8], bytes: usize) {
    let piece = Bytes::from(vec![7; 256 * 1024]);
    let flags = OpenFlags { create: true, ..OpenFlags::WRITE };
    let mut writer = machine.files.write(path, flags, None).await.unwrap();
    let mut at = 0;
    while at < bytes {
        let piece = piece.slice(..piece.len().min(bytes - at));
        let len = piece.len();
        writer.write(at as u64, piece).await.unwrap();
        at += len;
    }
    writer.finish(Attributes::default(), false).await.unwrap();
}

/// Reads a file; how many bytes that were.
pub(crate) async fn read(machine: &Machine, path: &[u8]) -> usize {
    let mut reader = machine.files.read(path, 0).await.unwrap();
    let mut read = 0;
    while let Some((_, pieces)) = reader.next().await.unwrap() {
        read += pieces.iter().map(Bytes::len).sum::<usize>();
    }
    read
}
