//! What a gate on this node does: forward to the primary of the opened epoch under its own lease
//! (C8), or hold.

use super::{Effect, Node};
use crate::gate::{Gate, GateOrder};
use crate::ids::WorkloadId;
use crate::planted::Planted;
use crate::state::Tenure;
use crate::time::Time;

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
        let to = replica.address;
        GateOrder::Forward {
            epoch: w.epoch,
            primary: holder.clone(),
            to,
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
