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

mod account;
mod address;
mod agenda;
mod apply;
mod ask;
mod ask_enrol;
mod ask_intent;
mod ask_point;
mod ask_power;
mod ask_restart;
mod checkin;
mod checkins;
mod devices;
mod door;
mod gate;
mod here;
mod inout;
mod journal;
mod keys;
mod lead;
mod links;
mod names;
mod outbox;
mod ownsteps;
mod plan;
mod power;
mod questions;
mod readers;
mod sentence;
mod shape;
mod status;
mod step;
mod timers;
mod vouch;

pub use inout::{CALM_LOOKS, Effect, Input, NodeConfig, SNAPSHOT_AFTER, Write};

use checkins::Checkins;
use here::{Before, Here};
use journal::Journal;
use keys::Keys;
use lead::Lead;
use links::Links;
use outbox::{Mark, Outbox};
use questions::{Asker, Questions};
use timers::Timers;
use vouch::Vouched;

use crate::about::About;
use crate::address::AddressSeen;
use crate::authority::{Claim, Deadline};
use crate::consensus::{self, Consensus, Setup, Talk};
use crate::event::Event;
use crate::fact::Fact;
use crate::heads::{Head, Heads};
use crate::health::{Health, Verdict};
use crate::ids::{BootId, Index, NodeId, Term, WorkloadId};
use crate::message::Message;
use crate::planted::Planted;
use crate::replica::agent::Agent;
use crate::replica::{Observation, Role};
use crate::spec::{Revision, Spec};
use crate::state::ClusterState;
use crate::steward::{self, Heard};
use crate::time::Time;
use crate::votes::Votes;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// How long the deadman may take to say what it counts down, after the daemon's start.
const DEADMAN_ANSWERS: Duration = Duration::from_millis(100);

/// What this run of the daemon found out about its host.
struct Host {
    boot: BootId,
    /// The hardware's UUID, where the host can tell.
    system: Option<String>,
    about: OwnAccount,
}

/// What it says of itself and its host, and how often that was something else.
#[derive(Default)]
struct OwnAccount {
    newest: Option<Box<About>>,
    number: u64,
}

pub struct Node {
    me: NodeId,
    host: Host,
    planted: Option<Planted>,
    /// The spec that this node acts by, and what it says.
    revision: Arc<Revision>,
    spec: Arc<Spec>,
    /// The log says so.
    logged: bool,
    /// Earlier timings that this node still reckons with.
    live: BTreeMap<Index, crate::spec::Timings>,
    chance: Pcg64Mcg,
    now: Time,
    timers: Timers,
    // What the cluster agrees on.
    consensus: Consensus,
    state: ClusterState,
    /// A snapshot takes the place of so many entries.
    snapshot_after: u64,
    /// The spec is another one: it has to be there at the next start (R7).
    outline_due: bool,
    journal: Journal,
    // What this node knows of the others, and they of it.
    health: Health,
    heads: Heads,
    vouched: Vouched,
    keys: Keys,
    links: Links,
    checkins: Checkins,
    questions: Questions,
    // What it is and has.
    here: Here,
    /// While it is coordinator.
    lead: Option<Lead>,
    outbox: Outbox,
}

impl Node {
    pub fn new(config: NodeConfig, now: Time) -> Self {
        let NodeConfig {
            me,
            given,
            alone,
            boot,
            system,
            seed,
            stored,
            kept,
            snapshot_after,
            planted,
        } = config;
        let outline = shape::outline(&stored);
        let logged = outline.is_some();
        let revision = outline.unwrap_or_else(|| given.clone());
        let spec = revision.spec.clone();
        let t = &spec.timings;
        let charter = stored.snapshot.as_ref().map(|s| s.state.charter.clone());
        let charter = charter.unwrap_or_default();
        let mut chance = Pcg64Mcg::seed_from_u64(seed);
        let founders = if alone {
            Votes::new([(me.clone(), 1)])
        } else {
            given.spec.votes()
        };
        let setup = Setup {
            me: me.clone(),
            members: spec.nodes.keys().cloned().collect(),
            founders: founders.into(),
            pace: here::pace(t),
            quiet: charter.longest(t, crate::spec::Timings::quiet_after_start),
            planted,
        };
        let consensus = Consensus::new(setup, stored, now, chance.random());
        let patience = match planted {
            Some(Planted::LeaseForEver) => Duration::MAX,
            _ => t.kill_bound + DEADMAN_ANSWERS,
        };
        let until = Some(Deadline {
            at: now + patience,
            kill_bound: t.kill_bound,
        });
        let mut node = Self {
            health: Health::new(t, me.clone(), spec.nodes.keys().cloned().collect(), now),
            me,
            host: Host {
                boot,
                system,
                about: OwnAccount::default(),
            },
            planted,
            revision,
            spec,
            logged,
            live: BTreeMap::new(),
            chance,
            now,
            timers: Timers::new(now),
            consensus,
            state: ClusterState::default(),
            snapshot_after,
            outline_due: false,
            journal: Journal::default(),
            heads: Heads::default(),
            vouched: Vouched::default(),
            keys: Keys::default(),
            links: Links::default(),
            checkins: Checkins::default(),
            questions: Questions::default(),
            here: Here::default(),
            lead: None,
            outbox: Outbox::new(planted),
        };
        node.here.stored = node.consensus.log().last().index;
        let number = node.revision.number;
        node.health.reshape(
            (
                node.spec.timings.suspicion_floor,
                node.spec.timings.suspicion_ceiling,
            ),
            node.spec.nodes.keys().cloned().collect(),
            number,
        );
        node.take_shape(Before { kept, until });
        node
    }

