//! Where the system keeps what it says of Kerberos.

use std::path::PathBuf;

/// Where the system's configuration of Kerberos and its tickets are. By default nowhere: then there is no Kerberos.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KerberosPlaces {
    /// Files of configuration; what the first says holds.
    pub configuration: Vec<PathBuf>,
    /// The name of the ticket cache, where the surroundings say one.
    pub cache: Option<String>,
    /// Whether tickets that are there already are passed over.
    pub ignores_tickets: bool,
    /// The file that names resolvers, for realms whose centres are in no configuration.
    pub resolvers: Option<PathBuf>,
}

impl KerberosPlaces {
    /// The usual places on a system.
    pub fn of_system() -> Self {
        Self {
            configuration: vec![PathBuf::from("/etc/krb5.conf")],
            cache: None,
            ignores_tickets: false,
            resolvers: Some(PathBuf::from("/etc/resolv.conf")),
        }
    }
}
