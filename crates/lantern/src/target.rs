//! From what was typed to what to connect to: name or one-off, options, book and defaults.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use lantern_book::{
    Destination, Effective, Field, Home, MachineBook, Protocol, Proxy, TrustStore, parse_resolver,
};
use lantern_link::{
    ConnectRequest, KeyChoice, LinkError, TimeLimits, Trunk, TrustPolicy, connect, our_offer,
};
use tokio::signal::unix::SignalKind;

use crate::ask::TerminalAsk;
use crate::commands::watch;
use crate::connect_args::ConnectArgs;
use crate::failure::{Failure, code};
use crate::keeper;
use crate::settings::local_user;

/// A machine with every setting resolved.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    /// Its name in messages and in the trust store.
    pub(crate) name: String,
    /// How it is spoken to.
    pub(crate) protocol: Protocol,
    /// Where to dial, the likeliest first.
    pub(crate) addresses: Vec<String>,
    /// And which port.
    pub(crate) port: u16,
    /// The user, when the book or the one-off says.
    pub(crate) user: Option<String>,
    /// The keys, when the book says.
    pub(crate) keys: Vec<String>,
    /// The image it was made from, when the book says.
    pub(crate) image: Option<String>,
    /// The machines on the way, the nearest first.
    pub(crate) via: Vec<Target>,
    /// The proxy on the way.
    pub(crate) proxy: Option<Proxy>,
    race: bool,
    limits: TimeLimits,
    trust: TrustPolicy,
    resolver: Option<std::net::SocketAddr>,
    /// Whether the book says that it may ask the agent for signatures.
    pub(crate) forward_agent: bool,
    /// Whether the book says that its programs may draw here.
    pub(crate) forward_display: bool,
    /// What the book says about its sessions.
    pub(crate) session: SessionSettings,
    /// Its tunnels, by name.
    pub(crate) tunnels: BTreeMap<String, String>,
}

/// What the book says about the sessions of a machine.
#[derive(Debug, Clone, Default)]
pub(crate) struct SessionSettings {
    /// Variables.
    pub(crate) environment: BTreeMap<String, String>,
    /// The terminal type that it is told.
    pub(crate) terminal_type: Option<String>,
    /// Whether it is told the language.
    pub(crate) send_language: bool,
    /// Whether strokes of Ctrl-^ open the line of choices.
    pub(crate) stroke_menu: bool,
    /// What is typed into a new shell first.
    pub(crate) first_command: Option<String>,
}

impl Target {
    /// Looks up what was typed, with the book as it is on disk.
    ///
    /// # Errors
    /// A name that is not in the book, or a one-off that makes no sense.
    pub(crate) fn resolve(home: &Home, typed: &str) -> Result<Self, Failure> {
        Self::find(home, &MachineBook::load(home)?, typed)
    }

    /// Looks up what was typed.
    ///
    /// # Errors
    /// As [`Self::resolve`].
    pub(crate) fn find(home: &Home, book: &MachineBook, typed: &str) -> Result<Self, Failure> {
        match Destination::parse(typed)? {
            Destination::Named(name) => {
                let effective = book.effective(&name)?;
                let mut target = Self::of(&effective, &name)?.with_an_address()?;
                let gateways = book.gateways(&name)?;
                target.via = Self::all(home, book, &gateways)?;
                Ok(target.with_proxy_first())
            }
            Destination::OneOff(one_off) => {
                let place = one_off.place();
                // Where a machine of the trust store was met last, its record counts.
                let trust = TrustStore::load(home)?;
                let name = trust.machine_at(&place).map_or(place.clone(), str::to_owned);
                let effective = book.effective_defaults();
                let mut target = Self::of(&effective, &name)?;
                target.addresses = vec![one_off.address];
                target.port = one_off.port;
                target.protocol = one_off.protocol;
                target.user = one_off.user.or(target.user);
                let mut way = Vec::new();
                for gateway in effective.list(Field::Gateway) {
                    if let Destination::Named(named) = Destination::parse(gateway)? {
                        way.extend(book.gateways(&named)?);
                    }
                    way.push(gateway.clone());
                }
                target.via = Self::all(home, book, &way)?;
                Ok(target.with_proxy_first())
            }
        }
    }

    /// Gateways as targets, each without a way of its own: the list has it already.
    fn all(home: &Home, book: &MachineBook, gateways: &[String]) -> Result<Vec<Self>, Failure> {
        let one = |typed: &String| match Destination::parse(typed)? {
            Destination::Named(name) => Self::of(&book.effective(&name)?, &name)?.with_an_address(),
            Destination::OneOff(one_off) => {
                let place = one_off.place();
                let trust = TrustStore::load(home)?;
                let name = trust.machine_at(&place).map_or(place, str::to_owned);
                let mut target = Self::of(&book.effective_defaults(), &name)?;
                target.addresses = vec![one_off.address];
                target.port = one_off.port;
                target.user = one_off.user.or(target.user);
                Ok(target)
            }
        };
        gateways.iter().map(one).collect()
    }

