//! What was seen, decided or done, as data. Code matches on facts and their kinds, never on words.

mod text;

use crate::command::{ClusterAct, NodeAct, Standing, WorkloadAct};
use crate::ids::{Index, NodeId, Term, WorkloadId};
use crate::operation::Outcome;
use crate::ownstep::{Occasion, Ran};
use crate::power::PowerOrder;
use crate::replica::Action;

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;
use std::time::Duration;

pub use text::{cluster_text, listed, node_text, workload_text};

/// How much a line of the record matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = RecordLevel))]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Info,
    Notice,
    Warning,
}

impl Level {
    pub const ALL: [Level; 3] = [Level::Info, Level::Notice, Level::Warning];

    pub fn word(self) -> &'static str {
        match self {
            Level::Info => "info",
            Level::Notice => "notice",
            Level::Warning => "warning",
        }
    }
}

/// The kinds, each with the one word that it has in the record.
macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident = $word:literal,)*) => {
        /// The kinds of lines in the record, each by one fixed word.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "kebab-case")]
        #[non_exhaustive]
        pub enum FactKind {
            $($(#[$doc])* $kind,)*
        }

        impl FactKind {
            /// The word that it has in the record.
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$kind => $word,)*
                }
            }
        }
    };
}

kinds! {
    Acknowledged = "acknowledged",
    AcknowledgementEnds = "acknowledgement-ends",
    /// A revision of the spec is in force.
    Adopted = "adopted",
    ActionDone = "action-done",
    ActionFailed = "action-failed",
    AddressConflict = "address-conflict",
    AddressGone = "address-gone",
    AddressLeaves = "address-leaves",
    AddressPlaced = "address-placed",
    AddressTrouble = "address-trouble",
    NameLeads = "name-leads",
    NameFails = "name-fails",
    StepDone = "step-done",
    StepFailed = "step-failed",
    /// Somebody answered a request for a change.
    Answered = "answered",
    Approved = "approved",
    /// Somebody asked for a change.
    Asked = "asked",
    Assigned = "assigned",
    Diverged = "diverged",
    Elected = "elected",
    Enrolled = "enrolled",
    Fenced = "fenced",
    /// The spec that the cluster was formed with is in the log.
    Founded = "founded",
    HandedOver = "handed-over",
    HeardAgain = "heard-again",
    /// Somebody wants something of the cluster.
    Intended = "intended",
    IntentDone = "intent-done",
    IntentUndone = "intent-undone",
    Invited = "invited",
    Isolated = "isolated",
    /// A host has got what it needs to be a node.
    Joined = "joined",
    /// A node shows another key than before.
    Key = "key",
    /// Lines of the record that could not be kept.
    LeftOut = "left-out",
    MaintenanceEnds = "maintenance-ends",
    Mode = "mode",
    NeedsClone = "needs-clone",
    Opened = "opened",
    OperationBegan = "operation-began",
    OperationDiverted = "operation-diverted",
    OperationDone = "operation-done",
    OperationUndone = "operation-undone",
    PowerDevice = "power-device",
    PowerOff = "power-off",
    PowerOn = "power-on",
    PowerOnFails = "power-on-fails",
    PowerUnconfirmed = "power-unconfirmed",
    Readmitted = "readmitted",
    Refused = "refused",
    /// A node was told that it is none any more.
    Removed = "removed",
    Revoked = "revoked",
    StoppedByLease = "stopped-by-lease",
    ServerExited = "server-exited",
    Serving = "serving",
    Snapshot = "snapshot",
    Sound = "sound",
    SteppedDown = "stepped-down",
    StoreRegressed = "store-regressed",
    Stranded = "stranded",
    Suspected = "suspected",
    SyncSet = "sync-set",
    ServerRestarts = "server-restarts",
    SafetyPoint = "safety-point",
    Identified = "identified",
    System = "system",
    TimingsRetired = "timings-retired",
    TurnOn = "turn-on",
    Voters = "voters",
}

