//! The exchange between a node and the coordinator: reports one way, leases the other (A2, A4).

use super::{Effect, GateOrder, Node};
use crate::authority::Claim;
use crate::ids::{Epoch, NodeId, Term, WorkloadId};
use crate::message::Message;
use crate::replica::Report;
use crate::state::{Command, Tenure};
use crate::steward::Heard;
use crate::time::Time;
use std::time::Duration;

/// Whom a node checks in with, what it wants, and what others act on in its report.
pub(super) type Essence = (NodeId, Vec<(Claim, Epoch)>, Report);

impl Node {
    fn report(&self) -> Report {
        let replicas =
            self.agents.iter().map(|(id, a)| (id.clone(), a.report(self.state.workload(id), self.now))).collect();
        let gates = self.gates.iter().map(|(id, g)| (id.clone(), g.report.clone())).collect();
        let addresses = self.addresses.iter().map(|(id, k)| (id.clone(), self.address_report(id, k))).collect();
        let hears = self.health.hears(self.now);
        Report { boot: self.boot.clone(), system: self.system.clone(), hears, replicas, gates, addresses }
    }

    /// Which leases this node needs: of the epoch it holds, or that its gate forwards to; of the address that is here.
    fn wants(&self) -> Vec<(Claim, Epoch)> {
        let here = |id: &WorkloadId| {
            let w = self.state.workload(id);
            let holds = w.grantable() == Some(&self.me);
            let gates = self.gates.contains_key(id) && w.grantable().is_some();
            (holds || gates).then(|| (Claim::Primary(id.clone()), w.epoch))
        };
        let address = |id: &WorkloadId| {
            let place = &self.state.workload(id).place;
            let mine = place.holder.as_ref() == Some(&self.me) && !place.leaving;
            mine.then(|| (Claim::Address(id.clone()), place.number))
        };
        self.spec.workloads.keys().flat_map(|id| here(id).into_iter().chain(address(id))).collect()
    }

    /// Beats to everyone and checks in with the coordinator, each heartbeat; checks in at once when something that
    /// others act on has changed.
    pub(super) fn check_in(&mut self) {
        let due = self.beat_due <= self.now;
        if due {
            self.beat_due = self.now + self.spec.timings.heartbeat;
            let heard: Vec<_> = self.health.hears(self.now).into_iter().collect();
            self.beats += 1;
            let others: Vec<NodeId> = self.spec.nodes.keys().filter(|n| **n != self.me).cloned().collect();
            for node in others {
                self.emit(Effect::Send {
                    to: node,
                    message: Message::Beat { number: self.beats, heard: heard.clone() },
                });
            }
        }
        let report = self.report();
        if due && !self.is_coordinator() {
            // What it can say of itself when it is asked and nobody leads.
            self.reports.insert(self.me.clone(), Heard { at: self.now, report: report.clone() });
        }
        let Some(coordinator) = self.coordinator().cloned() else { return };
        let wants = self.wants();
        let essence = (coordinator.clone(), wants.clone(), essence(&report));
        let news = self.last_essence.as_ref() != Some(&essence);
        if !due && !news {
            return;
        }
        self.last_essence = Some(essence);
        if coordinator == self.me {
            let me = self.me.clone();
            self.on_checkin(&me, self.now, wants, report);
        } else {
            self.send(coordinator, Message::Checkin { sent: self.now, wants, report, news });
        }
    }

    pub(super) fn on_checkin(&mut self, from: &NodeId, sent: Time, wants: Vec<(Claim, Epoch)>, report: Report) {
        if !self.is_coordinator() {
            return;
        }
        let fresh = Heard { at: self.now, report };
        self.reports.insert(from.clone(), fresh);
        let leases: Vec<_> = wants.into_iter().filter_map(|(claim, epoch)| self.grant(from, claim, epoch)).collect();
        let term = self.term();
        if *from == self.me {
            self.on_grant(sent, term, &leases);
        } else {
            self.send(from.clone(), Message::Grant { sent, term, leases });
        }
    }

