//! The book of machines, the trust store and the key ring: what they mean, and their files.
//!
//! Files only: no sockets, no clock (times come in as [`jiff::Timestamp`]), no interface.
//!
//! | file | what it holds | type |
//! |---|---|---|
//! | `machines.toml` | machines, made to be edited by hand | [`MachineBook`] |
//! | `trust.toml` | what each machine proved to be | [`TrustStore`] |
//! | `hints.toml` | what each machine's server prefers; losing it costs a round trip | [`Hints`] |
//! | `keys/` | the key ring | [`KeyRing`] |
//!
//! All live under one [`Home`]. Every change is a read, an edit and an atomic write under one lock, so that two
//! programs at once lose nothing.

mod destination;
mod error;
pub mod fault;
mod hints;
mod home;
mod key_file;
mod key_ring;
mod machine;
mod machine_book;
mod ring_note;
mod trust;
mod trust_store;

pub use destination::{Destination, OneOff, place};
pub use error::BookError;
pub use hints::{Hint, Hints};
pub use home::Home;
pub use key_file::{export_private, read_key_file, write_new};
pub use key_ring::{KeyRing, RingEntry};
pub use machine::{DEFAULT_SSH_PORT, Machine, check_name};
pub use machine_book::MachineBook;
pub use ring_note::{Installed, KeyNote};
pub use trust::{KnownKey, TrustRecord, TrustVerdict, Verified};
pub use trust_store::TrustStore;
