//! The shape of a node: what of the spec is on it. At a start, and whenever the spec is another
//! one, whatever follows from that is made or dismissed here and nowhere else.

use super::Node;
use super::agenda::Agenda;
use super::inout::{Effect, Write};
use crate::address::{AddressOrder, Keeper};
use crate::authority::{Authority, Claim, Deadline};
use crate::consensus::Pace;
use crate::gate::Gate;
use crate::ids::{NodeId, WorkloadId};
use crate::replica::agent::{Agent, Kept};
use crate::spec::{Spec, Timings};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// By which part of a heartbeat the coordinator's are sooner: more than a busy host is late.
const COORDINATOR_SOONER: u32 = 16;

/// What of the workloads is on this node.
#[derive(Default)]
pub(super) struct Here {
    pub agents: BTreeMap<WorkloadId, Agent>,
    pub gates: BTreeMap<WorkloadId, Gate>,
    pub addresses: BTreeMap<WorkloadId, Keeper>,
    /// Whose servers are looked at now and then only.
    pub calm: BTreeSet<WorkloadId>,
    /// Replicas that the spec has elsewhere now, until nothing of them runs here.
    dismissed: BTreeMap<WorkloadId, Agent>,
    /// Addresses that the spec has elsewhere now, until they are gone from here.
    vacated: BTreeMap<WorkloadId, Keeper>,
}

/// What was there before this run.
#[derive(Default)]
pub(super) struct Before {
    pub kept: BTreeMap<WorkloadId, Kept>,
    /// What the deadman still counts down is heard until then (A7).
    pub until: Option<Deadline>,
}

impl Here {
    /// The workloads of which there is a replica, a gate or an address.
    pub fn workloads(&self) -> BTreeSet<&WorkloadId> {
        let served = self.agents.keys().chain(self.gates.keys());
        served.chain(self.addresses.keys()).collect()
    }

    /// The agent of a replica that is here, or that is being dismissed.
    pub fn agent_mut(&mut self, id: &WorkloadId) -> Option<&mut Agent> {
        let here = self.agents.get_mut(id);
        here.or_else(|| self.dismissed.get_mut(id))
    }

    /// The keeper of an address that may be held here, or that is being given up for good.
    pub fn keeper_mut(&mut self, id: &WorkloadId) -> Option<&mut Keeper> {
        let here = self.addresses.get_mut(id);
        here.or_else(|| self.vacated.get_mut(id))
    }

    /// Makes what the spec places here and is not here yet. What is still being dismissed comes
    /// back once that is over.
    fn make(&mut self, spec: &Spec, me: &NodeId, mut before: Before) {
        let authority = || {
            before
                .until
                .map_or_else(Authority::default, Authority::awaiting)
        };
        for (id, workload) in &spec.workloads {
            if workload.replicas.contains_key(me)
                && !self.agents.contains_key(id)
                && !self.dismissed.contains_key(id)
            {
                let mut agent = Agent::new(me.clone(), before.kept.remove(id).unwrap_or_default());
                agent.authority = authority();
                self.agents.insert(id.clone(), agent);
            }
            if workload.may_hold_address(me)
                && !self.addresses.contains_key(id)
                && !self.vacated.contains_key(id)
            {
                self.addresses.insert(id.clone(), Keeper::new(authority()));
            }
            if workload.gates.contains_key(me) {
                self.gates.entry(id.clone()).or_default();
            }
        }
    }

    /// Takes out what the spec does not place here any more.
    fn dismiss(&mut self, spec: &Spec, me: &NodeId) {
        let workload = |id: &WorkloadId| spec.workloads.get(id);
        let has_no_replica =
            |id: &WorkloadId| !workload(id).is_some_and(|w| w.replicas.contains_key(me));
        let agents = self.agents.extract_if(.., |id, _| has_no_replica(id));
        self.dismissed.extend(agents);
        let has_no_address =
            |id: &WorkloadId| !workload(id).is_some_and(|w| w.may_hold_address(me));
        let keepers = self.addresses.extract_if(.., |id, _| has_no_address(id));
        self.vacated.extend(keepers);
        self.gates
            .retain(|id, _| workload(id).is_some_and(|w| w.gates.contains_key(me)));
        self.calm.retain(|id| self.agents.contains_key(id));
    }
}

