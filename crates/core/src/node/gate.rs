//! What a gate on this node does: forward to the primary of the opened epoch under its own lease
//! (C8), or hold.

use super::{Effect, Node};
use crate::gate::{Gate, GateOrder, Target};
use crate::ids::{NodeId, WorkloadId};
use crate::planted::Planted;
use crate::replica::GateReport;
use crate::state::Tenure;
use crate::time::Time;
use std::collections::BTreeMap;
use std::net::SocketAddr;

impl Node {
    fn gate_order(&self, id: &WorkloadId) -> GateOrder {
        let w = self.state.workload(id);
        if self.state.fenced(&self.me).is_some() {
            return GateOrder::Hold { cut: true };
        }
        let (
            Tenure::Open {
                holder,
                serving: true,
            },
            Some(gate),
        ) = (&w.tenure, self.here.gates.get(id))
        else {
            return GateOrder::Hold { cut: true };
        };
        let lapsed = gate
            .lease
            .until(w.epoch)
            .is_none_or(|until| until <= self.now);
        if lapsed && self.planted != Some(Planted::GateWithoutLease) {
            // Out of touch: whoever was primary may still be it, so that connections under way are left
            // alone.
            let same = matches!(gate.order, GateOrder::Forward { epoch, .. } if epoch == w.epoch);
            return GateOrder::Hold {
                cut: !same && !matches!(gate.order, GateOrder::Hold { cut: false }),
            };
        }
        // A holder that the spec does not name (any more) has no address to forward to.
        let Some(replica) = self
            .spec
            .workloads
            .get(id)
            .and_then(|s| s.replicas.get(holder))
        else {
            return GateOrder::Hold { cut: true };
        };
        GateOrder::Forward {
            epoch: w.epoch,
            primary: holder.clone(),
            to: self.target(holder, replica.address),
            round: self.way_round(id, gate),
        }
    }

    /// A server to forward to. Where the link to its host alone is broken nothing else would move for
    /// it: the gate has to try. A host that is heard nowhere is another matter.
    pub(super) fn target(&self, node: &NodeId, at: SocketAddr) -> Target {
        let timings = &self.spec.timings;
        let silent = |limit| *node != self.me && self.health.is_broken(node, limit, self.now);
        let soon = timings.heartbeat * 3;
        // A peer says whom it has heard within the floor: that was after this node heard it last.
        let heard_since = silent(timings.suspicion_floor + soon)
            && self.health.relay_to(node, self.now).is_some();
        Target {
            at,
            doubted: silent(soon),
            cut: heard_since,
        }
    }

    /// Where clients go round by, if this gate is told so and does not reach the primary itself.
    fn way_round(&self, id: &WorkloadId, gate: &Gate) -> Option<SocketAddr> {
        let (node, until) = gate.round.as_ref()?;
        let counts = gate.report.unreachable && *until > self.now;
        let gates = &self.spec.workloads.get(id)?.gates;
        counts.then(|| gates.get(node).copied()).flatten()
    }

    /// A gate that reaches the primary, for each gate of that node which does not; as a coordinator.
    pub(super) fn ways_round_for(&self, node: &NodeId) -> BTreeMap<WorkloadId, NodeId> {
        let Some(lead) = &self.lead else {
            return BTreeMap::new();
        };
        let gate = |n: &NodeId, id: &WorkloadId| lead.reports.get(n)?.report.parts.gates.get(id);
        let scene = self.scene_of(lead);
        let way = |id: &WorkloadId| {
            let epoch = self.state.workload(id).epoch;
            let reaches = |n: &&NodeId| {
                let forwards = |g: &GateReport| g.forwarding == Some(epoch) && !g.unreachable;
                *n != node && scene.is_up(n) && gate(n, id).is_some_and(forwards)
            };
            let mut gates = self.spec.workloads.get(id)?.gates.keys();
            Some((id.clone(), gates.find(reaches)?.clone()))
        };
        // Every check-in asks for this: it looks at that node's own gates alone.
        let own = lead
            .reports
            .get(node)
            .map(|heard| &heard.report.parts.gates);
        let shut = own.into_iter().flatten().filter(|(_, g)| g.unreachable);
        shut.filter_map(|(id, _)| way(id)).collect()
    }

    pub(super) fn on_ways_round(&mut self, sent: Time, ways: BTreeMap<WorkloadId, NodeId>) {
        let until = sent + self.spec.timings.lease;
        for (id, node) in ways {
            // Two that go round by each other would never end: what was said before it reached the
            // primary itself counts no more.
            if let Some(gate) = self.here.gates.get_mut(&id)
                && gate.report.unreachable
            {
                gate.round = Some((node, until));
                self.timers.stirred = true;
            }
        }
    }

    pub(super) fn on_gate_seen(&mut self, id: &WorkloadId, report: GateReport) {
        if let Some(gate) = self.here.gates.get_mut(id) {
            self.timers.stirred |= gate.report.without_counts() != report.without_counts();
            if !report.unreachable {
                gate.round = None;
            }
            gate.report = report;
        }
    }

    pub(super) fn step_gates(&mut self) {
        let ids: Vec<WorkloadId> = self.here.gates.keys().cloned().collect();
        for id in ids {
            let order = self.gate_order(&id);
            let gate = self
                .here
                .gates
                .get_mut(&id)
                .expect("its id was just listed");
            if gate.order != order {
                gate.order = order.clone();
                self.outbox.emit(Effect::Gate {
                    workload: id,
                    order,
                });
            }
        }
    }

    /// When a gate's lease runs out.
    pub(super) fn gates_due(&self) -> Time {
        let until =
            |(id, gate): (&WorkloadId, &Gate)| gate.lease.until(self.state.workload(id).epoch);
        let forwarding = |g: &(&WorkloadId, &Gate)| matches!(g.1.order, GateOrder::Forward { .. });
        // What has passed was there to be acted on in the last step.
        self.here
            .gates
            .iter()
            .filter(forwarding)
            .filter_map(until)
            .filter(|at| *at > self.timers.stepped)
            .min()
            .unwrap_or(Time(u64::MAX))
    }
}
