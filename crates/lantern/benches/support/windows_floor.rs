//! What nobody can do without who moves bytes over WinRM: the same AEAD, the same XML by the same library, the same base64.

#![allow(dead_code)] // Not every bench needs all of it.

use std::time::Duration;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use base64ct::{Base64, Encoding};
use quick_xml::events::Event;

use crate::support::cpu;

/// What a machine of today answers with, in base64: of half an envelope of 500 KiB.
const PIECE: usize = 256_000;
/// A record of TLS.
const RECORD: usize = 16 * 1024;

fn key() -> LessSafeKey {
    LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[7; 32]).unwrap())
}

fn nonce() -> Nonce {
    Nonce::assume_unique_for_key([1; 12])
}

/// Opens the records, reads the XML and decodes the base64 of so many bytes.
pub(crate) fn floor_of_output(bytes: usize) -> Duration {
    let data = Base64::encode_string(&vec![5; PIECE]);
    let envelope = format!(
        "<s:Envelope xmlns:s='urn:s'><s:Body><s:Stream Name='stdout'>{data}</s:Stream></s:Body></s:Envelope>"
    );
    let sealed: Vec<Vec<u8>> = envelope
        .as_bytes()
        .chunks(RECORD)
        .map(|record| {
            let mut record = record.to_vec();
            key().seal_in_place_append_tag(nonce(), Aad::empty(), &mut record).unwrap();
            record
        })
        .collect();
    let key = key();
    let start = cpu();
    let mut decoded = 0;
    while decoded < bytes {
        let mut text = Vec::with_capacity(envelope.len());
        for record in &sealed {
            let at = text.len();
            text.extend_from_slice(record);
            let opened = key.open_in_place(nonce(), Aad::empty(), &mut text[at..]).unwrap().len();
            text.truncate(at + opened);
        }
        let text = std::str::from_utf8(&text).unwrap();
        let mut reader = quick_xml::NsReader::from_str(text);
        loop {
            match reader.read_resolved_event().unwrap().1 {
                Event::Text(text) => decoded += Base64::decode_vec(&text.xml10_content()).unwrap().len(),
                Event::Eof => break,
                _ => {}
            }
        }
    }
    cpu() - start
}

/// Encodes so many bytes, puts them into envelopes, and seals those.
pub(crate) fn floor_of_input(bytes: usize) -> Duration {
    let (key, piece) = (key(), vec![5; PIECE]);
    let start = cpu();
    for _ in 0..bytes / PIECE {
        let data = Base64::encode_string(&piece);
        let envelope = format!(
            "<s:Envelope xmlns:s='urn:s'><s:Body><s:Stream Name='stdin'>{data}</s:Stream></s:Body></s:Envelope>"
        );
        for record in envelope.as_bytes().chunks(RECORD) {
            let mut record = record.to_vec();
            key.seal_in_place_append_tag(nonce(), Aad::empty(), &mut record).unwrap();
            std::hint::black_box(&record);
        }
    }
    cpu() - start
}
