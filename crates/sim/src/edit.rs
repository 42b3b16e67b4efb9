//! Edits of the spec that somebody submits while the world runs.

use crate::cluster::fit_readers;
use karst_core::spec::{Alone, Loss, Rules, Spec, Timings};
use karst_core::{NodeId, WorkloadId};

/// What is different; where something comes back, it is as it was in the whole world's spec.
#[derive(Clone, Debug, PartialEq)]
pub enum Edit {
    Timings(Box<Timings>),
    Votes(NodeId, u32),
    NodeOut(NodeId),
    NodeIn(NodeId),
    ReplicaOut(WorkloadId, NodeId),
    ReplicaIn(WorkloadId, NodeId),
    WorkloadOut(WorkloadId),
    WorkloadIn(WorkloadId),
    AddressOut(WorkloadId),
    Loss(WorkloadId, Loss),
    Alone(WorkloadId, Alone),
    Rules(WorkloadId, Box<Rules>),
    /// As the world began.
    AllBack,
}

impl Edit {
    /// What somebody would submit who wants this.
    pub fn of(&self, now: &Spec, world: &Spec) -> Spec {
        let mut spec = now.clone();
        match self {
            Edit::Timings(timings) => spec.timings = (**timings).clone(),
            Edit::Votes(node, votes) => {
                if let Some(node) = spec.nodes.get_mut(node) {
                    node.votes = *votes;
                }
            }
            Edit::NodeOut(node) => {
                spec.nodes.remove(node);
                for workload in spec.workloads.values_mut() {
                    workload.replicas.remove(node);
                    workload.gates.remove(node);
                }
            }
            Edit::NodeIn(node) => {
                spec.nodes.insert(node.clone(), world.nodes[node].clone());
                for (id, workload) in &mut spec.workloads {
                    let whole = &world.workloads[id];
                    let gate = whole.gates.get(node);
                    workload.gates.extend(gate.map(|at| (node.clone(), *at)));
                }
            }
            Edit::ReplicaOut(id, node) => {
                if let Some(workload) = spec.workloads.get_mut(id) {
                    workload.replicas.remove(node);
                }
            }
            Edit::ReplicaIn(id, node) => {
                let here = spec.nodes.contains_key(node);
                let replica = world.workloads[id].replicas.get(node);
                if let Some((workload, replica)) = spec.workloads.get_mut(id).zip(replica)
                    && here
                {
                    workload.replicas.insert(node.clone(), replica.clone());
                }
            }
            Edit::WorkloadOut(id) => drop(spec.workloads.remove(id)),
            Edit::WorkloadIn(id) => {
                let mut workload = world.workloads[id].clone();
                workload.replicas.retain(|n, _| spec.nodes.contains_key(n));
                workload.gates.retain(|n, _| spec.nodes.contains_key(n));
                spec.workloads.insert(id.clone(), workload);
            }
            Edit::AddressOut(id) => {
                if let Some(workload) = spec.workloads.get_mut(id) {
                    workload.address = None;
                }
            }
            Edit::Loss(id, loss) => {
                if let Some(workload) = spec.workloads.get_mut(id) {
                    workload.loss = *loss;
                }
            }
            Edit::Alone(id, alone) => {
                if let Some(workload) = spec.workloads.get_mut(id) {
                    workload.alone = *alone;
                }
            }
            Edit::Rules(id, rules) => {
                if let Some(workload) = spec.workloads.get_mut(id) {
                    workload.rules = (**rules).clone();
                }
            }
            Edit::AllBack => spec = world.clone(),
        }
        for (id, workload) in &mut spec.workloads {
            workload.reads.clone_from(&world.workloads[id].reads);
        }
        fit_readers(&mut spec);
        spec
    }
}
