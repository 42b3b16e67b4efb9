//! One node as one state machine.
//!
//! Three classes of methods, used in this order:
//! - [`Node::handle`] takes what happened at a moment `now` of this node's steady clock, which
//!   never goes back;
//! - [`Node::poll_effect`] gives what has to be done, until it gives `None`;
//! - [`Node::poll_timeout`] says when to call `handle(now, Input::Woke)` next. Waking early is
//!   harmless.
//!
//! Nothing is said that depends on state not yet durable: a vote, a request for one and an
//! acknowledgement of entries are held back until the [`Input::Persisted`] that they wait for.
//! Everything else waits for no disk: what takes authority away must not (F5), and what uses it has
//! its own record to wait for (a promotion its attempt, a surrender itself).

mod address;
mod agenda;
mod apply;
mod ask;
mod ask_power;
mod checkin;
mod devices;
mod door;
mod gate;
mod inout;
mod outbox;
mod plan;
mod power;
mod questions;
mod said;
mod sentence;
mod status;
mod step;

pub use inout::{CALM_LOOKS, Effect, Input, NodeConfig, SNAPSHOT_AFTER, Write};

use agenda::Agenda;
use devices::Devices;
use outbox::{Mark, Outbox};
use questions::{Asker, Questions};
use said::{Essence, Said, Waiting};

use crate::address::Keeper;
use crate::authority::{Authority, Claim, Deadline, Ledger};
use crate::consensus::{self, Consensus, LogId, Pace, Setup, Talk};
use crate::event::Event;
use crate::fact::Fact;
use crate::gate::Gate;
use crate::heads::{Head, Heads};
use crate::health::{Health, Verdict};
use crate::ids::{BootId, Index, NodeId, OperationId, Term, WorkloadId};
use crate::message::Message;
use crate::planted::Planted;
use crate::progress::Step;
use crate::replica::agent::{Agent, Kept};
use crate::replica::{Observation, Role};
use crate::spec::Spec;
use crate::state::ClusterState;
use crate::steward::{self, Heard, Notes};
use crate::time::Time;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

/// How long the deadman may take to say what it counts down, after the daemon's start.
const DEADMAN_ANSWERS: Duration = Duration::from_millis(100);

/// A node that sends what no honest one does is named once in this time.
const REFUSED_AGAIN: Duration = Duration::from_secs(60);

/// By which part of a heartbeat the coordinator's are sooner: more than a busy host is late.
const COORDINATOR_SOONER: u32 = 16;

/// What consensus has come to: who leads in which term, how far the log goes, and how much of it is
/// committed.
type Known = (Term, Option<NodeId>, LogId, Index);

pub struct Node {
    me: NodeId,
    spec: Spec,
    boot: BootId,
    system: Option<String>,
    chance: Pcg64Mcg,
    planted: Option<Planted>,
    consensus: Consensus,
    state: ClusterState,
    snapshot_after: u64,
    health: Health,
    heads: Heads,
    agents: BTreeMap<WorkloadId, Agent>,
    gates: BTreeMap<WorkloadId, Gate>,
    addresses: BTreeMap<WorkloadId, Keeper>,
    /// Whose servers are looked at now and then only.
    calm: BTreeSet<WorkloadId>,
    /// As coordinator: what the others reported, what was granted, what is being decided.
    reports: BTreeMap<NodeId, Heard>,
    ledger: Ledger,
    notes: BTreeMap<WorkloadId, Notes>,
    steps: BTreeMap<OperationId, Vec<Step>>,
    questions: Questions,
    /// By which other nodes those are reached whose direct link is broken (A4).
    ways: BTreeMap<NodeId, NodeId>,
    /// When a message of each was refused last, for the record.
    refused: BTreeMap<NodeId, Time>,
    beat_due: Time,
    beats: u64,
    granted_at: Time,
    /// Check-ins that a coordinator whose clock may stop has not answered yet (C4).
    unanswered: VecDeque<Waiting>,
    devices: Devices,
    /// Since when this node has not stood still, and when it last did anything.
    awake_since: Time,
    moved_at: Time,
    last_essence: Option<Essence>,
    checkins: u64,
    said: Option<Said>,
    agenda: Agenda,
    health_due: Time,
    /// When the last whole step was taken: what was due by then has been acted on.
    stepped_at: Time,
    /// Something that somebody acts on may have changed since the last whole step; see
    /// [`Node::advance`].
    stirred: bool,
    /// What consensus said at the last whole step.
    known: Option<Known>,
    outbox: Outbox,
    now: Time,
}

