//! What the committed log builds: per workload the epoch, who holds it, the sync set, and each replica's standing.
//!
//! Applying is deterministic, and every command says which epoch it is about: one that comes too late changes nothing.

use crate::author::Author;
use crate::ids::{BootId, Epoch, Index, Lsn, NodeId, OperationId, StoreId, WorkloadId};
use crate::operation::{Kind, Mode, Operation, Outcome, Phase};
use crate::spec::{After, Loss, WorkloadSpec};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
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
    /// Where its timeline began; 0 for the first one.
    pub began: Lsn,
    /// Where writing under this epoch began: the position at opening, also where the timeline is an older one (F1).
    pub switch: Lsn,
    /// The epoch that was opened before it; 0 for the first one.
    pub after: Epoch,
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
    /// Replicas whose data cannot be used as they are.
    pub standing: BTreeMap<NodeId, Standing>,
    /// Who was assigned an epoch since the last one was opened, and did not open it.
    pub attempts: BTreeSet<NodeId>,
    /// Where the log of the last opened epoch ends, if its holder stopped cleanly: nobody has more than that.
    pub clean_end: Option<Lsn>,
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
    pub by: Author,
    /// Its power was read as off after the entry was committed.
    pub off: bool,
    /// What becomes of it then.
    pub after: After,
}

/// What the log says of a node besides its workloads.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NodeState {
    /// The hardware's UUID as the host reported it: a power device must name the same one (C7).
    pub system: Option<String>,
    pub fenced: Option<Fenced>,
    /// The node store that the others took in last (A6); none for one that formed the cluster.
    pub enrolled: Option<StoreId>,
    /// The entry that asks for its power to be turned on, until that was read.
    pub turn_on: Option<Index>,
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
        by: Author,
    },
    Mode {
        workload: WorkloadId,
        mode: Mode,
        by: Author,
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
        began: Lsn,
        switch: Lsn,
        sync: Vec<NodeId>,
        /// Replicas that may have another timeline of that number (D5).
        doubtful: Vec<NodeId>,
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
        by: Author,
        after: After,
    },
    /// Its power was read as off after `fence` was committed.
    PowerOff {
        node: NodeId,
        fence: Index,
    },
    /// Its power is to be turned on.
    TurnOn {
        node: NodeId,
        by: Author,
    },
    /// It was read as on after that was `asked` for.
    TurnedOn {
        node: NodeId,
        asked: Index,
    },
    /// It may take part again.
    Readmit {
        node: NodeId,
        fence: Index,
        why: String,
        by: Author,
    },
    /// Its node store counts from here on: it has been given everything that the others committed (A6, F3).
    Enrol {
        node: NodeId,
        store: StoreId,
        by: Author,
    },
    /// What the host says its hardware is.
    System {
        node: NodeId,
        system: String,
    },
}

