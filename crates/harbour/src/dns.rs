//! A stand-in for a resolver: answers questions for SSHFP records from a list, validated or not as it is told.

use std::collections::HashMap;
use std::net::SocketAddr;

use lantern_keys::{PublicKey, sshfp};
use tokio::net::UdpSocket;
use tokio::task::JoinHandle;

/// A resolver that answers until it is dropped.
#[derive(Debug)]
pub struct NameServer {
    /// Where it answers.
    pub address: SocketAddr,
    task: JoinHandle<()>,
}

impl NameServer {
    /// Starts on a free port of 127.77.0.53. `validates`: it says that it validated its answers.
    ///
    /// # Errors
    /// When there is no port to be had.
    pub async fn start(records: HashMap<String, Vec<PublicKey>>, validates: bool) -> std::io::Result<Self> {
        let socket = UdpSocket::bind(("127.77.0.53", 0)).await?;
        let address = socket.local_addr()?;
        let task = tokio::spawn(async move {
            let mut question = [0; 512];
            while let Ok((len, asker)) = socket.recv_from(&mut question).await {
                if let Some(answer) = question.get(..len).and_then(|q| answer(q, &records, validates)) {
                    let _ = socket.send_to(&answer, asker).await;
                }
            }
        });
        Ok(Self { address, task })
    }
}

impl Drop for NameServer {
    fn drop(&mut self) {
        self.task.abort();
    }
}

fn answer(question: &[u8], records: &HashMap<String, Vec<PublicKey>>, validates: bool) -> Option<Vec<u8>> {
    // RFC 1035 §4.1.2: the name begins behind the header.
    let mut labels = Vec::new();
    let mut at = 12;
    loop {
        let len = usize::from(*question.get(at)?);
        at += 1;
        if len == 0 {
            break;
        }
        labels.push(String::from_utf8_lossy(question.get(at..at + len)?).into_owned());
        at += len;
    }
    let end = at + 4;
    let keys = records.get(&labels.join(".").to_lowercase()).map(Vec::as_slice).unwrap_or_default();
    let mut message = question.get(..end)?.to_vec();
    // An answer, recursion available; validated or not (RFC 4035 §3.2.3).
    let flags: u16 = 0x8180 | if validates { 0x0020 } else { 0 };
    message.get_mut(2..4)?.copy_from_slice(&flags.to_be_bytes());
    message.get_mut(6..8)?.copy_from_slice(&u16::try_from(keys.len()).ok()?.to_be_bytes());
    message.get_mut(8..12)?.fill(0);
    for key in keys {
        // The name by a pointer to the question, type SSHFP, class IN, a minute to live.
        message.extend([0xc0, 12, 0, 44, 0, 1, 0, 0, 0, 60, 0, 34]);
        message.extend([sshfp::algorithm_number(key), sshfp::SHA256]);
        message.extend(key.fingerprint().as_bytes());
    }
    Some(message)
}
