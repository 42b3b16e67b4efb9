//! Committed decisions, by what they are about. Applying them is in [`crate::state`].

use crate::author::Author;
use crate::ids::{BootId, Epoch, Index, NodeId, OperationId, RunId, StoreId, WorkloadId};
use crate::intent::{Intent, Invitation};
use crate::operation::{ModeSet, Operation, Outcome, Phase};
use crate::position::SwitchPoint;
use crate::safetypoint::HeldBack;
use crate::spec::{After, Revision};
use crate::votes::{Voters, Votes};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;

/// One committed decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Command {
    /// A coordinator's first entry in its term.
    Noop,
    Cluster(ClusterAct),
    Node(NodeId, NodeAct),
    Workload(WorkloadId, WorkloadAct),
}

/// What is decided about the whole.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ClusterAct {
    /// A person knows of a finding, and will not be told of it first again.
    Acknowledge {
        finding: String,
        by: Author,
        /// In seconds since the Unix epoch.
        at: u64,
        note: String,
    },
    /// A person took that back, or the finding has gone.
    Forget { finding: String, by: Author },
    /// The spec that the cluster was formed with, and by whom: whoever the spec gives a vote besides
    /// gets it when it has joined.
    Found {
        revision: Arc<Revision>,
        founders: Votes,
    },
    /// Whoever has the secret may join as that node.
    Invite(Invitation),
    /// Somebody who had it has joined, with this key; nobody else can by the same invitation (M1).
    Join {
        invitation: OperationId,
        key: String,
    },
    /// Somebody wants something of the cluster; what is to be done follows from that.
    Intend(Intent),
    /// A maintenance ends, or a safety point is dropped.
    End { intent: OperationId, by: Author },
    /// Nothing is left to do for it, or nothing more is to be done.
    Close {
        intent: OperationId,
        outcome: Outcome,
    },
    /// The revision of that intent is in force.
    Adopt { intent: OperationId },
    /// Who votes from here on; it counts where it is appended (V1).
    Voters(Voters),
    /// Nobody relies on the timings any more that were in force before this entry (A2).
    Retire { since: Index },
}

/// What is decided about a node.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum NodeAct {
    /// It holds nothing from here on, and its power may be cut under this entry (C7).
    Fence {
        boot: Option<BootId>,
        why: String,
        by: Author,
        after: After,
    },
    /// Its power was read as off after `fence` was committed.
    PowerOff { fence: Index },
    /// Its power is to be turned on.
    TurnOn { by: Author },
    /// It was read as on after that was `asked` for.
    TurnedOn { asked: Index },
    /// It may take part again.
    Readmit {
        fence: Index,
        why: String,
        by: Author,
    },
    /// Its node store counts from here on: it has been given everything that the others committed
    /// (A6, F3).
    Enrol { store: StoreId, by: Author },
    /// What the host says its hardware is.
    System { system: String },
    /// The key that it showed to the coordinator, by its SHA-256 in hexadecimal digits.
    Key { key: String },
}

/// What is decided about a workload. Each says which epoch or number it is about, so that a late
/// one changes nothing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum WorkloadAct {
    Begin(Operation),
    /// A person lets the operation go on that was prepared in mode `ask`.
    Approve {
        operation: OperationId,
        by: Author,
    },
    Mode(ModeSet),
    Revoke {
        epoch: Epoch,
        why: String,
    },
    End {
        epoch: Epoch,
        how: Ended,
    },
    Assign {
        epoch: Epoch,
        holder: NodeId,
        why: String,
    },
    Open {
        epoch: Epoch,
        point: SwitchPoint,
        sync: Vec<NodeId>,
        /// With nobody in it, commits return all the same (D3).
        unprotected: bool,
        /// Replicas that may have another history of that name (D5).
        doubtful: Vec<NodeId>,
    },
    /// The new primary's first write is replicated: endpoints may forward (D7, D13).
    Serve {
        epoch: Epoch,
    },
    Sync {
        epoch: Epoch,
        number: u64,
        sure: Vec<NodeId>,
        asked: Vec<NodeId>,
        unprotected: bool,
        why: String,
    },
    Mark {
        node: NodeId,
        standing: Standing,
    },
    /// Whose copies its data are: nobody's who says something else are taken for them.
    Identify {
        identity: String,
    },
    /// That standby stops and starts again; none: nobody does any more.
    Restart(Option<Restarting>),
    /// That standby is held back at a safety point; none: nobody is any more.
    HoldBack(Option<HeldBack>),
    Finish {
        operation: OperationId,
        outcome: Outcome,
        phases: Vec<(Phase, Duration)>,
    },
    /// The address may be taken up there, and nowhere else.
    Place {
        number: Epoch,
        holder: NodeId,
        why: String,
    },
    /// It leaves its holder.
    Withdraw {
        number: Epoch,
        why: String,
    },
    /// It is nowhere any more.
    Vacate {
        number: Epoch,
        how: Ended,
    },
}

