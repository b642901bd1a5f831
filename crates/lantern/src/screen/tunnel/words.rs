//! Tunnels in words: how they stand, where they lead, what is behind.

use std::time::Duration;

use jiff::Timestamp;
use lantern_book::{TunnelEnd, TunnelKind};
use lantern_operations::tunnel::{
    Behind, CertificateFacts, LinkPhase, LinkStatus, TunnelState, TunnelStatus,
};

use crate::screen::ago::span;
use crate::screen::size;

/// How it stands, in a word.
pub(crate) fn state(tunnel: &TunnelStatus) -> &'static str {
    match tunnel.state {
        TunnelState::Opening => "opening",
        TunnelState::Carries => "carries",
        TunnelState::Holds => "holds callers",
        TunnelState::Fails(_) => "fails",
        TunnelState::Closed => "closed",
        TunnelState::Over => "over",
    }
}

/// A mark for it, which does not say more than the word does.
pub(crate) fn mark(tunnel: &TunnelStatus) -> &'static str {
    match tunnel.state {
        TunnelState::Carries => "●",
        TunnelState::Opening | TunnelState::Holds => "◐",
        TunnelState::Fails(_) | TunnelState::Closed | TunnelState::Over => "○",
    }
}

/// Where it listens: on this computer, or on the machine.
pub(crate) fn listens(tunnel: &TunnelStatus, machine: &str) -> String {
    let Some(parsed) = tunnel.tunnel() else { return tunnel.form.clone() };
    let at = tunnel.at.clone().unwrap_or_else(|| parsed.listen.to_string());
    let wide = if parsed.listen.is_loopback() { "" } else { " (WIDE)" };
    match parsed.kind {
        TunnelKind::Remote => format!("{at} on {machine}{wide}"),
        TunnelKind::Local | TunnelKind::Dynamic => format!("{at}{wide}"),
    }
}

/// Where it leads.
pub(crate) fn leads(tunnel: &TunnelStatus, machine: &str) -> String {
    match tunnel.tunnel().and_then(|parsed| Some((parsed.kind, parsed.to?))) {
        Some((TunnelKind::Remote, to)) => format!("{to} here"),
        Some((_, to)) => format!("{to} from {machine}"),
        None => format!("wherever callers ask, from {machine}"),
    }
}

/// What is behind it.
pub(crate) fn behind(behind: &Behind, now: Timestamp) -> String {
    match behind {
        Behind::Refused(words) => with(words, "nothing listens there"),
        Behind::NotAllowed(words) => with(words, "the server does not allow it"),
        Behind::NotReached(words) => with(words, "not reached"),
        Behind::Http { status } => format!("a web page over http (answers {status})"),
        Behind::Tls { certificate, is_web } => {
            let what = if *is_web { "a web page over https" } else { "TLS" };
            match certificate {
                Some(facts) => format!("{what}; {}", certificate_words(facts, now)),
                None => what.to_owned(),
            }
        }
        Behind::Ssh(said) => format!("SSH: {said}"),
        Behind::Mail(said) => format!("a mail server: {said}"),
        Behind::Database(said) => format!("a database: {said}"),
        Behind::Other(said) => format!("it says: {said}"),
        Behind::Silent => "takes connections and says nothing".into(),
    }
}

fn with(words: &str, ours: &str) -> String {
    if words.is_empty() { ours.to_owned() } else { format!("{ours}: {words}") }
}

fn certificate_words(facts: &CertificateFacts, now: Timestamp) -> String {
    let issuer = match &facts.issuer {
        Some(issuer) => format!("issued by {issuer}"),
        None => "self-signed".into(),
    };
    let days = match facts.days_left(now.as_second()) {
        days @ ..0 => format!("ended {} days ago", -days),
        0 => "ends today".into(),
        1 => "1 day left".into(),
        days => format!("{days} days left"),
    };
    format!("certificate of {}, {issuer}, {days}", facts.name)
}

/// The URL to type, where a web page is behind it and it listens at a port of this computer.
pub(crate) fn url(tunnel: &TunnelStatus) -> Option<String> {
    let scheme = tunnel.behind.as_ref()?.scheme()?;
    if tunnel.tunnel()?.kind != TunnelKind::Local {
        return None;
    }
    let TunnelEnd::Tcp { host, port } = tunnel.listens()? else { return None };
    // Whoever listens everywhere is found at home.
    let host = match host.as_str() {
        "0.0.0.0" => "127.0.0.1".to_owned(),
        "::" => "::1".to_owned(),
        _ => host,
    };
    let usual = matches!((scheme, port), ("http", 80) | ("https", 443));
    let place = lantern_book::place(&host, port);
    let place = if usual { place.trim_end_matches(&format!(":{port}")).to_owned() } else { place };
    Some(format!("{scheme}://{place}/"))
}

/// What goes through it.
pub(crate) fn traffic(tunnel: &TunnelStatus) -> String {
    format!(
        "{} open, {} in all; {} in, {} out",
        tunnel.open,
        tunnel.total,
        size::bytes(tunnel.from_machine),
        size::bytes(tunnel.to_machine)
    )
}

