//! What a coordinator has to look at again. Most of what it is told concerns one node, and so a few
//! workloads: only those are decided on anew, and every workload once a heartbeat.

use crate::ids::{NodeId, WorkloadId};
use crate::spec::Spec;
use crate::time::Time;
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Default)]
pub(super) struct Agenda {
    /// Which workloads have anything to do with a node.
    places: BTreeMap<NodeId, BTreeSet<WorkloadId>>,
    all: bool,
    nodes: BTreeSet<NodeId>,
    workloads: BTreeSet<WorkloadId>,
    /// Decisions that may fall by the mere passing of time, before the next heartbeat.
    sooner: BTreeMap<WorkloadId, Time>,
}

/// What is looked at now.
pub(super) struct Look {
    /// Whatever there is.
    pub all: bool,
    pub nodes: Vec<NodeId>,
    pub workloads: Vec<WorkloadId>,
}

impl Agenda {
    pub fn new(spec: &Spec) -> Self {
        let mut places: BTreeMap<NodeId, BTreeSet<WorkloadId>> = BTreeMap::new();
        for (id, workload) in &spec.workloads {
            for node in workload.replicas.keys().chain(workload.gates.keys()) {
                places.entry(node.clone()).or_default().insert(id.clone());
            }
        }
        Self {
            places,
            all: true,
            ..Self::default()
        }
    }

    pub fn add_all(&mut self) {
        self.all = true;
    }

    pub fn add_workload(&mut self, id: &WorkloadId) {
        self.workloads.insert(id.clone());
    }

    /// Something is news about a node: what concerns it, and every workload there.
    pub fn add_node(&mut self, node: &NodeId) {
        self.nodes.insert(node.clone());
        self.workloads
            .extend(self.places.get(node).into_iter().flatten().cloned());
    }

    /// Notes when a workload has to be looked at again, if that is before `heartbeat`, when all
    /// are.
    pub fn set_due(&mut self, id: WorkloadId, due: Time, heartbeat: Time) {
        if due < heartbeat {
            self.sooner.insert(id, due);
        } else {
            self.sooner.remove(&id);
        }
    }

    /// When the first of them is due.
    pub fn due(&self) -> Time {
        self.sooner
            .values()
            .min()
            .copied()
            .unwrap_or(Time(u64::MAX))
    }

    /// Adds what is due by now.
    pub fn add_due(&mut self, now: Time) {
        let due = self.sooner.extract_if(.., |_, at| *at <= now);
        self.workloads.extend(due.map(|(id, _)| id));
    }

    /// All that is on it; it is empty afterwards.
    pub fn take(&mut self, spec: &Spec) -> Look {
        let (nodes, workloads) = (
            std::mem::take(&mut self.nodes),
            std::mem::take(&mut self.workloads),
        );
        if std::mem::take(&mut self.all) {
            return Look {
                all: true,
                nodes: spec.nodes.keys().cloned().collect(),
                workloads: spec.workloads.keys().cloned().collect(),
            };
        }
        Look {
            all: false,
            nodes: nodes.into_iter().collect(),
            workloads: workloads.into_iter().collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn news_about_a_node_concerns_its_workloads_alone() {
        let places = [
            ("doline", ["fleet", "sailings"]),
            ("polje", ["sailings", "wharf"]),
        ];
        let places = places
            .map(|(node, on)| (NodeId::from(node), on.map(WorkloadId::from).into()))
            .into();
        let mut agenda = Agenda {
            places,
            ..Agenda::default()
        };
        agenda.add_node(&"doline".into());
        assert_eq!(
            agenda.workloads,
            ["fleet", "sailings"].map(WorkloadId::from).into()
        );
        assert!(agenda.nodes.contains(&NodeId::from("doline")) && !agenda.all);
    }

    /// Before the next heartbeat, which looks at all; and once.
    #[test]
    fn what_is_due_is_looked_at_when_it_is() {
        let (at, heartbeat) = (Time::from_millis, Time::from_millis(100));
        let mut agenda = Agenda::default();
        agenda.set_due("sailings".into(), at(40), heartbeat);
        agenda.set_due("wharf".into(), at(140), heartbeat);
        assert_eq!(agenda.due(), at(40));
        agenda.add_due(at(39));
        assert!(agenda.workloads.is_empty());
        agenda.add_due(at(40));
        assert_eq!(
            (agenda.workloads.clone(), agenda.due()),
            ([WorkloadId::from("sailings")].into(), Time(u64::MAX))
        );
    }
}
