//! From what was typed to what to connect to: name or one-off, options, book and defaults.

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_book::{
    Destination, Effective, Field, Home, MachineBook, Protocol, Proxy, Resolver, TrustStore, shown,
};
use lantern_link::{ConnectRequest, KeyChoice, Opens, TimeLimits, TrustPolicy, our_offer};

use crate::display::DisplayTrust;
use crate::reach::{ReachError, ReachOptions};
use crate::winrm_settings::WinrmSettings;

/// A machine with every setting resolved.
#[derive(Debug, Clone)]
pub struct Target {
    /// Its name in messages and in the trust store.
    pub name: String,
    /// How it is spoken to.
    pub protocol: Protocol,
    /// Where to dial, the likeliest first.
    pub addresses: Vec<String>,
    /// And which port.
    pub port: u16,
    /// The user, when the book or the one-off says.
    pub user: Option<String>,
    /// The keys, when the book says.
    pub keys: Vec<String>,
    /// The image it was made from, when the book says.
    pub image: Option<String>,
    /// Whether it matters more than others.
    pub production: bool,
    /// The color that marks it, by its name in the book.
    pub colour: Option<String>,
    /// The machines on the way, the nearest first.
    pub via: Vec<Target>,
    /// The proxy on the way.
    pub proxy: Option<Proxy>,
    /// Its place, when it is not in the book.
    one_off: Option<String>,
    race: bool,
    limits: TimeLimits,
    trust: TrustPolicy,
    resolver: Option<Resolver>,
    /// Whether the book says that it may ask the agent for signatures.
    pub forward_agent: bool,
    /// Whether the book says that its programs may draw here, and how far they are trusted.
    pub forward_display: Option<DisplayTrust>,
    /// What the book says that starts a display server here.
    pub display_start: Option<String>,
    /// Whom commands run as, where that is somebody else than who logs in.
    pub acts_as: Option<String>,
    /// Whether the book says that the keeper is started when there is use for it.
    pub starts_keeper: bool,
    /// What the book says about its sessions.
    pub session: SessionSettings,
    /// Its tunnels, by name.
    pub tunnels: BTreeMap<String, String>,
    /// What the book says about WinRM.
    pub winrm: WinrmSettings,
}

/// What the book says about the sessions of a machine.
#[derive(Debug, Clone, Default)]
pub struct SessionSettings {
    /// Variables.
    pub environment: BTreeMap<String, String>,
    /// The terminal type that it is told.
    pub terminal_type: Option<String>,
    /// Whether it is told the language.
    pub send_language: bool,
    /// Whether strokes of Ctrl-\ open the line of choices.
    pub stroke_menu: bool,
    /// What is typed into a new shell first.
    pub first_command: Option<String>,
}

impl Target {
    /// Looks up what was typed, with the book as it is on disk.
    ///
    /// # Errors
    /// A name that is not in the book, or a one-off that makes no sense.
    pub fn resolve(home: &Home, typed: &str) -> Result<Self, ReachError> {
        Self::find(home, &MachineBook::load(home)?, typed)
    }

    /// The same by way of what the options say.
    ///
    /// # Errors
    /// As [`Self::resolve`] and [`Self::with_options`].
    pub fn resolve_with(home: &Home, typed: &str, options: &ReachOptions) -> Result<Self, ReachError> {
        Self::resolve(home, typed)?.with_options(home, options)
    }

