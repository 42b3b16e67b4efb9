//! Readers: the coordinator says with its leases who serves them, and each read gate forwards to
//! those for as long as that counts.

use super::{Effect, Node};
use crate::gate::ReadOrder;
use crate::ids::{NodeId, WorkloadId};
use crate::planted::Planted;
use crate::replica::ReadReport;
use crate::spec::Reads;
use crate::steward::readers::Subject;
use crate::time::Time;
use std::collections::{BTreeMap, BTreeSet};

/// Who serves a workload's readers, by the coordinator's word, and until when that counts.
pub(super) struct Served {
    until: Time,
    by: BTreeSet<NodeId>,
}

/// A read gate on this node.
#[derive(Default)]
pub(super) struct ReadGate {
    pub order: ReadOrder,
    pub report: ReadReport,
}

/// By workload, who serves its readers.
pub(super) type ServedBy = BTreeMap<WorkloadId, BTreeSet<NodeId>>;

impl Node {
    /// As coordinator, with each heartbeat.
    pub(super) fn judge_readers(&mut self) {
        let Some(lead) = &mut self.lead else { return };
        let (spec, state, health) = (&self.spec, &self.state, &self.health);
        let of = |id: &WorkloadId| spec.workloads.get(id).and_then(|w| w.reads.as_ref());
        lead.readers.retain(|id, _| of(id).is_some());
        for (id, spec) in &spec.workloads {
            let Some(limits) = &spec.reads else { continue };
            let readers = lead.readers.entry(id.clone()).or_default();
            readers.judge(&Subject {
                id,
                spec,
                limits,
                w: state.workload(id),
                reports: &lead.reports,
                is_heard: &|n| *n == self.me || !health.is_suspected(n, self.now),
                is_fenced: &|n| state.fenced(n).is_some(),
                now: self.now,
            });
        }
    }

    /// As coordinator: what a node with a read gate or a replica is told.
    pub(super) fn readers_for(&self, node: &NodeId) -> ServedBy {
        let Some(lead) = &self.lead else {
            return ServedBy::new();
        };
        let concerns = |id: &WorkloadId| {
            let w = self.spec.workloads.get(id);
            w.is_some_and(|w| reads_at(w.reads.as_ref(), node) || w.replicas.contains_key(node))
        };
        let all = lead.readers.iter();
        let all = all.filter(|(id, readers)| readers.is_known() && concerns(id));
        all.map(|(id, readers)| (id.clone(), readers.fit().clone()))
            .collect()
    }

    /// It counts as long as a lease of then would.
    pub(super) fn on_readers(&mut self, sent: Time, readers: ServedBy) {
        let until = sent + self.spec.timings.lease;
        let there = |(id, _): &(WorkloadId, _)| self.spec.workloads.contains_key(id);
        for (id, by) in readers.into_iter().filter(there) {
            // A late answer takes nothing back.
            let known = self.here.readers.get(&id);
            if known.is_none_or(|known| known.until < until) {
                self.here.readers.insert(id, Served { until, by });
            }
        }
        let mut gates = self.here.read_gates.iter();
        self.timers.stirred |= gates.any(|(id, gate)| gate.order != self.read_order(id));
    }

    fn read_order(&self, id: &WorkloadId) -> ReadOrder {
        if self.state.fenced(&self.me).is_some() {
            return Some(BTreeMap::new());
        }
        let counts =
            |s: &&Served| s.until > self.now || self.planted == Some(Planted::ReadersForEver);
        let served = self.here.readers.get(id).filter(counts)?;
        let replicas = &self.spec.workloads.get(id)?.replicas;
        let by = served.by.iter();
        Some(
            by.filter_map(|n| Some((n.clone(), self.target(n, replicas.get(n)?.address))))
                .collect(),
        )
    }

    pub(super) fn step_read_gates(&mut self) {
        let ids: Vec<WorkloadId> = self.here.read_gates.keys().cloned().collect();
        for id in ids {
            let order = self.read_order(&id);
            let gate = self.here.read_gates.get_mut(&id);
            let Some(gate) = gate.filter(|gate| gate.order != order) else {
                continue;
            };
            gate.order.clone_from(&order);
            self.outbox.emit(Effect::Readers {
                workload: id,
                order,
            });
        }
    }

    pub(super) fn on_readers_seen(&mut self, workload: &WorkloadId, report: ReadReport) {
        if let Some(gate) = self.here.read_gates.get_mut(workload) {
            self.timers.stirred |= gate.report.without_counts() != report.without_counts();
            gate.report = report;
        }
    }

    /// When what a read gate goes by counts no longer.
    pub(super) fn readers_due(&self) -> Time {
        let of = |(id, gate): (&WorkloadId, &ReadGate)| {
            let served = self.here.readers.get(id)?;
            gate.order.is_some().then_some(served.until)
        };
        let due = self.here.read_gates.iter().filter_map(of);
        due.filter(|at| *at > self.timers.stepped)
            .min()
            .unwrap_or(Time(u64::MAX))
    }

    /// Whether this node's own replica serves readers, by a word that counts.
    pub fn serves_readers(&self, id: &WorkloadId) -> bool {
        let served = self.here.readers.get(id);
        served.is_some_and(|s| s.until > self.now && s.by.contains(&self.me))
            && self.state.fenced(&self.me).is_none()
    }
}

/// Whether there is a read gate on that node.
pub(super) fn reads_at(reads: Option<&Reads>, node: &NodeId) -> bool {
    reads.is_some_and(|reads| reads.gates.contains_key(node))
}
