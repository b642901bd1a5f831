//! From a line to a logged-in connection: shake hands, check trust, authenticate.

use std::pin::pin;
use std::sync::Arc;
use std::time::Instant;

use lantern_book::Verified;
use lantern_keys::{Fingerprint, PrivateKey, PublicKey, SecretString, SignatureAlgorithm};
use lantern_ssh::{Attempt, AuthEvent, AuthPlan, Client, ClientEvent, PlannedStep, SshError};
use tracing::debug;

use crate::ask::{Answer, Ask, Note, Question};
use crate::early::{self, Intent};
use crate::line::Line;
use crate::own_keys::{LeftOut, OwnKey, Put, Putting};
use crate::prepared::{Prepared, client_config};
use crate::pump::{Pump, PumpError};
use crate::step::Step;
use crate::{AgentClient, AgentError, ConnectRequest, Known, LinkError};

/// Most new passwords asked for, when a server demands one and does not like what it gets.
const MAX_NEW_PASSWORDS: u32 = 3;

pub(crate) struct Login<'a, 'r> {
    pub(crate) request: &'r ConnectRequest,
    pub(crate) ask: &'a dyn Ask,
    pub(crate) client: Client,
    pub(crate) pump: Pump<Line>,
    /// Where the line leads, in words.
    pub(crate) reached: String,
    pub(crate) known: Arc<Known>,
    pub(crate) keys: Vec<OwnKey>,
    agents: Vec<AgentClient>,
    pub(crate) plan: AuthPlan,
    pub(crate) left_out: LeftOut,
    /// What is to be opened together with the login.
    pub(crate) early: Option<Intent>,
    /// The key by which the login was made that a session is opened with.
    pub(crate) opened_with: Option<Fingerprint>,
    /// Whether it was told which keys were refused, before a question.
    pub(crate) refusals_told: bool,
    /// The key that an agent is asked to sign with.
    signing: Option<usize>,
    password_asked: bool,
    last_password: Option<SecretString>,
    /// New passwords tried in place of one that has expired.
    changes: u32,
    since: Instant,
    identified: bool,
    offered: bool,
    /// How the host key came to be trusted, when it was not known before.
    pub(crate) trusted_now: Option<Verified>,
}

impl<'a, 'r> Login<'a, 'r> {
    pub(crate) fn start(
        prepared: Prepared<'r>,
        line: Line,
        reached: String,
        ask: &'a dyn Ask,
    ) -> Result<Self, LinkError> {
        let Prepared { request, known, keys, agents, plan, left_out, guesses, early } = prepared;
        let config = client_config(request, &known, guesses)?;
        let client = Client::new(config, Instant::now())
            .map_err(|source| LinkError::Handshake { place: request.place(), source })?;
        Ok(Self {
            request,
            ask,
            client,
            pump: Pump::new(line),
            reached,
            known,
            keys,
            agents,
            plan,
            left_out,
            early,
            opened_with: None,
            refusals_told: false,
            signing: None,
            password_asked: false,
            last_password: None,
            changes: 0,
            since: Instant::now(),
            identified: false,
            offered: false,
            trusted_now: None,
        })
    }

    pub(crate) async fn run(&mut self) -> Result<(), LinkError> {
        // The first attempt is queued now, so that it leaves together with the new keys.
        self.next_attempt().await?;
        loop {
            // Before what came with it.
            if !self.identified && !self.client.peer_identification().is_empty() {
                self.identified = true;
                let identification = lantern_ssh::neutralize(self.client.peer_identification(), 255);
                let took = self.since.elapsed();
                self.ask.step(&Step::Identified { identification: &identification, took });
            }
            while let Some(event) = self.client.poll_event() {
                match event {
                    ClientEvent::HostKey(key) => self.decide_host_key(&key).await?,
                    ClientEvent::Established => {
                        self.note_move();
                        self.tell_agreed();
                    }
                    ClientEvent::Auth(AuthEvent::Succeeded) => {
                        let by = self.plan.current();
                        self.ask.step(&Step::LoggedIn { by: &by, took: self.since.elapsed() });
                        return self.await_early().await;
                    }
                    ClientEvent::Auth(event) => self.handle_auth(event).await?,
                    ClientEvent::Channel(..) | ClientEvent::Global(_) => {}
                }
            }
            let turn = self.pump.turn(&mut self.client).await;
            turn.map_err(|error| self.ended(error))?;
        }
    }

