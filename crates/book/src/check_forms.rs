//! Rules for values that have a form of their own.

use crate::check::{Verdict, check_name, rule};
use crate::{Destination, Proxy, Tunnel};

/// A machine that one goes through: a name, or a one-off.
pub(crate) fn check_gateway(gateway: &str) -> Verdict {
    rule(Destination::parse(gateway).is_ok(), "must be a machine of the book or user@address:port")
}

/// A proxy as a URI without a password.
pub(crate) fn check_proxy(proxy: &str) -> Verdict {
    Proxy::parse(proxy).map(drop)
}

/// A tunnel, as `NAME=FORM`.
pub(crate) fn check_tunnel(pair: &str) -> Verdict {
    let (name, form) = pair.split_once('=').unwrap_or((pair, ""));
    check_name(name)?;
    Tunnel::parse(form).map(drop)
}
