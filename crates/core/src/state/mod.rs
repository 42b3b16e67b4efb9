//! What the committed log builds. Applying is deterministic, and every command says which epoch it
//! is about: one that comes too late changes nothing.

mod acknowledged;
mod charter;
mod node;
mod operation;
mod workload;

pub use acknowledged::{Acknowledged, Acknowledgements};
pub use charter::{Charter, Departed, Gone, Over, Past};
pub use node::{Fenced, NodeState};
pub use operation::{LoggedOperation, Operations};
pub use workload::{Opened, Place, SyncSet, Tenure, WorkloadState};

use crate::command::{ClusterAct, Command, NodeAct, WorkloadAct};
use crate::ids::{Epoch, Index, NodeId, OperationId, WorkloadId};
use crate::intent::Want;
use crate::operation::{Kind, Mode, Outcome};
use crate::spec::{Change, Spec};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Everything the log says, up to `applied`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClusterState {
    pub applied: Index,
    pub workloads: BTreeMap<WorkloadId, WorkloadState>,
    pub operations: Operations,
    pub nodes: BTreeMap<NodeId, NodeState>,
    #[serde(default)]
    pub acknowledged: Acknowledgements,
    #[serde(default)]
    pub charter: Charter,
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
            sync: SyncSet {
                epoch: Epoch(0),
                number: 0,
                sure: Vec::new(),
                asked: Vec::new(),
                unprotected: false,
            },
            standing: BTreeMap::new(),
            attempts: BTreeSet::new(),
            clean_end: None,
            operation: None,
            mode: Mode::Act,
            mode_set: None,
            place: Place {
                number: Epoch(0),
                holder: None,
                leaving: false,
            },
            restarting: None,
            held_back: None,
            let_go: Index(0),
            histories: workload::Histories::NONE,
            identity: None,
        };
        self.workloads.get(id).unwrap_or(&NEW)
    }

    /// Applies one committed entry; returns whether it changed anything (a late one does not).
    pub fn apply(&mut self, index: Index, command: &Command) -> bool {
        self.applied = index;
        match command {
            Command::Noop => true,
            Command::Cluster(act) => self.apply_to_cluster(index, act),
            Command::Node(id, act) => {
                if self.is_refused(id, act) {
                    return false;
                }
                self.nodes.entry(id.clone()).or_default().apply(index, act)
            }
            Command::Workload(id, act) => {
                if !self.charter.names(|spec| is_of_spec(spec, id, act)) || self.is_stale(act) {
                    return false;
                }
                let workload = self.workloads.entry(id.clone()).or_default();
                workload.apply(index, act, &mut self.operations)
            }
        }
    }

    fn is_refused(&self, node: &NodeId, act: &NodeAct) -> bool {
        match act {
            NodeAct::Enrol { .. } => self.has_say(node),
            NodeAct::Key { key } => {
                self.charter.gone.keys.contains_key(key) || self.is_anothers(node, key)
            }
            _ => false,
        }
    }

    /// It is a step of an intent that is over (G1, G4).
    fn is_stale(&self, act: &WorkloadAct) -> bool {
        let WorkloadAct::Begin(operation) = act else {
            return false;
        };
        let wanted = |intent| self.charter.intents.contains_key(intent);
        !operation.intent.as_ref().is_none_or(wanted)
    }

    /// What an intent has done cannot be said to be undone (G9): a revision that is in force, and a
    /// workload on its way back to a point, whose former primary has lost its epoch already.
    fn is_too_late_to_undo(&self, intent: OperationId) -> bool {
        let Some(intended) = self.charter.intents.get(&intent) else {
            return false;
        };
        match &intended.what.want {
            Want::Revision(_) => intended.turned.is_some(),
            Want::GoingBack(back) => self.is_past_return(intent, &back.workload),
            Want::Maintenance(_) | Want::Restart(_) | Want::SafetyPoint(_) | Want::Enrolment(_) => {
                false
            }
        }
    }

    /// The move that an intent has begun has revoked the former primary's epoch.
    pub(crate) fn is_past_return(&self, intent: OperationId, workload: &WorkloadId) -> bool {
        let running = self.running(workload);
        let moves = running.filter(|(_, o)| o.what.intent == Some(intent));
        moves.is_some_and(|(_, o)| o.target.is_some() || !self.workload(workload).is_open())
    }

    fn close(&mut self, intent: OperationId, outcome: &Outcome) -> bool {
        let undoes = matches!(outcome, Outcome::Undone(_));
        if undoes && self.is_too_late_to_undo(intent) {
            return false;
        }
        self.charter.close(intent, outcome)
    }

    /// Another node shows that key: it speaks for that one alone, and would be refused with this one
    /// once this one leaves (M1).
    pub(crate) fn is_anothers(&self, node: &NodeId, key: &str) -> bool {
        let mut others = self.nodes.iter().filter(|(other, _)| *other != node);
        others.any(|(_, state)| state.keys.iter().any(|known| known == key))
    }

    /// From here on the newcomer's key alone speaks for the node (M1).
    fn join(&mut self, index: Index, invitation: OperationId, key: &str) -> bool {
        let invited = self.charter.invitations.get(&invitation);
        if invited.is_some_and(|invited| self.is_anothers(&invited.node, key)) {
            return false;
        }
        let Some(node) = self.charter.join(invitation, key) else {
            return false;
        };
        let known = &mut self.nodes.entry(node.clone()).or_default().keys;
        let mut before = std::mem::replace(known, vec![key.into()]);
        before.retain(|known| known != key);
        self.charter.part(index, &node, before);
        true
    }

    /// It has a vote, in either half of a change. Its store cannot be replaced by another then: the
    /// lost one may have promised to a candidate what the new one would promise to another (V6).
    fn has_say(&self, node: &NodeId) -> bool {
        let voters = self.charter.voters.as_ref();
        voters.is_some_and(|voters| voters.weight(node) > 0)
    }

    fn apply_to_cluster(&mut self, index: Index, act: &ClusterAct) -> bool {
        match act {
            ClusterAct::Acknowledge { .. } | ClusterAct::Forget { .. } => {
                self.acknowledged.apply(act)
            }
            ClusterAct::Found { revision, founders } => self.charter.found(revision, founders),
            ClusterAct::Invite(invitation) => self.charter.invite(index, invitation),
            ClusterAct::Join { invitation, key } => self.join(index, *invitation, key),
            ClusterAct::Intend(intent) => self.charter.intend(index, intent),
            ClusterAct::End { intent, by } => self.charter.end(*intent, by),
            ClusterAct::Close { intent, outcome } => self.close(*intent, outcome),
            ClusterAct::Adopt { intent } => self.adopt(index, *intent),
            ClusterAct::Voters(voters) => {
                (self.charter.voters, self.charter.voters_at) = (Some(voters.clone()), index);
                true
            }
            ClusterAct::Retire { since } => self.charter.live.remove(since).is_some(),
        }
    }

    /// Refused while anything that leaves holds something (R1).
    fn adopt(&mut self, index: Index, intent: OperationId) -> bool {
        let Some(intended) = self.charter.intents.get(&intent) else {
            return false;
        };
        if intended.pending().is_none() || self.holds_on(&intended.change).is_some() {
            return false;
        }
        let change = intended.change.clone();
        for node in &change.nodes_out {
            let known = self.nodes.get_mut(node);
            let keys = known.map(|node| std::mem::take(&mut node.keys));
            self.charter.part(index, node, keys.unwrap_or_default());
            self.charter.uninvite(node);
        }
        let Some(new) = self.charter.adopt(index, intent) else {
            return false;
        };
        for node in &change.nodes_in {
            for key in self.charter.come_back(index, node) {
                self.nodes.entry(node.clone()).or_default().shows(&key);
            }
        }
        for (id, spec) in &new.spec.workloads {
            if let Some(workload) = self.workloads.get_mut(id) {
                if change.workloads_in.contains(id) {
                    workload.begin_anew();
                }
                workload.take_loss(spec);
                let is_new = |node: &&NodeId| {
                    change.workloads_in.contains(id)
                        || change.replicas_in.contains(&(id.clone(), (*node).clone()))
                };
                let new = spec.replicas.keys().filter(is_new);
                new.for_each(|node| workload.comes_in(node));
            }
        }
        true
    }

    /// What a change would take something from that still holds it, if so (R1).
    pub fn holds_on(&self, change: &Change) -> Option<HoldsOn> {
        if let Some(node) = change.nodes_out.iter().find(|n| self.has_say(n)) {
            return Some(HoldsOn::Vote(node.clone()));
        }
        for id in &change.workloads_out {
            let w = self.workload(id);
            if w.holder().is_some() || w.operation.is_some() || w.place.holder.is_some() {
                return Some(HoldsOn::Workload(id.clone()));
            }
        }
        for (id, node) in &change.replicas_out {
            let w = self.workload(id);
            if w.holder() == Some(node) || w.operation.is_some() {
                return Some(HoldsOn::Epoch(id.clone(), node.clone()));
            }
            if w.sync.sure.contains(node) || w.sync.asked.contains(node) {
                return Some(HoldsOn::SyncSet(id.clone(), node.clone()));
            }
        }
        let out = |id: &WorkloadId, node: &NodeId| {
            change.addresses_out.contains(id)
                || change.holders_out.contains(&(id.clone(), node.clone()))
        };
        self.workloads.iter().find_map(|(id, w)| {
            let holder = w.place.holder.as_ref().filter(|n| out(id, n))?;
            Some(HoldsOn::Address(id.clone(), holder.clone()))
        })
    }

    /// The running operation of a workload, with its id.
    pub fn running(&self, workload: &WorkloadId) -> Option<(OperationId, &LoggedOperation)> {
        let id = self.workload(workload).operation?;
        Some((id, self.operations.get(id)?))
    }

    pub fn running_kind(&self, workload: &WorkloadId) -> Option<Kind> {
        self.running(workload).map(|(_, o)| o.what.kind)
    }
}