pub(super) fn pace(t: &Timings) -> Pace {
    Pace {
        // The coordinator's go a little sooner, so that everybody's beats and check-ins go along
        // with the answer to them.
        heartbeat: t.heartbeat - t.heartbeat / COORDINATOR_SOONER,
        election_timeout: t.election_timeout,
        election_jitter: t.election_jitter,
    }
}

impl Node {
    /// Takes another spec. Who votes is not its business (V1): that is what the log says.
    pub fn reshape(&mut self, spec: Arc<Spec>) {
        self.spec = spec;
        let spec = &*self.spec;
        self.consensus.reshape(
            spec.nodes.keys().cloned().collect(),
            pace(&spec.timings),
            self.now,
        );
        self.health
            .reshape(&spec.timings, spec.nodes.keys().cloned().collect());
        self.links.retain(|node| spec.nodes.contains_key(node));
        if let Some(lead) = &mut self.lead {
            lead.agenda = Agenda::new(spec);
            lead.reports.retain(|node, _| spec.nodes.contains_key(node));
            lead.notes.retain(|id, _| spec.workloads.contains_key(id));
            let powered = |node: &NodeId| spec.nodes.get(node).is_some_and(|n| n.power.is_some());
            lead.devices.devices.retain(|node, _| powered(node));
        }
        self.here.dismiss(spec, &self.me);
        self.take_shape(Before::default());
    }

    /// Makes what is missing, and has whoever carries effects out do the same.
    pub(super) fn take_shape(&mut self, before: Before) {
        self.here.make(&self.spec, &self.me, before);
        self.timers.stirred = true;
        self.outbox.emit_now(Effect::Shape {
            spec: self.spec.clone(),
        });
    }

    /// What is left of what was dismissed; where nothing is, its hands may go too.
    pub(super) fn step_dismissed(&mut self) {
        let before = self.here.dismissed.len() + self.here.vacated.len();
        let ids: Vec<WorkloadId> = self.here.dismissed.keys().cloned().collect();
        for id in ids {
            self.dismiss_agent(id);
        }
        let ids: Vec<WorkloadId> = self.here.vacated.keys().cloned().collect();
        for id in ids {
            self.vacate_address(id);
        }
        if self.here.dismissed.len() + self.here.vacated.len() < before {
            // It may have been placed here again meanwhile.
            self.take_shape(Before::default());
        }
    }

    fn dismiss_agent(&mut self, id: WorkloadId) {
        let Some(mut agent) = self.here.dismissed.remove(&id) else {
            return;
        };
        let has_left = agent.leave(&self.agent_scene(&id));
        self.carry_out(&id, agent.take_orders());
        if has_left {
            self.outbox.write_only(Write::Forgotten {
                workload: id.clone(),
            });
            self.outbox.emit_now(Effect::Dismiss {
                claim: Claim::Primary(id),
            });
        } else {
            self.here.dismissed.insert(id, agent);
        }
    }

    fn vacate_address(&mut self, id: WorkloadId) {
        let Some(mut keeper) = self.here.vacated.remove(&id) else {
            return;
        };
        if keeper.order.is_none_or(|order| order.hold.is_some()) {
            let order = AddressOrder {
                turn: keeper.order.map_or(1, |o| o.turn + 1),
                hold: None,
            };
            keeper.order = Some(order);
            self.outbox.emit_now(Effect::Address {
                workload: id.clone(),
                order,
                connections: Vec::new(),
            });
        }
        let claim = Claim::Address(id.clone());
        if keeper.is_gone() && keeper.authority.disarms(self.now) {
            self.outbox.emit_now(Effect::Disarm {
                claim: claim.clone(),
            });
        }
        if keeper.is_gone() && keeper.authority.armed().is_none() {
            self.outbox.emit_now(Effect::Dismiss { claim });
        } else {
            self.here.vacated.insert(id, keeper);
        }
    }

    /// When a dismissed replica has to be looked at again.
    pub(super) fn dismissed_due(&self) -> crate::time::Time {
        let due = self.here.dismissed.values().map(Agent::next_due);
        due.min().unwrap_or(crate::time::Time(u64::MAX))
    }
}