/// What of the workloads is on this node.
#[derive(Default)]
struct Own {
    agents: BTreeMap<WorkloadId, Agent>,
    gates: BTreeMap<WorkloadId, Gate>,
    addresses: BTreeMap<WorkloadId, Keeper>,
}

impl Own {
    /// As it is at a start: what the deadman still counts down is heard until then (A7).
    fn of(spec: &Spec, me: &NodeId, mut kept: BTreeMap<WorkloadId, Kept>, until: Deadline) -> Self {
        let mut own = Self::default();
        for (id, workload) in &spec.workloads {
            if workload.replicas.contains_key(me) {
                let mut agent = Agent::new(me.clone(), kept.remove(id).unwrap_or_default());
                agent.authority = Authority::awaiting(until);
                own.agents.insert(id.clone(), agent);
            }
            if workload.may_hold_address(me) {
                let keeper = Keeper::new(Authority::awaiting(until));
                own.addresses.insert(id.clone(), keeper);
            }
            if workload.gates.contains_key(me) {
                own.gates.insert(id.clone(), Gate::default());
            }
        }
        own
    }
}

fn setup(me: &NodeId, spec: &Spec, planted: Option<Planted>) -> Setup {
    let t = &spec.timings;
    Setup {
        me: me.clone(),
        members: spec.nodes.keys().cloned().collect(),
        votes: spec.votes(),
        pace: Pace {
            // The coordinator's go a little sooner, so that everybody's beats and check-ins go along
            // with the answer to them.
            heartbeat: t.heartbeat - t.heartbeat / COORDINATOR_SOONER,
            election_timeout: t.election_timeout,
            election_jitter: t.election_jitter,
        },
        quiet: t.quiet_after_start(),
        planted,
    }
}

impl Node {
    pub fn new(config: NodeConfig, now: Time) -> Self {
        let NodeConfig {
            me,
            spec,
            boot,
            system,
            seed,
            stored,
            kept,
            snapshot_after,
            planted,
        } = config;
        let t = &spec.timings;
        let mut random = Pcg64Mcg::seed_from_u64(seed);
        let setup = setup(&me, &spec, planted);
        let consensus = Consensus::new(setup, stored, now, random.random());
        let agenda = Agenda::new(&spec);
        let patience = match planted {
            Some(Planted::LeaseForEver) => Duration::MAX,
            _ => t.kill_bound + DEADMAN_ANSWERS,
        };
        let Own {
            agents,
            gates,
            addresses,
        } = Own::of(
            &spec,
            &me,
            kept,
            Deadline {
                at: now + patience,
                kill_bound: t.kill_bound,
            },
        );
        Self {
            health: Health::new(t, me.clone(), spec.nodes.keys().cloned().collect(), now),
            heads: Heads::default(),
            me,
            spec,
            boot,
            system,
            chance: random,
            planted,
            consensus,
            state: ClusterState::default(),
            snapshot_after,
            agents,
            gates,
            addresses,
            calm: BTreeSet::new(),
            reports: BTreeMap::new(),
            ledger: Ledger::default(),
            notes: BTreeMap::new(),
            steps: BTreeMap::new(),
            questions: Questions::default(),
            ways: BTreeMap::new(),
            refused: BTreeMap::new(),
            beat_due: now,
            beats: 0,
            granted_at: now,
            unanswered: VecDeque::new(),
            devices: Devices::default(),
            awake_since: now,
            moved_at: now,
            last_essence: None,
            checkins: 0,
            said: None,
            agenda,
            health_due: now,
            stepped_at: Time::ZERO,
            stirred: true,
            known: None,
            outbox: Outbox::new(planted),
            now,
        }
    }

