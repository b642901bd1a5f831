//! From a user to a ticket for a machine.

use std::net::IpAddr;
use std::time::{SystemTime, UNIX_EPOCH};

use lantern_kerberos::{
    Cache, Configuration, Credential, Granted, Initiator, KerberosError, LoginStep, Moment, Offer,
    PasswordLogin, Principal, Refusal, RefusalKind, TicketRequest, forwarded,
};
use lantern_keys::{SecretString, SystemRandom};
use lantern_ssh::neutralize_line;
use tracing::debug;

use super::centre::Centres;
use super::failure::KerberosFailure;
use super::found_cache;
use super::places::KerberosPlaces;
use super::system;
use crate::winrm::UserForm;

/// Most realms on the way to a service.
const MAX_REALMS: usize = 8;
/// A ticket that ends sooner than this is as good as none, in seconds: a command takes some time.
const SOON: i64 = 30;
/// Clocks that differ by less than this are as good as one, in seconds (RFC 4120 §1.6).
const CLOCKS_AGREE: i64 = 300;

/// Longest text of a centre that is told, in characters.
const MAX_TEXT: usize = 200;

/// What is wanted of Kerberos.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Wanted<'a> {
    /// The user, as typed.
    pub(crate) user: &'a str,
    /// Whether nothing else will do: then a name alone is one of the default realm, even without a ticket.
    pub(crate) is_only: bool,
    /// Whether somebody said so: else the owner of a ticket is as good.
    pub(crate) user_is_said: bool,
    /// The name that the machine was dialed by.
    pub(crate) host: &'a str,
    /// The name of its service, where the book has one.
    pub(crate) service: Option<&'a str>,
    /// Whether the machine is to get a ticket to go on with.
    pub(crate) delegate: bool,
}

/// How a login goes on.
pub(crate) enum Begun {
    /// There is a ticket already.
    Held(Box<Login>),
    /// The password of this user is wanted; why there is no ticket is said beside it.
    ByPassword(Box<Unproven>, KerberosFailure),
}

/// A user and a service, and what the system says of their realms.
pub(crate) struct Unproven {
    user: Principal,
    service: Principal,
    centres: Centres,
    delegate: bool,
}

/// A user with a ticket of the login.
pub(crate) struct Login {
    what: Unproven,
    ticket: Credential,
    /// A ticket for the service that is there already.
    for_service: Option<Credential>,
    clock_off: i64,
    by_password: bool,
}

/// A ticket for a machine's service.
#[derive(Debug)]
pub(crate) struct ServiceTicket {
    ticket: Credential,
    forward: Option<Credential>,
    clock_off: i64,
    by_password: bool,
}

fn now(off: i64) -> Moment {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let seconds = i64::try_from(since.as_secs()).unwrap_or(i64::MAX).saturating_add(off);
    Moment { seconds, micros: since.subsec_micros() }
}

impl Unproven {
    /// Who logs in, to what.
    fn of(
        wanted: &Wanted<'_>,
        places: &KerberosPlaces,
        configuration: Configuration,
    ) -> Result<Self, KerberosFailure> {
        let user = user(wanted.user, &configuration)?;
        let name = match wanted.service {
            Some(name) => name.to_owned(),
            None if wanted.host.trim_matches(['[', ']']).parse::<IpAddr>().is_ok() => {
                return Err(KerberosFailure::Address { host: wanted.host.to_owned() });
            }
            None => format!("HTTP/{}", wanted.host.trim_end_matches('.').to_lowercase()),
        };
        let service = Principal::service(&name, &user.realm)
            .map_err(|source| KerberosFailure::ServiceName { name, source })?;
        let centres = Centres::new(places.clone(), configuration);
        Ok(Self { user, service, centres, delegate: wanted.delegate })
    }

    /// Whether anybody says where the realm's centres are.
    ///
    /// # Errors
    /// Nobody does.
    pub(crate) async fn is_reachable(&self) -> Result<(), KerberosFailure> {
        self.centres.find(&self.user.realm).await.map(drop)
    }

