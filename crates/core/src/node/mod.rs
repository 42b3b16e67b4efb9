//! One node as one state machine.
//!
//! Three classes of methods, used in this order:
//! - [`Node::handle`] takes what happened at a moment `now` of this node's steady clock, which never goes back;
//! - [`Node::poll_effect`] gives what has to be done, until it gives `None`;
//! - [`Node::poll_timeout`] says when to call `handle(now, Input::Woke)` next. Waking early is harmless.
//!
//! Nothing is sent that depends on state not yet durable: such messages are held back until the
//! [`Input::Persisted`] that they wait for.

mod address;
mod apply;
mod ask;
mod checkin;
mod gate;
mod inout;
mod power;

pub use address::{AddressOrder, AddressReport, AddressSeen};
pub use ask::{Answer, Plan, Precondition, Request};
pub use gate::GateOrder;
pub use inout::{CALM_LOOKS, Effect, Input, NodeConfig, Planted, SNAPSHOT_AFTER, Write};

use crate::authority::{Authority, Claim, GateLease, Ledger};
use crate::consensus::{self, Consensus, Pace, Talk};
use crate::event::{Event, Level};
use crate::health::{Health, Verdict};
use crate::ids::{BootId, Index, NodeId, OperationId, Term, WorkloadId};
use crate::message::Message;
use crate::operation::Step;
use crate::replica::agent::{Agent, Order};
use crate::replica::{GateReport, Observation, Role};
use crate::spec::{Alone, Loss, Spec};
use crate::state::ClusterState;
use crate::steward::{self, Heard, Notes};
use crate::time::Time;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// How long the deadman may take to say what it counts down, after the daemon's start.
const DEADMAN_ANSWERS: std::time::Duration = std::time::Duration::from_millis(100);

/// What becomes true once a write is durable.
#[derive(Clone, Debug)]
enum Mark {
    Log { last: (Term, Index), term: Term },
    Kept(WorkloadId),
}

struct Gate {
    lease: GateLease,
    order: GateOrder,
    report: GateReport,
}

/// What consensus has come to: who leads in which term, how far the log goes, and how much of it is committed.
type Known = (Term, Option<NodeId>, (Term, Index), Index);

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
    agents: BTreeMap<WorkloadId, Agent>,
    gates: BTreeMap<WorkloadId, Gate>,
    addresses: BTreeMap<WorkloadId, address::Keeper>,
    /// Whose servers are looked at now and then only.
    calm: BTreeSet<WorkloadId>,
    /// As coordinator: what the others reported, what was granted, what is being decided.
    reports: BTreeMap<NodeId, Heard>,
    ledger: Ledger,
    notes: BTreeMap<WorkloadId, Notes>,
    steps: BTreeMap<OperationId, Vec<Step>>,
    answers_due: BTreeMap<Index, ask::Asker>,
    asked: BTreeMap<u64, u64>,
    next_ask: u64,
    beat_due: Time,
    beats: u64,
    granted_at: Time,
    devices: power::Devices,
    /// Since when this node has not stood still, and when it last did anything.
    awake_since: Time,
    moved_at: Time,
    last_essence: Option<checkin::Essence>,
    decide_due: Time,
    health_due: Time,
    /// Something that somebody acts on may have changed since the last whole step; see [`Node::advance`].
    stirred: bool,
    /// What consensus said at the last whole step.
    known: Option<Known>,
    writes: Vec<Write>,
    next_persist: u64,
    persisted: u64,
    marks: VecDeque<(u64, Mark)>,
    held: VecDeque<(u64, Effect)>,
    effects: VecDeque<Effect>,
    now: Time,
}

