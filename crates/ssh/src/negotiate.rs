//! Choosing the algorithms of a key exchange (RFC 4253 §7.1), strict key exchange and extension negotiation.

use lantern_keys::{RandomSource, SignatureAlgorithm};

use crate::algorithm::{CipherAlgorithm, KexAlgorithm, MacAlgorithm, NothingInCommon, Offer};
use crate::message::transport::KexInit;
use crate::{Role, SshError};

/// Markers in the list of key exchange methods that name no method.
const EXT_INFO_CLIENT: &str = "ext-info-c";
const EXT_INFO_SERVER: &str = "ext-info-s";
/// Strict key exchange, from the IETF sshm draft and, in its first name, the public protocol notes.
const STRICT_CLIENT: [&str; 2] = ["kex-strict-c", "kex-strict-c-v00@openssh.com"];
const STRICT_SERVER: [&str; 2] = ["kex-strict-s", "kex-strict-s-v00@openssh.com"];

/// The algorithms of one direction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Direction {
    /// The cipher.
    pub cipher: CipherAlgorithm,
    /// The MAC; none for an AEAD cipher.
    pub mac: Option<MacAlgorithm>,
}

/// What a key exchange chose.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Algorithms {
    /// The key exchange method.
    pub kex: KexAlgorithm,
    /// The host key algorithm.
    pub host_key: SignatureAlgorithm,
    /// From client to server.
    pub client_to_server: Direction,
    /// From server to client.
    pub server_to_client: Direction,
}

/// Our KEXINIT for an offer. The markers are only valid in the first one (RFC 8308 §2.1, strict draft).
pub(crate) fn kexinit(offer: &Offer, role: Role, first: bool, random: &mut dyn RandomSource) -> KexInit {
    let mut cookie = [0; 16];
    random.fill(&mut cookie);
    let mut kex: Vec<String> = offer.kex.iter().map(|algorithm| algorithm.name().to_owned()).collect();
    if first {
        let (ext_info, strict) = match role {
            Role::Client => (EXT_INFO_CLIENT, STRICT_CLIENT),
            Role::Server => (EXT_INFO_SERVER, STRICT_SERVER),
        };
        kex.push(ext_info.to_owned());
        kex.extend(strict.map(str::to_owned));
    }
    let names = |list: &[CipherAlgorithm]| list.iter().map(|c| c.name().to_owned()).collect::<Vec<_>>();
    let macs: Vec<String> = offer.macs.iter().map(|mac| mac.name().to_owned()).collect();
    let none = vec!["none".to_owned()];
    KexInit {
        cookie,
        kex,
        host_keys: offer.host_keys.iter().map(|algorithm| algorithm.name().to_owned()).collect(),
        ciphers_client_to_server: names(&offer.ciphers),
        ciphers_server_to_client: names(&offer.ciphers),
        macs_client_to_server: macs.clone(),
        macs_server_to_client: macs,
        compression_client_to_server: none.clone(),
        compression_server_to_client: none,
        first_kex_packet_follows: false,
    }
}

/// Whether both sides marked strict key exchange in their first KEXINIT.
pub(crate) fn is_strict(client: &KexInit, server: &KexInit) -> bool {
    client.kex.iter().any(|name| STRICT_CLIENT.contains(&name.as_str()))
        && server.kex.iter().any(|name| STRICT_SERVER.contains(&name.as_str()))
}

/// Whether the peer wants to hear EXT_INFO from us.
pub(crate) fn peer_takes_ext_info(role: Role, peer: &KexInit) -> bool {
    let marker = match role {
        Role::Client => EXT_INFO_SERVER,
        Role::Server => EXT_INFO_CLIENT,
    };
    peer.kex.iter().any(|name| name == marker)
}

/// Whether a guess sent along with KEXINIT was right: both first choices agree (RFC 4253 §7).
pub(crate) fn guess_is_right(client: &KexInit, server: &KexInit) -> bool {
    client.kex.first() == server.kex.first() && client.host_keys.first() == server.host_keys.first()
}

/// Chooses: the first of the client's names that the server has too. `ours` is the side for error messages.
pub(crate) fn choose(client: &KexInit, server: &KexInit, ours: Role) -> Result<Algorithms, SshError> {
    let pick = |what: &'static str, of_client: &[String], of_server: &[String]| -> Result<String, SshError> {
        if let Some(name) = of_client.iter().find(|name| !is_marker(name) && of_server.contains(name)) {
            return Ok(name.clone());
        }
        let (our_list, their_list) = match ours {
            Role::Client => (of_client, of_server),
            Role::Server => (of_server, of_client),
        };
        let shown = |list: &[String]| list.iter().filter(|name| !is_marker(name)).cloned().collect();
        Err(SshError::NothingInCommon(Box::new(NothingInCommon {
            what,
            theirs: shown(their_list),
            ours: shown(our_list),
        })))
    };
    // Whatever both sides named is one of ours, so the look-ups below succeed; an error beats a panic all the same.
    let unknown = || SshError::Misuse("an algorithm was chosen that we did not offer");
    let kex = pick("key exchange method", &client.kex, &server.kex)?;
    let host_key = pick("host key algorithm", &client.host_keys, &server.host_keys)?;
    let direction = |ciphers: (&[String], &[String]), macs: (&[String], &[String])| {
        let name = pick("cipher", ciphers.0, ciphers.1)?;
        let cipher = CipherAlgorithm::from_name(&name).ok_or_else(unknown)?;
        let mac = match cipher.is_aead() {
            true => None,
            false => Some(MacAlgorithm::from_name(&pick("MAC", macs.0, macs.1)?).ok_or_else(unknown)?),
        };
        Ok::<_, SshError>(Direction { cipher, mac })
    };
    let algorithms = Algorithms {
        kex: KexAlgorithm::from_name(&kex).ok_or_else(unknown)?,
        host_key: SignatureAlgorithm::from_name(&host_key).map_err(|_| unknown())?,
        client_to_server: direction(
            (&client.ciphers_client_to_server, &server.ciphers_client_to_server),
            (&client.macs_client_to_server, &server.macs_client_to_server),
        )?,
        server_to_client: direction(
            (&client.ciphers_server_to_client, &server.ciphers_server_to_client),
            (&client.macs_server_to_client, &server.macs_server_to_client),
        )?,
    };
    pick("compression", &client.compression_client_to_server, &server.compression_client_to_server)?;
    pick("compression", &client.compression_server_to_client, &server.compression_server_to_client)?;
    Ok(algorithms)
}

fn is_marker(name: &str) -> bool {
    [EXT_INFO_CLIENT, EXT_INFO_SERVER].contains(&name)
        || STRICT_CLIENT.contains(&name)
        || STRICT_SERVER.contains(&name)
}