    /// Looks up what was typed.
    ///
    /// # Errors
    /// As [`Self::resolve`].
    pub fn find(home: &Home, book: &MachineBook, typed: &str) -> Result<Self, ReachError> {
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
                let effective = book.effective_defaults();
                let mut target = Self::of(&effective, &place)?;
                target.one_off = Some(place);
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
                target.with_proxy_first().named_by_its_way(home)
            }
        }
    }

    /// A one-off is called by its place, and that by the gateway before it: the same private address behind two gateways is two machines. Where a
    /// machine of the trust store was met there last, it is that one.
    fn named_by_its_way(mut self, home: &Home) -> Result<Self, ReachError> {
        if let Some(place) = &self.one_off {
            let place = match self.via.last() {
                Some(gateway) => format!("{place} via {}", gateway.name),
                None => place.clone(),
            };
            let trust = TrustStore::load(home)?;
            self.name = trust.machine_at(&place)?.unwrap_or(place);
        }
        Ok(self)
    }

    /// Gateways as targets, each without a way of its own: the list has it already.
    fn all(home: &Home, book: &MachineBook, gateways: &[String]) -> Result<Vec<Self>, ReachError> {
        let one = |typed: &String| match Destination::parse(typed)? {
            Destination::Named(name) => Self::of(&book.effective(&name)?, &name)?.with_an_address(),
            Destination::OneOff(one_off) => {
                let place = one_off.place();
                let trust = TrustStore::load(home)?;
                let name = trust.machine_at(&place)?.unwrap_or(place);
                let mut target = Self::of(&book.effective_defaults(), &name)?;
                target.addresses = vec![one_off.address];
                target.port = one_off.port;
                target.user = one_off.user.or(target.user);
                Ok(target)
            }
        };
        gateways.iter().map(one).collect()
    }

    fn of(effective: &Effective<'_>, name: &str) -> Result<Self, ReachError> {
        let text = |field| effective.text(field).map(str::to_owned);
        let proxy = match effective.text(Field::Proxy) {
            Some(proxy) => Some(Proxy::parse(proxy).map_err(|rule| ReachError::Proxy {
                text: shown(proxy),
                rule,
                typed: false,
            })?),
            None => None,
        };
        let seconds = |field, usual: Duration| effective.number(field).map_or(usual, Duration::from_secs);
        let usual = TimeLimits::default();
        let dead_after = match effective.number(Field::DeadAfter) {
            Some(0) => None,
            Some(seconds) => Some(Duration::from_secs(seconds)),
            None => usual.dead_after,
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
            production: effective.flag(Field::Production).unwrap_or(false),
            colour: text(Field::Colour),
            via: Vec::new(),
            proxy,
            one_off: None,
            race: effective.flag(Field::RaceAddresses).unwrap_or(true),
            limits: TimeLimits {
                connect: seconds(Field::ConnectLimit, usual.connect),
                handshake: seconds(Field::HandshakeLimit, usual.handshake),
                login: seconds(Field::LoginLimit, usual.login),
                dead_after,
            },
            trust: match effective.text(Field::Trust) {
                Some("known-only") => TrustPolicy::KnownOnly,
                Some("first-use") => TrustPolicy::FirstUse,
                _ => TrustPolicy::Ask,
            },
            resolver: effective.text(Field::TrustedResolver).and_then(Resolver::parse),
            forward_agent: effective.flag(Field::ForwardAgent).unwrap_or(false),
            forward_display: match (
                effective.flag(Field::ForwardDisplay),
                effective.text(Field::ForwardDisplay),
            ) {
                (_, Some("single")) => Some(DisplayTrust::Single),
                (_, Some("trusted")) => Some(DisplayTrust::Trusted),
                (Some(true), _) => Some(DisplayTrust::Restricted),
                _ => None,
            },
            display_start: text(Field::DisplayStart),
            acts_as: text(Field::As),
            starts_keeper: effective.text(Field::Keeper) == Some("auto"),
            session: SessionSettings {
                environment: effective.map(Field::Environment).cloned().unwrap_or_default(),
                terminal_type: text(Field::TerminalType),
                send_language: effective.flag(Field::SendLanguage).unwrap_or(true),
                stroke_menu: effective.flag(Field::StrokeMenu).unwrap_or(true),
                first_command: text(Field::FirstCommand),
            },
            tunnels: effective.map(Field::Tunnels).cloned().unwrap_or_default(),
            winrm: WinrmSettings::of(effective),
        })
    }

    fn with_an_address(self) -> Result<Self, ReachError> {
        match self.addresses.is_empty() {
            false => Ok(self),
            true => Err(ReachError::NoAddress { machine: self.name }),
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
    pub fn with_options(mut self, home: &Home, options: &ReachOptions) -> Result<Self, ReachError> {
        if !options.gateways.is_empty() {
            let book = MachineBook::load(home)?;
            self.via = Vec::new();
            for gateway in &options.gateways {
                let target = Self::find(home, &book, gateway)?;
                self.via.extend(target.via.iter().cloned());
                self.via.push(Self { via: Vec::new(), ..target });
            }
            self = self.with_proxy_first().named_by_its_way(home)?;
        }
        if !options.addresses.is_empty() {
            self.addresses.clone_from(&options.addresses);
        }
        if let Some(proxy) = &options.proxy {
            let parsed = Proxy::parse(proxy).map_err(|rule| ReachError::Proxy {
                text: shown(proxy),
                rule,
                typed: true,
            })?;
            match self.via.first_mut() {
                Some(first) => first.proxy = Some(parsed),
                None => self.proxy = Some(parsed),
            }
        }
        Ok(self)
    }

    /// How it is typed: by its name, or as the one-off that it is.
    pub fn typed(&self) -> String {
        match (&self.one_off, &self.user) {
            (Some(place), Some(user)) => format!("{user}@{place}"),
            (Some(place), None) => place.clone(),
            (None, _) => self.name.clone(),
        }
    }

    /// Whether it was typed as an address and is no machine of the book.
    pub fn is_one_off(&self) -> bool {
        self.one_off.is_some()
    }

    /// Its first address and port as one word.
    pub fn place(&self) -> String {
        lantern_book::place(self.addresses.first().map_or("", String::as_str), self.port)
    }

    /// The user to log in as: by option, book, image or this computer.
    ///
    /// # Errors
    /// When nothing says.
    pub fn user(&self, options: &ReachOptions) -> Result<String, ReachError> {
        self.said_user(options).or_else(|| options.local_user.clone()).ok_or(ReachError::NoUser)
    }

    /// The user by option, book or image.
    pub(crate) fn said_user(&self, options: &ReachOptions) -> Option<String> {
        let first = |image: &String| lantern_book::image(image)?.users.first().map(|user| (*user).to_owned());
        let by_option = || options.image.as_ref().and_then(first);
        let by_book = || self.image.as_ref().and_then(first);
        options.user.clone().or_else(by_option).or_else(|| self.user.clone()).or_else(by_book)
    }

    /// The keys to offer: by option or book, else all of the ring.
    pub fn keys(&self, options: &ReachOptions) -> KeyChoice {
        options.keys.clone().unwrap_or_else(|| self.own_keys())
    }

    fn own_keys(&self) -> KeyChoice {
        if self.keys.is_empty() { KeyChoice::Ring } else { KeyChoice::Named(self.keys.clone()) }
    }

    /// Everything that a connection by SSH needs to know.
    ///
    /// # Errors
    /// No user to log in as; another protocol; an option that makes no sense.
    pub fn request(
        &self,
        home: &Home,
        options: &ReachOptions,
        keys: KeyChoice,
        keys_only: bool,
    ) -> Result<ConnectRequest, ReachError> {
        self.needs_ssh()?;
        self.way(home, options, keys, keys_only)
    }

    fn needs_ssh(&self) -> Result<(), ReachError> {
        match self.protocol {
            Protocol::Ssh => Ok(()),
            Protocol::Winrm => Err(ReachError::Winrm { machine: self.name.clone() }),
        }
    }

    /// The same, whatever it is spoken to by.
    pub(crate) fn way(
        &self,
        home: &Home,
        options: &ReachOptions,
        keys: KeyChoice,
        keys_only: bool,
    ) -> Result<ConnectRequest, ReachError> {
        let target = self.clone().with_options(home, options)?;
        let hop = |target: &Self, user: String, keys: KeyChoice| -> Result<ConnectRequest, ReachError> {
            Ok(ConnectRequest {
                home: home.clone(),
                machine: target.name.clone(),
                addresses: target.addresses.clone(),
                port: target.port,
                race: target.race,
                proxy: target.proxy.clone(),
                via: Vec::new(),
                is_on_the_way: false,
                user,
                keys,
                keys_only: false,
                even_exposed: options.even_exposed,
                agents: options.agents.clone(),
                expect: None,
                trust: target.trust,
                resolver: target.resolver,
                only_looking: false,
                known: None,
                ring: options.ring.clone(),
                forwards_agent: false,
                opens: Opens::Nothing,
                lines: None,
                shares: options.shares.clone(),
                limits: options.limits.over(target.limits),
                offer: our_offer(),
            })
        };
        let via = target.via.iter().map(|gateway| {
            let own = ReachOptions { local_user: options.local_user.clone(), ..ReachOptions::default() };
            gateway.needs_ssh()?;
            let request = hop(gateway, gateway.user(&own)?, gateway.own_keys())?;
            Ok(ConnectRequest { is_on_the_way: true, ..request })
        });
        let via = via.collect::<Result<Vec<_>, ReachError>>()?;
        let request = hop(&target, self.user(options)?, keys)?;
        let (forwards_agent, opens) = (options.forwards_agent, options.opens.clone());
        Ok(ConnectRequest { via, keys_only, expect: options.expect, forwards_agent, opens, ..request })
    }
}