impl Node {
    pub fn new(config: NodeConfig, now: Time) -> Self {
        let NodeConfig { me, spec, boot, system, seed, stored, mut kept, snapshot_after, planted } = config;
        let t = &spec.timings;
        let pace = Pace { heartbeat: t.heartbeat, stickiness: t.stickiness, election_spread: t.election_spread };
        let quiet = t.quiet_after_start();
        let members = spec.nodes.keys().cloned().collect();
        let mut random = Pcg64Mcg::seed_from_u64(seed);
        let consensus = Consensus::new(me.clone(), members, spec.votes(), pace, stored, now, quiet, random.random());
        let mut agents = BTreeMap::new();
        let mut gates = BTreeMap::new();
        let mut addresses = BTreeMap::new();
        let awaiting = || Authority::awaiting(now + t.kill_bound + DEADMAN_ANSWERS);
        for (id, workload) in &spec.workloads {
            if workload.replicas.contains_key(&me) {
                let mut agent = Agent::new(me.clone(), kept.remove(id).unwrap_or_default());
                agent.authority = awaiting();
                agents.insert(id.clone(), agent);
            }
            if workload.may_hold_address(&me) {
                addresses.insert(id.clone(), address::Keeper::new(awaiting()));
            }
            if workload.gates.contains_key(&me) {
                let (lease, report) = (GateLease::default(), GateReport::default());
                gates.insert(id.clone(), Gate { lease, order: GateOrder::Hold { cut: true }, report });
            }
        }
        Self {
            health: Health::new(t, now),
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
            answers_due: BTreeMap::new(),
            asked: BTreeMap::new(),
            next_ask: 1,
            beat_due: now,
            beats: 0,
            granted_at: now,
            devices: power::Devices::default(),
            awake_since: now,
            moved_at: now,
            last_essence: None,
            decide_due: now,
            health_due: now,
            stirred: true,
            known: None,
            writes: Vec::new(),
            next_persist: 1,
            persisted: 0,
            marks: VecDeque::new(),
            held: VecDeque::new(),
            effects: VecDeque::new(),
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
    pub fn is_coordinator(&self) -> bool {
        self.consensus.is_leader()
    }
    pub fn coordinator(&self) -> Option<&NodeId> {
        self.consensus.leader()
    }
    pub fn log(&self) -> &consensus::Log {
        self.consensus.log()
    }
    pub fn commit(&self) -> Index {
        self.consensus.commit()
    }
    /// Until when a primary of this workload may act on this node (S3 is checked against it).
    pub fn authority_until(&self, workload: &WorkloadId) -> Option<Time> {
        Some(self.agents.get(workload)?.authority.holds_until())
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
        // It is woken each heartbeat: whoever was silent for longer than that may have been heard by nobody here.
        if self.now.since(self.moved_at) > self.spec.timings.heartbeat * 2 {
            self.awake_since = self.now;
        }
        self.moved_at = self.now;
        // Before anything new: whoever looks after each step has seen every entry that goes.
        if self.state.applied.0.saturating_sub(self.consensus.log().base().1.0) >= self.snapshot_after {
            self.consensus.compact(&self.state);
        }
        match input {
            Input::Received { from, message } => self.on_message(&from, message),
            Input::Persisted { number } => {
                self.stirred = true;
                self.on_persisted(number);
            }
            Input::Observed { workload, observation } => {
                if let Some(agent) = self.agents.get_mut(&workload) {
                    let same = |old: &Observation| old.without_progress() == observation.without_progress();
                    self.stirred |= !agent.seen().is_some_and(same);
                    agent.on_observed(observation, self.now);
                }
            }
            Input::Acted { workload, id, result } => {
                self.stirred = true;
                let state = self.state.workload(&workload);
                if let Some(agent) = self.agents.get_mut(&workload) {
                    agent.on_done(id, result, state, self.now);
                }
            }
            Input::Armed { claim: Claim::Primary(workload), deadline, unguarded } => {
                if let Some(agent) = self.agents.get_mut(&workload) {
                    // A later deadline of a primary that serves is no news.
                    self.stirred |=
                        deadline.is_none() || agent.unguarded != unguarded || !self.calm.contains(&workload);
                    agent.unguarded = unguarded;
                    agent.authority.on_armed(deadline);
                }
            }
            Input::Armed { claim: Claim::Address(workload), deadline, .. } => {
                if let Some(keeper) = self.addresses.get_mut(&workload) {
                    self.stirred |= deadline.is_none() || !keeper.seen.held;
                    keeper.authority.on_armed(deadline);
                }
            }
            Input::AddressSeen { workload, seen } => {
                self.stirred = true;
                if let Some(keeper) = self.addresses.get_mut(&workload) {
                    let old = std::mem::replace(&mut keeper.seen, seen);
                    self.note_address(&workload, &old);
                }
            }
            Input::GateSeen { workload, report } => {
                if let Some(gate) = self.gates.get_mut(&workload) {
                    self.stirred |= gate.report.without_counts() != report.without_counts();
                    gate.report = report;
                }
            }
            Input::Powered { node, order, result } => {
                self.stirred = true;
                self.on_powered(&node, order, result);
            }
            Input::Asked { ticket, request } => self.on_asked(ask::Asker::Here(ticket), request),
            Input::Knocked { from } => self.health.on_knock(&from, self.now),
            Input::Woke => {}
        }
        self.advance();
    }

    /// What has to be done next, in order.
    pub fn poll_effect(&mut self) -> Option<Effect> {
        self.effects.pop_front()
    }

    /// When to call `handle(now, Input::Woke)` at the latest.
    pub fn poll_timeout(&self) -> Time {
        self.step_due().min(self.consensus.next_due(self.now)).min(self.health_due)
    }

    /// When a whole step is due by the mere passing of time.
    fn step_due(&self) -> Time {
        let mut due = self.beat_due;
        if self.is_coordinator() {
            due = due.min(self.decide_due).min(self.power_due());
        }
        for agent in self.agents.values() {
            due = due.min(agent.next_due(&self.spec.timings));
        }
        due.min(self.gates_due()).min(self.addresses_due())
    }

    fn on_message(&mut self, from: &NodeId, message: Message) {
        if !self.spec.nodes.contains_key(from) || *from == self.me {
            return;
        }
        match message {
            Message::Beat { number, heard } => {
                if let Some(verdict) = self.health.on_beat(from, number, heard, self.now) {
                    self.stirred = true;
                    self.record_verdict(verdict);
                }
            }
            Message::Talk(talk) => {
                if matches!(talk, Talk::Append { .. }) {
                    self.beat_along();
                }
                let chance = self.chance.random();
                self.consensus.on_talk(from, talk, self.now, chance);
            }
            Message::Checkin { sent, wants, report, news } => {
                self.stirred |= news;
                self.on_checkin(from, sent, wants, report);
            }
            Message::Grant { sent, term, leases } => self.on_grant(sent, term, &leases),
            Message::Relay { from: origin, to, inner } if to == self.me => self.on_message(&origin, *inner),
            Message::Relay { from: origin, to, inner } if origin == *from => {
                self.effects
                    .push_back(Effect::Send { to: to.clone(), message: Message::Relay { from: origin, to, inner } });
            }
            Message::Relay { .. } => {}
            Message::Ask { number, request } => self.on_asked(ask::Asker::Node(from.clone(), number), request),
            Message::Answer { number, answer } => {
                if let Some(ticket) = self.asked.remove(&number) {
                    self.effects.push_back(Effect::Answer { ticket, answer });
                }
            }
        }
    }

    /// Sends, and where the direct link is broken also round it (A4).
    fn send(&mut self, to: NodeId, message: Message) {
        let broken = self.health.is_broken(&to, &self.me, self.spec.timings.heartbeat * 3, self.now);
        if broken
            && !message.is_beat()
            && let Some(via) = self.health.relay_to(&to, self.now)
        {
            let inner = Box::new(message.clone());
            let relay = Message::Relay { from: self.me.clone(), to: to.clone(), inner };
            self.emit(Effect::Send { to: via, message: relay });
        }
        self.emit(Effect::Send { to, message });
    }

    /// Queues an effect behind every write that was ordered before it.
    fn emit(&mut self, effect: Effect) {
        let waits = self.persisted + 1 < self.next_persist || !self.writes.is_empty();
        let beat = matches!(&effect, Effect::Send { message, .. } if message.is_beat());
        if waits && !beat && self.planted != Some(Planted::SendBeforeDurable) {
            // The pending writes leave under the next number.
            let number = if self.writes.is_empty() { self.next_persist - 1 } else { self.next_persist };
            self.held.push_back((number, effect));
        } else {
            self.effects.push_back(effect);
        }
    }

    fn write(&mut self, write: Write, mark: Mark) {
        self.writes.push(write);
        self.marks.push_back((self.next_persist, mark));
    }

    fn flush_writes(&mut self) {
        if !self.writes.is_empty() {
            let writes = std::mem::take(&mut self.writes);
            self.effects.push_back(Effect::Persist { number: self.next_persist, writes });
            self.next_persist += 1;
        }
    }

    fn on_persisted(&mut self, number: u64) {
        self.persisted = self.persisted.max(number);
        while let Some((_, mark)) = self.marks.pop_front_if(|(n, _)| *n <= number) {
            match mark {
                Mark::Log { last, term } => self.consensus.on_stable(last, term, self.now),
                Mark::Kept(workload) => {
                    if let Some(agent) = self.agents.get_mut(&workload) {
                        agent.on_kept();
                    }
                }
            }
        }
        while let Some((_, effect)) = self.held.pop_front_if(|(n, _)| *n <= number) {
            self.effects.push_back(effect);
        }
    }

    /// Everything that follows from what is known now. Most of what a node is told says that nothing has changed; then
    /// nothing follows, and the whole step is taken with the next heartbeat.
    fn advance(&mut self) {
        let chance = self.chance.random();
        if self.consensus.next_due(self.now) <= self.now {
            if self.is_coordinator() {
                self.beat_along();
            }
            self.consensus.on_time(self.now, chance);
        }
        if self.health_due <= self.now {
            let (verdicts, due) = self.health.on_time(self.now);
            self.health_due = due.max(self.now + self.spec.timings.heartbeat / 4);
            self.stirred |= !verdicts.is_empty();
            verdicts.into_iter().for_each(|v| self.record_verdict(v));
        }
        self.run_consensus_orders();
        if self.stirred || self.known.as_ref() != Some(&self.known_now()) || self.step_due() <= self.now {
            self.stirred = false;
            self.step();
            self.known = Some(self.known_now());
        }
        self.flush_writes();
    }

    /// Something goes to the coordinator, or from it to everyone, just now: the next heartbeat goes along, if it is due soon. A
    /// packet costs more than what is in it.
    fn beat_along(&mut self) {
        if self.beat_due.since(self.now) < self.spec.timings.heartbeat / 2 {
            self.beat_due = self.now;
        }
    }

    fn known_now(&self) -> Known {
        let consensus = &self.consensus;
        (consensus.term(), consensus.leader().cloned(), consensus.log().last(), consensus.commit())
    }

    fn step(&mut self) {
        // A commit may allow a step, and a step may complete what a decision waits for: until nothing moves.
        for _ in 0..8 {
            let before = (self.state.applied, self.consensus.log().last());
            self.run_consensus_orders();
            self.apply_committed();
            self.step_agents();
            self.attend();
            self.step_gates();
            self.step_addresses();
            self.check_in();
            self.decide();
            self.step_power();
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
                    self.write(Write::Log(durable), Mark::Log { last, term });
                }
                consensus::Order::Send(to, talk) => self.send(to, Message::Talk(talk)),
                consensus::Order::Installed { from, to } => {
                    let text = format!("{} catches up by a snapshot, from entry {from} to {to}", self.me);
                    self.record(Event::new(Level::Notice, "snapshot", text));
                }
                consensus::Order::Elected { term, votes } => {
                    self.reports.clear();
                    self.ledger = Ledger::default();
                    let list: Vec<String> = votes
                        .iter()
                        .map(|(n, yes)| {
                            format!("{n} ({}) {}", self.spec.votes().weight(n), if *yes { "yes" } else { "no" })
                        })
                        .collect();
                    let text = format!("{} is coordinator of term {term}; votes: {}", self.me, list.join(", "));
                    let event = Event::new(Level::Notice, "elected", text).with("term", term);
                    self.record(votes.iter().fold(event, |e, (n, yes)| e.with(&format!("vote.{n}"), yes)));
                }
                consensus::Order::SteppedDown { term, why } => {
                    self.leave_unanswered();
                    let text = format!("{} is no longer coordinator of term {term}: {why}", self.me);
                    self.record(Event::new(Level::Notice, "stepped-down", text).with("term", term));
                }
                consensus::Order::Regressed { node, acknowledged, found } => {
                    let text = format!(
                        "{node} had acknowledged the log up to {acknowledged} and now has it up to {found}: its store \
                         went back in time, and its acknowledgements no longer count (A6)"
                    );
                    self.record(Event::new(Level::Warning, "store-regressed", text).with("node", node));
                }
            }
        }
    }

