//! The first connection to a machine: trust is decided, and what proves who we are is got, a ticket or a password, for this one and all that follow.

use std::sync::Arc;
use std::time::Duration;

use lantern_keys::SecretString;

use super::client_certificate::client_certificate;
use super::failure::WinrmFailure;
use super::login::{LoginWay, Proof};
use super::opener::{Opener, WinrmRequest};
use super::session::Session;
use crate::LinkError;
use crate::ask::{Ask, Note, Question};
use crate::connect::pass_gateways;
use crate::kerberos::{self, Begun, KerberosFailure, Wanted};
use crate::step::Step;

/// A machine keeps a login that has begun for two minutes; what took longer than this is begun again.
const LOGIN_STALE: Duration = Duration::from_secs(60);

impl Opener {
    /// Connects, decides about trust, and gets what is needed to log in: a ticket, or a password that is asked for.
    pub(super) async fn start(
        request: WinrmRequest,
        ask: &dyn Ask,
    ) -> Result<(Arc<Self>, Session), LinkError> {
        // Before anybody is visited.
        let own = match (&request.own_certificate, request.login) {
            (Some(file), LoginWay::Certificate) => Some(client_certificate(&request.way, file, ask).await?),
            _ => None,
        };
        let behind = pass_gateways(&request.way, ask).await?;
        let place = request.way.place();
        let mut opener = Self { place, request, behind, certificate: None, own, proof: Proof::None };
        let (mut session, shown) = opener.connect(ask).await?;
        opener.certificate = shown.map(|shown| shown.certificate);
        opener.proof = opener.prove(&mut session, ask).await?;
        let opener = Arc::new(opener);
        if session.waited() > LOGIN_STALE || !session.is_open() {
            // A person took their time.
            session = opener.again().await?;
        }
        Ok((opener, session))
    }

    /// Gets what proves who we are: a ticket where one is to be had, else a password.
    async fn prove(&self, session: &mut Session, ask: &dyn Ask) -> Result<Proof, LinkError> {
        let machine = &self.request.way.machine;
        let is_only = self.request.login == LoginWay::Kerberos;
        let failed = |failure: KerberosFailure| {
            let source = Box::new(failure);
            LinkError::from(WinrmFailure::Kerberos { machine: machine.clone(), source })
        };
        if let Some(own) = &self.own {
            return Ok(Proof::Certificate(own.holder.clone()));
        }
        let (mut typed, mut no_ticket) = (None, None);
        if is_only || self.request.login == LoginWay::Best {
            match self.ticket(session, &mut typed, ask).await? {
                Ok(proof) => return Ok(proof),
                Err(failure) if is_only || failure.is_last_try() => return Err(failed(failure)),
                Err(failure) => {
                    let why = crate::error::chain(&failure);
                    ask.note(&Note::ByNtlm { machine, why: &why, is_expected: failure.is_expected() });
                    no_ticket = Some(failure).filter(|failure| !failure.is_expected());
                }
            }
        }
        if !self.request.tls {
            ask.note(&Note::NotProven { machine });
        }
        let service = self.service();
        let (whom, limit) = (self.whom(&service), self.request.way.limits.login);
        let is_basic = self.request.login == LoginWay::Basic;
        if !is_basic {
            session.greet(&whom, limit).await.map_err(|error| self.told(error))?;
            if let Some(methods) = session.offered() {
                ask.step(&Step::Offered { methods });
            }
        }
        let password = match typed {
            Some(password) => password,
            None => self.password(no_ticket, ask).await?,
        };
        Ok(if is_basic { Proof::Basic(password) } else { Proof::Ntlm(password) })
    }

    /// A ticket for the machine, or why there is none. A password that was typed on the way, and never tried, is left in `typed`.
    async fn ticket(
        &self,
        session: &mut Session,
        typed: &mut Option<SecretString>,
        ask: &dyn Ask,
    ) -> Result<Result<Proof, KerberosFailure>, LinkError> {
        let request = &self.request;
        let wanted = Wanted {
            user: &request.way.user,
            is_only: request.login == LoginWay::Kerberos,
            user_is_said: request.user_is_said,
            host: request.host(),
            service: request.service_name.as_deref(),
            delegate: request.delegate,
        };
        let login = match kerberos::begin(&wanted, &request.kerberos) {
            Err(failure) => return Ok(Err(failure)),
            Ok(Begun::Held(login)) => {
                if request.way.only_looking {
                    self.look(session, ask).await?;
                }
                *login
            }
            Ok(Begun::ByPassword(unproven, why)) => {
                // A realm that nobody can be asked for is none, before anybody types anything.
                if let Err(failure) = unproven.is_reachable().await {
                    return Ok(Err(failure));
                }
                self.look(session, ask).await?;
                if !matches!(why, KerberosFailure::NoTicket { .. }) {
                    let (machine, why) = (&request.way.machine, crate::error::chain(&why));
                    ask.note(&Note::NoTicket { machine, why: &why });
                }
                let password = self.password(Some(why), ask).await?;
                let login = unproven.log_in(&password).await;
                *typed = Some(password);
                match login {
                    Ok(login) => login,
                    Err(failure) => return Ok(Err(failure)),
                }
            }
        };
        Ok(login.for_machine().await.map(|ticket| Proof::Ticket(Box::new(ticket))))
    }

    /// Asks which ways to log in there are, and tells.
    async fn look(&self, session: &mut Session, ask: &dyn Ask) -> Result<(), LinkError> {
        let service = self.service();
        let (whom, limit) = (self.whom(&service), self.request.way.limits.login);
        session.look(&whom, limit).await.map_err(|error| self.told(error))?;
        if let Some(methods) = session.offered() {
            ask.step(&Step::Offered { methods });
        }
        Ok(())
    }

    /// Asks for the password, where there is no ticket for this reason. One try: accounts lock.
    async fn password(
        &self,
        no_ticket: Option<KerberosFailure>,
        ask: &dyn Ask,
    ) -> Result<SecretString, WinrmFailure> {
        let (user, machine) = (self.request.way.user.clone(), self.request.way.machine.clone());
        let question = Question::Password { user: user.clone(), machine: machine.clone(), again: false };
        ask.ask(question).await.secret().ok_or_else(|| {
            let no_ticket = no_ticket.map(Box::new);
            WinrmFailure::NoPassword { machine, user, no_ticket }
        })
    }
}