    fn of(effective: &Effective<'_>, name: &str) -> Result<Self, Failure> {
        let text = |field| effective.text(field).map(str::to_owned);
        let proxy = match effective.text(Field::Proxy) {
            Some(proxy) => Some(
                Proxy::parse(proxy).map_err(|rule| Failure::new(code::LOCAL, format!("the proxy {rule}")))?,
            ),
            None => None,
        };
        let seconds = |field, usual: Duration| effective.number(field).map_or(usual, Duration::from_secs);
        let usual = TimeLimits::default();
        let keepalive = match effective.number(Field::KeepAlive) {
            Some(0) => None,
            Some(seconds) => Some(Duration::from_secs(seconds)),
            None => usual.keepalive,
        };
        Ok(Self {
            name: name.to_owned(),
            protocol: match effective.text(Field::Protocol) {
                Some("winrm") => Protocol::Winrm,
                _ => Protocol::Ssh,
            },
            addresses: effective.list(Field::Address).to_vec(),
            port: effective.port(),
            user: text(Field::User),
            keys: effective.list(Field::Key).to_vec(),
            image: text(Field::Image),
            via: Vec::new(),
            proxy,
            race: effective.flag(Field::RaceAddresses).unwrap_or(true),
            limits: TimeLimits {
                connect: seconds(Field::ConnectLimit, usual.connect),
                handshake: seconds(Field::HandshakeLimit, usual.handshake),
                login: seconds(Field::LoginLimit, usual.login),
                keepalive,
                keepalive_misses: effective
                    .number(Field::KeepAliveMisses)
                    .and_then(|misses| u32::try_from(misses).ok())
                    .unwrap_or(usual.keepalive_misses),
            },
            trust: match effective.text(Field::Trust) {
                Some("known-only") => TrustPolicy::KnownOnly,
                Some("first-use") => TrustPolicy::FirstUse,
                _ => TrustPolicy::Ask,
            },
            resolver: effective.text(Field::TrustedResolver).and_then(parse_resolver),
            forward_agent: effective.flag(Field::ForwardAgent).unwrap_or(false),
            forward_display: effective.flag(Field::ForwardDisplay).unwrap_or(false),
            session: SessionSettings {
                environment: effective.map(Field::Environment).cloned().unwrap_or_default(),
                terminal_type: text(Field::TerminalType),
                send_language: effective.flag(Field::SendLanguage).unwrap_or(true),
                stroke_menu: effective.flag(Field::StrokeMenu).unwrap_or(true),
                first_command: text(Field::FirstCommand),
            },
            tunnels: effective.map(Field::Tunnels).cloned().unwrap_or_default(),
        })
    }

    fn with_an_address(self) -> Result<Self, Failure> {
        match self.addresses.is_empty() {
            false => Ok(self),
            true => Err(Failure::new(code::LOCAL, format!("the book has no address for {}", self.name))
                .hint(format!("lantern machine set {} address=ADDRESS", self.name))),
        }
    }

    /// Only what is dialed can be behind a proxy: the first gateway, if there is one.
    fn with_proxy_first(mut self) -> Self {
        if let Some(first) = self.via.first_mut() {
            first.proxy = first.proxy.take().or(self.proxy.take());
        }
        self
    }

    /// The same by way of what the options say.
    ///
    /// # Errors
    /// A gateway that is not in the book, a proxy that is none.
    pub(crate) fn with_options(mut self, home: &Home, args: &ConnectArgs) -> Result<Self, Failure> {
        if !args.gateways.is_empty() {
            let book = MachineBook::load(home)?;
            self.via = Vec::new();
            for gateway in &args.gateways {
                let target = Self::find(home, &book, gateway)?;
                self.via.extend(target.via.iter().cloned());
                self.via.push(Self { via: Vec::new(), ..target });
            }
            self = self.with_proxy_first();
        }
        if let Some(proxy) = &args.proxy {
            let parsed = Proxy::parse(proxy)
                .map_err(|rule| Failure::new(code::USAGE, format!("the proxy `{proxy}` {rule}")))?;
            match self.via.first_mut() {
                Some(first) => first.proxy = Some(parsed),
                None => self.proxy = Some(parsed),
            }
        }
        Ok(self)
    }

    /// Its first address and port as one word.
    pub(crate) fn place(&self) -> String {
        lantern_book::place(self.addresses.first().map_or("", String::as_str), self.port)
    }

    /// The user to log in as: by option, book, image or this computer.
    ///
    /// # Errors
    /// When nothing says.
    pub(crate) fn user(&self, args: &ConnectArgs) -> Result<String, Failure> {
        let by_image = || {
            let image = args.image.as_ref()?;
            lantern_book::image(image)?.users.first().map(|user| (*user).to_owned())
        };
        let user = args.user.clone().or_else(by_image);
        user.or_else(|| self.user.clone()).or_else(local_user).ok_or_else(|| {
            Failure::new(code::USAGE, "no user to log in as").hint("say `--user NAME` or set it in the book")
        })
    }

