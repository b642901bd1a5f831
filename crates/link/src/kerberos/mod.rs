//! Tickets of Kerberos for machines: from the system's caches, or by a password from the realm's key distribution centres.

mod centre;
mod failure;
mod found_cache;
mod login;
mod manager;
mod places;
mod system;

pub use failure::KerberosFailure;
pub(crate) use login::{Begun, ServiceTicket, Wanted, begin};
pub use places::KerberosPlaces;
