//! What a program lets the machine come back for: told by the requests that it makes, and passed on from the connection's grants.

use lantern_link::{Grant, Listening, Trunk, Uses};
use lantern_ssh::{COOKIE_PROTOCOL, Cookie, ListenAt, SessionRequest};
use tokio::sync::mpsc;
use tokio::task::JoinSet;

use super::passage::News;

/// The grants of one program.
pub(super) struct ProgramGrants {
    trunk: Trunk,
    tell: mpsc::Sender<News>,
    tasks: JoinSet<()>,
    has_agent: bool,
    /// Places that the machine listens at, each with the task that takes its callers.
    listening: Vec<(ListenAt, tokio::task::AbortHandle)>,
}

impl ProgramGrants {
    pub(super) fn new(trunk: Trunk, tell: mpsc::Sender<News>) -> Self {
        Self { trunk, tell, tasks: JoinSet::new(), has_agent: false, listening: Vec::new() }
    }

    /// A request that lets the machine come back.
    pub(super) fn learn(&mut self, request: &SessionRequest) {
        match request {
            SessionRequest::ForwardAgent if !self.has_agent => {
                self.has_agent = true;
                self.pass_on(Grant::Agent, Uses::Many);
            }
            SessionRequest::Display(display) if display.protocol == COOKIE_PROTOCOL => {
                if let Some(cookie) = Cookie::from_hex(&display.cookie) {
                    let uses = if display.single { Uses::Once } else { Uses::Many };
                    self.pass_on(Grant::Display(cookie), uses);
                }
            }
            _ => {}
        }
    }

    fn pass_on(&mut self, grant: Grant, uses: Uses) {
        let mut granted = self.trunk.grant(grant, uses);
        let tell = self.tell.clone();
        self.tasks.spawn(async move {
            while let Some(opened) = granted.next().await {
                let news = News::Granted(opened.wanted, opened.channel, opened.first);
                if tell.send(news).await.is_err() {
                    return;
                }
            }
        });
    }

    /// Takes the callers of a place from now on.
    pub(super) fn take(&mut self, mut listening: Listening) {
        let at = listening.at().clone();
        let tell = self.tell.clone();
        let task = self.tasks.spawn(async move {
            while let Some(opened) = listening.next().await {
                let news = News::Granted(opened.wanted, opened.channel, opened.first);
                if tell.send(news).await.is_err() {
                    return;
                }
            }
        });
        self.listening.push((at, task));
    }

    /// The program wants no more callers there.
    pub(super) fn stop(&mut self, at: &ListenAt) {
        self.listening.retain(|(place, task)| {
            let stays = place != at;
            if !stays {
                task.abort();
            }
            stays
        });
    }
}
