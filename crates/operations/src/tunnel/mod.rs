//! Tunnels: opened, kept up, and what is behind them.
//!
//! ```text
//!   plans ──► open() ──► Tunnels ──┬── upkeep: the link, made again when it is lost
//!                          │       ├── callers: who connects here, held while there is no link
//!                          │       └── inward: who connects on the machine
//!                          └── board: what there is to tell of all that
//! ```

mod behind;
mod board;
mod callers;
mod inward;
mod open;
mod plan;
mod port_holder;
mod then;
mod upkeep;

pub use behind::{Behind, CertificateFacts, probe_here, probe_there};
pub use board::{Board, LinkPhase, LinkStatus, TunnelState, TunnelStatus};
pub use open::{Ending, OpenFailure, Tunnels, TunnelsRequest, open};
pub use plan::{PlanError, TunnelPlan, named_plans};
pub use port_holder::{PortHolder, next_free_port, port_holder};
pub use then::{command_line, variable_name};
pub use upkeep::{Connect, Persistence, is_final};