    fn step_agents(&mut self) {
        let ids: Vec<WorkloadId> = self.agents.keys().cloned().collect();
        for id in ids {
            let spec = &self.spec.workloads[&id];
            let scene = crate::replica::agent::Scene {
                now: self.now,
                workload: self.state.workload(&id),
                // Once the target is assigned, the new primary has nothing to prepare any more.
                operation: self.state.running(&id).filter(|(_, o)| o.target.is_none()).map(|(op, o)| (op, o.what.kind)),
                timings: &self.spec.timings,
                fenced: self.state.fenced(&self.me).is_some(),
                unprotected_if_empty: spec.loss != Loss::None || spec.alone == Alone::Continue,
                planted: self.planted,
            };
            let operation = self.state.workload(&id).operation;
            let agent = self.agents.get_mut(&id).expect("its id was just listed");
            agent.step(&scene);
            for order in agent.take_orders() {
                match order {
                    Order::Start { id: number, action } => {
                        self.emit(Effect::Act { workload: id.clone(), id: number, action, operation });
                    }
                    Order::Cancel { id: number } => self.emit(Effect::Cancel { workload: id.clone(), id: number }),
                    Order::Keep(kept) => {
                        self.write(Write::Kept { workload: id.clone(), kept }, Mark::Kept(id.clone()));
                    }
                    Order::Disarm => self.emit(Effect::Disarm { claim: Claim::Primary(id.clone()) }),
                    Order::Note { kind, text } => {
                        let text = format!("{} on {}: {text}", id, self.me);
                        self.record(Event::new(Level::Info, kind, text).about(&id).within(operation));
                    }
                }
            }
        }
    }

