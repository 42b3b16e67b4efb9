//! The shape of a node: what of the spec is on it. At a start, and whenever the spec is another
//! one, whatever follows from that is made or dismissed here and nowhere else.

use super::Node;
use super::agenda::Agenda;
use super::here::{Before, pace};
use super::inout::{Effect, Write};
use crate::address::AddressOrder;
use crate::authority::Claim;
use crate::command::{ClusterAct, Command};
use crate::consensus::Stored;
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::replica::Examined;
use crate::replica::agent::Agent;
use crate::spec::Revision;
use crate::time::Time;
use std::sync::Arc;
use std::time::Duration;

/// The spec that a store knows to have been in force, or about to be: whom to talk to before the log
/// is known to be current. Nothing is done by it until then (R7).
pub(super) fn outline(stored: &Stored) -> Option<Arc<Revision>> {
    let snapshot = stored.snapshot.as_ref().map(|s| &s.state.charter);
    let kept = snapshot.and_then(|charter| charter.revision.clone());
    let intended = |intent: OperationId| {
        let entry = stored.entries.iter().find(|e| e.index.0 == intent.0);
        match entry.map(|e| &e.command) {
            Some(Command::Cluster(ClusterAct::Intend(intent))) => intent.want.revision().cloned(),
            _ => snapshot?.intents.get(&intent)?.pending().cloned(),
        }
    };
    let adopted = stored.entries.iter().rev().find_map(|e| match &e.command {
        Command::Cluster(ClusterAct::Adopt { intent }) => intended(*intent),
        Command::Cluster(ClusterAct::Found { revision, .. }) => Some(revision.clone()),
        _ => None,
    });
    adopted.or(kept)
}

impl Node {
    /// Takes the spec that is in force, if it is another one than this node acts by. Once after
    /// entries were applied, never among them: a replay passes old ones.
    pub(super) fn follow_charter(&mut self) {
        let in_force = self.state.charter.revision.clone();
        let in_force = in_force.unwrap_or_else(|| self.revision.clone());
        let in_force = self.acts_by(in_force);
        let same = Arc::ptr_eq(&in_force, &self.revision) || *in_force == *self.revision;
        let logs = self.state.charter.revision.is_some() && !self.logged;
        self.logged |= logs;
        if same && self.state.charter.live == self.live && !logs {
            self.revision = in_force;
        } else {
            self.reshape(in_force);
        }
        self.examine();
        self.rest_steps();
    }

    /// Takes another spec. Who votes is not its business (V1): that is what the log says.
    pub fn reshape(&mut self, revision: Arc<Revision>) {
        (self.revision, self.spec) = (revision.clone(), revision.spec.clone());
        self.live.clone_from(&self.state.charter.live);
        self.outline_due = self.state.charter.revision.is_some();
        // What is not there any more is in no difference from what was said before.
        self.checkins.said = None;
        let spec = &*self.spec;
        self.consensus.reshape(
            spec.nodes.keys().cloned().collect(),
            pace(&spec.timings),
            self.now,
        );
        let charter = &self.state.charter;
        let bounds = (
            charter.longest(&spec.timings, |t| t.suspicion_floor),
            charter.longest(&spec.timings, |t| t.suspicion_ceiling),
        );
        let members = spec.nodes.keys().cloned().collect();
        self.health.reshape(bounds, members, revision.number);
        self.heads.retain(|id| spec.workloads.contains_key(id));
        self.links.retain(|node| spec.nodes.contains_key(node));
        if let Some(lead) = &mut self.lead {
            lead.shaped_at = self.now;
            lead.agenda = Agenda::new(spec);
            lead.reports.retain(|node, _| spec.nodes.contains_key(node));
            lead.notes.retain(|id, _| spec.workloads.contains_key(id));
            lead.outlooks
                .retain(|id, _| spec.workloads.contains_key(id));
            let powered = |node: &NodeId| spec.nodes.get(node).is_some_and(|n| n.power.is_some());
            lead.devices.devices.retain(|node, _| powered(node));
        }
        self.here.dismiss(spec, &self.me);
        self.take_shape(Before::default());
    }

    /// Has this host looked at for the revision that is not in force yet, where that gives it
    /// something (R8).
    fn examine(&mut self) {
        let pending = self.state.charter.pending();
        let wanted = pending.filter(|(id, revision)| {
            let change = &self.state.charter.intents[id].change;
            change.concerns(&revision.spec, &self.me)
        });
        let wanted = wanted.map(|(id, revision)| (id, revision.clone()));
        let id = wanted.as_ref().map(|(id, _)| *id);
        if self.here.examining != id {
            (self.here.examining, self.here.examined) = (id, None);
            self.outbox.emit_now(Effect::Examine { wanted });
        }
    }

    /// What was seen of the host for the revision that is pending now.
    pub(super) fn examined(&self) -> Option<Examined> {
        let seen = self.here.examined.clone();
        seen.filter(|seen| Some(seen.intent) == self.here.examining)
    }

    /// Makes what is missing, and has whoever carries effects out do the same.
    pub(super) fn take_shape(&mut self, before: Before) {
        self.here.make(&self.spec, &self.me, before);
        self.timers.stirred = true;
        self.outbox.emit_now(Effect::Shape {
            revision: self.revision.clone(),
            longest_lease: self.longest_lease(),
            is_logged: self.logged,
        });
    }

    /// The longest lease that may be granted here, or that is counted down still (A2).
    pub(super) fn longest_lease(&self) -> Duration {
        let charter = &self.state.charter;
        charter.longest(&self.spec.timings, |t| t.lease)
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
    pub(super) fn dismissed_due(&self) -> Time {
        let due = self.here.dismissed.values().map(Agent::next_due);
        due.min().unwrap_or(Time(u64::MAX))
    }
}