    pub fn me(&self) -> &NodeId {
        &self.me
    }
    pub fn spec(&self) -> &Spec {
        &self.spec
    }
    pub fn revision(&self) -> &Arc<Revision> {
        &self.revision
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
        self.here.gates.get(workload)?.lease.until(epoch)
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
    pub fn reports(&self) -> impl Iterator<Item = (&NodeId, &Heard)> {
        self.lead.iter().flat_map(|lead| &lead.reports)
    }
    pub fn commit(&self) -> Index {
        self.consensus.commit()
    }
    /// Until when a primary of this workload may act on this node (S3 is checked against it).
    pub fn authority_until(&self, workload: &WorkloadId) -> Option<Time> {
        Some(self.here.agents.get(workload)?.authority.holds_until())
    }
    /// The workloads that have a replica on this node.
    pub fn replicas(&self) -> impl Iterator<Item = &WorkloadId> {
        self.here.agents.keys()
    }
    /// Whether this node looks after a server of the workload: as its replica, or until that is let
    /// go of.
    pub fn looks_after(&self, workload: &WorkloadId) -> bool {
        self.here.agents.contains_key(workload) || self.here.dismissed.contains_key(workload)
    }
    /// What this node's own server of the workload said it is.
    pub fn role_of(&self, workload: &WorkloadId) -> Option<Role> {
        self.here.agents.get(workload)?.seen()?.role
    }
    /// How far each primary is, as far as was heard, and when.
    pub fn heads(&self) -> impl Iterator<Item = (&WorkloadId, Head, Time)> {
        self.heads.iter()
    }
    /// Who votes, as its log says.
    pub fn voters(&self) -> &crate::votes::Voters {
        self.consensus.voters()
    }

    /// Takes what happened. `now` is this node's steady clock.
    pub fn handle(&mut self, now: Time, input: Input) {
        self.now = self.now.max(now);
        self.timers.on_move(self.now, self.spec.timings.heartbeat);
        // Before anything new: whoever looks after each step has seen every entry that goes.
        if self
            .state
            .applied
            .0
            .saturating_sub(self.consensus.log().base().index.0)
            >= self.snapshot_after
            || std::mem::take(&mut self.outline_due)
        {
            self.consensus.compact(&self.state);
        }
        match input {
            Input::Received { from, message } => self.on_message(&from, message),
            Input::Persisted { number } => {
                self.timers.stirred = true;
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
                self.timers.stirred = true;
                if let Some(agent) = self.here.agent_mut(&workload) {
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
            Input::AddressSeen { workload, seen } => self.on_address_seen(&workload, seen),
            Input::GateSeen { workload, report } => self.on_gate_seen(&workload, report),
            Input::ReadersSeen { workload, report } => self.on_readers_seen(&workload, report),
            Input::Named {
                workload,
                order,
                result,
            } => self.on_named(&workload, &order, result),
            Input::Stepped { occasion, ran } => self.on_stepped(&occasion, ran),
            Input::Powered {
                node,
                order,
                result,
            } => {
                self.note_news(&node);
                self.on_powered(&node, order, result);
            }
            Input::Asked {
                ticket,
                request,
                level,
                token,
            } => self.on_asked(Asker::Here(ticket), request, (level, token)),
            Input::Introduced {
                from,
                number,
                request,
                level,
            } => self.on_introduced(from, number, request, level),
            Input::Shown { node, key } => self.on_shown(node, key),
            Input::Removed { by, since } => self.on_removed(by, since),
            Input::Knocked { from } => self.health.on_knock(&from, self.now),
            Input::Clock { unix } => self.timers.wall = Some((self.now, unix)),
            Input::Examined(seen) => {
                self.here.examined = Some(seen);
                self.timers.stirred = true;
            }
            Input::About(about) => {
                self.host.about = OwnAccount {
                    newest: Some(about),
                    number: self.host.about.number + 1,
                };
            }
            Input::Woke => {}
        }
        self.advance();
    }

    fn on_observed(&mut self, workload: &WorkloadId, observation: Observation) {
        let Some(agent) = self.here.agent_mut(workload) else {
            return;
        };
        let same = |old: &Observation| old.without_progress() == observation.without_progress();
        self.timers.stirred |= !agent.seen().is_some_and(same);
        agent.on_observed(observation, self.now);
        self.note_own_head(workload);
    }

    fn on_address_seen(&mut self, workload: &WorkloadId, seen: AddressSeen) {
        let Some(keeper) = self.here.keeper_mut(workload) else {
            return;
        };
        let old = std::mem::replace(&mut keeper.seen, seen);
        self.timers.stirred |= old.without_connections() != keeper.seen.without_connections();
        self.note_address(workload, &old);
        self.tell_connections(workload);
    }

    fn on_armed(&mut self, claim: &Claim, deadline: Option<Deadline>, unguarded: Option<String>) {
        match claim {
            Claim::Primary(workload) => {
                let calm = self.here.calm.contains(workload);
                let Some(agent) = self.here.agent_mut(workload) else {
                    return;
                };
                // A later deadline of a primary that serves is no news.
                let earlier = deadline.map(|d| d.at) < agent.authority.armed();
                self.timers.stirred |= earlier || agent.unguarded != unguarded || !calm;
                agent.unguarded = unguarded;
                agent.authority.on_armed(deadline);
            }
            Claim::Address(workload) => {
                let Some(keeper) = self.here.keeper_mut(workload) else {
                    return;
                };
                self.timers.stirred |= deadline.is_none() || !keeper.seen.held;
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
            .min(self.timers.health)
    }

    /// When a whole step is due by the mere passing of time.
    fn step_due(&self) -> Time {
        let mut due = self.timers.beat;
        if let Some(lead) = &self.lead {
            due = due
                .min(lead.agenda.due())
                .min(self.power_due(&lead.devices));
        }
        for agent in self.here.agents.values() {
            due = due.min(agent.next_due());
        }
        due.min(self.dismissed_due())
            .min(self.gates_due())
            .min(self.readers_due())
            .min(self.addresses_due())
    }

    fn on_message(&mut self, from: &NodeId, message: Message) {
        // Of one that votes and that the spec here does not name yet, consensus is heard, and nothing
        // else (V7).
        let is_heard = self.spec.nodes.contains_key(from)
            || (matches!(message, Message::Talk(_)) && self.is_heeded(from));
        if !is_heard || *from == self.me {
            return;
        }
        if !self.admits(from, &message) {
            return;
        }
        self.is_spoken_to(from);
        match message {
            Message::Beat {
                number,
                hears,
                heads,
                votes,
            } => {
                self.vouch_to(from, number, votes);
                self.hear_of_heads(from, heads);
                if let Some(verdict) = self.health.on_beat(from, number, hears, self.now) {
                    self.note_news(from);
                    self.record_verdict(verdict);
                }
            }
            Message::Vouch { at, voters } => self.note_vouched(from, at, voters),
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
                    self.note_news(from);
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
                readers,
                round,
                ..
            } => {
                self.checkins.on_answer(number, sent, term);
                self.on_grant(sent, &leases);
                self.on_readers(sent, readers);
                self.on_ways_round(sent, round);
            }
            Message::Connections {
                workload,
                connections,
            } => {
                if let Some(keeper) = self.here.addresses.get_mut(&workload) {
                    keeper.connections = connections;
                }
            }
            Message::Ask {
                number, request, ..
            } => {
                let level = self.level_of_host(from);
                self.on_asked(Asker::Node(from.clone(), number), request, (level, None));
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
        // Another revision may have workloads that this node's has not.
        let known = |(id, _): &(WorkloadId, Head)| self.spec.workloads.contains_key(id);
        for (workload, head) in heads.into_iter().filter(known) {
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
        if !self.links.set_way(to, via.as_ref()) {
            return;
        }
        self.outbox.emit_now(Effect::Way {
            to: to.clone(),
            via,
        });
    }

    /// Says once in a while that a node sends what none should.
    fn note_refused(&mut self, from: &NodeId, why: &'static str) {
        if !self.links.may_refuse(from, self.now) {
            return;
        }
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
            .here
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
                    if let Some(agent) = self.here.agent_mut(&workload) {
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

    /// Something is news about a node: whatever follows from it is looked at.
    fn note_news(&mut self, node: &NodeId) {
        self.timers.stirred = true;
        if let Some(lead) = &mut self.lead {
            lead.agenda.add_node(node);
        }
    }

    /// As coordinator: all that a decision may look at.
    fn scene(&self) -> Option<steward::Scene<'_>> {
        self.lead.as_ref().map(|lead| self.scene_of(lead))
    }

    fn scene_of<'a>(&'a self, lead: &'a Lead) -> steward::Scene<'a> {
        steward::Scene {
            now: self.now,
            wall: self.timers.wall(self.now),
            me: &self.me,
            spec: &self.spec,
            state: &self.state,
            reports: &lead.reports,
            health: &self.health,
            ledger: &lead.ledger,
            elected_at: self.consensus.elected_at().unwrap_or(self.now),
            awake_since: self.timers.awake_since,
            off: &lead.devices.off,
            on: &lead.devices.on,
            heads: &self.heads,
            leaving: steward::Leaving::of(&self.state),
            consensus: &self.consensus,
            shaped_at: lead.shaped_at,
            shown: &self.keys.shown,
            planted: self.planted,
        }
    }
}