    /// Puts a question, and keeps the connection going while it waits.
    ///
    /// # Errors
    /// The connection ended meanwhile: nobody needs the answer any more.
    pub(crate) async fn put(&mut self, question: Question) -> Result<Answer, LinkError> {
        let mut answering = self.ask.ask(question);
        loop {
            tokio::select! {
                biased;
                answer = &mut answering => return Ok(answer),
                turn = self.pump.turn(&mut self.client) => turn.map_err(|error| self.ended(error))?,
            }
        }
    }

    /// What it means that the connection ended now. A server that ends it after it has said no to something has had enough tries:
    /// that is a login that failed, and not a protocol that broke.
    pub(crate) fn ended(&mut self, error: PumpError) -> LinkError {
        let place = self.request.place();
        let is_early = self.ended_by_early(&error);
        if early::may_have_run(&self.client, &error) {
            // No command is run twice.
            return LinkError::Lost { machine: self.request.machine.clone(), source: error.lost_by() };
        }
        if is_early {
            return LinkError::Handshake { place, source: SshError::EarlyUnwelcome };
        }
        match error {
            PumpError::Ssh(SshError::Disconnected(reason)) if self.client.is_logging_in() => {
                self.plan.on_impossible("the server ended the login here");
                self.failed(Some(reason))
            }
            PumpError::Ssh(source) => LinkError::Handshake { place, source },
            PumpError::Io(source) => LinkError::Dial { place, source },
        }
    }

    fn tell_agreed(&mut self) {
        let (Some(algorithms), Some(key)) = (self.client.algorithms(), self.client.host_key()) else {
            return;
        };
        let known = || {
            let record = self.known.trust.get(&self.request.machine).ok()??;
            record.keys.iter().find(|known| known.key == *key).map(|known| known.verified)
        };
        let trust = match (self.trusted_now, known()) {
            (Some(verified), _) => format!("first contact, {verified}"),
            (None, Some(verified)) => format!("known, {verified}"),
            (None, None) => "known".into(),
        };
        let (algorithms, strict, took) = (*algorithms, self.client.is_strict(), self.since.elapsed());
        self.ask.step(&Step::Agreed { algorithms, strict, key, trust: &trust, took });
        self.since = Instant::now();
    }

    async fn handle_auth(&mut self, event: AuthEvent) -> Result<(), LinkError> {
        match event {
            AuthEvent::Banner(text) => {
                self.ask.note(&Note::Banner(&text));
                Ok(())
            }
            AuthEvent::Rejected { partial_success: false, .. } if self.may_change_again() => {
                self.change_password(String::new()).await
            }
            AuthEvent::Rejected { methods, partial_success } => {
                self.note_rejected();
                if !std::mem::replace(&mut self.offered, true) {
                    self.ask.step(&Step::Offered { methods: &methods });
                }
                self.plan.on_rejected(methods, partial_success);
                self.next_attempt().await
            }
            AuthEvent::KeyTypeRefused { only_sha1 } => {
                self.plan.on_impossible(match only_sha1 {
                    true => {
                        "the server takes only signatures with SHA-1 of it, which are not made any more (RFC 8332)"
                    }
                    false => "the server takes no signatures of this kind of key",
                });
                self.next_attempt().await
            }
            AuthEvent::SignatureWanted { key, algorithm, data } => {
                self.have_signed(&key, algorithm, &data).await
            }
            AuthEvent::PublicKeyAccepted(_) => {
                self.plan.on_query_accepted();
                self.next_attempt().await
            }
            AuthEvent::Prompts(prompts) => {
                let (machine, count) = (self.request.machine.clone(), prompts.prompts.len());
                // A round without questions wants an answer, and nobody need be bothered for it.
                let answer = match count {
                    0 if prompts.name.is_empty() && prompts.instruction.is_empty() => {
                        Answer::Secrets(Vec::new())
                    }
                    _ => self.put(Question::Prompts { machine, prompts }).await?,
                };
                match answer {
                    Answer::Secrets(answers) if answers.len() == count => {
                        self.client.answer_prompts(&answers, Instant::now()).map_err(|e| self.broken(e))
                    }
                    _ => {
                        self.plan.on_impossible("no one was there to answer");
                        self.next_attempt().await
                    }
                }
            }
            AuthEvent::PasswordExpired(demand) => self.change_password(demand).await,
            AuthEvent::Succeeded => Ok(()),
        }
    }

    /// Whether what was refused is a new password, and another one may be tried.
    fn may_change_again(&self) -> bool {
        self.changes > 0 && self.changes < MAX_NEW_PASSWORDS && self.last_password.is_some()
    }

