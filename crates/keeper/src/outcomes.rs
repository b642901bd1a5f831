//! What the keeper answers to programs that want to join a connection, or have tunnels kept.

use lantern_link::Explained;
use lantern_ssh::{Algorithms, Direction};
use serde::{Deserialize, Serialize};

use crate::holder::MachineReport;
use crate::talk::KeyForm;

/// What became of a wish that tunnels be kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum KeepOutcome {
    /// They are; those that do not carry say why.
    Kept(Box<MachineReport>),
    Failed(Explained),
}

/// What became of a wish to join.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) enum JoinOutcome {
    Joined(JoinedForm),
    Failed(Explained),
    /// Nothing is shared now: it is locked, say.
    NotNow(String),
}

/// What is known of the connection.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct JoinedForm {
    pub(crate) identification: String,
    pub(crate) host_key: Option<KeyForm>,
    pub(crate) algorithms: Option<[String; 6]>,
    pub(crate) is_strict: bool,
}

impl JoinedForm {
    pub(crate) fn names(algorithms: &Algorithms) -> [String; 6] {
        let mac = |direction: &Direction| direction.mac.map_or(String::new(), |mac| mac.name().to_owned());
        let (out, back) = (&algorithms.client_to_server, &algorithms.server_to_client);
        [
            algorithms.kex.name().to_owned(),
            algorithms.host_key.name().to_owned(),
            out.cipher.name().to_owned(),
            mac(out),
            back.cipher.name().to_owned(),
            mac(back),
        ]
    }

    pub(crate) fn algorithms(&self) -> Option<Algorithms> {
        use lantern_ssh::algorithm::{CipherAlgorithm, KexAlgorithm, MacAlgorithm};
        let [kex, host_key, out, out_mac, back, back_mac] = self.algorithms.as_ref()?;
        let direction = |cipher: &str, mac: &str| {
            Some(Direction { cipher: CipherAlgorithm::from_name(cipher)?, mac: MacAlgorithm::from_name(mac) })
        };
        Some(Algorithms {
            kex: KexAlgorithm::from_name(kex)?,
            host_key: lantern_keys::SignatureAlgorithm::from_name(host_key).ok()?,
            client_to_server: direction(out, out_mac)?,
            server_to_client: direction(back, back_mac)?,
        })
    }
}
