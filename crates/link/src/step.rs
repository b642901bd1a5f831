//! The steps of a connection, told as they are taken: what `check` shows, and what a log can tell.

use std::net::SocketAddr;
use std::time::Duration;

use lantern_keys::{CertificateFault, PublicKey, TlsCertificate};
use lantern_ssh::Algorithms;

/// A step that was taken. A step that failed is told by the error that ends the connection.
#[derive(Debug)]
pub enum Step<'a> {
    /// What follows is about this gateway.
    Gateway(&'a str),
    /// That gateway need not be logged in to: somebody is.
    Shared,
    /// What follows is about the machine itself.
    Machine(&'a str),
    /// A name was looked up.
    Resolved {
        /// The name.
        name: &'a str,
        /// What it stands for, or why it stands for nothing.
        found: Result<&'a [SocketAddr], &'a std::io::Error>,
        /// How long that took.
        took: Duration,
    },
    /// An address did not answer; others may.
    AddressFailed {
        /// The address.
        address: SocketAddr,
        /// Why.
        why: &'a str,
        /// How long that took.
        took: Duration,
    },
    /// Something answers at the port.
    Reached {
        /// Where: an address and port, and what was passed on the way.
        place: &'a str,
        /// How long that took.
        took: Duration,
    },
    /// The server said what it is.
    Identified {
        /// Its identification line, harmless.
        identification: &'a str,
        /// How long that took.
        took: Duration,
    },
    /// Algorithms were agreed, and the host key was proven and is trusted.
    Agreed {
        /// The algorithms.
        algorithms: Algorithms,
        /// Whether strict key exchange is in force.
        strict: bool,
        /// The host key.
        key: &'a PublicKey,
        /// How it comes to be trusted.
        trust: &'a str,
        /// How long the exchange took.
        took: Duration,
    },
    /// TLS was agreed, and the certificate's holder is there; whether it is trusted is yet to be decided.
    Secured {
        /// The version and the ciphers.
        tls: &'a str,
        /// The certificate.
        certificate: &'a TlsCertificate,
        /// What is wrong with it.
        faults: &'a [CertificateFault],
        /// How long the handshake took.
        took: Duration,
    },
    /// The certificate is trusted.
    Certified {
        /// The certificate.
        certificate: &'a TlsCertificate,
        /// What is wrong with it, and is believed all the same.
        faults: &'a [CertificateFault],
        /// How it comes to be trusted.
        trust: &'a str,
    },
    /// The server named the methods that it would take.
    Offered {
        /// The methods.
        methods: &'a [String],
    },
    /// The server let us in.
    LoggedIn {
        /// By what: a key, a password …
        by: &'a str,
        /// How long logging in took.
        took: Duration,
    },
}
