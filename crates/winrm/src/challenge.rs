//! The ways to log in that a service offers: `WWW-Authenticate` (RFC 9110 §11.6.1, RFC 4559).

/// A way to log in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scheme {
    /// SPNEGO, or what it would choose, by itself.
    Negotiate,
    /// Kerberos by itself.
    Kerberos,
    /// User and password as they are (RFC 7617).
    Basic,
}

impl Scheme {
    /// Its name on the wire.
    pub fn name(self) -> &'static str {
        match self {
            Self::Negotiate => "Negotiate",
            Self::Kerberos => "Kerberos",
            Self::Basic => "Basic",
        }
    }
}

/// What one or more such headers offer.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Challenges {
    /// Schemes by their names on the wire, ours and others, once each.
    pub offered: Vec<String>,
    /// The token that came with `Negotiate` or `Kerberos`, as it stands there: base64.
    pub token: Option<String>,
}

/// Most schemes that are read of a service: there are a handful.
const MAX_SCHEMES: usize = 16;
/// Longest name of one, in bytes: those that are registered have up to 16.
const MAX_NAME: usize = 64;

impl Challenges {
    /// Reads headers.
    pub fn parse<'h>(headers: impl Iterator<Item = &'h str>) -> Self {
        let mut all = Self::default();
        // A comma parts schemes, and parameters of one scheme as well: what has no name in front of an equals sign begins a scheme.
        for part in headers.flat_map(split_unquoted) {
            let (name, rest) = part.split_once(' ').map_or((part, ""), |(name, rest)| (name, rest.trim()));
            let is_scheme = (1..=MAX_NAME).contains(&name.len())
                && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
            if !is_scheme || all.offered.len() == MAX_SCHEMES {
                continue;
            }
            if !all.offers(name) {
                all.offered.push(name.to_owned());
            }
            let is_token =
                !rest.is_empty() && rest.chars().all(|c| c.is_ascii_alphanumeric() || "+/=".contains(c));
            let carries = [Scheme::Negotiate, Scheme::Kerberos]
                .iter()
                .any(|scheme| scheme.name().eq_ignore_ascii_case(name));
            if is_token && carries && all.token.is_none() {
                all.token = Some(rest.to_owned());
            }
        }
        all
    }

    fn offers(&self, name: &str) -> bool {
        self.offered.iter().any(|offered| offered.eq_ignore_ascii_case(name))
    }

    /// Whether this is among them.
    pub fn has(&self, scheme: Scheme) -> bool {
        self.offers(scheme.name())
    }
}

/// Parts of a header between commas that are in no quoted string.
fn split_unquoted(header: &str) -> impl Iterator<Item = &str> {
    let (mut is_quoted, mut is_escaped) = (false, false);
    let parts = header.split(move |c: char| {
        let parts = c == ',' && !is_quoted;
        is_quoted ^= c == '"' && !is_escaped;
        is_escaped = c == '\\' && is_quoted && !is_escaped;
        parts
    });
    parts.map(str::trim)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemes_are_told_from_their_parameters() {
        let parse = |headers: &[&str]| Challenges::parse(headers.iter().copied());
        let offered = parse(&["Negotiate", "Kerberos", "Basic realm=\"WSMAN, and more\""]);
        assert_eq!(offered.offered, ["Negotiate", "Kerberos", "Basic"]);
        assert!(offered.has(Scheme::Basic) && offered.token.is_none());
        let one = parse(&["Basic realm=\"a\", charset=\"UTF-8\", Negotiate TlRMTVNTUAACAAAA"]);
        assert_eq!(one.offered, ["Basic", "Negotiate"]);
        assert_eq!(one.token.as_deref(), Some("TlRMTVNTUAACAAAA"));
        assert_eq!(parse(&["negotiate", "NEGOTIATE"]).offered, ["negotiate"]);
        assert_eq!(parse(&["", ",,,", "\"", "=x", "a b c"]).offered, ["a"]);
    }
}