/// What keeps a revision from being in force: a thing that it takes away, and who has it still.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HoldsOn {
    Vote(NodeId),
    Workload(WorkloadId),
    Epoch(WorkloadId, NodeId),
    SyncSet(WorkloadId, NodeId),
    Address(WorkloadId, NodeId),
}

/// Nothing is given to what the spec does not have there (R1).
fn is_of_spec(spec: &Spec, id: &WorkloadId, act: &WorkloadAct) -> bool {
    let Some(workload) = spec.workloads.get(id) else {
        let takes = |act| {
            matches!(
                act,
                &WorkloadAct::Begin(_)
                    | &WorkloadAct::Assign { .. }
                    | &WorkloadAct::Open { .. }
                    | &WorkloadAct::Sync { .. }
                    | &WorkloadAct::Place { .. }
                    | &WorkloadAct::Restart(Some(_))
                    | &WorkloadAct::HoldBack(Some(_))
            )
        };
        return !takes(act);
    };
    match act {
        WorkloadAct::Assign { holder, .. } => workload.replicas.contains_key(holder),
        WorkloadAct::Restart(Some(r)) => workload.replicas.contains_key(&r.node),
        WorkloadAct::HoldBack(Some(held)) => workload.replicas.contains_key(&held.node),
        WorkloadAct::Place { holder, .. } => workload.may_hold_address(holder),
        WorkloadAct::Open { sync: list, .. } | WorkloadAct::Sync { asked: list, .. } => {
            list.iter().all(|node| workload.replicas.contains_key(node))
        }
        _ => true,
    }
}
