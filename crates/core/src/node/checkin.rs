//! The exchange between a node and the coordinator: reports one way, leases the other (A2, A4).

use super::checkins::Said;
use super::lead::Waiting;
use super::readers::ServedBy;
use super::{CALM_LOOKS, Effect, Node};
use crate::authority::{Claim, Lease};
use crate::command::{Command, NodeAct, WorkloadAct};
use crate::gate::GateOrder;
use crate::heads::Head;
use crate::health::Hears;
use crate::ids::{Epoch, NodeId, WorkloadId};
use crate::message::{Message, Says, heads_beside};
use crate::planted::Planted;
use crate::replica::{Observation, Parts, Report, Role};
use crate::spec::Clock;
use crate::state::Tenure;
use crate::steward::Heard;
use crate::time::Time;
use std::collections::BTreeMap;

impl Node {
    /// What this node said in its last check-in, when it was sent, and its number.
    pub fn last_said(&self) -> Option<((Time, u64), &Parts)> {
        self.checkins
            .said
            .as_ref()
            .map(|said| ((said.sent, said.number), &said.parts))
    }

    pub(super) fn report(&self) -> Report {
        let replicas = self
            .here
            .agents
            .iter()
            .map(|(id, a)| (id.clone(), a.report(self.state.workload(id), self.now)))
            .collect();
        let gates = self
            .here
            .gates
            .iter()
            .map(|(id, g)| (id.clone(), g.report.clone()))
            .collect();
        let addresses = self
            .here
            .addresses
            .iter()
            .map(|(id, k)| (id.clone(), self.address_report(id, k)))
            .collect();
        let read_gates = self.here.read_gates.iter();
        let read_gates = read_gates.map(|(id, g)| (id.clone(), g.report.clone()));
        let parts = Parts {
            hears_ill: None,
            replicas,
            gates,
            addresses,
            read_gates: read_gates.collect(),
            examined: self.examined(),
            prepared: self.prepared(),
            about: None,
        };
        let (store, counts) = (self.consensus.store().cloned(), self.consensus.counts());
        Report {
            boot: self.host.boot.clone(),
            store,
            counts,
            system: self.host.system.clone(),
            parts,
        }
    }

    /// Which leases this node needs: of the epoch it holds, or that its gate forwards to; of the
    /// address that is here.
    fn wants(&self) -> Vec<(Claim, Epoch)> {
        let here = |id: &WorkloadId| {
            let w = self.state.workload(id);
            let holds = w.grantable() == Some(&self.me);
            let gates = self.here.gates.contains_key(id) && w.grantable().is_some();
            (holds || gates).then(|| (Claim::Primary(id.clone()), w.epoch))
        };
        let address = |id: &WorkloadId| {
            let place = &self.state.workload(id).place;
            let mine = place.holder.as_ref() == Some(&self.me) && !place.leaving;
            mine.then(|| (Claim::Address(id.clone()), place.number))
        };
        let on_this_node = self.here.workloads();
        on_this_node
            .into_iter()
            .flat_map(|id| here(id).into_iter().chain(address(id)))
            .collect()
    }

    /// Beats to everyone and checks in with the coordinator, each heartbeat; checks in at once when
    /// something that others act on has changed.
    pub(super) fn check_in(&mut self) {
        let due = self.timers.beat <= self.now;
        if due {
            self.timers.beat = self.now + self.spec.timings.heartbeat;
            // Every workload is looked at again with each heartbeat.
            if let Some(lead) = &mut self.lead {
                lead.agenda.add_all();
            }
            self.judge_readers();
            self.keep_names();
            self.beat();
        }
        let report = self.report();
        let Some(coordinator) = self.coordinator().cloned() else {
            return;
        };
        let wants = self.wants();
        let still = report.parts.still();
        let news = self.is_news(&coordinator, &wants, &still);
        if !due && !news {
            return;
        }
        if coordinator == self.me {
            let Some(lead) = &mut self.lead else { return };
            if news {
                lead.agenda.add_node(&coordinator);
            }
            lead.reports
                .insert(coordinator.clone(), Heard::now(self.now, report));
            self.answer_checkin(&coordinator, 0, self.now, wants, news);
        } else {
            let says = self.says(&coordinator, report, still);
            let number = self.checkins.count;
            self.send(
                coordinator,
                Message::Checkin {
                    number,
                    sent: self.now,
                    wants,
                    says,
                    news,
                },
            );
        }
    }