    /// The password has expired, or the new one was not taken: asks for a new one.
    async fn change_password(&mut self, demand: String) -> Result<(), LinkError> {
        let again = self.changes > 0;
        let old = self.last_password.clone().filter(|_| self.changes < MAX_NEW_PASSWORDS);
        let new = match &old {
            Some(_) => {
                let machine = self.request.machine.clone();
                self.put(Question::NewPassword { machine, demand, again }).await?.secret()
            }
            None => None,
        };
        match (old, new) {
            (Some(old), Some(new)) => {
                self.changes += 1;
                self.attempt(Attempt::ChangePassword { old, new })
            }
            _ => {
                self.last_password = None;
                self.plan.on_impossible("the password has expired and no new one was taken");
                self.next_attempt().await
            }
        }
    }

    /// Has an agent sign; when it does not, the key's own file may still be opened. The connection goes on meanwhile.
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
                let mut signing = pin!(agent.sign(key, algorithm, data));
                loop {
                    tokio::select! {
                        biased;
                        signed = &mut signing => break Ok(signed),
                        turn = self.pump.turn(&mut self.client) => if let Err(error) = turn { break Err(error) },
                    }
                }
            }
            None => Ok(Err(AgentError::Refused { what: "the agent" })),
        };
        let signed = signed.map_err(|error| self.ended(error))?;
        let signed = signed.inspect_err(|error| debug!(%error, "not signed")).ok();
        if let Some(signature) = signed {
            return self
                .client
                .supply_signature(&signature, Instant::now())
                .map_err(|error| self.broken(error));
        }
        let unlocked = match index {
            Some(index) => self.unlock(index).await?,
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

    /// The private half of a key, asking for its passphrase when there is one; else why there is none to be had.
    async fn unlock(&mut self, index: usize) -> Result<Result<Arc<PrivateKey>, &'static str>, LinkError> {
        let Some(key) = self.keys.get(index).map(OwnKey::lock) else { return Ok(Err("it is gone")) };
        let request = self.request;
        let opened = key.unlock(request, self).await?;
        if let (Ok(opened), Some(own)) = (&opened, self.keys.get_mut(index)) {
            own.keep_opened(opened.clone());
        }
        Ok(opened)
    }

    /// Carries out the plan's next step that can be carried out.
    async fn next_attempt(&mut self) -> Result<(), LinkError> {
        loop {
            let attempt = match self.plan.next_step() {
                PlannedStep::Probe => Attempt::None,
                PlannedStep::Query(index) => Attempt::QueryPublicKey(self.keys[index].public.clone()),
                PlannedStep::Sign(index) if self.keys[index].signing_agent().is_some() => {
                    self.open_with(index);
                    self.signing = Some(index);
                    Attempt::SignElsewhere(self.keys[index].public.clone())
                }
                PlannedStep::Sign(index) => match self.unlock(index).await? {
                    Ok(key) => {
                        self.open_with(index);
                        Attempt::PublicKey(key)
                    }
                    Err(why) => {
                        self.plan.on_impossible(why);
                        continue;
                    }
                },
                PlannedStep::KeyboardInteractive => {
                    self.tell_refusals();
                    Attempt::KeyboardInteractive
                }
                PlannedStep::Password => {
                    self.tell_refusals();
                    let again = std::mem::replace(&mut self.password_asked, true);
                    let (user, machine) = (self.request.user.clone(), self.request.machine.clone());
                    match self.put(Question::Password { user, machine, again }).await?.secret() {
                        Some(password) => {
                            self.changes = 0;
                            self.last_password = Some(password.clone());
                            Attempt::Password(password)
                        }
                        None => {
                            self.plan.on_impossible("no password was given");
                            continue;
                        }
                    }
                }
                PlannedStep::GiveUp => {
                    self.client.disconnect();
                    self.pump.say_goodbye(&mut self.client).await;
                    return Err(self.failed(None));
                }
            };
            return self.attempt(attempt);
        }
    }

    fn attempt(&mut self, attempt: Attempt) -> Result<(), LinkError> {
        self.client.authenticate(attempt, Instant::now()).map_err(|error| self.broken(error))
    }

    fn broken(&self, source: SshError) -> LinkError {
        LinkError::Handshake { place: self.request.place(), source }
    }
}

impl Put for Login<'_, '_> {
    fn put(&mut self, question: Question) -> Putting<'_> {
        Box::pin(self.put(question))
    }
}