impl fmt::Display for FactKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// One voter's answer to who asked for its vote.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ballot {
    pub node: NodeId,
    pub votes: u32,
    pub yes: bool,
}

/// What a node saw, decided or did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fact {
    /// `by` has not heard `node` for so long, and takes it for lost after `bound`.
    Suspected {
        by: NodeId,
        node: NodeId,
        silent: Duration,
        bound: Duration,
    },
    HeardAgain {
        by: NodeId,
        node: NodeId,
        silent: Duration,
    },
    /// `node` said what no honest one says.
    Refused {
        by: NodeId,
        node: NodeId,
        why: &'static str,
    },
    /// The others say that `node` is none any more, by that entry.
    Removed {
        node: NodeId,
        since: Index,
    },
    CatchesUp {
        node: NodeId,
        from: Index,
        to: Index,
    },
    Elected {
        node: NodeId,
        term: Term,
        ballots: Vec<Ballot>,
    },
    SteppedDown {
        node: NodeId,
        term: Term,
        why: &'static str,
    },
    /// Another one is to lead in its place.
    HandedOver {
        node: NodeId,
        term: Term,
        to: NodeId,
    },
    StoreRegressed {
        node: NodeId,
        acknowledged: Index,
        found: Index,
    },
    PowerFails {
        node: NodeId,
        order: PowerOrder,
        why: String,
    },
    AddressConflict {
        workload: WorkloadId,
        by: NodeId,
        other: String,
    },
    AddressTrouble {
        workload: WorkloadId,
        node: NodeId,
        why: String,
    },
    /// The name server has it lead there now.
    NameLeads {
        workload: WorkloadId,
        record: String,
        to: BTreeSet<IpAddr>,
    },
    NameFails {
        workload: WorkloadId,
        record: String,
        why: String,
    },
    /// A step of the site's own has run.
    OwnStep {
        by: NodeId,
        occasion: Occasion,
        ran: Ran,
    },
    /// A replica's node did something about it, or saw something of it.
    Replica {
        workload: WorkloadId,
        node: NodeId,
        what: OfReplica,
    },
    /// A committed decision.
    OfCluster(ClusterAct),
    OfNode(NodeId, NodeAct),
    OfWorkload(WorkloadId, WorkloadAct),
}

/// What a replica's own node says of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OfReplica {
    ServerExited,
    ActionDone {
        action: Action,
        took: Duration,
    },
    ActionFailed {
        action: Action,
        took: Duration,
        why: String,
    },
    /// Its authority ends.
    StoppedByLease,
    /// The log that it needs is gone.
    Stranded {
        upstream: NodeId,
        since: Duration,
    },
}

impl Fact {
    pub fn kind(&self) -> FactKind {
        match self {
            Self::Suspected { .. } => FactKind::Suspected,
            Self::HeardAgain { .. } => FactKind::HeardAgain,
            Self::Refused { .. } => FactKind::Refused,
            Self::Removed { .. } => FactKind::Removed,
            Self::CatchesUp { .. } => FactKind::Snapshot,
            Self::Elected { .. } => FactKind::Elected,
            Self::SteppedDown { .. } => FactKind::SteppedDown,
            Self::HandedOver { .. } => FactKind::HandedOver,
            Self::StoreRegressed { .. } => FactKind::StoreRegressed,
            Self::PowerFails {
                order: PowerOrder::Off { .. },
                ..
            } => FactKind::PowerUnconfirmed,
            Self::PowerFails {
                order: PowerOrder::On { .. },
                ..
            } => FactKind::PowerOnFails,
            Self::PowerFails {
                order: PowerOrder::Look,
                ..
            } => FactKind::PowerDevice,
            Self::AddressConflict { .. } => FactKind::AddressConflict,
            Self::AddressTrouble { .. } => FactKind::AddressTrouble,
            Self::NameLeads { .. } => FactKind::NameLeads,
            Self::NameFails { .. } => FactKind::NameFails,
            Self::OwnStep { ran, .. } if ran.ended.is_well() => FactKind::StepDone,
            Self::OwnStep { .. } => FactKind::StepFailed,
            Self::Replica { what, .. } => what.kind(),
            Self::OfCluster(act) => of_cluster(act),
            Self::OfNode(_, act) => of_node(act),
            Self::OfWorkload(_, act) => of_workload(act),
        }
    }

