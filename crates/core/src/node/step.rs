//! What follows from what is known now: consensus first, then each part of the node until nothing
//! moves any more.

use super::lead::Lead;
use super::outbox::Mark;
use super::timers::Known;
use super::{Effect, Node, Write};
use crate::authority::Claim;
use crate::command::{ClusterAct, Command};
use crate::consensus;
use crate::event::Event;
use crate::fact::{Ballot, Fact};
use crate::ids::{NodeId, WorkloadId};
use crate::message::Message;
use crate::replica::agent::{Order, Scene};
use crate::spec::ReplicaSpec;
use crate::steward;
use crate::steward::outlook::{Lasting, outlook};
use rand::Rng;

impl Node {
    /// Everything that follows from what is known now. Most of what a node is told says that
    /// nothing has changed; then nothing follows, and the whole step is taken with the next
    /// heartbeat.
    pub(super) fn advance(&mut self) {
        let chance = self.chance.random();
        if self.consensus.next_due(self.now) <= self.now {
            if self.is_coordinator() {
                self.beat_along();
            }
            self.consensus.on_time(self.now, chance);
        }
        if self.timers.health <= self.now {
            let (verdicts, due) = self.health.on_time(self.now);
            self.timers.health = due.max(self.now + self.spec.timings.heartbeat / 4);
            for verdict in verdicts {
                self.note_news(verdict.node());
                self.record_verdict(verdict);
            }
        }
        self.run_consensus_orders();
        if self.timers.stirred
            || self.timers.known.as_ref() != Some(&self.known_now())
            || self.step_due() <= self.now
        {
            self.timers.stirred = false;
            if let Some(lead) = &mut self.lead {
                lead.agenda.add_due(self.now);
            }
            self.step();
            self.timers.known = Some(self.known_now());
        }
        self.outbox.flush();
    }

    /// Something goes to the coordinator, or from it to everyone, just now: the next heartbeat goes
    /// along, if it is due soon. A packet costs more than what is in it.
    pub(super) fn beat_along(&mut self) {
        if self.timers.beat.since(self.now) < self.spec.timings.heartbeat / 2 {
            self.timers.beat = self.now;
        }
    }

    fn known_now(&self) -> Known {
        let consensus = &self.consensus;
        (
            consensus.term(),
            consensus.leader().cloned(),
            consensus.log().last(),
            consensus.commit(),
        )
    }

    fn step(&mut self) {
        self.timers.stepped = self.now;
        // A commit may allow a step, and a step may complete what a decision waits for: until
        // nothing moves.
        for _ in 0..8 {
            let before = (self.state.applied, self.consensus.log().last());
            self.run_consensus_orders();
            self.apply_committed();
            self.step_agents();
            self.step_dismissed();
            self.attend();
            self.step_gates();
            self.step_read_gates();
            self.step_addresses();
            self.check_in();
            self.decide();
            self.step_power();
            self.end_acknowledgements();
            self.run_consensus_orders();
            if before == (self.state.applied, self.consensus.log().last())
                && self.consensus.commit() == self.state.applied
            {
                break;
            }
        }
    }

    fn run_consensus_orders(&mut self) {
        for order in self.consensus.take_orders() {
            match order {
                consensus::Order::Persist(durable) => {
                    let (last, term) = durable.reached();
                    self.outbox
                        .write(Write::Log(durable), Mark::Log { last, term });
                }
                consensus::Order::Send(to, talk) => self.send(to, Message::Talk(talk)),
                consensus::Order::Installed { from, to } => {
                    self.record(Fact::CatchesUp {
                        node: self.me.clone(),
                        from,
                        to,
                    });
                }
                consensus::Order::Elected { term, votes } => {
                    let shaped_at = self.now;
                    self.lead = Some(Lead {
                        shaped_at,
                        ..Lead::new(&self.spec)
                    });
                    let ballot = |(node, yes): (NodeId, bool)| {
                        let votes = self.consensus.voters().weight(&node);
                        Ballot { node, votes, yes }
                    };
                    let ballots = votes.into_iter().map(ballot).collect();
                    self.record(Fact::Elected {
                        node: self.me.clone(),
                        term,
                        ballots,
                    });
                }
                consensus::Order::SteppedDown { term, why } => {
                    let lead = self.lead.take().unwrap_or_default();
                    self.leave_unanswered(lead.undecided);
                    self.record(Fact::SteppedDown {
                        node: self.me.clone(),
                        term,
                        why,
                    });
                }
                consensus::Order::HandedOver { term, to } => {
                    self.record(Fact::HandedOver {
                        node: self.me.clone(),
                        term,
                        to,
                    });
                }
                consensus::Order::Regressed {
                    node,
                    acknowledged,
                    found,
                } => {
                    self.record(Fact::StoreRegressed {
                        node,
                        acknowledged,
                        found,
                    });
                }
            }
        }
    }

    fn replica_here(&self, id: &WorkloadId) -> Option<&ReplicaSpec> {
        self.spec.workloads.get(id)?.replicas.get(&self.me)
    }