    /// The keys to offer: by option or book, else all of the ring.
    pub(crate) fn keys(&self, args: &ConnectArgs) -> KeyChoice {
        match &args.key {
            _ if args.no_key => KeyChoice::Nothing,
            Some(path) if path.contains('/') => KeyChoice::File(PathBuf::from(path)),
            Some(name) => KeyChoice::Named(vec![name.clone()]),
            None => self.own_keys(),
        }
    }

    fn own_keys(&self) -> KeyChoice {
        if self.keys.is_empty() { KeyChoice::Ring } else { KeyChoice::Named(self.keys.clone()) }
    }

    /// Everything that a connection needs to know.
    ///
    /// # Errors
    /// No user to log in as; a protocol that is not spoken; an option that makes no sense.
    pub(crate) fn request(
        &self,
        home: &Home,
        args: &ConnectArgs,
        keys: KeyChoice,
        keys_only: bool,
    ) -> Result<ConnectRequest, Failure> {
        let target = self.clone().with_options(home, args)?;
        let agents = || if args.no_agent { Vec::new() } else { keeper::agents(home) };
        let hop = |target: &Self, user: String, keys: KeyChoice| -> Result<ConnectRequest, Failure> {
            if target.protocol == Protocol::Winrm {
                return Err(Failure::new(
                    code::USAGE,
                    format!(
                        "{} is spoken to by WinRM, which this version of lantern does not do",
                        target.name
                    ),
                )
                .hint("if it also speaks SSH: lantern machine set NAME protocol=ssh"));
            }
            Ok(ConnectRequest {
                home: home.clone(),
                machine: target.name.clone(),
                addresses: target.addresses.clone(),
                port: target.port,
                race: target.race,
                proxy: target.proxy.clone(),
                via: Vec::new(),
                user,
                keys,
                keys_only: false,
                agents: agents(),
                expect: None,
                trust: target.trust,
                resolver: target.resolver,
                only_looking: false,
                limits: args.limits(target.limits),
                offer: our_offer(),
            })
        };
        let via = target.via.iter().map(|gateway| {
            let user = gateway.user.clone().or_else(local_user).unwrap_or_default();
            hop(gateway, user, gateway.own_keys())
        });
        let via = via.collect::<Result<Vec<_>, _>>()?;
        let request = hop(&target, self.user(args)?, keys)?;
        Ok(ConnectRequest { via, keys_only, expect: args.expect, ..request })
    }

    /// Connects and logs in, asking at the terminal as far as the options allow.
    ///
    /// # Errors
    /// The step that failed.
    pub(crate) async fn connect(
        &self,
        home: &Home,
        args: &ConnectArgs,
        ask: &TerminalAsk,
    ) -> Result<Trunk, Failure> {
        let outcome = self.try_connect(home, args, ask, self.keys(args), false).await;
        outcome.map_err(|failure| self.explain(failure.into_failure(), args))
    }

    /// Adds what the book knows about a failed login.
    fn explain(&self, failure: Failure, args: &ConnectArgs) -> Failure {
        let image = args.image.as_ref().or(self.image.as_ref()).and_then(|word| lantern_book::image(word));
        match image {
            Some(image) if failure.code == code::LOGIN => {
                let users = image.users.join(", ");
                failure.hint(format!("machines made from {} images begin with the user {users}", image.name))
            }
            _ => failure,
        }
    }

    /// Connects with these keys and no others; with `keys_only` without passwords and questions of the machine.
    ///
    /// # Errors
    /// The step that failed.
    pub(crate) async fn try_connect(
        &self,
        home: &Home,
        args: &ConnectArgs,
        ask: &TerminalAsk,
        keys: KeyChoice,
        keys_only: bool,
    ) -> Result<Trunk, ConnectFailure> {
        let request = self.request(home, args, keys, keys_only)?;
        ask.is_for(&self.name);
        let mut interrupts = watch(SignalKind::interrupt())?;
        let outcome = tokio::select! {
            outcome = connect(&request, ask) => Some(outcome),
            _ = interrupts.recv() => None,
        };
        match outcome {
            Some(outcome) if !ask.was_interrupted() => Ok(outcome?),
            _ => Err(Failure::new(code::INTERRUPTED, "interrupted").into()),
        }
    }
}

/// Why there is no connection: told by the login, or something before it.
#[derive(Debug)]
pub(crate) enum ConnectFailure {
    /// The connection or the login.
    Link(LinkError),
    /// Anything else.
    Other(Failure),
}

impl ConnectFailure {
    /// As it is told.
    pub(crate) fn into_failure(self) -> Failure {
        match self {
            Self::Link(error) => error.into(),
            Self::Other(failure) => failure,
        }
    }
}

impl From<LinkError> for ConnectFailure {
    fn from(error: LinkError) -> Self {
        Self::Link(error)
    }
}

impl From<Failure> for ConnectFailure {
    fn from(failure: Failure) -> Self {
        Self::Other(failure)
    }
}
