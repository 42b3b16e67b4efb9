//! What the committed log builds: per workload the epoch, who holds it, the sync set, and each replica's standing.
//!
//! Applying is deterministic, and every command says which epoch it is about: one that comes too late changes nothing.

use crate::ids::{BootId, Epoch, Index, Lsn, NodeId, OperationId, WorkloadId};
use crate::operation::{Kind, Mode, Operation, Outcome, Phase};
use crate::spec::{Loss, WorkloadSpec};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// Operations that are over and still remembered; the history has all of them.
const OPERATIONS: usize = 100;

/// How an old authority ended (S3); the first confirmed wins.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "by")]
pub enum Ended {
    /// The holder said so after nothing of the workload ran any more (C5). `clean_at` is where a clean stop ended its
    /// write-ahead log; a standby that has everything up to there has everything.
    Surrender { boot: BootId, clean_at: Option<Lsn> },
    /// No lease of it can be valid any more.
    LeaseOver,
    /// Its host's power device was read as off after the revocation was committed (C7).
    PowerOff,
}

/// Who holds the workload's current epoch, and how far it is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "phase")]
pub enum Tenure {
    /// Never had a primary.
    #[default]
    Vacant,
    /// The holder may be promoted now, and not before (S4).
    Assigned { holder: NodeId },
    /// The holder is primary. Endpoints forward once it is `serving`.
    Open { holder: NodeId, serving: bool },
    /// No more grants for the holder; its authority is being ended (C7).
    Revoking { holder: NodeId },
    /// Nobody holds it; the next epoch may be assigned.
    Ended { last: NodeId, how: Ended },
}

/// The last epoch that was opened: what a history must contain to be eligible (D6).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Opened {
    pub epoch: Epoch,
    pub holder: NodeId,
    pub timeline: u32,
    /// Where its timeline began; on the first timeline, where it was opened.
    pub switch: Lsn,
}

/// Which standbys have every acknowledged write (D1 to D4). Newest member first.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SyncSet {
    pub epoch: Epoch,
    /// Strictly increasing within the epoch; a late setting is refused (D2).
    pub number: u64,
    /// Guaranteed: any of them is safe to promote.
    pub sure: Vec<NodeId>,
    /// What the primary is told to wait for; always holds `sure`, and more while the set grows.
    pub asked: Vec<NodeId>,
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

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorkloadState {
    /// The highest epoch committed.
    pub epoch: Epoch,
    pub tenure: Tenure,
    pub opened: Option<Opened>,
    pub sync: SyncSet,
    pub standing: BTreeMap<NodeId, Standing>,
    /// The operation under way.
    pub operation: Option<OperationId>,
    /// Whether the cluster moves it by itself.
    pub mode: Mode,
    pub place: Place,
}

/// Where the floating address is (S7).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Place {
    /// Strictly increasing; 0 means "was never anywhere".
    pub number: Epoch,
    pub holder: Option<NodeId>,
    /// No more grants for the holder: it has to be gone before it arrives anywhere else.
    pub leaving: bool,
}

/// A node that may hold nothing until it is readmitted (S6).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fenced {
    /// The entry that fenced it: what permits the power device's use (C7).
    pub id: Index,
    /// The start of the host that was fenced, where it was known.
    pub boot: Option<BootId>,
    pub why: String,
    pub by: String,
    /// Its power was read as off after the entry was committed.
    pub off: bool,
}

/// What the log says of a node besides its workloads.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeState {
    /// The hardware's UUID as the host reported it: a power device must name the same one (C7).
    pub system: Option<String>,
    pub fenced: Option<Fenced>,
}

impl WorkloadState {
    /// It is served, nothing is under way, and every standby that has to be is in the sync set.
    pub fn is_calm(&self, spec: &WorkloadSpec) -> bool {
        let placed = |n: &NodeId| self.holder() == Some(n) || self.sync.sure.contains(n) || spec.loss != Loss::None;
        let serves = matches!(self.tenure, Tenure::Open { serving: true, .. });
        serves && self.operation.is_none() && self.standing.is_empty() && spec.replicas.keys().all(placed)
    }

    /// The node that holds the current epoch, revoked or not.
    pub fn holder(&self) -> Option<&NodeId> {
        match &self.tenure {
            Tenure::Assigned { holder } | Tenure::Open { holder, .. } | Tenure::Revoking { holder } => Some(holder),
            Tenure::Vacant | Tenure::Ended { .. } => None,
        }
    }

