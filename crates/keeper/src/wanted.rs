//! What a program wants of the keeper beside keys: a connection to join, or tunnels to keep. The request travels as everything that a connection is made by.

use std::path::PathBuf;
use std::time::Duration;

use lantern_book::{Home, Proxy, ProxyKind, Resolver, Tunnel};
use lantern_link::{AgentSocket, ConnectRequest, KeyChoice, TimeLimits, TrustPolicy};
use lantern_operations::tunnel::TunnelPlan;
use serde::{Deserialize, Serialize};

/// A connection that is to be there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Wanted {
    /// The machine, as it was typed.
    pub(crate) typed: String,
    pub(crate) request: RequestForm,
    /// The machine that a password was handed over for.
    pub(crate) has_password_for: Option<String>,
}

/// Tunnels that are to be kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Keeping {
    /// Over this connection.
    pub(crate) wanted: Wanted,
    /// Names, and forms as the book has them.
    pub(crate) plans: Vec<(String, String)>,
    pub(crate) give_up: Option<Duration>,
    pub(crate) hold: Option<Duration>,
    pub(crate) probe: bool,
}

/// A connect request, without the home: the keeper has its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct RequestForm {
    machine: String,
    addresses: Vec<String>,
    port: u16,
    race: bool,
    proxy: Option<(bool, Option<String>, String, u16)>,
    via: Vec<RequestForm>,
    user: String,
    keys: KeysForm,
    keys_only: bool,
    even_exposed: bool,
    agents: Vec<(PathBuf, bool)>,
    expect: Option<String>,
    trust: u8,
    forwards_agent: bool,
    resolver: Option<(std::net::SocketAddr, bool)>,
    limits: [Option<Duration>; 4],
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
enum KeysForm {
    Ring,
    Named(Vec<String>),
    File(PathBuf),
    Nothing,
}

const POLICIES: [TrustPolicy; 3] = [TrustPolicy::Ask, TrustPolicy::KnownOnly, TrustPolicy::FirstUse];
const AGENTS: [&str; 2] = ["the agent", "the keeper"];

impl RequestForm {
    /// The form of a request; none for one that is about a single key and nothing to share.
    pub(crate) fn of(request: &ConnectRequest) -> Option<Self> {
        let limits = request.limits;
        Some(Self {
            machine: request.machine.clone(),
            addresses: request.addresses.clone(),
            port: request.port,
            race: request.race,
            proxy: request.proxy.as_ref().map(|proxy| {
                (proxy.kind == ProxyKind::Socks5, proxy.user.clone(), proxy.address.clone(), proxy.port)
            }),
            via: request.via.iter().map(Self::of).collect::<Option<_>>()?,
            user: request.user.clone(),
            keys: match &request.keys {
                KeyChoice::Ring => KeysForm::Ring,
                KeyChoice::Named(names) => KeysForm::Named(names.clone()),
                // From the folder of whoever typed it.
                KeyChoice::File(file) => KeysForm::File(std::path::absolute(file).ok()?),
                KeyChoice::Nothing => KeysForm::Nothing,
                KeyChoice::RingWithout(_) => return None,
            },
            keys_only: request.keys_only,
            even_exposed: request.even_exposed,
            agents: request
                .agents
                .iter()
                .map(|agent| (agent.path.clone(), agent.what == AGENTS[1]))
                .collect(),
            expect: request.expect.map(|fingerprint| fingerprint.to_string()),
            trust: u8::try_from(POLICIES.iter().position(|policy| *policy == request.trust)?).ok()?,
            forwards_agent: request.forwards_agent,
            resolver: request.resolver.map(|resolver| (resolver.address, resolver.is_unprotected)),
            limits: [Some(limits.connect), Some(limits.handshake), Some(limits.login), limits.dead_after],
        })
    }

