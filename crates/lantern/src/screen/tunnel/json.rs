//! Tunnels as JSON, in a shape of its own: `docs/guide/tunnels.md` describes it.

use jiff::Timestamp;
use lantern_book::{Tunnel, TunnelKind};
use lantern_operations::tunnel::{Behind, LinkPhase, LinkStatus, TunnelState, TunnelStatus};
use serde_json::{Value, json};

use super::words;

/// One tunnel that is open.
pub(crate) fn tunnel(tunnel: &TunnelStatus, now: Timestamp) -> Value {
    let mut value = match tunnel.tunnel() {
        Some(parsed) => form(&parsed),
        None => json!({}),
    };
    let reason = match &tunnel.state {
        TunnelState::Fails(why) => Some(why.as_str()),
        _ => None,
    };
    let more = json!({
        "name": tunnel.name,
        "state": state(&tunnel.state),
        "reason": reason,
        "since_seconds": tunnel.since.as_secs(),
        "listens_at": tunnel.at,
        "url": words::url(tunnel),
        "open": tunnel.open,
        "total": tunnel.total,
        "bytes_in": tunnel.from_machine,
        "bytes_out": tunnel.to_machine,
        "behind": tunnel.behind.as_ref().map(|found| behind(found, now)),
        "last_error": tunnel.last_error,
    });
    merge(&mut value, more);
    value
}

/// What a tunnel is by the book.
pub(crate) fn form(tunnel: &Tunnel) -> Value {
    json!({
        "kind": tunnel.kind.word(),
        "listen": tunnel.listen.to_string(),
        "to": tunnel.to.as_ref().map(ToString::to_string),
        "wide": tunnel.wide || !tunnel.listen.is_loopback(),
        "listens_on": if tunnel.kind == TunnelKind::Remote { "machine" } else { "here" },
        "at_start": tunnel.at_start,
        "hold_seconds": tunnel.hold,
        "then": tunnel.then,
    })
}

fn merge(into: &mut Value, more: Value) {
    if let (Value::Object(into), Value::Object(more)) = (into, more) {
        into.extend(more);
    }
}

fn state(state: &TunnelState) -> &'static str {
    match state {
        TunnelState::Opening => "opening",
        TunnelState::Carries => "carries",
        TunnelState::Holds => "holds",
        TunnelState::Fails(_) => "fails",
        TunnelState::Closed => "closed",
        TunnelState::Over => "over",
    }
}

/// The link.
pub(crate) fn link(status: &LinkStatus) -> Value {
    json!({
        "state": match status.phase {
            LinkPhase::Connecting => "connecting",
            LinkPhase::Up => "up",
            LinkPhase::Waiting => "waiting",
            LinkPhase::Over => "over",
        },
        "since_seconds": status.since.as_secs(),
        "again_in_seconds": status.again_in.map(|time| time.as_secs_f64()),
        "losses": status.losses,
        "round_trip_ms": status.round_trip.map(|time| time.as_secs_f64() * 1e3),
        "last_error": status.last_error,
    })
}

/// A machine's link and tunnels.
pub(crate) fn machine(name: &str, status: &LinkStatus, now: Timestamp) -> Value {
    let tunnels: Vec<Value> = status.tunnels.iter().map(|one| tunnel(one, now)).collect();
    json!({ "machine": name, "link": link(status), "tunnels": tunnels })
}

/// What answers behind a tunnel.
pub(crate) fn behind(behind: &Behind, now: Timestamp) -> Value {
    let (kind, said) = match behind {
        Behind::Refused(words) => ("refused", Some(words)),
        Behind::NotAllowed(words) => ("not-allowed", Some(words)),
        Behind::NotReached(words) => ("not-reached", Some(words)),
        Behind::Http { .. } => ("http", None),
        Behind::Tls { is_web: true, .. } => ("https", None),
        Behind::Tls { .. } => ("tls", None),
        Behind::Ssh(words) => ("ssh", Some(words)),
        Behind::Mail(words) => ("mail", Some(words)),
        Behind::Database(words) => ("database", Some(words)),
        Behind::Other(words) => ("other", Some(words)),
        Behind::Silent => ("silent", None),
    };
    let status = if let Behind::Http { status } = behind { Some(*status) } else { None };
    let certificate = match behind {
        Behind::Tls { certificate: Some(facts), .. } => Some(json!({
            "name": facts.name,
            "issuer": facts.issuer,
            "self_signed": facts.issuer.is_none(),
            "ends": Timestamp::from_second(facts.not_after).ok().map(|end| end.to_string()),
            "days_left": facts.days_left(now.as_second()),
        })),
        _ => None,
    };
    json!({
        "kind": kind, "answers": behind.answers(), "said": said, "status": status, "certificate": certificate,
    })
}