    pub fn me(&self) -> &NodeId {
        &self.me
    }
    pub fn spec(&self) -> &Spec {
        &self.spec
    }
    pub fn state(&self) -> &ClusterState {
        &self.state
    }
    pub fn term(&self) -> Term {
        self.consensus.term()
    }
    /// Whether its node store counts: it votes, and its acknowledgements commit (A6).
    pub fn counts(&self) -> bool {
        self.consensus.counts()
    }
    /// Whether it is coordinator and no other can have been elected at this moment of its clock.
    pub fn leads_at(&self, now: Time) -> bool {
        self.consensus
            .leadership_until(now)
            .is_some_and(|until| until > now)
    }
    /// Until when this node's gate may forward to the primary of an epoch (C8).
    pub fn gate_until(&self, workload: &WorkloadId, epoch: crate::ids::Epoch) -> Option<Time> {
        self.gates.get(workload)?.lease.until(epoch)
    }
    pub fn is_coordinator(&self) -> bool {
        self.consensus.is_leader()
    }
    /// Every workload is served as it should be, and nothing is under way.
    pub fn is_calm(&self) -> bool {
        self.spec
            .workloads
            .iter()
            .all(|(id, spec)| self.state.workload(id).is_calm(spec))
    }
    pub fn coordinator(&self) -> Option<&NodeId> {
        self.consensus.leader()
    }
    pub fn log(&self) -> &consensus::Log {
        self.consensus.log()
    }
    /// As coordinator: the newest check-in of each node.
    pub fn reports(&self) -> &BTreeMap<NodeId, Heard> {
        &self.reports
    }
    pub fn commit(&self) -> Index {
        self.consensus.commit()
    }
    /// Until when a primary of this workload may act on this node (S3 is checked against it).
    pub fn authority_until(&self, workload: &WorkloadId) -> Option<Time> {
        Some(self.agents.get(workload)?.authority.holds_until())
    }
    /// The workloads that have a replica on this node.
    pub fn replicas(&self) -> impl Iterator<Item = &WorkloadId> {
        self.agents.keys()
    }
    /// What this node's own server of the workload said it is.
    pub fn role_of(&self, workload: &WorkloadId) -> Option<Role> {
        self.agents.get(workload)?.seen()?.role
    }
    pub(crate) fn votes(&self) -> &crate::votes::Votes {
        self.consensus.votes()
    }
    pub(crate) fn steps_of(&self, operation: OperationId) -> Vec<Step> {
        self.steps.get(&operation).cloned().unwrap_or_default()
    }

    /// Takes what happened. `now` is this node's steady clock.
    pub fn handle(&mut self, now: Time, input: Input) {
        self.now = self.now.max(now);
        // It is woken each heartbeat: whoever was silent for longer than that may have been heard
        // by nobody here.
        if self.now.since(self.moved_at) > self.spec.timings.heartbeat * 2 {
            self.awake_since = self.now;
        }
        self.moved_at = self.now;
        // Before anything new: whoever looks after each step has seen every entry that goes.
        if self
            .state
            .applied
            .0
            .saturating_sub(self.consensus.log().base().index.0)
            >= self.snapshot_after
        {
            self.consensus.compact(&self.state);
        }
        match input {
            Input::Received { from, message } => self.on_message(&from, message),
            Input::Persisted { number } => {
                self.stirred = true;
                self.on_persisted(number);
            }
            Input::Observed {
                workload,
                observation,
            } => self.on_observed(&workload, observation),
            Input::Acted {
                workload,
                id,
                result,
            } => {
                self.stirred = true;
                if let Some(agent) = self.agents.get_mut(&workload) {
                    agent.on_done(id, result, self.now);
                }
            }
            Input::Armed {
                claim,
                deadline,
                unguarded,
            } => {
                self.on_armed(&claim, deadline, unguarded);
            }
            Input::AddressSeen { workload, seen } => {
                if let Some(keeper) = self.addresses.get_mut(&workload) {
                    let old = std::mem::replace(&mut keeper.seen, seen);
                    self.stirred |= old.without_connections() != keeper.seen.without_connections();
                    self.note_address(&workload, &old);
                    self.tell_connections(&workload);
                }
            }
            Input::GateSeen { workload, report } => {
                if let Some(gate) = self.gates.get_mut(&workload) {
                    self.stirred |= gate.report.without_counts() != report.without_counts();
                    gate.report = report;
                }
            }
            Input::Powered {
                node,
                order,
                result,
            } => {
                self.stirred = true;
                self.agenda.add_node(&node);
                self.on_powered(&node, order, result);
            }
            Input::Asked {
                ticket,
                request,
                level,
            } => self.on_asked(Asker::Here(ticket), request, level),
            Input::Knocked { from } => self.health.on_knock(&from, self.now),
            Input::Woke => {}
        }
        self.advance();
    }

