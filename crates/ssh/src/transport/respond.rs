//! Key exchange as the server runs it.

use std::sync::Arc;

use lantern_keys::wire::{Reader, Writer};
use lantern_keys::{PrivateKey, SignatureAlgorithm};

use super::Transport;
use super::states::{Exchange, ExpectShare, Kex};
use crate::kex::schedule::KeySchedule;
use crate::kex::{self, DhGroup, GroupRequest, HashInputs, Reply};
use crate::message::number;
use crate::message::transport::ExtInfo;
use crate::{Role, SshError};

impl Transport {
    /// KEX_DH_GEX_REQUEST: choose a group and send it.
    pub(super) fn respond_with_group(
        &mut self,
        mut exchange: Exchange,
        reader: Reader<'_>,
    ) -> Result<(), SshError> {
        let request = GroupRequest::decode(reader)?;
        let group = DhGroup::choose(request)?;
        request.encode(&mut exchange.group_exchange);
        group.encode(&mut exchange.group_exchange);
        self.codec.send(|out| {
            out.put_byte(number::KEX_DH_GEX_GROUP);
            group.encode(out);
        })?;
        self.kex = Kex::ExpectShare(Box::new(ExpectShare { exchange, group: Some(group) }));
        Ok(())
    }

    /// The client's share: agree, sign the exchange hash, reply, and switch to the new keys.
    pub(super) fn respond_to_share(
        &mut self,
        state: ExpectShare,
        reader: Reader<'_>,
    ) -> Result<(), SshError> {
        let ExpectShare { exchange, group } = state;
        let algorithms = exchange.algorithms;
        let client_share = kex::decode_client_share(reader, algorithms.kex)?;
        let (share, secret) =
            kex::server_agree(algorithms.kex, group, client_share, &mut *self.codec.random)?;
        let host_key = host_key_for(&self.host_keys, algorithms.host_key)?;
        let host_key_blob = host_key.public().encode();
        let exchange_hash = HashInputs {
            client_identification: &self.negotiated.peer_identification,
            server_identification: crate::IDENTIFICATION,
            client_kexinit: &exchange.client_kexinit,
            server_kexinit: &exchange.server_kexinit,
            host_key: &host_key_blob,
            group_exchange: &exchange.group_exchange,
            client_share,
            server_share: &share,
        }
        .hash(algorithms.kex, &secret);
        let signature = host_key.sign(&exchange_hash, algorithms.host_key).map_err(SshError::Key)?.encode();
        let reply = Reply { host_key: &host_key_blob, share: &share, signature: &signature };
        self.codec.send(|out| reply.encode(algorithms.kex, out))?;
        self.negotiated.host_key = Some(host_key.public().clone());
        let schedule = KeySchedule { algorithm: algorithms.kex, secret, exchange_hash };
        self.send_new_keys(algorithms, &schedule)
    }

    /// EXT_INFO right behind our first NEWKEYS (RFC 8308 §2.4). A client has nothing to announce but that it
    /// listens; it does so to keep the message exercised both ways.
    pub(super) fn send_ext_info(&mut self) -> Result<(), SshError> {
        let server_sig_algs = (self.role == Role::Server)
            .then(|| SignatureAlgorithm::ALL.iter().map(|algorithm| algorithm.name().to_owned()).collect());
        let info = ExtInfo { server_sig_algs };
        self.codec.send(|out| info.encode(out))
    }
}

fn host_key_for(
    keys: &[Arc<PrivateKey>],
    algorithm: SignatureAlgorithm,
) -> Result<Arc<PrivateKey>, SshError> {
    keys.iter()
        .find(|key| key.signature_algorithms().contains(&algorithm))
        .cloned()
        .ok_or(SshError::Misuse("a host key algorithm was offered without a key for it"))
}