    /// Logs in at the user's realm by password. It is proven once at most.
    ///
    /// # Errors
    /// It is refused, or no centre answers.
    pub(crate) async fn log_in(self, password: &SecretString) -> Result<Login, KerberosFailure> {
        let (realm, moment) = (self.user.realm.clone(), now(0));
        let what = || format!("{} a ticket", self.user);
        let explain = |error| explain(error, &realm, what(), moment);
        let mut login = PasswordLogin::new(self.user.clone(), &mut SystemRandom);
        let first = login.first(moment).map_err(explain)?;
        debug!(realm, user = %self.user, "logging in at a key distribution centre");
        let mut answer = self.centres.ask(&realm, &first).await?;
        let ticket = loop {
            match login.handle(&answer, password, now(0), &mut SystemRandom).map_err(explain)? {
                LoginStep::Send(proof) => {
                    answer = self.centres.ask_once(&realm, &proof).await.map_err(|failure| {
                        KerberosFailure::Unheard { realm: realm.clone(), why: failure.to_string() }
                    })?;
                }
                LoginStep::Ticket(ticket) => break *ticket,
            }
        };
        Ok(Login { what: self, ticket, for_service: None, clock_off: 0, by_password: true })
    }
}

/// The user as Kerberos names one.
fn user(typed: &str, configuration: &Configuration) -> Result<Principal, KerberosFailure> {
    let no_realm = || KerberosFailure::NoRealm { user: typed.to_owned() };
    match UserForm::of(typed) {
        UserForm::OfMachine(_) => Err(KerberosFailure::OwnUser { user: typed.to_owned() }),
        // Realms are written in capitals wherever domains of Windows are.
        UserForm::OfRealm(name, realm) => {
            let realm = configuration.realm_named(realm).map_or_else(|| realm.to_uppercase(), str::to_owned);
            Ok(Principal::user(name, &realm))
        }
        UserForm::OfDomain(domain, name) => {
            let realm = configuration.realm_named(domain).ok_or_else(no_realm)?;
            Ok(Principal::user(name, realm))
        }
        UserForm::Bare(name) => {
            let realm = configuration.default_realm.as_deref().ok_or_else(no_realm)?;
            Ok(Principal::user(name, realm))
        }
    }
}

/// Looks for a ticket of the login, and for what else a login by Kerberos takes.
///
/// # Errors
/// Kerberos is not to be had for this user or machine.
pub(crate) fn begin(wanted: &Wanted<'_>, places: &KerberosPlaces) -> Result<Begun, KerberosFailure> {
    let configuration = system::configuration(places);
    let no_realm = || KerberosFailure::NoRealm { user: wanted.user.to_owned() };
    if places.configuration.is_empty() && places.cache.is_none() {
        return Err(no_realm());
    }
    let name = found_cache::name(places, &configuration);
    let loaded = if places.ignores_tickets {
        Ok(None)
    } else {
        found_cache::load(&name, places.cache.is_some(), &configuration)
    };
    let cache = match loaded {
        Ok(cache) => cache.ok_or_else(|| KerberosFailure::NoTicket { cache: name.clone() }),
        Err(failure) => Err(failure),
    };
    let held = cache.and_then(|cache| held(&name, cache));
    let failure = match held {
        Ok((cache, login)) => {
            let what = of_owner(wanted, &cache.owner, places, &configuration)?;
            if is_same_user(&what.user, &cache.owner) {
                let owner = neutralize_line(&cache.owner.to_string(), MAX_TEXT);
                debug!(owner, cache = name, "there is a ticket of a login");
                return Ok(Begun::Held(Box::new(with_ticket(what, &cache, login))));
            }
            let owner = neutralize_line(&cache.owner.to_string(), MAX_TEXT);
            KerberosFailure::OtherUser { cache: name, owner, user: what.user.to_string() }
        }
        Err(failure) => failure,
    };
    // Without a ticket the password of a name alone is shown to no realm that nobody named with it: systems come with realms of others in their
    // configuration.
    match UserForm::of(wanted.user) {
        UserForm::Bare(_) if !wanted.is_only => Err(match failure {
            KerberosFailure::NoTicket { .. } => no_realm(),
            other => other,
        }),
        _ => Ok(Begun::ByPassword(Box::new(Unproven::of(wanted, places, configuration)?), failure)),
    }
}

