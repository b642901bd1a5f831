//! The book of machines, the trust store and the key ring: what they mean, and their files.
//!
//! Files only: no sockets, no clock (times come in as [`jiff::Timestamp`]), no interface.
//!
//! | file | what it holds | type |
//! |---|---|---|
//! | `machines.toml` | machines, made to be edited by hand | [`MachineBook`] |
//! | `trust.toml` | what each machine proved to be | [`TrustStore`] |
//! | `preparations.toml` | what the lines of prepared machines are proven by; losing it costs a second paste | [`Preparations`] |
//! | `imports.toml` | what imports said last; losing it makes a source's machines strangers to it | [`Imports`] |
//! | `uses/` | when each machine was used and seen last; losing it loses a date | [`Uses`] |
//! | `hints/` | what each machine's server prefers; losing it costs a round trip | [`Hints`] |
//! | `keys/` | the key ring | [`KeyRing`] |
//! | `certificates/` | certificates of TLS that were made here | [`CertificateStore`] |
//! | `key-overview` | what a listing of the ring needs; losing it costs a reading of every key | [`KeySummary`] |
//!
//! All live under one [`Home`]. Every change is a read, an edit and an atomic write under one lock, so that two
//! programs at once lose nothing.

mod book_edit;
mod book_file;
mod carried_line;
mod certificate_store;
mod check;
mod check_forms;
mod destination;
mod document;
mod effective;
mod entries;
mod error;
pub mod fault;
mod field;
mod hints;
mod home;
mod image;
mod imports;
mod inventory;
mod key_file;
mod key_ring;
mod key_summary;
mod machine_book;
mod machine_file;
mod natural;
mod paste;
mod paste_block;
mod paste_line;
mod paste_settings;
mod pasted;
mod preparations;
mod presented;
mod proxy;
mod read;
mod resolver;
mod ring_note;
mod ring_overview;
mod scan;
mod schema;
mod selection;
mod settings;
mod sync;
mod trust;
mod trust_changes;
mod trust_decided;
mod trust_draft;
mod trust_export;
mod trust_file;
mod trust_form;
mod trust_index;
mod trust_ledger;
mod trust_seen;
mod trust_store;
mod tunnel;
mod uses;
mod value;

pub use book_edit::BookEdit;
pub use carried_line::{CarriedLine, LineError, UnprovenLine, check_code, line_word};
pub use certificate_store::{CertificateNote, CertificateStore, CertificateUse, StoredCertificate};
pub use check::check_name_of;
pub use destination::{
    DEFAULT_SSH_PORT, DEFAULT_WINRM_PORT, Destination, OneOff, PLAIN_WINRM_PORT, Protocol, place,
};
pub use document::Place;
pub use effective::{Effective, Origin, Part};
pub use error::{BookError, shown};
pub use field::{FIELDS, Field, FieldSpec, Kind};
pub use hints::{ENOUGH_VISITS, Hint, Hints, Opening};
pub use home::{Home, tell_waits};
pub use image::{IMAGES, Image, image};
pub use imports::{Imported, Imports};
pub use inventory::{InventoryForm, Row, read_inventory, write_inventory};
pub use key_file::{
    FileIdentity, KeyFileContent, check_place, kind_in_words, proven_private, public_beside, read_key_file,
    write_new,
};
pub use key_ring::{KeyRing, RingEntry};
pub use key_summary::KeySummary;
pub use machine_book::MachineBook;
pub use machine_file::machine_file_name;
pub use natural::natural;
pub use pasted::Pasted;
pub use preparations::{Preparation, Preparations};
pub use presented::Presented;
pub use proxy::{Proxy, ProxyKind};
pub use resolver::Resolver;
pub use ring_note::{Installed, KeyNote};
pub use ring_overview::Listed;
pub use schema::json_schema;
pub use selection::{glob, select};
pub use settings::{Change, Setting, Settings};
pub use sync::{ImportRules, Mapping, SyncStep, apply_import, export_rows, note_import, plan_import};
pub use trust::{KnownBy, KnownCertificate, KnownKey, Revoked, TrustRecord, TrustVerdict, Verified};
pub use trust_changes::Rotation;
pub use trust_decided::Kept;
pub use trust_export::TrustFile;
pub use trust_store::TrustStore;
pub use tunnel::{MAX_HOLD, Tunnel, TunnelEnd, TunnelKind};
pub use uses::{Use, Uses};
pub use value::FieldValue;