    /// The request for this home; none where a part of it is none.
    pub(crate) fn request(self, home: &Home) -> Option<ConnectRequest> {
        let usual = TimeLimits::default();
        let [connect, handshake, login, dead_after] = self.limits;
        let via = self.via.into_iter().map(|gateway| gateway.request(home)).collect::<Option<_>>()?;
        Some(ConnectRequest {
            race: self.race,
            proxy: self.proxy.map(|(is_socks, user, address, port)| Proxy {
                kind: if is_socks { ProxyKind::Socks5 } else { ProxyKind::Http },
                user,
                address,
                port,
            }),
            via,
            keys: match self.keys {
                KeysForm::Ring => KeyChoice::Ring,
                KeysForm::Named(names) => KeyChoice::Named(names),
                KeysForm::File(file) => KeyChoice::File(file),
                KeysForm::Nothing => KeyChoice::Nothing,
            },
            keys_only: self.keys_only,
            even_exposed: self.even_exposed,
            agents: self
                .agents
                .into_iter()
                .map(|(path, is_keeper)| AgentSocket { path, what: AGENTS[usize::from(is_keeper)] })
                .collect(),
            expect: self.expect.map(|text| text.parse()).transpose().ok()?,
            trust: *POLICIES.get(usize::from(self.trust))?,
            forwards_agent: self.forwards_agent,
            resolver: self.resolver.map(|(address, is_unprotected)| Resolver { address, is_unprotected }),
            limits: TimeLimits {
                connect: connect.unwrap_or(usual.connect),
                handshake: handshake.unwrap_or(usual.handshake),
                login: login.unwrap_or(usual.login),
                dead_after,
            },
            addresses: self.addresses,
            ..ConnectRequest::new(home, &self.machine, "", self.port, &self.user)
        })
    }
}

impl Wanted {
    /// Asks for what this request makes; none for a request that nobody can share. `has_password_for`: the machine that a password was handed over
    /// for.
    pub fn new(typed: &str, request: &ConnectRequest, has_password_for: Option<String>) -> Option<Self> {
        Some(Self { typed: typed.to_owned(), request: RequestForm::of(request)?, has_password_for })
    }
}

impl Keeping {
    /// Has these kept over that connection.
    pub fn new(wanted: Wanted, plans: &[TunnelPlan]) -> Self {
        let plans = plans.iter().map(|plan| (plan.name.clone(), plan.tunnel.to_string())).collect();
        Self { wanted, plans, give_up: None, hold: None, probe: true }
    }

    /// For how long a link is tried for, how long callers wait for it, and whether to find out what is behind.
    pub fn with(self, give_up: Option<Duration>, hold: Option<Duration>, probe: bool) -> Self {
        Self { give_up, hold, probe, ..self }
    }

    pub(crate) fn plans(&self) -> Option<Vec<TunnelPlan>> {
        let plan = |(name, form): &(String, String)| {
            Some(TunnelPlan { name: name.clone(), tunnel: Tunnel::parse(form).ok()? })
        };
        self.plans.iter().map(plan).collect()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn request() -> impl Strategy<Value = ConnectRequest> {
        let keys = prop_oneof![
            Just(KeyChoice::Ring),
            Just(KeyChoice::Nothing),
            proptest::collection::vec("[a-z]{1,4}", 0..3).prop_map(KeyChoice::Named),
            Just(KeyChoice::File(PathBuf::from("/downloads/lamp.pem"))),
        ];
        let limits = (1..99u64, proptest::option::of(1..99u64));
        (
            ("[a-z]{1,6}", proptest::collection::vec("[a-z.]{1,6}", 0..3), any::<u16>(), "[a-z]{1,6}"),
            (any::<bool>(), any::<bool>(), any::<bool>(), 0..3usize),
            keys,
            limits,
            proptest::option::of(("[a-z]{1,6}", any::<bool>())),
        )
            .prop_map(|((machine, addresses, port, user), flags, keys, limits, proxy)| {
                let home = Home::new(PathBuf::from("/home/keeper"));
                let seconds = Duration::from_secs;
                ConnectRequest {
                    addresses,
                    race: flags.0,
                    keys_only: flags.1,
                    even_exposed: flags.2,
                    trust: POLICIES[flags.3],
                    keys,
                    proxy: proxy.map(|(address, socks)| Proxy {
                        kind: if socks { ProxyKind::Socks5 } else { ProxyKind::Http },
                        user: None,
                        address,
                        port: 8080,
                    }),
                    agents: vec![AgentSocket { path: "/run/keeper.sock".into(), what: AGENTS[1] }],
                    resolver: Resolver::parse("127.0.0.1"),
                    limits: TimeLimits {
                        connect: seconds(limits.0),
                        dead_after: limits.1.map(seconds),
                        ..TimeLimits::default()
                    },
                    via: vec![ConnectRequest::new(&home, "gate", "192.0.2.1", 22, "keeper")],
                    ..ConnectRequest::new(&home, &machine, "", port, &user)
                }
            })
    }

    proptest! {
        /// What arrives makes the same connection: it is compared by everything that it is made by.
        #[test]
        fn a_request_arrives_as_it_left(request in request()) {
            let form = RequestForm::of(&request).unwrap();
            let text = serde_json::to_string(&form).unwrap();
            let arrived: RequestForm = serde_json::from_str(&text).unwrap();
            let home = Home::new(PathBuf::from("/home/keeper"));
            prop_assert_eq!(format!("{:?}", arrived.request(&home).unwrap()), format!("{request:?}"));
        }
    }
}