    /// Looks closely at each server of which something is expected.
    fn attend(&mut self) {
        for (id, agent) in &self.agents {
            let calm = agent.is_calm() && self.state.workload(id).is_calm(&self.spec.workloads[id]);
            let changed = if calm { self.calm.insert(id.clone()) } else { self.calm.remove(id) };
            if changed {
                self.effects.push_back(Effect::Attend { workload: id.clone(), closely: !calm });
            }
        }
    }

    /// As coordinator: what to do next for each workload, one commit round at a time.
    fn decide(&mut self) {
        if !self.consensus.is_established() || self.consensus.log().last().1 != self.state.applied {
            return;
        }
        let mut all_notes = std::mem::take(&mut self.notes);
        let scene = self.scene();
        let mut commands = steward::fencing::decide_nodes(&scene);
        let mut due = Time(u64::MAX);
        for (id, workload) in &self.spec.workloads {
            let notes = all_notes.entry(id.clone()).or_default();
            commands.extend(steward::decide(&scene, id, workload, notes));
            due = due.min(steward::next_look(&scene, id, notes));
        }
        (self.notes, self.decide_due) = (all_notes, due);
        self.consensus.propose(commands, self.now);
    }

    fn record(&mut self, event: Event) {
        self.effects.push_back(Effect::Record(event));
    }

    fn record_verdict(&mut self, verdict: Verdict) {
        let event = match verdict {
            Verdict::Suspected { node, silent, bound } => {
                let text = format!("{} has not heard {node} for {} ms", self.me, silent.as_millis());
                Event::new(Level::Notice, "suspected", text).with("node", node).with("bound_ms", bound.as_millis())
            }
            Verdict::Back { node, silent } => {
                let text = format!("{} hears {node} again after {} ms", self.me, silent.as_millis());
                Event::new(Level::Info, "heard-again", text).with("node", node)
            }
        };
        self.record(event);
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
            planted: self.planted,
        }
    }
}