    /// The node that may be granted the lease of the current epoch.
    pub fn grantable(&self) -> Option<&NodeId> {
        match &self.tenure {
            Tenure::Assigned { holder } | Tenure::Open { holder, .. } => Some(holder),
            _ => None,
        }
    }

    /// Why a replica's data cannot be used as they are, if so.
    pub fn unsound(&self, node: &NodeId) -> Option<&str> {
        match self.standing.get(node) {
            Some(Standing::NeedsClone(why) | Standing::Diverged(why)) => Some(why),
            _ => None,
        }
    }

    pub fn must_clone(&self, node: &NodeId) -> bool {
        matches!(self.standing.get(node), Some(Standing::NeedsClone(_)))
    }
}

/// One committed decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Command {
    /// A coordinator's first entry in its term.
    Noop,
    Begin(Operation),
    /// A person lets the operation go on that was prepared in mode `ask`.
    Approve {
        operation: OperationId,
        workload: WorkloadId,
        by: String,
    },
    Mode {
        workload: WorkloadId,
        mode: Mode,
        by: String,
    },
    Revoke {
        workload: WorkloadId,
        epoch: Epoch,
        why: String,
    },
    End {
        workload: WorkloadId,
        epoch: Epoch,
        how: Ended,
    },
    Assign {
        workload: WorkloadId,
        epoch: Epoch,
        holder: NodeId,
        why: String,
    },
    Open {
        workload: WorkloadId,
        epoch: Epoch,
        timeline: u32,
        switch: Lsn,
        sync: Vec<NodeId>,
    },
    /// The new primary's first write is replicated: endpoints may forward (D7, D13).
    Serve {
        workload: WorkloadId,
        epoch: Epoch,
    },
    Sync {
        workload: WorkloadId,
        epoch: Epoch,
        number: u64,
        sure: Vec<NodeId>,
        asked: Vec<NodeId>,
        why: String,
    },
    Mark {
        workload: WorkloadId,
        node: NodeId,
        standing: Standing,
    },
    Finish {
        operation: OperationId,
        workload: WorkloadId,
        outcome: Outcome,
        phases: Vec<(Phase, Duration)>,
    },
    /// The address may be taken up there, and nowhere else.
    Place {
        workload: WorkloadId,
        number: Epoch,
        holder: NodeId,
        why: String,
    },
    /// It leaves its holder.
    Withdraw {
        workload: WorkloadId,
        number: Epoch,
        why: String,
    },
    /// It is nowhere any more.
    Vacate {
        workload: WorkloadId,
        number: Epoch,
        how: Ended,
    },
    /// The node holds nothing from here on, and its power may be cut under this entry (C7).
    Fence {
        node: NodeId,
        boot: Option<BootId>,
        why: String,
        by: String,
    },
    /// Its power was read as off after `fence` was committed.
    PowerOff {
        node: NodeId,
        fence: Index,
    },
    /// It may take part again.
    Readmit {
        node: NodeId,
        fence: Index,
        why: String,
        by: String,
    },
    /// What the host says its hardware is.
    System {
        node: NodeId,
        system: String,
    },
}

impl Command {
    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Command::Noop
            | Command::Fence { .. }
            | Command::PowerOff { .. }
            | Command::Readmit { .. }
            | Command::System { .. } => None,
            Command::Begin(operation) => Some(&operation.workload),
            Command::Approve { workload, .. }
            | Command::Place { workload, .. }
            | Command::Withdraw { workload, .. }
            | Command::Vacate { workload, .. }
            | Command::Mode { workload, .. }
            | Command::Revoke { workload, .. }
            | Command::End { workload, .. }
            | Command::Assign { workload, .. }
            | Command::Open { workload, .. }
            | Command::Serve { workload, .. }
            | Command::Sync { workload, .. }
            | Command::Mark { workload, .. }
            | Command::Finish { workload, .. } => Some(workload),
        }
    }
}

/// An operation as the log has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoggedOperation {
    pub what: Operation,
    /// Who let it go on, where it had to be asked.
    pub approved: Option<String>,
    pub target: Option<NodeId>,
    pub outcome: Option<Outcome>,
    pub phases: Vec<(Phase, Duration)>,
}

