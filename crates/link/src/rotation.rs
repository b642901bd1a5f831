//! Host keys that a trusted machine announces after login: proven, and taken over into the trust store.

use jiff::Timestamp;
use lantern_book::{Home, Rotation, TrustStore};
use lantern_keys::PublicKey;
use lantern_ssh::GlobalEvent;
use tokio::sync::mpsc;
use tokio::task::spawn_blocking;
use tracing::debug;

use crate::Trunk;
use crate::trunk::WeakTrunk;

/// Hears the announcements of a connection for as long as it lives, beside whatever else goes on there. Whatever goes wrong here must
/// not disturb that: the next connection hears it again.
pub(crate) fn watch(home: &Home, trunk: &Trunk) {
    let (sender, mut announcements) = mpsc::unbounded_channel();
    trunk.hear_announcements(sender);
    let watch = Watch { home: home.clone(), machine: trunk.machine().to_owned(), trunk: trunk.downgrade() };
    tokio::spawn(async move {
        let mut announced = Vec::new();
        while let Some(event) = announcements.recv().await {
            watch.handle(event, &mut announced).await;
        }
    });
}

struct Watch {
    home: Home,
    machine: String,
    trunk: WeakTrunk,
}

impl Watch {
    async fn handle(&self, event: GlobalEvent, announced: &mut Vec<PublicKey>) {
        match event {
            GlobalEvent::HostKeysAnnounced(keys) => {
                let (home, machine) = (self.home.clone(), self.machine.clone());
                let Ok(Some(known)) = spawn_blocking(move || known_keys(&home, &machine)).await else {
                    return;
                };
                let news: Vec<PublicKey> = keys.iter().filter(|key| !known.contains(key)).cloned().collect();
                let something_went = known.iter().any(|key| !keys.contains(key));
                *announced = keys;
                if !news.is_empty() {
                    debug!(keys = news.len(), "host keys announced that are not known");
                    if let Some(trunk) = self.trunk.upgrade() {
                        trunk.prove_host_keys(news);
                    }
                } else if something_went {
                    self.take_over(announced.clone(), Vec::new()).await;
                }
            }
            GlobalEvent::HostKeysProven(proven) if !proven.is_empty() => {
                self.take_over(announced.clone(), proven).await;
            }
            GlobalEvent::HostKeysProven(_) => {
                debug!("announced host keys were not proven; nothing is changed");
            }
            _ => {}
        }
    }

    async fn take_over(&self, announced: Vec<PublicKey>, proven: Vec<PublicKey>) {
        let Some(current) = self.trunk.upgrade().and_then(|trunk| trunk.host_key()) else { return };
        let (home, machine) = (self.home.clone(), self.machine.clone());
        let taken = spawn_blocking(move || {
            TrustStore::take_over(&home, &machine, &current, &announced, &proven, Timestamp::now())
        });
        match taken.await {
            Ok(Ok(rotation)) if rotation != Rotation::default() => {
                if let Some(trunk) = self.trunk.upgrade() {
                    trunk.note_rotation(rotation);
                }
            }
            Ok(Ok(_)) | Err(_) => {}
            Ok(Err(error)) => debug!(%error, "announced host keys were not remembered"),
        }
    }
}

fn known_keys(home: &Home, machine: &str) -> Option<Vec<PublicKey>> {
    let record = TrustStore::load(home).ok()?.get(machine).ok()??;
    Some(record.keys.into_iter().map(|known| known.key).collect())
}