    fn beat(&mut self) {
        self.links.beats += 1;
        let lately = self.health.lately(self.now);
        let heads = self.heads_to_tell(heads_beside(&lately));
        let others: Vec<NodeId> = self
            .spec
            .nodes
            .keys()
            .filter(|n| **n != self.me)
            .cloned()
            .collect();
        for to in others {
            let hears = Hears {
                you: self.health.age(&to, self.now),
                lately: lately.clone(),
                of: self.health.revision(),
            };
            let message = Message::Beat {
                number: self.links.beats,
                hears,
                heads: heads.clone(),
                votes: self.consensus.voters_at(),
            };
            self.send(to, message);
        }
    }

    /// How far the own primaries are, and those that were not heard lately: whoever has to judge
    /// their standbys next may not have heard the last word of them. Where they do not fit a
    /// datagram beside the rest of the beat, the next ones come with the next.
    fn heads_to_tell(&self, room: usize) -> Vec<(WorkloadId, Head)> {
        let old = self.spec.timings.heartbeat * 2;
        let told = |id: &&WorkloadId, at: Time| {
            self.here.agents.contains_key(*id) || self.now.since(at) > old
        };
        let all: Vec<_> = self
            .heads
            .iter()
            .filter(|(id, _, at)| told(id, *at))
            .map(|(id, head, _)| (id.clone(), head))
            .collect();
        let turn = if all.len() <= room {
            0
        } else {
            self.links.beats as usize * room % all.len()
        };
        all.iter()
            .cycle()
            .skip(turn)
            .take(room.min(all.len()))
            .cloned()
            .collect()
    }

    /// Takes from a report how far a primary there is.
    fn note_heads(&mut self, from: &NodeId) {
        let Some(heard) = self.lead.as_ref().and_then(|lead| lead.reports.get(from)) else {
            return;
        };
        for (id, replica) in &heard.report.parts.replicas {
            let opened = self
                .state
                .workload(id)
                .opened
                .as_ref()
                .filter(|o| o.holder == *from);
            let seen = replica.seen.as_ref().filter(|o| o.is(Role::Primary));
            if let Some((opened, position)) = opened.zip(seen.and_then(Observation::number)) {
                self.heads.note(
                    id,
                    Head {
                        epoch: opened.epoch,
                        position,
                    },
                    true,
                    self.now,
                );
            }
        }
    }

    /// Whether others act on what this check-in says and the one before did not say.
    fn is_news(&mut self, coordinator: &NodeId, wants: &[(Claim, Epoch)], still: &Parts) -> bool {
        let said = self
            .checkins
            .said
            .as_ref()
            .is_some_and(|s| s.to == *coordinator && s.parts == *still);
        let wanted = self
            .checkins
            .essence
            .as_ref()
            .is_some_and(|(to, old, _)| to == coordinator && old == wants);
        if said && wanted {
            return false;
        }
        let essence = Some((coordinator.clone(), wants.to_vec(), essence(still.clone())));
        let news = self.checkins.essence != essence;
        self.checkins.essence = essence;
        news
    }

    /// All, or what is different from the last check-in if the coordinator has that: most of the
    /// time nothing is, and a report is the largest thing that nodes send each other all the time.
    fn says(&mut self, coordinator: &NodeId, mut report: Report, still: Parts) -> Says {
        let (now, term, rest) = (
            self.now,
            self.term(),
            self.spec.timings.heartbeat * CALM_LOOKS,
        );
        let counts = report.counts;
        let has_it =
            |s: &Said| s.is_there && s.to == *coordinator && s.term == term && s.counts == counts;
        let before = self.checkins.said.take().filter(has_it);
        let heard_at = before
            .as_ref()
            .map(|b| b.heard_at)
            .filter(|at| now.since(*at) < rest);
        if heard_at.is_none() {
            report.parts.hears_ill = Some(self.health.ill(now));
        }
        let about = &self.host.about;
        if before.as_ref().is_none_or(|b| b.about != about.number) {
            report.parts.about = about.newest.clone();
        }
        let says = match before {
            Some(before) => Says::Delta(
                before.number,
                Box::new(report.parts.since(&before.parts, &still)),
            ),
            None => Says::Full(Box::new(report)),
        };
        self.checkins.count += 1;
        self.checkins.said = Some(Said {
            to: coordinator.clone(),
            term,
            number: self.checkins.count,
            sent: now,
            counts,
            parts: still,
            heard_at: heard_at.unwrap_or(now),
            about: self.host.about.number,
            is_there: false,
        });
        says
    }

