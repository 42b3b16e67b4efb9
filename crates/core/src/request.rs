//! What people ask of the cluster, and what they are answered.

use crate::author::Level;
use crate::ids::{Index, NodeId, OperationId, WorkloadId, is_name};
use crate::operation::{Kind, Mode};
use crate::spec::{Judged, Spec};
use crate::steward::candidates::Candidate;
use crate::view::{Status, TodoView};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Characters of a reason or a note: a line of text, and not a file.
pub const LONGEST_NOTE: usize = 200;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Request {
    Status,
    /// What the asked node knows by itself; never passed on.
    OwnStatus,
    /// A planned move; without a target the best candidate is taken.
    Switchover {
        workload: WorkloadId,
        to: Option<NodeId>,
        by: String,
        plan_only: bool,
    },
    /// A move that does not wait for the old primary's clean stop.
    Failover {
        workload: WorkloadId,
        to: NodeId,
        by: String,
        /// Acknowledged bytes that may be lost; `u64::MAX` where any number may.
        accept_loss: u64,
        plan_only: bool,
    },
    /// Times are seconds since the Unix epoch.
    Mode {
        workload: WorkloadId,
        mode: Mode,
        by: String,
        at: u64,
        why: Option<String>,
        until: Option<u64>,
    },
    /// Lets an operation go on that waits for it.
    Approve {
        operation: OperationId,
        by: String,
    },
    /// Cuts a node off from all authority, and its power where there is a device.
    Fence {
        node: NodeId,
        by: String,
    },
    Readmit {
        node: NodeId,
        by: String,
    },
    /// Turns a host on or off, or both; off is a fence, so that it holds nothing when it goes.
    Power {
        node: NodeId,
        what: PowerWish,
        by: String,
        plan_only: bool,
    },
    /// A person knows of a finding; without a note, that is taken back. `at` is in seconds since
    /// the Unix epoch.
    Acknowledge {
        finding: String,
        note: Option<String>,
        by: String,
        at: u64,
    },
    /// Something is wanted of the cluster as a whole. With what was `seen` of its plan it is
    /// refused where the plan is another one by now. `at` is in seconds since the Unix epoch.
    Intend {
        plea: Plea,
        by: String,
        at: u64,
        why: Option<String>,
        seen: Option<String>,
        plan_only: bool,
    },
    /// Ends a maintenance, or takes back what is not in force yet.
    EndIntent {
        intent: OperationId,
        by: String,
    },
    /// Whoever has the secret of this digest may join as that node, until then.
    Invite {
        node: NodeId,
        digest: String,
        until: u64,
        by: String,
    },
    /// A host has the secret of that digest, and this key. The node that is asked, and the one that
    /// decides, have each held the proof against both. `at` is in seconds since the Unix epoch.
    Join {
        invitation: OperationId,
        node: NodeId,
        digest: String,
        key: String,
        at: u64,
        proof: JoinProof,
    },
    /// Another node is to coordinate.
    HandOver {
        to: Option<NodeId>,
        by: String,
    },
}

/// A host shows by this that it has an invitation's secret. Daemons look at it; all of it is in
/// hexadecimal digits.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct JoinProof {
    pub public: String,
    pub signature: String,
    /// The key of its servers, which is signed as well.
    pub server_key: String,
}

/// What may be wanted of the cluster as a whole.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Plea {
    /// Another spec, written for the revision of that number.
    Revision {
        text: String,
        spec: Box<Spec>,
        based_on: Option<u64>,
        /// A daemon judges the text beforehand. The judgement does not travel: each node believes its own.
        #[serde(skip)]
        judged: Option<Box<Judged>>,
    },
    Maintenance {
        nodes: BTreeSet<NodeId>,
        /// What is held there comes back afterwards.
        back: bool,
        /// Workloads that may be left without a standby that has every write.
        bare: BTreeSet<WorkloadId>,
        /// Workloads whose clients may be left without a way in.
        cut_off: BTreeSet<WorkloadId>,
        until: Option<u64>,
    },
    /// The servers of a workload are restarted, one after the other.
    Restart { workload: WorkloadId },
    /// A standby is held back at a place in the workload's writes; without a node the one that is
    /// missed least.
    SafetyPoint {
        workload: WorkloadId,
        name: String,
        node: Option<NodeId>,
        /// No other standby need have every write meanwhile.
        bare: bool,
        until: Option<u64>,
    },
    /// A workload goes on from its safety point: what was written since is given up.
    GoBack { workload: WorkloadId },
    /// A node's new store is taken in: from then on it votes, and what it acknowledges counts (A6).
    Enrol { node: NodeId },
}