/// The ticket of the login in a cache, where one serves.
fn held(name: &str, cache: Cache) -> Result<(Cache, Credential), KerberosFailure> {
    let moment = now(cache.clock_off).seconds + SOON;
    if let Some(login) = cache.login(moment).cloned() {
        return Ok((cache, login));
    }
    let owner = neutralize_line(&cache.owner.to_string(), MAX_TEXT);
    let cache_name = name.to_owned();
    Err(match cache.ended(moment) {
        Some(ended) => KerberosFailure::Ended { cache: cache_name, owner, ended },
        None => KerberosFailure::NoTicket { cache: cache_name },
    })
}

/// Who logs in, where this one has a ticket: who said nothing is that one, and so is a name alone that is the same.
fn of_owner(
    wanted: &Wanted<'_>,
    owner: &Principal,
    places: &KerberosPlaces,
    configuration: &Configuration,
) -> Result<Unproven, KerberosFailure> {
    let is_owners_name = matches!(UserForm::of(wanted.user), UserForm::Bare(name) if owner.parts == [name]);
    if wanted.user_is_said && !is_owners_name {
        return Unproven::of(wanted, places, configuration.clone());
    }
    let user = format!("{}@{}", owner.name(), owner.realm);
    let mut what = Unproven::of(&Wanted { user: &user, ..*wanted }, places, configuration.clone())?;
    what.user.realm.clone_from(&owner.realm);
    Ok(what)
}

fn with_ticket(what: Unproven, cache: &Cache, ticket: Credential) -> Login {
    let moment = now(cache.clock_off).seconds + SOON;
    let for_service = cache.tickets.iter().rev().find(|held| {
        held.server.is_named_like(&what.service) && held.client == ticket.client && held.serves(moment)
    });
    let for_service = for_service.cloned();
    Login { what, ticket, for_service, clock_off: cache.clock_off, by_password: false }
}

/// Domains of Windows tell neither users nor realms apart by the size of letters.
fn is_same_user(one: &Principal, other: &Principal) -> bool {
    one.is_named_like(other) && one.realm.eq_ignore_ascii_case(&other.realm)
}

fn explain(error: KerberosError, realm: &str, what: String, moment: Moment) -> KerberosFailure {
    let realm = realm.to_owned();
    match error {
        KerberosError::Refused(mut source) => {
            let clock = clock(&source, moment);
            source.text = source.text.map(|text| neutralize_line(text.trim_matches('\0'), MAX_TEXT));
            KerberosFailure::Refused { realm, what, source, clock }
        }
        source => KerberosFailure::Centre { realm, what, source },
    }
}

fn clock(refusal: &Refusal, moment: Moment) -> Option<i64> {
    Some(refusal.clock_off(moment)).filter(|off| off.abs() > CLOCKS_AGREE)
}

impl Login {
    /// Gets the ticket for the machine.
    ///
    /// # Errors
    /// No centre answers, or none knows the service.
    pub(crate) async fn for_machine(self) -> Result<ServiceTicket, KerberosFailure> {
        let Self { what, ticket, for_service, clock_off, by_password } = self;
        let forward = match what.delegate {
            true => {
                let request = TicketRequest::to_forward(ticket.clone(), now(clock_off), &mut SystemRandom);
                let asked = format!("{} a ticket that a machine may use", ticket.client);
                match ask(&what.centres, &ticket, request, asked, clock_off).await? {
                    Granted::Ticket(forward) => Some(forward),
                    Granted::Referral(_) => None,
                }
            }
            false => None,
        };
        let ticket = match for_service {
            Some(ticket) => ticket,
            None => along_the_realms(&what, ticket, clock_off).await?,
        };
        Ok(ServiceTicket { ticket, forward, clock_off, by_password })
    }
}

