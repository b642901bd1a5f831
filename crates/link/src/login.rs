//! From a machine of the book to a logged-in connection: dial, shake hands, check trust, authenticate.

use std::time::Instant;

use jiff::Timestamp;
use lantern_book::{Hint, Hints, TrustStore};
use lantern_keys::{PublicKey, SignatureAlgorithm, SystemRandom};
use lantern_ssh::algorithm::KexAlgorithm;
use lantern_ssh::{
    Attempt, AuthEvent, AuthPlan, Client, ClientConfig, ClientEvent, Guess, KeyCandidate, PlannedStep,
};
use tracing::debug;

use crate::ask::{Ask, Note};
use crate::error::AuthFailure;
use crate::own_keys::{OwnKey, join_agents, order, own_keys, unlock};
use crate::pump::{Pump, PumpError};
use crate::{AgentClient, ConnectRequest, Link, LinkError, dial};

/// Connects and logs in.
///
/// # Errors
/// The step that failed.
pub async fn connect(request: ConnectRequest<'_>, ask: &mut dyn Ask) -> Result<Link, LinkError> {
    let mut login = Login::start(&request, ask).await?;
    login.run().await?;
    let Login { client, pump, .. } = login;
    remember(&request, &client, ask);
    let (machine, user) = (request.machine.to_owned(), request.user.to_owned());
    Ok(Link { client, pump, machine, user, ended: None })
}

/// Notes what this connection taught for the next one. A home that cannot be written costs a note, not a session.
fn remember(request: &ConnectRequest<'_>, client: &Client, ask: &mut dyn Ask) {
    let place = request.place();
    let noted = match client.host_key() {
        Some(key) => TrustStore::note_seen(request.home, request.machine, &place, key, Timestamp::now()),
        None => Ok(()),
    };
    let hinted = match client.server_first() {
        Some(guess) => {
            let hint = Hint { kex: guess.kex.name().into(), host_key: guess.host_key.name().into() };
            Hints::note(request.home, request.machine, hint)
        }
        None => Ok(()),
    };
    if let Err(error) = noted.and(hinted) {
        ask.note(&Note::NotRemembered(&error));
    }
}

pub(crate) struct Login<'a, 'r> {
    pub(crate) request: &'a ConnectRequest<'r>,
    pub(crate) ask: &'a mut dyn Ask,
    pub(crate) client: Client,
    pub(crate) pump: Pump<tokio::net::TcpStream>,
    pub(crate) reached: std::net::SocketAddr,
    pub(crate) trust: TrustStore,
    keys: Vec<OwnKey>,
    agents: Vec<AgentClient>,
    plan: AuthPlan,
    /// The key that an agent is asked to sign with.
    signing: Option<usize>,
    password_asked: bool,
    last_password: Option<lantern_keys::SecretString>,
}

impl<'a, 'r> Login<'a, 'r> {
    async fn start(request: &'a ConnectRequest<'r>, ask: &'a mut dyn Ask) -> Result<Self, LinkError> {
        // Everything that can fail here fails before the network is bothered.
        let trust = TrustStore::load(request.home)?;
        let mut keys = own_keys(request, ask)?;
        let agents = join_agents(request, &mut keys).await;
        order(&mut keys);
        let candidates = keys.iter().map(|key| KeyCandidate {
            name: key.name.clone(),
            public: key.public.clone(),
            locked: key.is_locked(),
        });
        let mut plan = AuthPlan::new(candidates.collect(), ask.password_at_hand());
        if request.keys_only {
            plan = plan.with_keys_only();
        }
        let (stream, reached) = dial(request.address, request.port, request.limits.connect).await?;
        let config = client_config(request, &trust);
        let client = Client::new(config, Instant::now())
            .map_err(|source| LinkError::Handshake { place: request.place(), source })?;
        let pump = Pump::new(stream);
        Ok(Self {
            request,
            ask,
            client,
            pump,
            reached,
            trust,
            keys,
            agents,
            plan,
            signing: None,
            password_asked: false,
            last_password: None,
        })
    }

    async fn run(&mut self) -> Result<(), LinkError> {
        // The first attempt is queued now, so that it leaves together with the new keys.
        self.next_attempt().await?;
        loop {
            while let Some(event) = self.client.poll_event() {
                match event {
                    ClientEvent::HostKey(key) => self.decide_host_key(&key).await?,
                    ClientEvent::Established => self.note_move(),
                    ClientEvent::Auth(AuthEvent::Succeeded) => return Ok(()),
                    ClientEvent::Auth(event) => self.handle_auth(event).await?,
                    ClientEvent::Channel(..) => {}
                }
            }
            let place = self.request.place();
            self.pump.turn(&mut self.client).await.map_err(|error| match error {
                PumpError::Ssh(source) => LinkError::Handshake { place, source },
                PumpError::Io(source) => LinkError::Dial { place, source },
            })?;
        }
    }

