//! What has to leave because of what people want, and may be there still: nothing of it is given
//! anything new, and what it holds goes elsewhere.

use crate::ids::{NodeId, WorkloadId};
use crate::intent::Maintenance;
use crate::safetypoint::SafetyPoint;
use crate::spec::Change;
use crate::state::ClusterState;

#[derive(Clone, Debug, Default)]
pub struct Leaving<'a> {
    change: Option<&'a Change>,
    maintenances: Vec<&'a Maintenance>,
    points: Vec<&'a SafetyPoint>,
}

impl<'a> Leaving<'a> {
    pub fn of(state: &'a ClusterState) -> Self {
        let charter = &state.charter;
        let pending = charter.pending();
        Self {
            change: pending.map(|(id, _)| &charter.intents[&id].change),
            maintenances: charter.maintenances().map(|(_, m)| m).collect(),
            points: charter.safety_points().map(|(_, point)| point).collect(),
        }
    }

    fn changes(&self, what: impl FnOnce(&Change) -> bool) -> bool {
        self.change.is_some_and(what)
    }

    /// Why nothing is to be done with this replica any more, if so.
    pub fn replica(&self, id: &WorkloadId, node: &NodeId) -> Option<&'static str> {
        if self.workload(id) {
            Some("its workload is being removed")
        } else if self.changes(|c| c.replicas_out.contains(&(id.clone(), node.clone()))) {
            Some("it is being removed")
        } else if self
            .points
            .iter()
            .any(|p| (&p.workload, &p.node) == (id, node))
        {
            Some("it is held back at a safety point")
        } else {
            self.node(node).then_some("its node is in maintenance")
        }
    }

    /// Why a node may not have a workload's address any more, if so.
    pub fn holder(&self, id: &WorkloadId, node: &NodeId) -> Option<&'static str> {
        if self.address(id) {
            Some("the address is being taken away")
        } else if self.changes(|c| c.holders_out.contains(&(id.clone(), node.clone()))) {
            Some("the address is to be elsewhere")
        } else {
            self.node(node).then_some("it is in maintenance")
        }
    }

    /// Nobody may have the address any more.
    pub fn address(&self, id: &WorkloadId) -> bool {
        self.workload(id) || self.changes(|c| c.addresses_out.contains(id))
    }

    pub fn workload(&self, id: &WorkloadId) -> bool {
        self.changes(|c| c.workloads_out.contains(id))
    }

    /// In maintenance.
    pub fn node(&self, node: &NodeId) -> bool {
        self.maintenances.iter().any(|m| m.nodes.contains(node))
    }

    /// A person accepts that no standby of it has every write meanwhile.
    pub fn may_be_bare(&self, id: &WorkloadId) -> bool {
        let accepted = |p: &&SafetyPoint| p.bare && p.workload == *id;
        self.maintenances.iter().any(|m| m.bare.contains(id)) || self.points.iter().any(accepted)
    }
}