    /// Grants one lease, if this coordinator may: its leadership is acknowledged, its own term's first entry is
    /// applied, and nothing appended ends this epoch (A2, A3).
    fn grant(&mut self, to: &NodeId, claim: Claim, epoch: Epoch) -> Option<(Claim, Epoch, Duration)> {
        let leads = self.consensus.is_established() && self.consensus.leadership_until(self.now)? > self.now;
        let id = claim.workload();
        let w = self.state.workload(id);
        let ends = |c: &Command| match (c, &claim) {
            (Command::Revoke { workload, .. } | Command::Assign { workload, .. }, Claim::Primary(id))
            | (Command::Withdraw { workload, .. }, Claim::Address(id)) => workload == id,
            _ => false,
        };
        let ending = self.consensus.log().after(self.state.applied).iter().any(|e| ends(&e.command));
        let fences = |c: &Command| matches!(c, Command::Fence { node, .. } if node == to);
        let fenced = self.state.fenced(to).is_some()
            || self.consensus.log().after(self.state.applied).iter().any(|e| fences(&e.command));
        let (current, holder) = match &claim {
            Claim::Primary(_) => (w.epoch, w.grantable()?),
            Claim::Address(_) => (w.place.number, w.place.holder.as_ref().filter(|_| !w.place.leaving)?),
        };
        if !leads || ending || fenced || current != epoch {
            return None;
        }
        if holder == to {
            self.ledger.on_grant(&claim, epoch, to, self.now);
        } else if !(matches!(claim, Claim::Primary(_)) && self.spec.workloads.get(id)?.gates.contains_key(to)) {
            return None;
        }
        Some((claim, epoch, self.spec.timings.lease))
    }

    pub(super) fn on_grant(&mut self, sent: Time, term: Term, leases: &[(Claim, Epoch, Duration)]) {
        if term < self.term() {
            return;
        }
        self.granted_at = self.now;
        for (claim, epoch, lease) in leases {
            let id = claim.workload();
            let w = self.state.workload(id);
            if let Claim::Address(_) = claim {
                let mine = w.place.holder.as_ref() == Some(&self.me) && !w.place.leaving && w.place.number == *epoch;
                if let Some(keeper) = self.addresses.get_mut(id)
                    && mine
                    && let Some(deadline) = keeper.authority.on_grant(*epoch, sent, *lease)
                {
                    self.effects.push_back(Effect::Arm { claim: claim.clone(), deadline });
                }
                continue;
            }
            if let Some(gate) = self.gates.get_mut(id) {
                self.stirred |= matches!(gate.order, GateOrder::Hold { .. });
                gate.lease.on_grant(*epoch, sent, *lease);
            }
            let holds = match &w.tenure {
                Tenure::Assigned { holder } | Tenure::Open { holder, .. } => *holder == self.me && w.epoch == *epoch,
                _ => false,
            };
            if let Some(agent) = self.agents.get_mut(id)
                && holds
                && let Some(deadline) = agent.authority.on_grant(*epoch, sent, *lease)
            {
                self.effects.push_back(Effect::Arm { claim: claim.clone(), deadline });
            }
        }
    }
}

/// What others act on: a report without the numbers that move all the time.
fn essence(report: &Report) -> Report {
    let mut essence = report.clone();
    essence.hears.clear();
    for replica in essence.replicas.values_mut() {
        replica.age = Duration::ZERO;
        replica.down_for = replica.down_for.map(|_| Duration::ZERO);
        replica.doing = replica.doing.take().map(|(what, _)| (what, Duration::ZERO));
        replica.seen = replica.seen.take().map(|seen| seen.without_progress());
    }
    for gate in essence.gates.values_mut() {
        *gate = gate.without_counts();
    }
    for address in essence.addresses.values_mut() {
        address.flows = 0;
    }
    essence
}