    async fn handle_auth(&mut self, event: AuthEvent) -> Result<(), LinkError> {
        match event {
            AuthEvent::Banner(text) => {
                self.ask.note(&Note::Banner(&text));
                Ok(())
            }
            AuthEvent::Rejected { methods, partial_success } => {
                self.plan.on_rejected(methods, partial_success);
                self.next_attempt().await
            }
            AuthEvent::KeyTypeRefused => {
                self.plan.on_impossible("the server takes no signatures of this kind of key");
                self.next_attempt().await
            }
            AuthEvent::SignatureWanted { key, algorithm, data } => {
                self.have_signed(&key, algorithm, &data).await
            }
            AuthEvent::PublicKeyAccepted(_) => {
                self.plan.on_query_accepted();
                self.next_attempt().await
            }
            AuthEvent::Prompts(prompts) => match self.ask.prompts(self.request.machine, &prompts) {
                Some(answers) => {
                    self.client.answer_prompts(&answers, Instant::now()).map_err(|e| self.broken(e))
                }
                None => {
                    self.plan.on_impossible("no one was there to answer");
                    self.next_attempt().await
                }
            },
            AuthEvent::PasswordExpired(demand) => {
                match (self.ask.new_password(&demand), self.last_password.take()) {
                    (Some(new), Some(old)) => self.attempt(Attempt::ChangePassword { old, new }),
                    _ => {
                        self.plan.on_impossible("the password has expired and no new one was given");
                        self.next_attempt().await
                    }
                }
            }
            AuthEvent::Succeeded => Ok(()),
        }
    }

    /// Has an agent sign; when it does not, the key's own file may still be opened.
    async fn have_signed(
        &mut self,
        key: &PublicKey,
        algorithm: SignatureAlgorithm,
        data: &[u8],
    ) -> Result<(), LinkError> {
        let index = self.signing.take();
        let own = index.and_then(|index| self.keys.get_mut(index));
        let agent = own.and_then(|own| own.agent.take()).and_then(|agent| self.agents.get_mut(agent));
        let signed = match agent {
            Some(agent) => {
                agent.sign(key, algorithm, data).await.inspect_err(|error| debug!(%error, "not signed")).ok()
            }
            None => None,
        };
        if let Some(signature) = signed {
            return self
                .client
                .supply_signature(&signature, Instant::now())
                .map_err(|error| self.broken(error));
        }
        let unlocked = match index.and_then(|index| self.keys.get_mut(index)) {
            Some(own) => unlock(own, self.ask),
            None => Err("the agent that has it did not sign"),
        };
        match unlocked {
            Ok(key) => self.attempt(Attempt::PublicKey(key)),
            Err(why) => {
                self.plan.on_impossible(why);
                self.next_attempt().await
            }
        }
    }

    /// Carries out the plan's next step that can be carried out.
    async fn next_attempt(&mut self) -> Result<(), LinkError> {
        loop {
            let attempt = match self.plan.next_step() {
                PlannedStep::Probe => Attempt::None,
                PlannedStep::Query(index) => Attempt::QueryPublicKey(self.keys[index].public.clone()),
                PlannedStep::Sign(index) if self.keys[index].signing_agent().is_some() => {
                    self.signing = Some(index);
                    Attempt::SignElsewhere(self.keys[index].public.clone())
                }
                PlannedStep::Sign(index) => match unlock(&mut self.keys[index], self.ask) {
                    Ok(key) => Attempt::PublicKey(key),
                    Err(why) => {
                        self.plan.on_impossible(why);
                        continue;
                    }
                },
                PlannedStep::KeyboardInteractive => Attempt::KeyboardInteractive,
                PlannedStep::Password => {
                    let again = std::mem::replace(&mut self.password_asked, true);
                    match self.ask.password(self.request.user, self.request.machine, again) {
                        Some(password) => {
                            self.last_password = Some(password.clone());
                            Attempt::Password(password)
                        }
                        None => {
                            self.plan.on_impossible("no password was given");
                            continue;
                        }
                    }
                }
                PlannedStep::GiveUp => return Err(self.give_up().await),
            };
            return self.attempt(attempt);
        }
    }

    fn attempt(&mut self, attempt: Attempt) -> Result<(), LinkError> {
        self.client.authenticate(attempt, Instant::now()).map_err(|error| self.broken(error))
    }

    fn broken(&self, source: lantern_ssh::SshError) -> LinkError {
        LinkError::Handshake { place: self.request.place(), source }
    }

    async fn give_up(&mut self) -> LinkError {
        self.client.disconnect();
        self.pump.finish(&mut self.client).await;
        LinkError::Auth(Box::new(AuthFailure {
            machine: self.request.machine.to_owned(),
            user: self.request.user.to_owned(),
            methods: self.plan.methods().to_vec(),
            report: self.plan.report(),
        }))
    }
}

fn client_config(request: &ConnectRequest<'_>, trust: &TrustStore) -> ClientConfig {
    let known: Vec<PublicKey> = trust
        .get(request.machine)
        .map(|record| record.keys.iter().map(|known| known.key.clone()).collect())
        .unwrap_or_default();
    let mut offer = request.offer.clone();
    let algorithms: Vec<_> =
        known.iter().flat_map(|key| key.signature_algorithms().iter().copied()).collect();
    offer.prefer_host_keys(&algorithms);
    let mut config = ClientConfig::new(request.user.to_owned(), offer, Box::new(SystemRandom));
    config.guess = guess(request, &algorithms);
    // An expectation narrows what goes without asking: another known key is then judged, and refused.
    config.known_host_keys = known;
    config.known_host_keys.retain(|key| request.expect.is_none_or(|expected| key.fingerprint() == expected));
    config.handshake_time = request.limits.handshake;
    config.keepalive = Some(request.limits.keepalive);
    config
}

/// What the server listed first last time, when we can verify a host key of that kind.
fn guess(request: &ConnectRequest<'_>, known: &[SignatureAlgorithm]) -> Option<Guess> {
    let hints = Hints::load(request.home);
    let hint = hints.get(request.machine)?;
    let kex = KexAlgorithm::from_name(&hint.kex)?;
    let host_key = SignatureAlgorithm::from_name(&hint.host_key).ok()?;
    debug!(kex = hint.kex, host_key = hint.host_key, "guessing");
    known.contains(&host_key).then_some(Guess { kex, host_key })
}
