//! Rules for single values. Each answers with words that follow the value: "must be …".

use crate::{BookError, Resolver};

pub(crate) type Verdict = Result<(), &'static str>;

pub(crate) fn rule(good: bool, words: &'static str) -> Verdict {
    if good { Ok(()) } else { Err(words) }
}

/// Whether a character can be in a name as it is.
fn is_plain(c: char) -> bool {
    c.is_ascii_alphanumeric() || "-_.".contains(c)
}

/// Names of machines, profiles, keys and tags: they appear in selections, file names and URIs, so they are plain.
pub(crate) fn check_name(name: &str) -> Verdict {
    let starts_well = name.starts_with(|c: char| c.is_ascii_alphanumeric());
    rule(
        !name.is_empty() && name.len() <= 64 && starts_well,
        "must have 1 to 64 characters and start with a letter or digit",
    )?;
    rule(name.chars().all(is_plain), "must consist of letters, digits, `-`, `_` and `.`")
}

/// The same as an error that says what the name was meant to be.
///
/// # Errors
/// [`BookError::BadValue`].
pub fn check_name_of(what: &'static str, name: &str) -> Result<(), BookError> {
    check_name(name).map_err(|rule| BookError::bad(what, name, rule))
}

/// A host name or an IP address, without port or brackets.
pub(crate) fn check_address(address: &str) -> Verdict {
    let allowed = |c: char| c.is_alphanumeric() || "-_.:%".contains(c);
    let plain = !address.is_empty() && address.len() <= 255 && address.chars().all(allowed);
    rule(plain && !address.starts_with('-'), "must be a host name or an IP address")?;
    let colon_is_fine = !address.contains(':')
        || address.parse::<std::net::Ipv6Addr>().is_ok()
        || address.contains('%') && address.matches(':').count() > 1;
    rule(colon_is_fine, "must not contain a port; set `port` instead")
}

/// A user name: whatever the machine takes, within reason.
pub(crate) fn check_user(user: &str) -> Verdict {
    let plain = !user.is_empty() && user.len() <= 255 && !user.chars().any(char::is_control);
    rule(plain, "must have 1 to 255 printable characters")
}

/// A user whom the machine's own programs are told about: nothing that they would take for an option.
pub(crate) fn check_other_user(user: &str) -> Verdict {
    let plain = |c: char| !c.is_control() && !c.is_whitespace();
    let is_good = !user.is_empty() && user.len() <= 255 && user.chars().all(plain) && !user.starts_with('-');
    rule(is_good, "must be a user's name, without spaces and with no `-` in front")
}

pub(crate) fn check_image(image: &str) -> Verdict {
    check_name(image)
}

/// A resolver by address: a name would have to be resolved by somebody else.
pub(crate) fn check_resolver(resolver: &str) -> Verdict {
    let parsed = Resolver::parse(resolver);
    rule(parsed.is_some(), "must be an IP address, with a port when it is not 53")?;
    rule(
        parsed.is_some_and(|resolver| resolver.is_unprotected || resolver.address.ip().is_loopback()),
        "must be on this computer: anybody on the way to another could say that an answer is proven; `unprotected:ADDRESS` believes it nevertheless",
    )
}

pub(crate) fn check_certificate_name(name: &str) -> Verdict {
    check_address(name)
}

/// A service principal's name, as NTLM and Kerberos have it.
pub(crate) fn check_service_name(name: &str) -> Verdict {
    let parts = name.split_once('/').map(|(class, host)| (check_name(class), check_address(host)));
    rule(matches!(parts, Some((Ok(()), Ok(())))), "must be CLASS/HOST, as in HTTP/chart-room.example")
}

/// An endpoint for sessions, as it stands in the name of a resource.
pub(crate) fn check_endpoint(name: &str) -> Verdict {
    let good = !name.is_empty() && name.len() <= 256 && name.chars().all(is_plain);
    rule(good, "must be the name of an endpoint: letters, digits, `-`, `_` and `.`")
}

/// A path of a URL, as it stands in a request.
pub(crate) fn check_path(path: &str) -> Verdict {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-._~/%?=&".contains(c);
    let good = path.starts_with('/') && path.len() <= 1024 && path.chars().all(plain);
    rule(good, "must begin with a slash and consist of characters that a URL can hold")
}

/// A file of this computer.
pub(crate) fn check_file(path: &str) -> Verdict {
    let good = path.starts_with('/') && path.len() <= 4096 && !path.chars().any(char::is_control);
    rule(good, "must be the path of a file, and begin with a slash")
}

pub(crate) fn check_terminal_type(name: &str) -> Verdict {
    let plain = !name.is_empty() && name.len() <= 64 && name.chars().all(|c| is_plain(c) || c == '+');
    rule(plain, "must be a terminal type: letters, digits, `-`, `_`, `.` and `+`")
}

/// Words for people.
pub(crate) fn check_text(text: &str) -> Verdict {
    rule(!text.is_empty() && text.len() <= 4096, "must have 1 to 4096 characters")?;
    rule(
        !text.chars().any(|c| c.is_control() && c != '\t'),
        "must not contain control characters or line breaks",
    )
}

/// A variable of the environment, as `NAME=VALUE`.
pub(crate) fn check_variable(pair: &str) -> Verdict {
    let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
    let starts_well = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
    let plain = name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    rule(starts_well && plain && name.len() <= 128, "must have a name of letters, digits and `_`")?;
    rule(value.len() <= 4096 && !value.contains('\0'), "must have a value of at most 4096 characters")
}
