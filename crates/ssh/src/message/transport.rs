//! Messages of the transport layer: RFC 4253 and RFC 8308.

use lantern_keys::wire::{Reader, WireError, Writer};

use super::number;
use crate::disconnect::Disconnect;
use crate::limits::{MAX_EXTENSIONS, MAX_NAME_LIST_LEN};
use crate::text::neutralize;

/// SSH_MSG_KEXINIT (20), RFC 4253 §7.1.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct KexInit {
    pub(crate) cookie: [u8; 16],
    pub(crate) kex: Vec<String>,
    pub(crate) host_keys: Vec<String>,
    pub(crate) ciphers_client_to_server: Vec<String>,
    pub(crate) ciphers_server_to_client: Vec<String>,
    pub(crate) macs_client_to_server: Vec<String>,
    pub(crate) macs_server_to_client: Vec<String>,
    pub(crate) compression_client_to_server: Vec<String>,
    pub(crate) compression_server_to_client: Vec<String>,
    pub(crate) first_kex_packet_follows: bool,
}

impl KexInit {
    pub(crate) fn encode(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(1536);
        out.put_byte(number::KEXINIT);
        out.put(&self.cookie);
        for list in [
            &self.kex,
            &self.host_keys,
            &self.ciphers_client_to_server,
            &self.ciphers_server_to_client,
            &self.macs_client_to_server,
            &self.macs_server_to_client,
            &self.compression_client_to_server,
            &self.compression_server_to_client,
            &Vec::new(),
            &Vec::new(),
        ] {
            out.put_name_list(list);
        }
        out.put_bool(self.first_kex_packet_follows);
        out.put_uint32(0);
        out
    }

    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let list = |reader: &mut Reader<'_>, field| -> Result<Vec<String>, WireError> {
            Ok(reader.name_list(MAX_NAME_LIST_LEN, field)?.into_iter().map(str::to_owned).collect())
        };
        let mut cookie = [0; 16];
        cookie.copy_from_slice(reader.take(16, "cookie")?);
        let init = Self {
            cookie,
            kex: list(&mut reader, "key exchange algorithms")?,
            host_keys: list(&mut reader, "host key algorithms")?,
            ciphers_client_to_server: list(&mut reader, "ciphers to server")?,
            ciphers_server_to_client: list(&mut reader, "ciphers to client")?,
            macs_client_to_server: list(&mut reader, "MACs to server")?,
            macs_server_to_client: list(&mut reader, "MACs to client")?,
            compression_client_to_server: list(&mut reader, "compression to server")?,
            compression_server_to_client: list(&mut reader, "compression to client")?,
            first_kex_packet_follows: {
                list(&mut reader, "languages to server")?;
                list(&mut reader, "languages to client")?;
                reader.bool("first packet follows")?
            },
        };
        reader.u32("reserved")?;
        reader.finish()?;
        Ok(init)
    }
}

impl Disconnect {
    /// SSH_MSG_DISCONNECT (1), RFC 4253 §11.1.
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let code = reader.u32("reason code")?;
        let description = String::from_utf8_lossy(reader.string("description")?);
        Ok(Self { code, description: neutralize(&description, 1024).trim_end().to_owned() })
    }

    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_byte(number::DISCONNECT);
        out.put_uint32(self.code);
        out.put_string(self.description.as_bytes());
        out.put_string(b"");
    }
}

/// SSH_MSG_EXT_INFO (7), RFC 8308 §2.3: what we make use of.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct ExtInfo {
    /// RFC 8308 §3.1
    pub(crate) server_sig_algs: Option<Vec<String>>,
}

impl ExtInfo {
    pub(crate) fn decode(mut reader: Reader<'_>) -> Result<Self, WireError> {
        let count = reader.u32("number of extensions")?;
        if count > MAX_EXTENSIONS {
            return Err(WireError::Invalid { field: "number of extensions", rule: "more than our limit" });
        }
        let mut info = Self::default();
        for _ in 0..count {
            let name = reader.string("extension name")?;
            let value = reader.string("extension value")?;
            // The value of server-sig-algs is a name-list without its length; unknown extensions are ignored (§2.5).
            if name == b"server-sig-algs" {
                let names = std::str::from_utf8(value).unwrap_or_default();
                info.server_sig_algs = Some(names.split(',').map(str::to_owned).collect());
            }
        }
        reader.finish()?;
        Ok(info)
    }

    pub(crate) fn encode(&self, out: &mut impl Writer) {
        out.put_byte(number::EXT_INFO);
        out.put_uint32(u32::from(self.server_sig_algs.is_some()));
        if let Some(names) = &self.server_sig_algs {
            out.put_string(b"server-sig-algs");
            out.put_name_list(names);
        }
    }
}

#[cfg(any(test, fuzzing))]
#[allow(unused_must_use)]
pub(crate) fn decode_anything(bytes: &[u8]) {
    KexInit::decode(Reader::new(bytes));
    Disconnect::decode(Reader::new(bytes));
    ExtInfo::decode(Reader::new(bytes));
}
