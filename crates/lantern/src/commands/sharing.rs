//! Connections that a command shares with others: those that the keeper holds, and those of this process.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};

use lantern_book::{Home, Protocol};
use lantern_keeper::{KeeperShares, has_connections, is_older};
use lantern_link::{Ask, ConnectRequest, Finding, Pool, Shares};
use lantern_operations::Target;

use crate::cli::connect::ConnectArgs;
use crate::commands::keeper;
use crate::screen::output;

/// Where this command finds connections to share: the keeper, which is started where the book says so.
pub(super) fn sharing(
    home: &Home,
    target: &Target,
    typed: &str,
    connect: &ConnectArgs,
) -> Option<Arc<dyn Shares>> {
    // Over WinRM a login belongs to its own connection; what is shared on the way there is the gateway.
    if connect.no_share || target.protocol != Protocol::Ssh && target.via.is_empty() {
        return None;
    }
    if !has_connections(home) {
        if is_older(home) {
            output::warn(
                "the keeper that runs is of another version, and holds no connections; `lantern keeper stop` ends it.",
            );
            return None;
        }
        if !target.starts_keeper {
            return None;
        }
        // Without it the command works all the same.
        if let Err(failure) = keeper::start_by_the_way(home) {
            output::warn(failure.headline);
            return None;
        }
    }
    Some(Arc::new(KeeperShares::new(home, typed)))
}

/// For a command that reaches many machines: what the keeper holds, and else what this process made for another of them.
pub(super) fn sharing_among_many(home: &Home, connect: &ConnectArgs) -> Arc<dyn Shares> {
    let keeper = (!connect.no_share && has_connections(home)).then(|| KeeperShares::new(home, ""));
    Arc::new(Both { keeper, own: Pool::new() })
}

#[derive(Debug)]
struct Both {
    keeper: Option<KeeperShares>,
    own: Arc<Pool>,
}

impl Shares for Both {
    fn find<'a>(&'a self, request: &'a ConnectRequest, ask: &'a dyn Ask) -> Finding<'a> {
        Box::pin(async move {
            if let Some(keeper) = &self.keeper
                && let Some(found) = keeper.find(request, ask).await
            {
                return Some(found);
            }
            self.own.find(request, ask).await
        })
    }
}

/// For a command that works on many machines: what the keeper holds, and else one connection to each gateway for all that are behind it. A machine's own
/// connection ends when it is done with, or ten thousand of them would be open at the end.
pub(super) fn sharing_gateways(home: &Home, connect: &ConnectArgs) -> Arc<dyn Shares> {
    let keeper = (!connect.no_share && has_connections(home)).then(|| KeeperShares::new(home, ""));
    Arc::new(OfGateways { keeper, own: Pool::new(), gateways: Mutex::default(), apart: HashSet::new() })
}

/// The same for a command that proves by logging in to these machines what opens them: their own connections are made each time, whatever there is
/// to those of them that others are reached through.
pub(super) fn sharing_the_way_to(
    home: &Home,
    connect: &ConnectArgs,
    machines: impl IntoIterator<Item = String>,
) -> Arc<dyn Shares> {
    let keeper = (!connect.no_share && has_connections(home)).then(|| KeeperShares::new(home, ""));
    let apart = machines.into_iter().collect();
    Arc::new(OfGateways { keeper, own: Pool::new(), gateways: Mutex::default(), apart })
}

#[derive(Debug)]
struct OfGateways {
    keeper: Option<KeeperShares>,
    own: Arc<Pool>,
    /// Machines that others are reached through: whoever goes through one is met before it is.
    gateways: Mutex<HashSet<String>>,
    /// Machines whose connections are not shared.
    apart: HashSet<String>,
}

impl Shares for OfGateways {
    fn find<'a>(&'a self, request: &'a ConnectRequest, ask: &'a dyn Ask) -> Finding<'a> {
        Box::pin(async move {
            let is_gateway = {
                let mut gateways = self.gateways.lock().unwrap_or_else(PoisonError::into_inner);
                gateways.extend(request.via.iter().map(|gateway| gateway.machine.clone()));
                gateways.contains(&request.machine)
            };
            if !request.is_on_the_way && self.apart.contains(&request.machine) {
                return None;
            }
            if let Some(keeper) = &self.keeper
                && let Some(found) = keeper.find(request, ask).await
            {
                return Some(found);
            }
            match is_gateway {
                true => self.own.find(request, ask).await,
                false => None,
            }
        })
    }
}
