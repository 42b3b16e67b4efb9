//! What goes into a node, and what comes out of it.

use crate::about::About;
use crate::address::{AddressOrder, AddressSeen, Connection};
use crate::author::{Level, Token};
use crate::authority::{Claim, Deadline};
use crate::consensus::{Durable, Stored};
use crate::event::Event;
use crate::gate::{GateOrder, ReadOrder};
use crate::ids::{BootId, Index, NodeId, OperationId, WorkloadId};
use crate::message::Message;
use crate::name::{NameOrder, NameSeen};
use crate::ownstep::{Occasion, Ran};
use crate::planted::Planted;
use crate::power::{PowerOrder, PowerSeen};
use crate::replica::agent::Kept;
use crate::replica::{Action, Done, Examined, GateReport, Observation, ReadReport};
use crate::request::{Answer, Request};
use crate::spec::Revision;
use crate::state::Departed;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// Heartbeats between two looks at a server of which nothing is expected: a look costs the host as
/// much as all its beats.
pub const CALM_LOOKS: u32 = 10;

/// Entries after which a snapshot is taken: some hundred operations, and less to read at a start
/// than a second's worth.
pub const SNAPSHOT_AFTER: u64 = 1_000;

/// What a node has to know at its start.
#[derive(Clone, Debug)]
pub struct NodeConfig {
    pub me: NodeId,
    /// What this node was given to begin with: it counts until its store knows of a later one.
    pub given: Arc<Revision>,
    /// It forms the cluster by itself: the others join later, and get their votes then.
    pub alone: bool,
    pub boot: BootId,
    /// The hardware's UUID, where the host can tell.
    pub system: Option<String>,
    /// Of the generator behind all random choices.
    pub seed: u64,
    pub stored: Stored,
    pub kept: BTreeMap<WorkloadId, Kept>,
    /// A snapshot takes the place of so many entries; see [`SNAPSHOT_AFTER`].
    pub snapshot_after: u64,
    pub planted: Option<Planted>,
}

/// What happened.
#[derive(Clone, Debug, PartialEq)]
pub enum Input {
    Received {
        from: NodeId,
        message: Message,
    },
    /// A peer tries to connect, whether or not a connection comes of it.
    Knocked {
        from: NodeId,
    },
    /// A node, or this one itself, shows a certificate of the cluster's for a key of this SHA-256.
    Shown {
        node: NodeId,
        key: String,
    },
    /// A peer refuses this node: its key speaks for nobody any more, by that entry.
    Removed {
        by: NodeId,
        since: Index,
    },
    /// Everything up to this [`Effect::Persist`] is durable.
    Persisted {
        number: u64,
    },
    Observed {
        workload: WorkloadId,
        observation: Observation,
    },
    Acted {
        workload: WorkloadId,
        id: u64,
        result: Result<Done, String>,
    },
    /// The deadman acts before this deadline, or watches nothing of the claim.
    Armed {
        claim: Claim,
        deadline: Option<Deadline>,
        /// Why packets of the primary pass whether or not it does (C3).
        unguarded: Option<String>,
    },
    AddressSeen {
        workload: WorkloadId,
        seen: AddressSeen,
    },
    GateSeen {
        workload: WorkloadId,
        report: GateReport,
    },
    ReadersSeen {
        workload: WorkloadId,
        report: ReadReport,
    },
    /// What the name server said to this order.
    Named {
        workload: WorkloadId,
        order: NameOrder,
        result: Result<NameSeen, String>,
    },
    /// Own steps of this node have run, as ordered with [`Effect::Steps`] or before what else was
    /// ordered: what each came to, and for what.
    Stepped {
        occasion: Occasion,
        ran: Vec<Ran>,
    },
    /// What a power device said.
    Powered {
        node: NodeId,
        order: PowerOrder,
        result: Result<PowerSeen, String>,
    },
    /// A person asks this node; the answer carries the ticket.
    Asked {
        ticket: u64,
        request: Request,
        /// What this person may ask for here.
        level: Level,
        /// What they showed: a coordinator elsewhere wants to see it.
        token: Option<Token>,
    },
    /// Another node passes on what a person asks, with a token that this node knows by itself: the
    /// name and the level are this node's own word. Without one it comes as [`Input::Received`].
    Introduced {
        from: NodeId,
        number: u64,
        request: Request,
        level: Level,
    },
    /// The host's clock says so many seconds since the Unix epoch.
    Clock {
        unix: u64,
    },
    /// What this host lacks for what a revision has here (R8).
    Examined(Examined),
    /// What this node and its host are, where that is something else than before.
    About(Box<About>),
    Woke,
}