impl Command {
    /// The node that it is about, if it is about one as such.
    pub fn node(&self) -> Option<&NodeId> {
        match self {
            Command::Fence { node, .. }
            | Command::PowerOff { node, .. }
            | Command::TurnOn { node, .. }
            | Command::TurnedOn { node, .. }
            | Command::Readmit { node, .. }
            | Command::Enrol { node, .. }
            | Command::System { node, .. } => Some(node),
            _ => None,
        }
    }

    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Command::Noop
            | Command::Fence { .. }
            | Command::PowerOff { .. }
            | Command::TurnOn { .. }
            | Command::TurnedOn { .. }
            | Command::Readmit { .. }
            | Command::Enrol { .. }
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
    pub approved: Option<Author>,
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
            attempts: BTreeSet::new(),
            clean_end: None,
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
            | Command::TurnOn { .. }
            | Command::TurnedOn { .. }
            | Command::Readmit { .. }
            | Command::Enrol { .. }
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
            Command::Mode { mode, by, .. } => {
                w.mode = *mode;
                // Whoever lets the cluster act lets it go on with what it has prepared.
                if *mode == Mode::Act
                    && let Some(running) = w.operation.and_then(|id| self.operations.get_mut(&id))
                    && running.waits()
                {
                    running.approved = Some(by.clone());
                }
            }
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
                    if w.is_of_opened_epoch() {
                        w.clean_end = match how {
                            Ended::Surrender { clean_at, .. } => *clean_at,
                            Ended::LeaseOver | Ended::PowerOff => None,
                        };
                    }
                    w.tenure = Tenure::Ended { last: holder.clone(), how: how.clone() };
                }
                _ => return false,
            },
            Command::Assign { epoch, holder, .. } => {
                let free = matches!(w.tenure, Tenure::Vacant | Tenure::Ended { .. });
                if !free || *epoch <= w.epoch {
                    return false;
                }
                w.epoch = *epoch;
                w.attempts.insert(holder.clone());
                w.tenure = Tenure::Assigned { holder: holder.clone() };
                if let Some(operation) = w.operation.and_then(|id| self.operations.get_mut(&id)) {
                    operation.target = Some(holder.clone());
                }
            }
            Command::Open { epoch, timeline, began, switch, sync, doubtful, .. } => {
                let Tenure::Assigned { holder } = &w.tenure else { return false };
                if w.epoch != *epoch {
                    return false;
                }
                let holder = holder.clone();
                // After a restart of the same server a row may show that was never acknowledged (D7): its endpoints
                // wait for a replicated write. A standby that took over has nothing that its clients could not have
                // seen before, and they log in while its followers come.
                let took_over = w.opened.as_ref().is_some_and(|o| o.holder != holder);
                w.mark_others(&holder, doubtful);
                let after = w.opened.as_ref().map_or(Epoch(0), |o| o.epoch);
                let (epoch, timeline, began, switch) = (*epoch, *timeline, *began, *switch);
                w.opened = Some(Opened { epoch, holder: holder.clone(), timeline, began, switch, after });
                w.clean_end = None;
                w.sync = SyncSet { epoch, number: 1, sure: sync.clone(), asked: sync.clone() };
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
            Command::Mark { node, standing: Standing::Sound, .. } => return w.standing.remove(node).is_some(),
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
            Command::Fence { node, boot, why, by, after } => {
                let state = self.nodes.entry(node.clone()).or_default();
                if state.fenced.is_some() {
                    return false;
                }
                let (boot, why, by, after) = (boot.clone(), why.clone(), by.clone(), *after);
                state.fenced = Some(Fenced { id: index, boot, why, by, off: false, after });
                state.turn_on = None;
            }
            Command::PowerOff { node, fence } => {
                let Some(fenced) = self.fence_of(node, *fence) else { return false };
                fenced.off = true;
                if fenced.after == After::On {
                    self.nodes.entry(node.clone()).or_default().turn_on = Some(index);
                }
            }
            Command::TurnOn { node, .. } => self.nodes.entry(node.clone()).or_default().turn_on = Some(index),
            Command::TurnedOn { node, asked } => {
                let state = self.nodes.entry(node.clone()).or_default();
                if state.turn_on != Some(*asked) {
                    return false;
                }
                state.turn_on = None;
            }
            Command::Readmit { node, fence, .. } => {
                if self.fence_of(node, *fence).is_none() {
                    return false;
                }
                self.nodes.entry(node.clone()).or_default().fenced = None;
            }
            Command::Enrol { node, store, .. } => {
                self.nodes.entry(node.clone()).or_default().enrolled = Some(store.clone());
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
    /// The present epoch is the one that was opened last, and not one that was only assigned.
    pub fn is_of_opened_epoch(&self) -> bool {
        self.opened.as_ref().is_some_and(|o| o.epoch == self.epoch)
    }

    /// What an opening says of everybody else's data. Not before: as long as nobody opens, the last opened epoch is the one
    /// that counts, and whoever held it may go on.
    fn mark_others(&mut self, holder: &NodeId, doubtful: &[NodeId]) {
        // Its data are what counts from here on, whatever they were before.
        self.standing.remove(holder);
        let epoch = self.epoch;
        for node in std::mem::take(&mut self.attempts).into_iter().filter(|n| n != holder) {
            let why = format!("its promotion was not completed before epoch {epoch}");
            self.standing.insert(node, Standing::NeedsClone(why));
        }
        for node in doubtful {
            let why = format!("its history may have the same name as that of epoch {epoch}, and be another");
            self.standing.insert(node.clone(), Standing::NeedsClone(why));
        }
        let Some(before) = self.opened.clone().filter(|o| o.holder != *holder) else { return };
        if self.clean_end.is_none() && !self.standing.contains_key(&before.holder) {
            let why = format!("it did not stop cleanly at the end of epoch {}", before.epoch);
            self.standing.insert(before.holder, Standing::Diverged(why));
        }
    }
}