/// Everything the log says, up to `applied`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClusterState {
    pub applied: Index,
    pub workloads: BTreeMap<WorkloadId, WorkloadState>,
    pub operations: BTreeMap<OperationId, LoggedOperation>,
    pub nodes: BTreeMap<NodeId, NodeState>,
}

impl LoggedOperation {
    /// It was prepared, and waits for a person.
    pub fn waits(&self) -> bool {
        self.what.asks && self.approved.is_none()
    }
}

impl ClusterState {
    pub fn fenced(&self, node: &NodeId) -> Option<&Fenced> {
        self.nodes.get(node)?.fenced.as_ref()
    }

    pub fn workload(&self, id: &WorkloadId) -> &WorkloadState {
        static NEW: WorkloadState = WorkloadState {
            epoch: Epoch(0),
            tenure: Tenure::Vacant,
            opened: None,
            sync: SyncSet { epoch: Epoch(0), number: 0, sure: Vec::new(), asked: Vec::new() },
            standing: BTreeMap::new(),
            operation: None,
            mode: Mode::Act,
            place: Place { number: Epoch(0), holder: None, leaving: false },
        };
        self.workloads.get(id).unwrap_or(&NEW)
    }

    /// Applies one committed entry; returns whether it changed anything (a late one does not).
    pub fn apply(&mut self, index: Index, command: &Command) -> bool {
        self.applied = index;
        let Some(id) = command.workload() else { return self.apply_to_node(index, command) };
        let w = self.workloads.entry(id.clone()).or_default();
        match command {
            Command::Noop
            | Command::Fence { .. }
            | Command::PowerOff { .. }
            | Command::Readmit { .. }
            | Command::System { .. } => {}
            Command::Place { number, holder, .. } => {
                if w.place.holder.is_some() || *number <= w.place.number {
                    return false;
                }
                w.place = Place { number: *number, holder: Some(holder.clone()), leaving: false };
            }
            Command::Withdraw { number, .. } => {
                if w.place.number != *number || w.place.holder.is_none() || w.place.leaving {
                    return false;
                }
                w.place.leaving = true;
            }
            Command::Vacate { number, .. } => {
                if w.place.number != *number || !w.place.leaving {
                    return false;
                }
                (w.place.holder, w.place.leaving) = (None, false);
            }
            Command::Mode { mode, .. } => w.mode = *mode,
            Command::Approve { operation, by, .. } => {
                let running = w.operation == Some(*operation);
                let Some(logged) = self.operations.get_mut(operation).filter(|o| running && o.waits()) else {
                    return false;
                };
                logged.approved = Some(by.clone());
            }
            Command::Begin(what) => {
                if w.operation.is_some() {
                    return false;
                }
                let id = OperationId(index.0);
                w.operation = Some(id);
                let logged = LoggedOperation {
                    what: what.clone(),
                    approved: None,
                    target: None,
                    outcome: None,
                    phases: Vec::new(),
                };
                self.operations.insert(id, logged);
            }
            Command::Revoke { epoch, .. } => match &w.tenure {
                Tenure::Assigned { holder } | Tenure::Open { holder, .. } if w.epoch == *epoch => {
                    w.tenure = Tenure::Revoking { holder: holder.clone() };
                }
                _ => return false,
            },
            Command::End { epoch, how, .. } => match &w.tenure {
                Tenure::Revoking { holder } if w.epoch == *epoch => {
                    w.tenure = Tenure::Ended { last: holder.clone(), how: how.clone() };
                }
                _ => return false,
            },
            Command::Assign { epoch, holder, .. } => {
                let free = matches!(w.tenure, Tenure::Vacant | Tenure::Ended { .. });
                if !free || *epoch <= w.epoch {
                    return false;
                }
                w.mark_former_holder(holder);
                w.epoch = *epoch;
                w.tenure = Tenure::Assigned { holder: holder.clone() };
                if let Some(operation) = w.operation.and_then(|id| self.operations.get_mut(&id)) {
                    operation.target = Some(holder.clone());
                }
            }
            Command::Open { epoch, timeline, switch, sync, .. } => {
                let Tenure::Assigned { holder } = &w.tenure else { return false };
                if w.epoch != *epoch {
                    return false;
                }
                let holder = holder.clone();
                // After a restart of the same server a row may show that was never acknowledged (D7): its endpoints
                // wait for a replicated write. A standby that took over has nothing that its clients could not have
                // seen before, and they log in while its followers come.
                let took_over = w.opened.as_ref().is_some_and(|o| o.holder != holder);
                w.opened = Some(Opened { epoch: *epoch, holder: holder.clone(), timeline: *timeline, switch: *switch });
                w.sync = SyncSet { epoch: *epoch, number: 1, sure: sync.clone(), asked: sync.clone() };
                w.tenure = Tenure::Open { holder, serving: took_over };
            }
            Command::Serve { epoch, .. } => match &mut w.tenure {
                Tenure::Open { serving, .. } if w.epoch == *epoch => *serving = true,
                _ => return false,
            },
            Command::Sync { epoch, number, sure, asked, .. } => {
                let newer = *number > w.sync.number || (*number == w.sync.number && sure.len() > w.sync.sure.len());
                if w.epoch != *epoch || w.sync.epoch != *epoch || !newer {
                    return false;
                }
                w.sync = SyncSet { epoch: *epoch, number: *number, sure: sure.clone(), asked: asked.clone() };
            }
            Command::Mark { node, standing, .. } => {
                w.standing.insert(node.clone(), standing.clone());
            }
            Command::Finish { operation, outcome, phases, .. } => {
                if w.operation != Some(*operation) {
                    return false;
                }
                w.operation = None;
                if let Some(logged) = self.operations.get_mut(operation) {
                    logged.outcome = Some(outcome.clone());
                    logged.phases = phases.clone();
                }
                let over = self.operations.iter().filter(|(_, o)| o.outcome.is_some()).map(|(id, _)| *id);
                let over: Vec<OperationId> = over.collect();
                for old in over.iter().take(over.len().saturating_sub(OPERATIONS)) {
                    self.operations.remove(old);
                }
            }
        }
        true
    }