    fn on_observed(&mut self, workload: &WorkloadId, observation: Observation) {
        let Some(agent) = self.agents.get_mut(workload) else {
            return;
        };
        let same = |old: &Observation| old.without_progress() == observation.without_progress();
        self.stirred |= !agent.seen().is_some_and(same);
        agent.on_observed(observation, self.now);
        self.note_own_head(workload);
    }

    fn on_armed(&mut self, claim: &Claim, deadline: Option<Deadline>, unguarded: Option<String>) {
        match claim {
            Claim::Primary(workload) => {
                let Some(agent) = self.agents.get_mut(workload) else {
                    return;
                };
                // A later deadline of a primary that serves is no news.
                let earlier = deadline.map(|d| d.at) < agent.authority.armed();
                let calm = self.calm.contains(workload);
                self.stirred |= earlier || agent.unguarded != unguarded || !calm;
                agent.unguarded = unguarded;
                agent.authority.on_armed(deadline);
            }
            Claim::Address(workload) => {
                let Some(keeper) = self.addresses.get_mut(workload) else {
                    return;
                };
                self.stirred |= deadline.is_none() || !keeper.seen.held;
                keeper.authority.on_armed(deadline);
            }
        }
    }

    /// What has to be done next, in order.
    pub fn poll_effect(&mut self) -> Option<Effect> {
        self.outbox.poll()
    }

    /// When to call `handle(now, Input::Woke)` at the latest.
    pub fn poll_timeout(&self) -> Time {
        self.step_due()
            .min(self.consensus.next_due(self.now))
            .min(self.health_due)
    }

    /// When a whole step is due by the mere passing of time.
    fn step_due(&self) -> Time {
        let mut due = self.beat_due;
        if self.is_coordinator() {
            due = due.min(self.agenda.due()).min(self.power_due());
        }
        for agent in self.agents.values() {
            due = due.min(agent.next_due());
        }
        due.min(self.gates_due()).min(self.addresses_due())
    }

    fn on_message(&mut self, from: &NodeId, message: Message) {
        if !self.spec.nodes.contains_key(from) || *from == self.me {
            return;
        }
        if !self.admits(from, &message) {
            return;
        }
        match message {
            Message::Beat {
                number,
                hears,
                heads,
            } => {
                self.hear_of_heads(from, heads);
                if let Some(verdict) = self.health.on_beat(from, number, hears, self.now) {
                    self.stirred = true;
                    self.agenda.add_node(from);
                    self.record_verdict(verdict);
                }
            }
            Message::Talk(talk) => {
                if matches!(
                    talk,
                    Talk::AppendEntries { .. } | Talk::InstallSnapshot { .. }
                ) {
                    self.beat_along();
                }
                let chance = self.chance.random();
                self.consensus.on_talk(from, talk, self.now, chance);
                self.answer_waiting();
            }
            Message::Checkin {
                number,
                sent,
                wants,
                says,
                news,
            } => {
                if news {
                    self.stirred = true;
                    self.agenda.add_node(from);
                }
                // No check-in has the number 0.
                let has_it = self.hear(from, number, sent, says);
                let number = if has_it { number } else { 0 };
                self.answer_checkin(from, number, sent, wants, news);
            }
            Message::Grant {
                number,
                sent,
                term,
                leases,
                ..
            } => {
                self.note_answer(number, term);
                self.on_grant(sent, &leases);
            }
            Message::Connections {
                workload,
                connections,
            } => {
                if let Some(keeper) = self.addresses.get_mut(&workload) {
                    keeper.connections = connections;
                }
            }
            Message::Ask {
                number,
                request,
                level,
            } => {
                self.on_asked(Asker::Node(from.clone(), number), request, level);
            }
            Message::Answer { number, answer } => {
                if let Some(ticket) = self.questions.answered(number) {
                    self.outbox.emit_now(Effect::Answer { ticket, answer });
                }
            }
        }
    }