    /// Takes what a check-in says, and returns whether it did: of two the one that was sent later
    /// counts, and nothing counts that refers to what is not here.
    pub(super) fn hear(&mut self, from: &NodeId, number: u64, sent: Time, says: Says) -> bool {
        let Some(lead) = &mut self.lead else {
            return false;
        };
        let careless = self.planted == Some(Planted::MixReports);
        let (at, known) = (self.now, lead.reports.get_mut(from));
        match (says, known) {
            (Says::Full(report), Some(known))
                if report.boot == known.report.boot
                    && (sent, number) < (known.sent, known.number) =>
            {
                return false;
            }
            (Says::Full(report), _) => {
                lead.reports.insert(
                    from.clone(),
                    Heard {
                        at,
                        sent,
                        number,
                        report: *report,
                    },
                );
            }
            (Says::Delta(before, changed), Some(known)) if before == known.number || careless => {
                known.report.parts.take(*changed, sent.since(known.sent));
                (known.at, known.sent, known.number) = (at, sent, number);
            }
            (Says::Delta(..), _) => return false,
        }
        self.note_heads(from);
        true
    }

    pub(super) fn answer_checkin(
        &mut self,
        from: &NodeId,
        number: u64,
        sent: Time,
        wants: Vec<(Claim, Epoch)>,
        news: bool,
    ) {
        let Some(lead) = &mut self.lead else { return };
        let own = self.spec.nodes.get(&self.me);
        if own.is_none_or(|node| node.clock == Clock::MayStop) {
            // Its own clock does not tell whether somebody else was elected meanwhile: what a
            // majority answers from here on does.
            lead.unanswered.retain(|w| w.from != *from);
            lead.unanswered.push_back(Waiting {
                from: from.clone(),
                number,
                sent,
                wants,
                news,
                at: self.now,
            });
            return self.answer_waiting();
        }
        self.grant_leases(from, number, sent, wants, news);
    }

    /// Answers the check-ins that came before something which a majority has answered since was
    /// sent (C4).
    pub(super) fn answer_waiting(&mut self) {
        let Some(acknowledged) = self.consensus.acknowledged_at(self.now) else {
            return;
        };
        while let Some(w) = self
            .lead
            .as_mut()
            .and_then(|lead| lead.unanswered.pop_front_if(|w| w.at <= acknowledged))
        {
            self.grant_leases(&w.from, w.number, w.sent, w.wants, w.news);
        }
    }

    fn grant_leases(
        &mut self,
        from: &NodeId,
        number: u64,
        sent: Time,
        wants: Vec<(Claim, Epoch)>,
        news: bool,
    ) {
        let leases: Vec<_> = wants
            .into_iter()
            .filter_map(|(claim, epoch)| self.grant(from, claim, epoch))
            .collect();
        let term = self.term();
        let leads = self.consensus.is_established()
            && self.consensus.leadership_until(self.now) > Some(self.now);
        let (readers, round) = if leads {
            (self.readers_for(from), self.ways_round_for(from))
        } else {
            (ServedBy::new(), BTreeMap::new())
        };
        if *from == self.me {
            self.on_grant(sent, &leases);
            self.on_readers(sent, readers);
            self.on_ways_round(sent, round);
        } else {
            self.send(
                from.clone(),
                Message::Grant {
                    number,
                    sent,
                    term,
                    leases,
                    readers,
                    round,
                    news,
                },
            );
        }
    }

