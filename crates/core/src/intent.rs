//! What people want of the cluster: an intent is an entry of the log, and changes no fact by itself.
//! The steward closes the gap between what is and what is wanted, a step at a time.

use crate::author::Author;
use crate::ids::{NodeId, RunId, StoreId, WorkloadId};
use crate::safetypoint::{GoingBack, SafetyPoint};
use crate::spec::{Change, Revision};
use crate::votes::Votes;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Intent {
    pub want: Want,
    pub by: Author,
    /// In seconds since the Unix epoch.
    pub at: u64,
    pub why: Option<String>,
    /// When it ends by itself, in seconds since the Unix epoch.
    pub until: Option<u64>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Want {
    /// This spec is to be in force, in place of the one that it was written for.
    Revision(Arc<Revision>),
    /// These nodes are to hold nothing, so that their hosts may be worked on.
    Maintenance(Maintenance),
    /// The servers of a workload are to be restarted, one after the other.
    Restart(Restart),
    /// A standby is to be held back at a place that has a name.
    SafetyPoint(SafetyPoint),
    /// A workload is to go on from there.
    GoingBack(GoingBack),
    /// A node's new store is to count.
    Enrolment(Enrolment),
}

/// A store takes the place of one that was lost. Its node votes again by ordinary changes of who
/// votes (V6): what the lost store had promised in its name is then of voters of before.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Enrolment {
    pub node: NodeId,
    pub store: StoreId,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restart {
    pub workload: WorkloadId,
    /// The runs that are to end; whoever does not run is in none.
    pub runs: BTreeMap<NodeId, RunId>,
    /// Who was primary when it was asked for: the last one.
    pub primary: NodeId,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Maintenance {
    pub nodes: BTreeSet<NodeId>,
    /// Who votes meanwhile, where what is left would be no majority. Votes never move unseen: they
    /// are part of what was approved.
    pub votes: Option<Votes>,
    /// What was there comes back afterwards.
    pub back: bool,
    /// What was held there when it was asked for.
    pub held: BTreeMap<WorkloadId, NodeId>,
    /// Workloads that a person accepts to leave without a standby that has every write.
    pub bare: BTreeSet<WorkloadId>,
    /// Workloads that a person accepts to leave without a way in for their clients.
    #[serde(default)]
    pub cut_off: BTreeSet<WorkloadId>,
}

impl Want {
    pub fn revision(&self) -> Option<&Arc<Revision>> {
        match self {
            Want::Revision(revision) => Some(revision),
            Want::Maintenance(_)
            | Want::Restart(_)
            | Want::SafetyPoint(_)
            | Want::GoingBack(_)
            | Want::Enrolment(_) => None,
        }
    }

    /// The workload that it is about, if it is about one.
    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Want::Revision(_) | Want::Maintenance(_) | Want::Enrolment(_) => None,
            Want::Restart(restart) => Some(&restart.workload),
            Want::SafetyPoint(point) => Some(&point.workload),
            Want::GoingBack(back) => Some(&back.workload),
        }
    }

    /// What it is, in a few words.
    pub fn title(&self) -> String {
        match self {
            Want::Revision(revision) => format!("revision {} of the spec", revision.number),
            Want::Maintenance(maintenance) => {
                let names: Vec<&str> = maintenance.nodes.iter().map(NodeId::as_str).collect();
                format!("maintenance of {}", names.join(", "))
            }
            Want::Restart(restart) => {
                format!(
                    "a restart of the servers of {}, one after the other",
                    restart.workload
                )
            }
            Want::SafetyPoint(point) => {
                let SafetyPoint {
                    workload,
                    name,
                    node,
                    ..
                } = point;
                format!("safety point {name} of {workload}, kept on {node}")
            }
            Want::GoingBack(back) => {
                let GoingBack { workload, name, .. } = back;
                format!("{workload} back at its safety point {name}")
            }
            Want::Enrolment(Enrolment { node, .. }) => format!("{node}'s new node store taken in"),
        }
    }
}

/// A way for one new host to become a node.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Invitation {
    pub node: NodeId,
    /// SHA-256 of the secret, in hexadecimal digits: who has the log has no secret.
    pub digest: String,
    /// When it ends, in seconds since the Unix epoch.
    pub until: u64,
    pub by: Author,
    /// The key that has joined by it.
    pub used: Option<String>,
}

/// An intent as the log has it, until it is over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Intended {
    pub what: Intent,
    /// What it changes, as of when it was taken into the log.
    pub change: Change,
    /// A revision: it is in force. A maintenance or a safety point: it has ended, by whose word.
    pub turned: Option<Author>,
}

impl Intended {
    /// The revision that is not in force yet.
    pub fn pending(&self) -> Option<&Arc<Revision>> {
        match &self.what.want {
            Want::Revision(revision) if self.turned.is_none() => Some(revision),
            _ => None,
        }
    }

    /// It lasts until somebody ends it, or its time is over.
    pub fn lasts(&self) -> bool {
        let lasts = matches!(self.what.want, Want::Maintenance(_) | Want::SafetyPoint(_));
        lasts && self.turned.is_none()
    }

    /// The safety point that nobody has dropped yet.
    pub fn safety_point(&self) -> Option<&SafetyPoint> {
        match &self.what.want {
            Want::SafetyPoint(point) if self.turned.is_none() => Some(point),
            _ => None,
        }
    }

    /// The maintenance that has not ended yet.
    pub fn maintenance(&self) -> Option<&Maintenance> {
        match &self.what.want {
            Want::Maintenance(maintenance) if self.turned.is_none() => Some(maintenance),
            _ => None,
        }
    }
}
