//! Who connects on the machine to a tunnel that leads here.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_book::TunnelEnd;
use lantern_link::{LinkError, Listening, LocalStream, Passing, Trunk, chain, relay};
use lantern_ssh::ListenAt;
use tokio::task::JoinSet;
use tokio::time::sleep;

use super::board::{Board, Counts};
use super::callers::Counted;

/// How long what a tunnel leads to may take to answer: it is on this computer, or near.
const CONNECT_TIME: Duration = Duration::from_secs(10);
/// How soon a machine is asked again that did not listen: it may not know yet that the last link is gone.
const ASK_AGAIN: Duration = Duration::from_secs(10);

/// One tunnel that listens on the machine.
pub(super) struct Exit {
    pub(super) index: usize,
    pub(super) board: Arc<Board>,
    pub(super) counts: Arc<Counts>,
    pub(super) listen: TunnelEnd,
    pub(super) to: TunnelEnd,
}

impl Exit {
    /// Has the machine listen whenever there is a link, for ever.
    pub(super) async fn attend(self: Arc<Self>) {
        let mut link = self.board.link();
        // Once it has chosen a port, it is asked for the same one again.
        let mut at = wanted(&self.listen);
        loop {
            let trunk: Option<Trunk> = link.borrow_and_update().clone();
            let Some(trunk) = trunk else {
                if link.changed().await.is_err() {
                    return;
                }
                continue;
            };
            match trunk.listen(&at).await {
                Ok(listening) => {
                    at = listening.at().clone();
                    self.board.ready(self.index, told(&at));
                    // With this the connection would never end.
                    drop(trunk);
                    self.serve(listening).await;
                }
                Err(error @ LinkError::ListenRefused { .. }) => {
                    at = wanted(&self.listen);
                    self.board.fails(self.index, chain(&error));
                    drop(trunk);
                    tokio::select! {
                        () = sleep(ASK_AGAIN) => {}
                        _ = link.changed() => {}
                    }
                }
                // The link is lost, or will be.
                Err(error) => {
                    self.board.note(self.index, chain(&error));
                    drop(trunk);
                    if link.changed().await.is_err() {
                        return;
                    }
                }
            }
        }
    }

    async fn serve(self: &Arc<Self>, mut listening: Listening) {
        let mut guests = JoinSet::new();
        loop {
            tokio::select! {
                opened = listening.next() => {
                    let Some(opened) = opened else { break };
                    let exit = self.clone();
                    guests.spawn(async move {
                        let _counted = Counted::new(exit.counts.clone());
                        match LocalStream::connect(&exit.to, CONNECT_TIME).await {
                            Ok(local) => {
                                let passing: &dyn Passing = &exit.counts.meter;
                                let _ = relay(opened.channel, local, Bytes::new(), passing).await;
                            }
                            // Dropped, the channel is closed without an end: the caller there sees a reset.
                            Err(error) => exit.board.note(exit.index, format!("{} here: {error}", exit.to)),
                        }
                    });
                }
                Some(_) = guests.join_next() => {}
            }
        }
        // The link is gone, and so are its channels: each tells its own end.
        while guests.join_next().await.is_some() {}
    }
}

fn wanted(listen: &TunnelEnd) -> ListenAt {
    match listen {
        TunnelEnd::Tcp { host, port } => ListenAt::Tcp { address: host.clone(), port: *port },
        TunnelEnd::Unix(path) => ListenAt::Unix(path.clone()),
    }
}

fn told(at: &ListenAt) -> TunnelEnd {
    match at {
        ListenAt::Tcp { address, port } => TunnelEnd::Tcp { host: address.clone(), port: *port },
        ListenAt::Unix(path) => TunnelEnd::Unix(path.clone()),
    }
}