    fn apply_to_node(&mut self, index: Index, command: &Command) -> bool {
        match command {
            Command::Fence { node, boot, why, by } => {
                let state = self.nodes.entry(node.clone()).or_default();
                if state.fenced.is_some() {
                    return false;
                }
                let (boot, why, by) = (boot.clone(), why.clone(), by.clone());
                state.fenced = Some(Fenced { id: index, boot, why, by, off: false });
            }
            Command::PowerOff { node, fence } => match self.fence_of(node, *fence) {
                Some(fenced) => fenced.off = true,
                None => return false,
            },
            Command::Readmit { node, fence, .. } => {
                if self.fence_of(node, *fence).is_none() {
                    return false;
                }
                self.nodes.entry(node.clone()).or_default().fenced = None;
            }
            Command::System { node, system } => {
                self.nodes.entry(node.clone()).or_default().system = Some(system.clone());
            }
            _ => {}
        }
        true
    }

    fn fence_of(&mut self, node: &NodeId, id: Index) -> Option<&mut Fenced> {
        self.nodes.get_mut(node)?.fenced.as_mut().filter(|f| f.id == id)
    }

    /// The running operation of a workload, with its id.
    pub fn running(&self, workload: &WorkloadId) -> Option<(OperationId, &LoggedOperation)> {
        let id = self.workload(workload).operation?;
        Some((id, self.operations.get(&id)?))
    }

    pub fn running_kind(&self, workload: &WorkloadId) -> Option<Kind> {
        self.running(workload).map(|(_, o)| o.what.kind)
    }
}

impl WorkloadState {
    /// Where the last holder's log ends, if it stopped cleanly: nobody has more than that.
    pub fn clean_end(&self) -> Option<Lsn> {
        match &self.tenure {
            Tenure::Ended { how: Ended::Surrender { clean_at, .. }, .. } => *clean_at,
            _ => None,
        }
    }

    /// A holder that did not stop cleanly may hold what no other replica has, and one that never opened its epoch another
    /// history of the same name (D5), unless the next epoch is its own again.
    fn mark_former_holder(&mut self, next: &NodeId) {
        let Tenure::Ended { last, .. } = &self.tenure else { return };
        let clean = self.clean_end().is_some();
        let opened = self.opened.as_ref().is_some_and(|o| o.epoch == self.epoch);
        if last != next && !(clean && opened) {
            let at = format!("at the end of epoch {}", self.epoch);
            let standing = if opened {
                Standing::Diverged(format!("it did not stop cleanly {at}"))
            } else {
                Standing::NeedsClone(format!("its promotion was not completed {at}"))
            };
            self.standing.insert(last.clone(), standing);
        }
    }
}