    pub fn level(&self) -> Level {
        match self {
            Self::OwnStep { ran, .. } if !ran.ended.is_well() => Level::Warning,
            Self::HeardAgain { .. }
            | Self::OwnStep { .. }
            | Self::Replica { .. }
            | Self::OfCluster(ClusterAct::Retire { .. })
            | Self::OfNode(_, NodeAct::System { .. } | NodeAct::Key { .. }) => Level::Info,
            Self::OfWorkload(_, WorkloadAct::Sync { sure, asked, .. })
                if sure.len() < asked.len() =>
            {
                Level::Info
            }
            Self::OfWorkload(
                _,
                WorkloadAct::Finish {
                    outcome: Outcome::Undone(_) | Outcome::Diverted(_),
                    ..
                },
            )
            | Self::Refused { .. }
            | Self::Removed { .. }
            | Self::StoreRegressed { .. }
            | Self::PowerFails { .. }
            | Self::AddressConflict { .. }
            | Self::AddressTrouble { .. }
            | Self::NameFails { .. } => Level::Warning,
            _ => Level::Notice,
        }
    }

    /// The workload that it is about.
    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Self::AddressConflict { workload, .. }
            | Self::AddressTrouble { workload, .. }
            | Self::NameLeads { workload, .. }
            | Self::NameFails { workload, .. }
            | Self::Replica { workload, .. }
            | Self::OfWorkload(workload, _) => Some(workload),
            Self::OwnStep { occasion, .. } => occasion.workload.as_ref(),
            _ => None,
        }
    }

    /// The evidence, for programs: who and how much, with units.
    pub fn data(&self) -> Vec<(String, String)> {
        let of = |key: &str, value: &dyn fmt::Display| (key.to_string(), value.to_string());
        match self {
            Self::Suspected { node, bound, .. } => {
                vec![of("node", node), of("bound_ms", &bound.as_millis())]
            }
            Self::HeardAgain { node, .. }
            | Self::Refused { node, .. }
            | Self::Removed { node, .. }
            | Self::StoreRegressed { node, .. }
            | Self::PowerFails { node, .. } => vec![of("node", node)],
            Self::Elected { term, ballots, .. } => {
                let votes = ballots
                    .iter()
                    .map(|b| of(&format!("vote.{}", b.node), &b.yes));
                std::iter::once(of("term", term)).chain(votes).collect()
            }
            Self::OwnStep { occasion, ran, .. } => vec![
                of("step", &ran.step),
                of("at", &occasion.at.word()),
                of("node", &occasion.node),
                of("took_ms", &ran.took.as_millis()),
                of("output", &ran.output),
            ],
            Self::SteppedDown { term, .. } => vec![of("term", term)],
            Self::AddressConflict { other, .. } => vec![of("other", other)],
            Self::OfWorkload(_, WorkloadAct::Finish { phases, .. }) => {
                let phases = phases.iter();
                phases
                    .map(|(phase, took)| of(&phase.key(), &took.as_micros()))
                    .collect()
            }
            Self::OfWorkload(_, WorkloadAct::Begin(operation)) => {
                vec![of("kind", &operation.kind)]
            }
            Self::OfWorkload(_, WorkloadAct::Sync { sure, .. })
            | Self::OfWorkload(_, WorkloadAct::Open { sync: sure, .. }) => {
                vec![of("sure", &sure.len())]
            }
            _ => Vec::new(),
        }
    }
}