pub(crate) fn seconds(time: Duration) -> String {
    span(i64::try_from(time.as_secs()).unwrap_or(i64::MAX))
}

pub(crate) fn milliseconds(time: Duration) -> String {
    let time = time.as_secs_f64() * 1e3;
    if time < 9.95 { format!("{time:.1} ms") } else { format!("{time:.0} ms") }
}

/// How the link stands.
pub(crate) fn link(status: &LinkStatus) -> String {
    let losses = match status.losses {
        0 => String::new(),
        1 => ", lost once".into(),
        times => format!(", lost {times} times"),
    };
    let why = status.last_error.as_ref().map(|error| format!(": {error}")).unwrap_or_default();
    match status.phase {
        LinkPhase::Up => {
            let round_trip = status
                .round_trip
                .map(|time| format!(", round trip {}", milliseconds(time)))
                .unwrap_or_default();
            format!("link up for {}{round_trip}{losses}", seconds(status.since))
        }
        LinkPhase::Connecting if status.losses == 0 => format!("connecting{why}"),
        LinkPhase::Connecting => format!("no link for {}, connecting{why}", seconds(status.since)),
        LinkPhase::Waiting => {
            let again =
                status.again_in.map(|time| format!(", again in {}", seconds(time))).unwrap_or_default();
            format!("no link for {}{again}{why}", seconds(status.since))
        }
        LinkPhase::Over => format!("given up{why}"),
    }
}

/// Why it does not carry, or what went wrong last with one of its connections.
pub(crate) fn trouble(tunnel: &TunnelStatus) -> Option<&str> {
    match &tunnel.state {
        TunnelState::Fails(why) => Some(why),
        _ => tunnel.last_error.as_deref(),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    fn tunnel(form: &str, at: Option<&str>, behind: Option<Behind>) -> TunnelStatus {
        TunnelStatus {
            name: "console".into(),
            form: form.into(),
            state: TunnelState::Carries,
            since: Duration::from_secs(5),
            at: at.map(str::to_owned),
            open: 1,
            total: 12,
            to_machine: 640,
            from_machine: 1_200_000,
            behind,
            last_error: None,
        }
    }

    #[test]
    fn a_page_has_a_url_by_what_really_answers() {
        let http = || Some(Behind::Http { status: 200 });
        let https = || Some(Behind::Tls { certificate: None, is_web: true });
        let form = "local 8443 to 127.0.0.1:443";
        for (status, expected) in [
            (tunnel(form, Some("127.0.0.1:8443"), https()), Some("https://127.0.0.1:8443/")),
            (tunnel(form, Some("127.0.0.1:8443"), http()), Some("http://127.0.0.1:8443/")),
            (tunnel(form, Some("127.0.0.1:443"), https()), Some("https://127.0.0.1/")),
            (tunnel(form, Some("[::]:8443"), http()), Some("http://[::1]:8443/")),
            (tunnel(form, Some("0.0.0.0:80"), http()), Some("http://127.0.0.1/")),
            (tunnel(form, Some("unix:/run/x"), http()), None),
            (tunnel(form, Some("127.0.0.1:8443"), Some(Behind::Silent)), None),
            (tunnel(form, None, http()), None),
            (tunnel("remote 80 to 127.0.0.1:3000", Some("127.0.0.1:80"), http()), None),
        ] {
            assert_eq!(url(&status).as_deref(), expected);
        }
    }

    #[test]
    fn where_it_listens_and_leads_is_said_of_each_kind() {
        let words = |form: &str| {
            let status = tunnel(form, None, None);
            format!("{} → {}", listens(&status, "lamp-01"), leads(&status, "lamp-01"))
        };
        assert_eq!(words("local 8443 to 127.0.0.1:443"), "127.0.0.1:8443 → 127.0.0.1:443 from lamp-01");
        assert_eq!(words("remote 0.0.0.0:80 to h:1 wide"), "0.0.0.0:80 on lamp-01 (WIDE) → h:1 here");
        assert_eq!(words("dynamic [::1]:1080"), "[::1]:1080 → wherever callers ask, from lamp-01");
        assert_eq!(traffic(&tunnel("dynamic 1", None, None)), "1 open, 12 in all; 1.2 MB in, 640 B out");
    }

    #[test]
    fn what_is_behind_is_said_with_the_days_that_its_certificate_has_left() {
        let now = Timestamp::from_second(1_000_000).unwrap();
        let facts = |days: i64, issuer: Option<&str>| CertificateFacts {
            name: "lamp-01.example".into(),
            issuer: issuer.map(str::to_owned),
            not_after: 1_000_000 + days * 86_400,
        };
        let words = |facts| behind(&Behind::Tls { certificate: Some(facts), is_web: true }, now);
        assert_eq!(
            words(facts(30, None)),
            "a web page over https; certificate of lamp-01.example, self-signed, 30 days left"
        );
        assert!(words(facts(-2, Some("CN=pier"))).ends_with("issued by CN=pier, ended 2 days ago"));
        assert_eq!(behind(&Behind::Refused(String::new()), now), "nothing listens there");
    }
}