/// Whose server is to be restarted: that run of it and no other, so that it happens once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restarting {
    pub node: NodeId,
    pub run: RunId,
}

/// How an old authority ended (S3); the first confirmed wins.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "by")]
pub enum Ended {
    /// The holder said so after nothing of the workload ran any more (C5). `clean_at` is where a
    /// clean stop ended its log; a standby that has everything up to there has
    /// everything.
    Surrender { boot: BootId, clean_at: Option<u64> },
    /// No lease of it can be valid any more.
    LeaseOver,
    /// Its host's power device was read as off after the revocation was committed (C7).
    PowerOff,
}

/// Whether a replica's data can be used.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "standing", content = "why")]
pub enum Standing {
    #[default]
    Sound,
    /// It may hold what no other replica has: it is rewound, or cloned where that cannot be done.
    Diverged(String),
    /// What it holds cannot be told from another history: a clone and nothing else (D5).
    NeedsClone(String),
}

impl Command {
    /// Who votes, if that is what it says.
    pub fn voters(&self) -> Option<&Voters> {
        match self {
            Self::Cluster(ClusterAct::Voters(voters)) => Some(voters),
            _ => None,
        }
    }

    /// Whether it changes what other decisions rest on: the spec in force, who votes, what is wanted,
    /// which timings are still relied on. Such a command is alone in its batch (G1).
    pub fn is_ground(&self) -> bool {
        let Self::Cluster(act) = self else {
            return false;
        };
        match act {
            ClusterAct::Found { .. }
            | ClusterAct::Intend(_)
            | ClusterAct::End { .. }
            | ClusterAct::Close { .. }
            | ClusterAct::Adopt { .. }
            | ClusterAct::Voters(_)
            | ClusterAct::Retire { .. } => true,
            ClusterAct::Acknowledge { .. }
            | ClusterAct::Forget { .. }
            | ClusterAct::Invite(_)
            | ClusterAct::Join { .. } => false,
        }
    }

    /// How many ordinary entries it is as large as.
    pub fn weight(&self) -> usize {
        // The value is about as long as its text.
        self.revision().map_or(1, |r| 1 + r.text.len() / 512)
    }

    /// The revision of the spec that it puts into the log.
    pub fn revision(&self) -> Option<&Arc<Revision>> {
        match self {
            Self::Cluster(ClusterAct::Found { revision, .. }) => Some(revision),
            Self::Cluster(ClusterAct::Intend(intent)) => intent.want.revision(),
            _ => None,
        }
    }

    pub fn begin(operation: Operation) -> Self {
        Self::Workload(operation.workload.clone(), WorkloadAct::Begin(operation))
    }

    pub fn node(&self) -> Option<&NodeId> {
        match self {
            Self::Node(node, _) => Some(node),
            Self::Noop | Self::Cluster(_) | Self::Workload(..) => None,
        }
    }

    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Self::Workload(workload, _) => Some(workload),
            Self::Noop | Self::Cluster(_) | Self::Node(..) => None,
        }
    }
}