impl Request {
    /// What whoever asks has to be allowed. Checked where it is asked and again where it is
    /// decided: a request may have come a long way.
    pub fn needs(&self) -> Level {
        match self {
            // The secret is what allows it.
            Request::Status | Request::OwnStatus | Request::Join { .. } => Level::Observe,
            // The coordinator works for a plan.
            Request::Switchover {
                plan_only: true, ..
            }
            | Request::Failover {
                plan_only: true, ..
            }
            | Request::Power {
                plan_only: true, ..
            }
            | Request::Intend {
                plan_only: true, ..
            } => Level::Operate,
            Request::Failover {
                accept_loss: 1.., ..
            }
            | Request::Fence { .. }
            | Request::Invite { .. }
            | Request::Power { .. }
            | Request::Intend {
                plea: Plea::Revision { .. } | Plea::GoBack { .. } | Plea::Enrol { .. },
                ..
            } => Level::Administer,
            Request::Switchover { .. }
            | Request::Failover { .. }
            | Request::Mode { .. }
            | Request::Approve { .. }
            | Request::Acknowledge { .. }
            | Request::Intend { .. }
            | Request::EndIntent { .. }
            | Request::HandOver { .. }
            | Request::Readmit { .. } => Level::Operate,
        }
    }

    /// What in it nothing can be called by.
    pub fn strange_name(&self) -> Option<&str> {
        let (workload, node) = match self {
            Request::Switchover { workload, to, .. } => (Some(workload), to.as_ref()),
            Request::Failover { workload, to, .. } => (Some(workload), Some(to)),
            Request::Mode { workload, .. } => (Some(workload), None),
            Request::Fence { node, .. }
            | Request::Readmit { node, .. }
            | Request::Invite { node, .. }
            | Request::Join { node, .. }
            | Request::Power { node, .. } => (None, Some(node)),
            Request::HandOver { to, .. } => (None, to.as_ref()),
            Request::Status
            | Request::OwnStatus
            | Request::Approve { .. }
            | Request::Intend { .. }
            | Request::EndIntent { .. }
            | Request::Acknowledge { .. } => (None, None),
        };
        let all = [
            self.by(),
            workload.map(WorkloadId::as_str),
            node.map(NodeId::as_str),
        ];
        let wanted: Vec<&str> = match self {
            Request::Intend { plea, .. } => plea.names(),
            Request::Invite { digest, .. } => vec![digest],
            Request::Join {
                digest, key, proof, ..
            } => vec![
                digest,
                key,
                &proof.public,
                &proof.signature,
                &proof.server_key,
            ],
            _ => Vec::new(),
        };
        let mut all = all.into_iter().flatten().chain(wanted);
        all.find(|name| !is_name(name))
    }

    /// What somebody wrote for others to read: it goes into the log.
    pub fn note(&self) -> Option<&str> {
        match self {
            Request::Mode { why, .. } | Request::Intend { why, .. } => why.as_deref(),
            Request::Acknowledge { note, .. } => note.as_deref(),
            _ => None,
        }
    }

    /// The spec that is to be in force.
    pub fn revised(&self) -> Option<&Spec> {
        match self {
            Request::Intend {
                plea: Plea::Revision { spec, .. },
                ..
            } => Some(spec),
            _ => None,
        }
    }

    /// The same, asked by a person of that name.
    pub fn asked_by(mut self, name: &str) -> Self {
        match &mut self {
            Request::Status | Request::OwnStatus | Request::Join { .. } => {}
            Request::Switchover { by, .. }
            | Request::Failover { by, .. }
            | Request::Mode { by, .. }
            | Request::Approve { by, .. }
            | Request::Acknowledge { by, .. }
            | Request::Fence { by, .. }
            | Request::Readmit { by, .. }
            | Request::Intend { by, .. }
            | Request::Invite { by, .. }
            | Request::EndIntent { by, .. }
            | Request::HandOver { by, .. }
            | Request::Power { by, .. } => *by = name.into(),
        }
        self
    }