/// Something to store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Write {
    Log(Durable),
    Kept {
        workload: WorkloadId,
        kept: Kept,
    },
    /// What was kept of a replica that is here no more.
    Forgotten {
        workload: WorkloadId,
    },
}

/// What has to be done.
#[must_use]
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// Have what this spec places on this node: the first effect at a start, and again whenever the
    /// spec is another one. What it does not place here any more is let go of with
    /// [`Effect::Dismiss`], gates at once.
    Shape {
        revision: Arc<Revision>,
        /// The longest lease that may still be granted or counted down.
        longest_lease: Duration,
        /// It is the log's word, and no longer what this node was given at its start.
        is_logged: bool,
    },
    /// These keys speak for nobody: whoever shows one is refused and told so.
    Refuse {
        gone: Departed,
    },
    /// See whether this host has what that revision needs here, and say [`Input::Examined`], again
    /// and again while it has not; none: nothing is to be looked at any more.
    Examine {
        wanted: Option<(OperationId, Arc<Revision>)>,
    },
    /// Nothing is left here of a replica or an address that the spec has elsewhere now.
    Dismiss {
        claim: Claim,
    },
    Send {
        to: NodeId,
        message: Message,
    },
    /// From here on whatever is sent to that node goes also by way of another, or does not any more
    /// (A4). Beats do not: they say whether the direct way works.
    Way {
        to: NodeId,
        via: Option<NodeId>,
    },
    /// These are talked to as if the spec named them, at these addresses, and nobody else whom it
    /// does not name (V7).
    Reach {
        strangers: BTreeMap<NodeId, SocketAddr>,
    },
    /// Make these durable, in order, then say [`Input::Persisted`].
    Persist {
        number: u64,
        writes: Vec<Write>,
    },
    Act {
        workload: WorkloadId,
        id: u64,
        action: Action,
        operation: Option<OperationId>,
    },
    Cancel {
        workload: WorkloadId,
        id: u64,
    },
    /// Look at the workload's server here each heartbeat, and at once, or only each [`CALM_LOOKS`]
    /// heartbeats: an exit is observed when it happens in either case. Each heartbeat until it is
    /// said.
    Attend {
        workload: WorkloadId,
        closely: bool,
    },
    /// Have the deadman end the workload's processes, or take its address away, before this
    /// deadline, unless it is moved.
    Arm {
        claim: Claim,
        deadline: Deadline,
    },
    Disarm {
        claim: Claim,
    },
    Address {
        workload: WorkloadId,
        order: AddressOrder,
        /// Connections over it, where it is to be taken up, that its last holder knew.
        connections: Vec<Connection>,
    },
    Gate {
        workload: WorkloadId,
        order: GateOrder,
    },
    Readers {
        workload: WorkloadId,
        order: ReadOrder,
    },
    /// Have a workload's name lead there, unless it does or a later order has had it lead elsewhere; say
    /// what the name server has then.
    Name {
        workload: WorkloadId,
        order: NameOrder,
    },
    /// Run the site's own steps of this occasion here, one after the other; say what came of them.
    Steps {
        occasion: Occasion,
    },
    /// Ask the power device of a node. A cut is allowed only while [`Node::cutting`] still names it
    /// (C7).
    Power {
        node: NodeId,
        order: PowerOrder,
        /// What the device must say it powers, if it says so at all.
        system: Option<String>,
    },
    Answer {
        ticket: u64,
        answer: Answer,
    },
    Record(Event),
}