    /// What the agent of a replica has to know.
    pub(super) fn agent_scene(&self, id: &WorkloadId) -> Scene<'_> {
        let here = self.replica_here(id);
        Scene {
            now: self.now,
            workload: self.state.workload(id),
            applied: self.state.applied,
            // Once the target is assigned, the new primary has nothing to prepare any more.
            operation: self
                .state
                .running(id)
                .filter(|(_, o)| o.target.is_none())
                .map(|(op, o)| (op, o.what.kind)),
            timings: &self.spec.timings,
            fenced: self.state.fenced(&self.me).is_some(),
            copy_from: here.and_then(|here| here.copy_from.as_ref()),
            base_backup: here.and_then(|here| here.base_backup.as_deref()),
            own_steps: self.here.step_times.get(id).copied().unwrap_or_default(),
            planted: self.planted,
        }
    }

    fn step_agents(&mut self) {
        let mut agents = std::mem::take(&mut self.here.agents);
        for (id, agent) in &mut agents {
            agent.step(&self.agent_scene(id));
            self.carry_out(id, agent.take_orders());
        }
        self.here.agents = agents;
    }

    /// What an agent wants done.
    pub(super) fn carry_out(&mut self, id: &WorkloadId, orders: Vec<Order>) {
        let operation = self.state.workload(id).operation;
        for order in orders {
            match order {
                Order::Start { id: number, action } => self.outbox.emit(Effect::Act {
                    workload: id.clone(),
                    id: number,
                    action,
                    operation,
                }),
                Order::Cancel { id: number } => self.outbox.emit(Effect::Cancel {
                    workload: id.clone(),
                    id: number,
                }),
                Order::Keep(kept) => self.outbox.write(
                    Write::Kept {
                        workload: id.clone(),
                        kept,
                    },
                    Mark::Kept(id.clone()),
                ),
                Order::Disarm => self.outbox.emit(Effect::Disarm {
                    claim: Claim::Primary(id.clone()),
                }),
                Order::Opened { epoch } => self.after_promotion(id, epoch),
                Order::Note(what) => {
                    let fact = Fact::Replica {
                        workload: id.clone(),
                        node: self.me.clone(),
                        what,
                    };
                    self.record_event(Event::of(&fact).within(operation));
                }
            }
        }
    }

    /// Looks closely at each server of which something is expected.
    fn attend(&mut self) {
        let limit = self.spec.timings.heartbeat * 2;
        for (id, agent) in &self.here.agents {
            let w = self.state.workload(id);
            // A standby whose host is not heard: its stream may be dead, and writes wait for it.
            let apart = |n: &NodeId| *n != self.me && self.health.is_broken(n, limit, self.now);
            let near = w.holder() != Some(&self.me) || !w.sync.asked.iter().any(apart);
            let spec = self.spec.workloads.get(id);
            let calm = near && agent.is_calm() && spec.is_some_and(|spec| w.is_calm(spec));
            let changed = if calm {
                self.here.calm.insert(id.clone())
            } else {
                self.here.calm.remove(id)
            };
            if changed {
                self.outbox.emit_now(Effect::Attend {
                    workload: id.clone(),
                    closely: !calm,
                });
            }
        }
    }

    /// As coordinator: what to do next for each workload of which something is news, one commit
    /// round at a time.
    fn decide(&mut self) {
        if !self.consensus.is_established()
            || self.consensus.log().last().index != self.state.applied
        {
            // What is under way has to be committed first, and that brings it here again.
            return;
        }
        if self.state.charter.revision.is_none() {
            let founders = self.consensus.voters().now.clone();
            let found = Command::Cluster(ClusterAct::Found {
                revision: self.revision.clone(),
                founders,
            });
            self.consensus.propose(vec![found], self.now);
            return;
        }
        let Some(mut lead) = self.lead.take() else {
            return;
        };
        let mut all_stamps = std::mem::take(&mut self.journal.stamps);
        let look = lead.agenda.take(&self.spec);
        let mut all_notes = std::mem::take(&mut lead.notes);
        let mut outlooks = std::mem::take(&mut lead.outlooks);
        let mut dues = Vec::new();
        let scene = self.scene_of(&lead);
        let mut commands = steward::fencing::decide_nodes(&scene, &look.nodes);
        let mut hand_over = None;
        // Of the whole nothing changes by news of a node, where nobody wants anything.
        if look.all || !self.state.charter.intents.is_empty() {
            let (wanted, to) = steward::steps::decide(&scene);
            commands.extend(wanted);
            hand_over = to;
        }
        for id in look.workloads {
            let Some(spec) = self.spec.workloads.get(&id) else {
                continue;
            };
            let notes = all_notes.entry(id.clone()).or_default();
            let stamps = all_stamps.entry(id.clone()).or_default();
            commands.extend(steward::decide(&scene, &id, spec, notes, stamps));
            let outlook = outlook(&scene, &id, spec);
            let lasting = Lasting::next(outlooks.get(&id), outlook, self.now);
            outlooks.insert(id.clone(), lasting);
            let due = steward::next_look(&scene, &id, notes);
            dues.push((id, due));
        }
        for (id, due) in dues {
            lead.agenda.set_due(id, due, self.timers.beat);
        }
        (lead.notes, lead.outlooks) = (all_notes, outlooks);
        self.journal.stamps = all_stamps;
        let decided = commands.len();
        let commands = steward::batch(commands, &mut lead.ground_waits, self.planted);
        if commands.len() < decided {
            // The commands that were left out are decided on anew.
            lead.agenda.add_all();
        }
        self.lead = Some(lead);
        if let Some(to) = hand_over.filter(|_| commands.is_empty()) {
            let chance = self.chance.random();
            self.consensus.hand_over(&to, self.now, chance);
        } else {
            self.consensus.propose(commands, self.now);
        }
    }
}