    /// Who asks, by the word of the node that was asked.
    pub fn by(&self) -> Option<&str> {
        match self {
            Request::Status | Request::OwnStatus | Request::Join { .. } => None,
            Request::Switchover { by, .. }
            | Request::Failover { by, .. }
            | Request::Mode { by, .. }
            | Request::Approve { by, .. }
            | Request::Acknowledge { by, .. }
            | Request::Fence { by, .. }
            | Request::Readmit { by, .. }
            | Request::Intend { by, .. }
            | Request::Invite { by, .. }
            | Request::EndIntent { by, .. }
            | Request::HandOver { by, .. }
            | Request::Power { by, .. } => Some(by),
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Answer {
    Status(Box<Status>),
    Plan(Plan),
    NodePlan(NodePlan),
    IntentPlan(IntentPlan),
    Started {
        operation: OperationId,
    },
    /// Committed, with what it says.
    Done {
        index: Index,
        text: String,
    },
    Refused {
        why: String,
    },
    /// Only the coordinator can answer, and none is known here.
    NoCoordinator,
}

/// What an intent would take.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IntentPlan {
    pub title: String,
    /// The revision in force that it was made for.
    pub based_on: u64,
    pub steps: Vec<TodoView>,
    /// What it costs, and what stays behind.
    pub consequences: Vec<String>,
    /// What stands in its way.
    pub unmet: Vec<String>,
    /// Bytes of log whose writes are given up with it, as of now; `u64::MAX` where that is not known,
    /// none where nothing is given up.
    pub given_up: Option<u64>,
    /// Stands for the steps and the costs: whoever approves the plan sends it back.
    pub seen: String,
}

impl IntentPlan {
    /// FNV-1a of what a person reads, 64 bits (draft-eastlake-fnv, section 2): not what it waits
    /// for just now.
    pub fn print(&self) -> String {
        let steps = self.steps.iter().map(|step| &step.text);
        let mut hash = 0xcbf2_9ce4_8422_2325_u64;
        for text in steps.chain(&self.consequences).chain([&self.title]) {
            for byte in text.bytes().chain([0]) {
                hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
            }
        }
        format!("{hash:016x}")
    }
}

impl Plea {
    fn names(&self) -> Vec<&str> {
        match self {
            Plea::Revision { spec, .. } => {
                let nodes = spec.nodes.keys().map(NodeId::as_str);
                nodes
                    .chain(spec.workloads.keys().map(WorkloadId::as_str))
                    .collect()
            }
            Plea::Maintenance { nodes, bare, .. } => {
                let nodes = nodes.iter().map(NodeId::as_str);
                nodes.chain(bare.iter().map(WorkloadId::as_str)).collect()
            }
            Plea::Restart { workload } | Plea::GoBack { workload } => vec![workload.as_str()],
            Plea::Enrol { node } => vec![node.as_str()],
            Plea::SafetyPoint {
                workload,
                name,
                node,
                ..
            } => {
                let node = node.as_ref().map(NodeId::as_str);
                [workload.as_str(), name].into_iter().chain(node).collect()
            }
        }
    }
}

/// What is to become of a host's power.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum PowerWish {
    On,
    Off,
    /// Off, and on again once others hold what it held.
    Cycle,
}

impl PowerWish {
    pub const ALL: [PowerWish; 3] = [PowerWish::On, PowerWish::Off, PowerWish::Cycle];

    pub fn word(self) -> &'static str {
        match self {
            PowerWish::On => "on",
            PowerWish::Off => "off",
            PowerWish::Cycle => "cycle",
        }
    }
}

/// What would be done to a host, and why it cannot be, if so.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodePlan {
    pub node: NodeId,
    pub steps: Vec<String>,
    pub unmet: Option<String>,
}

/// What would be done, and what stands in the way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Plan {
    pub kind: Kind,
    pub workload: WorkloadId,
    pub from: Option<NodeId>,
    pub to: Option<NodeId>,
    pub preconditions: Vec<Precondition>,
    pub steps: Vec<String>,
    pub pause: Pause,
    /// Bytes of acknowledged writes that could be lost; `u64::MAX` where that is not known.
    pub data_at_risk: u64,
    pub candidates: Vec<Candidate>,
}

/// For how long clients cannot write.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pause {
    /// In a move that goes well: measured at the last one, else what it usually takes.
    pub usual_ms: u64,
    /// The bound after which it is forced.
    pub longest_ms: u64,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Precondition {
    pub text: String,
    /// None if met, else why not.
    pub unmet: Option<String>,
}

impl Plan {
    pub fn unmet(&self) -> Option<String> {
        let list: Vec<String> = self
            .preconditions
            .iter()
            .filter_map(|p| {
                p.unmet
                    .as_ref()
                    .map(|why| format!("{}: not met, {why}", p.text))
            })
            .collect();
        (!list.is_empty()).then(|| list.join("; "))
    }
}