/// Asks the login's own realm for the service, and goes where it refers to.
async fn along_the_realms(
    what: &Unproven,
    login: Credential,
    clock_off: i64,
) -> Result<Credential, KerberosFailure> {
    let service = what.service.name();
    let elsewhere = what.service.parts.get(1).and_then(|host| what.centres.configuration.realm_of(host));
    let (mut at, mut passed) = (login, Vec::new());
    while passed.len() < MAX_REALMS {
        let realm = at.server.gives_tickets_of().unwrap_or_default().to_owned();
        if passed.contains(&neutralize_line(&realm, MAX_TEXT)) {
            break;
        }
        let request = |service: &Principal| {
            TicketRequest::new(at.clone(), service.clone(), now(clock_off), &mut SystemRandom)
        };
        let asked = format!("a ticket for {service}");
        let granted = ask(&what.centres, &at, request(&what.service), asked, clock_off).await;
        let is_unknown = |failure: &KerberosFailure| matches!(failure, KerberosFailure::Refused { source, .. } if source.kind == RefusalKind::NoSuchService);
        let granted = match (granted, elsewhere) {
            // Old centres refer to nobody, and this computer knows where the machine is.
            (Err(failure), Some(other)) if is_unknown(&failure) && other != realm && passed.is_empty() => {
                let asked = format!("a ticket for the realm {other}");
                ask(&what.centres, &at, request(&Principal::tickets(other, &realm)), asked, clock_off).await?
            }
            (granted, _) => granted?,
        };
        passed.push(neutralize_line(&realm, MAX_TEXT));
        match granted {
            Granted::Ticket(ticket) if ticket.server.is_named_like(&what.service) => return Ok(ticket),
            Granted::Ticket(next) | Granted::Referral(next) => at = next,
        }
    }
    Err(KerberosFailure::Circle { service, passed })
}

async fn ask(
    centres: &Centres,
    login: &Credential,
    request: Result<TicketRequest, KerberosError>,
    what: String,
    clock_off: i64,
) -> Result<Granted, KerberosFailure> {
    let realm = login.server.gives_tickets_of().unwrap_or_default();
    let explain = |error| explain(error, realm, what.clone(), now(clock_off));
    let request = request.map_err(explain)?;
    debug!(realm = neutralize_line(realm, MAX_TEXT), what, "asking a key distribution centre");
    let answer = centres.ask(realm, request.message()).await?;
    request.handle(&answer).map_err(explain)
}

impl ServiceTicket {
    /// Whose it is.
    pub(crate) fn client(&self) -> String {
        neutralize_line(&self.ticket.client.to_string(), MAX_TEXT)
    }

    /// Whether a password got it.
    pub(crate) fn by_password(&self) -> bool {
        self.by_password
    }

    /// The name of the service.
    pub(crate) fn service(&self) -> String {
        neutralize_line(&self.ticket.server.to_string(), MAX_TEXT)
    }

    /// Begins a login with it: once for each connection.
    ///
    /// # Errors
    /// Something that is too long for the form.
    pub(crate) fn begin(&self, binding: Option<[u8; 16]>) -> Result<(Initiator, Vec<u8>), KerberosError> {
        let forward = self.forward.as_ref();
        let forwarded =
            forward.map(|ticket| forwarded(ticket, &self.ticket, &mut SystemRandom)).transpose()?;
        Initiator::new(&self.ticket, &Offer { binding, forwarded }, now(self.clock_off), &mut SystemRandom)
    }

    /// How far a machine's clock is ahead, in seconds, where that is much.
    pub(crate) fn clock(&self, refusal: &Refusal) -> Option<i64> {
        clock(refusal, now(self.clock_off))
    }
}