impl OfReplica {
    fn kind(&self) -> FactKind {
        match self {
            Self::ServerExited => FactKind::ServerExited,
            Self::ActionDone { .. } => FactKind::ActionDone,
            Self::ActionFailed { .. } => FactKind::ActionFailed,
            Self::StoppedByLease => FactKind::StoppedByLease,
            Self::Stranded { .. } => FactKind::Stranded,
        }
    }
}

fn of_node(act: &NodeAct) -> FactKind {
    match act {
        NodeAct::Fence { .. } => FactKind::Fenced,
        NodeAct::PowerOff { .. } => FactKind::PowerOff,
        NodeAct::TurnOn { .. } => FactKind::TurnOn,
        NodeAct::TurnedOn { .. } => FactKind::PowerOn,
        NodeAct::Readmit { .. } => FactKind::Readmitted,
        NodeAct::Enrol { .. } => FactKind::Enrolled,
        NodeAct::System { .. } => FactKind::System,
        NodeAct::Key { .. } => FactKind::Key,
    }
}

fn of_workload(act: &WorkloadAct) -> FactKind {
    match act {
        WorkloadAct::Begin(_) => FactKind::OperationBegan,
        WorkloadAct::Approve { .. } => FactKind::Approved,
        WorkloadAct::Mode(_) => FactKind::Mode,
        WorkloadAct::Revoke { .. } => FactKind::Revoked,
        WorkloadAct::End { .. } => FactKind::Isolated,
        WorkloadAct::Assign { .. } => FactKind::Assigned,
        WorkloadAct::Open { .. } => FactKind::Opened,
        WorkloadAct::Serve { .. } => FactKind::Serving,
        WorkloadAct::Sync { .. } => FactKind::SyncSet,
        WorkloadAct::Mark {
            standing: Standing::NeedsClone(_),
            ..
        } => FactKind::NeedsClone,
        WorkloadAct::Mark {
            standing: Standing::Diverged(_),
            ..
        } => FactKind::Diverged,
        WorkloadAct::Mark {
            standing: Standing::Sound,
            ..
        } => FactKind::Sound,
        WorkloadAct::Finish {
            outcome: Outcome::Done,
            ..
        } => FactKind::OperationDone,
        WorkloadAct::Finish {
            outcome: Outcome::Undone(_),
            ..
        } => FactKind::OperationUndone,
        WorkloadAct::Finish {
            outcome: Outcome::Diverted(_),
            ..
        } => FactKind::OperationDiverted,
        WorkloadAct::Identify { .. } => FactKind::Identified,
        WorkloadAct::Restart(_) => FactKind::ServerRestarts,
        WorkloadAct::HoldBack(_) => FactKind::SafetyPoint,
        WorkloadAct::Place { .. } => FactKind::AddressPlaced,
        WorkloadAct::Withdraw { .. } => FactKind::AddressLeaves,
        WorkloadAct::Vacate { .. } => FactKind::AddressGone,
    }
}

fn of_cluster(act: &ClusterAct) -> FactKind {
    match act {
        ClusterAct::Acknowledge { .. } => FactKind::Acknowledged,
        ClusterAct::Forget { .. } => FactKind::AcknowledgementEnds,
        ClusterAct::Found { .. } => FactKind::Founded,
        ClusterAct::Invite(_) => FactKind::Invited,
        ClusterAct::Join { .. } => FactKind::Joined,
        ClusterAct::Intend(_) => FactKind::Intended,
        ClusterAct::End { .. } => FactKind::MaintenanceEnds,
        ClusterAct::Close {
            outcome: Outcome::Done,
            ..
        } => FactKind::IntentDone,
        ClusterAct::Close { .. } => FactKind::IntentUndone,
        ClusterAct::Adopt { .. } => FactKind::Adopted,
        ClusterAct::Voters(_) => FactKind::Voters,
        ClusterAct::Retire { .. } => FactKind::TimingsRetired,
    }
}