    /// How far primaries are, by the word of their own nodes or of others.
    fn hear_of_heads(&mut self, from: &NodeId, heads: Vec<(WorkloadId, Head)>) {
        for (workload, head) in heads {
            let opened = self.state.workload(&workload).opened.as_ref();
            let first_hand = opened.is_some_and(|o| o.holder == *from);
            self.heads.note(&workload, head, first_hand, self.now);
        }
    }

    fn send(&mut self, to: NodeId, message: Message) {
        self.find_way(&to);
        self.outbox.emit(Effect::Send { to, message });
    }

    /// Where the direct link is broken, what is sent goes also round it (A4).
    fn find_way(&mut self, to: &NodeId) {
        let broken = self
            .health
            .is_broken(to, self.spec.timings.heartbeat * 3, self.now);
        let via = if broken && self.planted != Some(Planted::NoRelay) {
            self.health.relay_to(to, self.now)
        } else {
            None
        };
        if self.ways.get(to) == via.as_ref() {
            return;
        }
        match &via {
            Some(via) => self.ways.insert(to.clone(), via.clone()),
            None => self.ways.remove(to),
        };
        self.outbox.emit_now(Effect::Way {
            to: to.clone(),
            via,
        });
    }

    /// Says once in a while that a node sends what none should.
    fn note_refused(&mut self, from: &NodeId, why: &'static str) {
        if self
            .refused
            .get(from)
            .is_some_and(|at| self.now.since(*at) < REFUSED_AGAIN)
        {
            return;
        }
        self.refused.insert(from.clone(), self.now);
        self.record(Fact::Refused {
            by: self.me.clone(),
            node: from.clone(),
            why,
        });
    }

    /// How far the own primary is, for those who may have to judge its standbys without it (F2).
    fn note_own_head(&mut self, workload: &WorkloadId) {
        let opened = self
            .state
            .workload(workload)
            .opened
            .as_ref()
            .filter(|o| o.holder == self.me);
        let seen = self
            .agents
            .get(workload)
            .and_then(Agent::seen)
            .filter(|o| o.is(Role::Primary));
        if let Some((opened, position)) = opened.zip(seen.and_then(Observation::number)) {
            self.heads.note(
                workload,
                Head {
                    epoch: opened.epoch,
                    position,
                },
                true,
                self.now,
            );
        }
    }

    fn on_persisted(&mut self, number: u64) {
        for mark in self.outbox.on_persisted(number) {
            match mark {
                Mark::Log { last, term } => self.consensus.on_stable(last, term, self.now),
                Mark::Kept(workload) => {
                    if let Some(agent) = self.agents.get_mut(&workload) {
                        agent.on_kept();
                    }
                }
            }
        }
    }

    fn record(&mut self, fact: Fact) {
        self.record_event(Event::of(&fact));
    }

    fn record_event(&mut self, event: Event) {
        self.outbox.emit_now(Effect::Record(event));
    }

    fn record_verdict(&mut self, verdict: Verdict) {
        let by = self.me.clone();
        self.record(match verdict {
            Verdict::Suspected {
                node,
                silent,
                bound,
            } => Fact::Suspected {
                by,
                node,
                silent,
                bound,
            },
            Verdict::Back { node, silent } => Fact::HeardAgain { by, node, silent },
        });
    }

    pub(crate) fn scene(&self) -> steward::Scene<'_> {
        steward::Scene {
            now: self.now,
            me: &self.me,
            spec: &self.spec,
            state: &self.state,
            reports: &self.reports,
            health: &self.health,
            ledger: &self.ledger,
            elected_at: self.consensus.elected_at().unwrap_or(self.now),
            awake_since: self.awake_since,
            off: &self.devices.off,
            on: &self.devices.on,
            heads: &self.heads,
            planted: self.planted,
        }
    }
}
