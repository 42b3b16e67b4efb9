//! What is different between two specs, by what has to be done about it: what leaves is emptied
//! before the new one is in force, what arrives is filled afterwards.

use super::{KeyPath, NodeSpec, ReplicaSpec, Spec};
use crate::ids::{NodeId, WorkloadId};
use crate::ownstep::OwnStep;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    pub nodes_in: BTreeSet<NodeId>,
    pub nodes_out: BTreeSet<NodeId>,
    pub workloads_in: BTreeSet<WorkloadId>,
    pub workloads_out: BTreeSet<WorkloadId>,
    /// Of workloads that are in both.
    pub replicas_in: BTreeSet<(WorkloadId, NodeId)>,
    pub replicas_out: BTreeSet<(WorkloadId, NodeId)>,
    /// Workloads whose floating address is another one now, or gone.
    pub addresses_out: BTreeSet<WorkloadId>,
    /// Nodes that may hold a workload's address no more.
    pub holders_out: BTreeSet<(WorkloadId, NodeId)>,
    /// Workloads whose program has other settings now.
    pub settings: BTreeSet<WorkloadId>,
    /// Own steps that are new, or other ones now.
    #[serde(default)]
    pub steps: BTreeSet<String>,
    pub votes: bool,
    pub timings: bool,
}

/// What cannot be changed while the cluster runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fixed {
    pub path: KeyPath,
    pub remedy: String,
}

impl Change {
    pub fn between(old: &Spec, new: &Spec) -> Self {
        let keys_out = |a: &Spec, b: &Spec| -> BTreeSet<NodeId> {
            let gone = a.nodes.keys().filter(|n| !b.nodes.contains_key(*n));
            gone.cloned().collect()
        };
        let workloads_out = |a: &Spec, b: &Spec| -> BTreeSet<WorkloadId> {
            let gone = a.workloads.keys().filter(|w| !b.workloads.contains_key(*w));
            gone.cloned().collect()
        };
        let mut change = Self {
            nodes_in: keys_out(new, old),
            nodes_out: keys_out(old, new),
            workloads_in: workloads_out(new, old),
            workloads_out: workloads_out(old, new),
            votes: old.votes() != new.votes(),
            timings: old.timings != new.timings,
            steps: other_steps(old, new),
            ..Self::default()
        };
        for (id, was) in &old.workloads {
            let Some(is) = new.workloads.get(id) else {
                continue;
            };
            let only_in = |a: &super::WorkloadSpec, b: &super::WorkloadSpec| -> BTreeSet<_> {
                let gone = a.replicas.keys().filter(|n| !b.replicas.contains_key(*n));
                gone.map(|n| (id.clone(), n.clone())).collect()
            };
            change.replicas_in.extend(only_in(is, was));
            change.replicas_out.extend(only_in(was, is));
            if was.address.is_some() && was.address != is.address {
                change.addresses_out.insert(id.clone());
            }
            let may_no_more = |n: &&NodeId| was.may_hold_address(n) && !is.may_hold_address(n);
            let holders = was.replicas.keys().chain(was.gates.keys());
            let out = holders.filter(may_no_more).map(|n| (id.clone(), n.clone()));
            change.holders_out.extend(out);
            if was.settings != is.settings {
                change.settings.insert(id.clone());
            }
        }
        change
    }

    /// Whether a node has to have something for it that it may not have: new data of a workload, or
    /// other settings of one.
    pub fn concerns(&self, new: &Spec, node: &NodeId) -> bool {
        let here = |id: &&WorkloadId| {
            let workload = new.workloads.get(*id);
            workload.is_some_and(|w| w.replicas.contains_key(node))
        };
        self.workloads_in
            .iter()
            .chain(&self.settings)
            .any(|id| here(&id))
            || self.runs_on(new, node)
            || self.replicas_in.iter().any(|(_, n)| n == node)
    }

    fn runs_on(&self, new: &Spec, node: &NodeId) -> bool {
        let mut steps = self.steps.iter().filter_map(|name| new.steps.get(name));
        steps.any(|step| step.is_of(node))
    }

    /// Nothing is different that anybody has to do something about.
    pub fn is_small(&self) -> bool {
        *self == Self::default()
    }
}

fn other_steps(old: &Spec, new: &Spec) -> BTreeSet<String> {
    let other = |(name, step): &(&String, &OwnStep)| old.steps.get(*name) != Some(*step);
    let all = new.steps.iter().filter(other);
    all.map(|(name, _)| name.clone()).collect()
}

/// What of a change nobody can make while the cluster runs: each has another way.
pub fn fixed(old: &Spec, new: &Spec) -> Vec<Fixed> {
    let mut all = Vec::new();
    let mut fix = |path: &[&str], remedy: &str| {
        all.push(Fixed {
            path: path.iter().map(|p| (*p).to_string()).collect(),
            remedy: remedy.into(),
        });
    };
    if old.cluster != new.cluster {
        fix(
            &["cluster"],
            "its name is in every certificate's place: form another cluster under the new name",
        );
    }
    for (node, was) in &old.nodes {
        let Some(is) = new.nodes.get(node) else {
            continue;
        };
        let moved = |what: fn(&NodeSpec) -> Option<std::net::SocketAddr>| what(was) != what(is);
        let remedy =
            "take the node out in one revision, and add it with its new address in the next";
        if moved(|n| Some(n.peer)) {
            fix(&["node", node.as_str(), "peer"], remedy);
        }
        if moved(|n| n.api) {
            fix(&["node", node.as_str(), "api"], remedy);
        }
    }
    for (id, was) in &old.workloads {
        let Some(is) = new.workloads.get(id) else {
            continue;
        };
        if was.driver != is.driver {
            fix(
                &["workload", id.as_str(), "driver"],
                "remove the workload, and add one of the new kind under another name",
            );
        }
        for (node, was) in &was.replicas {
            let same = |is: &&ReplicaSpec| {
                (is.address, &is.data, &is.log) == (was.address, &was.data, &was.log)
            };
            if is.replicas.get(node).is_some_and(|is| !same(&is)) {
                fix(
                    &["workload", id.as_str(), "replica", node.as_str()],
                    "take the replica out in one revision, and add it with its new place in the next: it is copied anew",
                );
            }
        }
    }
    all
}
