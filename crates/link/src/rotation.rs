//! Host keys that a trusted machine announces after login: proven, and taken over into the trust store.

use jiff::Timestamp;
use lantern_book::{Home, Rotation, TrustStore};
use lantern_keys::PublicKey;
use lantern_ssh::{Client, GlobalEvent};
use tracing::debug;

/// What one connection hears about its machine's host keys.
#[derive(Debug)]
pub(crate) struct RotationWatch {
    home: Home,
    machine: String,
    /// Announcements are heard and left at that.
    only_looking: bool,
    announced: Vec<PublicKey>,
    pub(crate) done: Vec<Rotation>,
}

impl RotationWatch {
    pub(crate) fn new(home: &Home, machine: &str, only_looking: bool) -> Self {
        let (home, machine) = (home.clone(), machine.to_owned());
        Self { home, machine, only_looking, announced: Vec::new(), done: Vec::new() }
    }

    /// An announcement or a proof. Whatever goes wrong here must not disturb the session: the next one hears it again.
    pub(crate) fn handle(&mut self, event: GlobalEvent, client: &mut Client) {
        match event {
            _ if self.only_looking => {}
            GlobalEvent::HostKeysAnnounced(announced) => {
                let Ok(store) = TrustStore::load(&self.home) else { return };
                let Some(record) = store.get(&self.machine) else { return };
                let is_known = |key: &PublicKey| record.keys.iter().any(|known| known.key == *key);
                let news: Vec<PublicKey> = announced.iter().filter(|key| !is_known(key)).cloned().collect();
                let something_went = record.keys.iter().any(|known| !announced.contains(&known.key));
                self.announced = announced;
                if !news.is_empty() {
                    debug!(keys = news.len(), "host keys announced that are not known");
                    let _ = client.prove_host_keys(news);
                } else if something_went {
                    self.take_over(&[], client);
                }
            }
            GlobalEvent::HostKeysProven(proven) if !proven.is_empty() => self.take_over(&proven, client),
            GlobalEvent::HostKeysProven(_) => {
                debug!("announced host keys were not proven; nothing is changed")
            }
            GlobalEvent::Listening(_) => {}
        }
    }

    fn take_over(&mut self, proven: &[PublicKey], client: &Client) {
        let Some(current) = client.host_key() else { return };
        let (home, machine) = (&self.home, &self.machine);
        match TrustStore::take_over(home, machine, current, &self.announced, proven, Timestamp::now()) {
            Ok(rotation) if rotation != Rotation::default() => self.done.push(rotation),
            Ok(_) => {}
            Err(error) => debug!(%error, "announced host keys were not remembered"),
        }
    }
}
