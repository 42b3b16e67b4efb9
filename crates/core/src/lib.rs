//! Every decision of Karst, as plain state machines.
//!
//! [`Node`] is the behaviour of one daemon: votes, log, leases, health verdicts, failover and
//! switchover, and what its own replicas and gates have to do. It is driven from outside:
//! [`Node::handle`] takes what happened, and [`Node::poll_effect`] gives what has to be done about
//! it. Nothing here reads a clock, opens a socket or a file, starts a thread or draws an unseeded
//! random number, so the daemon and the simulator run the same decisions.
//!
//! What it does not do: talk to peers, disks, servers or people. Those are the daemon's and the
//! adapters' work.
//!
//! Reading order: [`ids`], [`time`], [`spec`], [`votes`], [`author`], [`command`], [`consensus`],
//! [`state`], [`members`], [`health`], [`authority`], [`replica`], [`power`], [`steward`],
//! [`operation`], [`node`], [`view`], [`outage`].

pub mod about;
pub mod address;
pub mod author;
pub mod authority;
pub mod command;
pub mod consensus;
pub mod event;
pub mod fact;
pub mod gate;
pub mod heads;
pub mod health;
pub mod ids;
pub mod intent;
pub mod members;
pub mod message;
pub mod name;
pub mod node;
pub mod operation;
pub mod outage;
pub mod ownstep;
pub mod planted;
pub mod position;
pub mod power;
pub mod progress;
pub mod replica;
pub mod request;
pub mod safetypoint;
pub mod spec;
pub mod state;
pub mod steward;
pub mod text;
pub mod time;
pub mod view;
pub mod votes;

pub use ids::{
    BootId, Epoch, History, Index, NodeId, OperationId, RunId, StoreId, Term, WorkloadId,
};
pub use node::{Effect, Input, Node, NodeConfig};
pub use planted::Planted;
pub use position::{Position, SwitchPoint};
pub use spec::Spec;
pub use time::Time;