    /// Grants one lease, if this coordinator may: its leadership is acknowledged, its own term's
    /// first entry is applied, and nothing appended ends this epoch (A2, A3).
    fn grant(&mut self, to: &NodeId, claim: Claim, epoch: Epoch) -> Option<Lease> {
        let leads = self.consensus.is_established()
            && self.consensus.leadership_until(self.now)? > self.now;
        let id = claim.workload();
        let w = self.state.workload(id);
        let ends = |c: &Command| match (c, &claim) {
            (
                Command::Workload(workload, WorkloadAct::Revoke { .. })
                | Command::Workload(workload, WorkloadAct::Assign { .. }),
                Claim::Primary(id),
            )
            | (Command::Workload(workload, WorkloadAct::Withdraw { .. }), Claim::Address(id)) => {
                workload == id
            }
            _ => false,
        };
        let ending = self
            .consensus
            .log()
            .after(self.state.applied)
            .iter()
            .any(|e| ends(&e.command));
        let fences =
            |c: &Command| matches!(c, Command::Node(node, NodeAct::Fence { .. }) if node == to);
        let fenced = self.state.fenced(to).is_some()
            || self
                .consensus
                .log()
                .after(self.state.applied)
                .iter()
                .any(|e| fences(&e.command));
        let (current, holder) = match &claim {
            Claim::Primary(_) => (w.epoch, w.grantable()?),
            Claim::Address(_) => (
                w.place.number,
                w.place.holder.as_ref().filter(|_| !w.place.leaving)?,
            ),
        };
        let lease = Lease {
            claim: claim.clone(),
            epoch,
            length: self.spec.timings.lease,
            kill_bound: self.spec.timings.kill_bound,
        };
        if ending && self.planted == Some(Planted::GrantWhatEnds) {
            return Some(lease);
        }
        if !leads || ending || fenced || current != epoch {
            return None;
        }
        if holder == to {
            let ledger = &mut self.lead.as_mut()?.ledger;
            if self.planted == Some(Planted::LastGrantCounts) {
                ledger.forget(&claim);
            }
            ledger.on_grant(&lease, self.now);
        } else if !(matches!(claim, Claim::Primary(_))
            && self.spec.workloads.get(id)?.gates.contains_key(to))
        {
            return None;
        }
        Some(lease)
    }

    /// One that is longer than this node reckons with is taken for as long as it does: a
    /// coordinator may have a later revision than this node (R3).
    fn bounded(&self, lease: &Lease) -> Lease {
        let timings = &self.spec.timings;
        if lease.length <= self.longest_lease() || self.planted == Some(Planted::GrantsFromAnybody)
        {
            return lease.clone();
        }
        Lease {
            length: timings.lease,
            kill_bound: timings.kill_bound,
            ..lease.clone()
        }
    }

    pub(super) fn on_grant(&mut self, sent: Time, leases: &[Lease]) {
        let worth = self.spec.timings.worth_arming();
        for lease in leases {
            let lease = &self.bounded(lease);
            let Lease { claim, epoch, .. } = lease;
            let id = claim.workload();
            let w = self.state.workload(id);
            if let Claim::Address(_) = claim {
                let mine = w.place.holder.as_ref() == Some(&self.me)
                    && !w.place.leaving
                    && w.place.number == *epoch;
                if let Some(keeper) = self.here.addresses.get_mut(id)
                    && mine
                    && let Some(deadline) = keeper.authority.on_grant(lease, sent, worth)
                {
                    keeper.authority.on_told(self.now);
                    self.outbox.emit_now(Effect::Arm {
                        claim: claim.clone(),
                        deadline,
                    });
                }
                continue;
            }
            if let Some(gate) = self.here.gates.get_mut(id) {
                self.timers.stirred |= matches!(gate.order, GateOrder::Hold { .. });
                gate.lease.on_grant(*epoch, sent, lease.length);
            }
            let holds = match &w.tenure {
                Tenure::Assigned { holder } | Tenure::Open { holder, .. } => {
                    *holder == self.me && w.epoch == *epoch
                }
                _ => false,
            };
            if let Some(agent) = self.here.agents.get_mut(id)
                && holds
                && let Some(deadline) = agent.authority.on_grant(lease, sent, worth)
            {
                if self.planted == Some(Planted::TrustWithoutDeadman) {
                    agent.authority.on_armed(Some(deadline));
                }
                agent.authority.on_told(self.now);
                self.outbox.emit_now(Effect::Arm {
                    claim: claim.clone(),
                    deadline,
                });
            }
        }
    }
}

/// What others act on: a report without the numbers that move all the time.
fn essence(still: Parts) -> Parts {
    let mut essence = still;
    for replica in essence.replicas.values_mut() {
        replica.seen = replica.seen.take().map(|seen| seen.without_progress());
        replica.looks = 0;
    }
    for gate in essence.gates.values_mut() {
        *gate = gate.without_counts();
    }
    for gate in essence.read_gates.values_mut() {
        *gate = gate.without_counts();
    }
    for address in essence.addresses.values_mut() {
        address.connections = 0;
    }
    essence
}
