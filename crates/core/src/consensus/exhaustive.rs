//! Every schedule of three voters, within budgets: campaigns, proposals, messages that come late
//! (at any later moment), crashes that lose what was not synced, stores that are lost, changes of who
//! votes, hand-overs; and without any: messages that never come, syncs at any moment, leaders that give up. In each state that can
//! be reached, a term has one leader (S1), what is committed stays (S2) and was durable on a
//! majority (S8).
//!
//! Time is taken out: no promise lasts, so that none keeps anybody from voting. Promises are for
//! leases and for calm (A1, A3); S1 and S2 must hold without them.

use super::{Consensus, Durable, Entry, Order, Pace, Role, Setup, Stored, Talk};
use crate::command::{ClusterAct, Command};
use crate::ids::{Index, NodeId, Term};
use crate::message::Message;
use crate::planted::Planted;
use crate::time::Time;
use crate::votes::{Voters, Votes};
use std::collections::hash_map::DefaultHasher;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::hash::Hasher;
use std::time::Duration;

const NAMES: [&str; 3] = ["a", "b", "c"];
const PACE: Pace = Pace {
    heartbeat: Duration::ZERO,
    election_timeout: Duration::ZERO,
    election_jitter: Duration::ZERO,
};
const NOW: Time = Time::ZERO;

/// What may still happen.
#[derive(Clone, Copy)]
struct Budget {
    campaigns: u8,
    proposals: u8,
    lates: u8,
    crashes: u8,
    losses: u8,
    /// Of votes: all three, then one of them alone.
    changes: u8,
    hands: u8,
}

/// What is broken on purpose.
#[derive(Clone, Copy, PartialEq)]
enum Broken {
    Nothing,
    Rule(Planted),
    /// A message leaves before what it says is durable.
    SaidTooEarly,
    /// The new voters count alone at once (V2).
    OneStep,
}

/// What was written last, and the messages that wait for it.
type Unsynced = (Durable, Vec<(NodeId, Talk)>);

#[derive(Clone)]
struct World {
    nodes: [Consensus; 3],
    disks: [Stored; 3],
    pending: [VecDeque<Unsynced>; 3],
    /// Said just now, by whom, to whom: it arrives in this order, or never.
    wires: VecDeque<(usize, usize, Talk)>,
    /// These come late.
    late: Vec<(usize, usize, Talk)>,
    budget: Budget,
    leaders: BTreeMap<Term, usize>,
    committed: Vec<Term>,
    /// Who votes has changed, or is about to.
    changed: bool,
}

enum Step {
    Deliver,
    Drop,
    Delay,
    DeliverLate(usize),
    Campaign(usize),
    GiveUp(usize),
    Sync(usize),
    Propose(usize),
    Crash(usize),
    Lose(usize),
    Change(usize),
    HandOver(usize, usize),
}

fn place(name: &NodeId) -> usize {
    NAMES
        .iter()
        .position(|n| *n == name.as_str())
        .expect("one of three")
}

fn member(n: usize, stored: Stored, broken: Broken) -> Consensus {
    let members: BTreeSet<NodeId> = NAMES.map(NodeId::from).into();
    let votes = Votes::new(members.iter().map(|m| (m.clone(), 1)));
    let planted = if let Broken::Rule(rule) = broken {
        Some(rule)
    } else {
        None
    };
    let setup = Setup {
        me: NAMES[n].into(),
        members,
        founders: votes.into(),
        pace: PACE,
        quiet: Duration::ZERO,
        planted,
    };
    Consensus::new(setup, stored, NOW, 0.0)
}

impl World {
    fn new(budget: Budget, broken: Broken) -> Self {
        let disks = NAMES.map(|n| Stored::forming(n.into()));
        Self {
            nodes: [0, 1, 2].map(|n| member(n, disks[n].clone(), broken)),
            disks,
            pending: Default::default(),
            wires: VecDeque::new(),
            late: Vec::new(),
            budget,
            leaders: BTreeMap::new(),
            committed: Vec::new(),
            changed: false,
        }
    }

    fn steps(&self) -> Vec<Step> {
        let mut steps: Vec<Step> = (0..self.late.len()).map(Step::DeliverLate).collect();
        if !self.wires.is_empty() {
            steps.extend([Step::Deliver, Step::Drop]);
            if self.budget.lates > 0 {
                steps.push(Step::Delay);
            }
        }
        for n in 0..3 {
            if !self.pending[n].is_empty() {
                steps.push(Step::Sync(n));
            }
            // Whoever is the first to campaign is called a.
            let first = n == 0 || self.nodes.iter().any(|m| m.term > Term(0));
            let quiet = self.wires.is_empty();
            if quiet
                && self.budget.campaigns > 0
                && first
                && !self.nodes[n].is_leader()
                && self.nodes[n].counts
            {
                steps.push(Step::Campaign(n));
            }
            if quiet && self.nodes[n].is_leader() {
                steps.push(Step::GiveUp(n));
            }
            if quiet && self.budget.proposals > 0 && self.nodes[n].is_leader() {
                steps.push(Step::Propose(n));
            }
            if quiet && self.budget.changes > 0 && self.next_voters(n).is_some() {
                steps.push(Step::Change(n));
            }
            if quiet && self.budget.hands > 0 && self.nodes[n].is_leader() {
                let others = (0..3).filter(|to| *to != n);
                steps.extend(others.map(|to| Step::HandOver(n, to)));
            }
            if self.budget.crashes > 0 {
                steps.push(Step::Crash(n));
            }
            if self.budget.losses > 0 {
                steps.push(Step::Lose(n));
            }
        }
        steps
    }

    fn after(&self, step: &Step, broken: Broken) -> Self {
        let mut next = self.clone();
        let n = match step {
            Step::Deliver | Step::Drop | Step::Delay => {
                self.wires.front().map_or(0, |(_, to, _)| *to)
            }
            Step::DeliverLate(late) => self.late[*late].1,
            Step::Campaign(n)
            | Step::GiveUp(n)
            | Step::Sync(n)
            | Step::Propose(n)
            | Step::Crash(n)
            | Step::Change(n)
            | Step::HandOver(n, _)
            | Step::Lose(n) => *n,
        };
        match step {
            Step::Deliver => {
                let (from, _, talk) = next.wires.pop_front().expect("something was said");
                next.nodes[n].on_talk(&NAMES[from].into(), talk, NOW, 0.0);
            }
            Step::Drop => drop(next.wires.pop_front()),
            Step::Delay => {
                next.budget.lates -= 1;
                next.late.extend(next.wires.pop_front());
            }
            Step::DeliverLate(late) => {
                let (from, _, talk) = next.late.remove(*late);
                next.nodes[n].on_talk(&NAMES[from].into(), talk, NOW, 0.0);
            }
            Step::Campaign(_) => {
                next.budget.campaigns -= 1;
                next.campaign(n);
            }
            Step::GiveUp(_) => next.nodes[n].on_time(NOW, 0.0),
            Step::Sync(_) => next.sync(n),
            Step::Propose(_) => {
                next.budget.proposals -= 1;
                next.nodes[n].propose(vec![Command::Noop], NOW);
            }
            Step::Crash(_) => {
                next.budget.crashes -= 1;
                next.restart(n, broken);
            }
            Step::Change(_) => {
                next.budget.changes -= 1;
                let mut voters = self.next_voters(n).expect("it was listed");
                if broken == Broken::OneStep
                    && let Some(wanted) = voters.next.take()
                {
                    voters.now = wanted;
                }
                next.changed = true;
                let change = Command::Cluster(ClusterAct::Voters(voters));
                next.nodes[n].propose(vec![change], NOW);
            }
            Step::HandOver(_, to) => {
                next.budget.hands -= 1;
                next.nodes[n].hand_over(&NAMES[*to].into(), NOW, 0.0);
            }
            Step::Lose(_) => {
                next.budget.losses -= 1;
                next.disks[n] = Stored {
                    store: Some("new".into()),
                    ..Stored::default()
                };
                next.restart(n, broken);
            }
        }
        next.take_orders(n, broken);
        // Where nobody crashes, a sync that comes late is a message that comes late.
        while next.budget.crashes + next.budget.losses == 0 && !next.pending[n].is_empty() {
            next.sync(n);
            next.take_orders(n, broken);
        }
        next
    }

    /// What this leader may propose about who votes: to all three and one alone at once, and after
    /// that is committed to the one alone, by that one.
    fn next_voters(&self, n: usize) -> Option<Voters> {
        let node = &self.nodes[n];
        let one = Votes::new([(NAMES[0].into(), 1)]);
        let last = node.log().last().index;
        if !node.is_leader() || node.commit() < last {
            return None;
        }
        let voters = node.voters();
        match &voters.next {
            None if voters.now == one => None,
            None => Some(Voters {
                now: voters.now.clone(),
                next: Some(one),
            }),
            Some(_) => (n == 0).then(|| one.into()),
        }
    }

    /// Whoever wants to campaign may: the sounding out before only ever forbids it, and the
    /// messages of it change nothing.
    fn campaign(&mut self, n: usize) {
        let node = &mut self.nodes[n];
        node.on_time(NOW, 0.0);
        let (term, own) = (node.term.next(), node.term);
        node.take_orders();
        for other in NAMES.iter().filter(|m| **m != NAMES[n]) {
            node.on_talk(
                &(*other).into(),
                Talk::PreVoteReply {
                    term,
                    yes: true,
                    own,
                },
                NOW,
                0.0,
            );
        }
    }

    fn sync(&mut self, n: usize) {
        let Some((durable, waits)) = self.pending[n].pop_front() else {
            return;
        };
        let (last, term) = durable.reached();
        self.disks[n].take(durable);
        waits
            .into_iter()
            .for_each(|(to, talk)| self.say(n, &to, talk));
        self.nodes[n].on_stable(last, term, NOW);
    }

    fn say(&mut self, from: usize, to: &NodeId, talk: Talk) {
        self.wires.push_back((from, place(to), talk));
    }

    fn restart(&mut self, n: usize, broken: Broken) {
        self.pending[n].clear();
        self.nodes[n] = member(n, self.disks[n].clone(), broken);
    }

    fn take_orders(&mut self, n: usize, broken: Broken) {
        for order in self.nodes[n].take_orders() {
            match order {
                Order::Persist(durable) => self.pending[n].push_back((durable, Vec::new())),
                Order::Send(to, talk) => {
                    let says = Message::Talk(talk.clone()).says_what_is_durable();
                    match self.pending[n].back_mut() {
                        Some((_, waits)) if says && broken != Broken::SaidTooEarly => {
                            waits.push((to, talk))
                        }
                        _ => self.say(n, &to, talk),
                    }
                }
                Order::Elected { .. }
                | Order::HandedOver { .. }
                | Order::SteppedDown { .. }
                | Order::Installed { .. }
                | Order::Regressed { .. } => {}
            }
        }
    }

    /// What must be so in every state; what one node committed is noted as committed.
    fn check(&mut self) -> Result<(), String> {
        for n in 0..3 {
            let node = &self.nodes[n];
            if node.is_leader() && *self.leaders.entry(node.term()).or_insert(n) != n {
                return Err(format!("S1: two lead term {}", node.term()));
            }
            for index in 1..=node.commit().0 {
                let at = Index(index);
                let Some(term) = node.log().term_at(at) else {
                    return Err(format!("S2: {at} is committed and gone"));
                };
                match self.committed.get(index as usize - 1) {
                    Some(first) if *first == term => {}
                    Some(first) => {
                        return Err(format!(
                            "S2: entry {at} is of term {first} for one and {term} for another"
                        ));
                    }
                    None => {
                        // What a lost store acknowledged was durable there once.
                        let has = |d: &&Stored| {
                            !d.counts || d.entries.iter().any(|e| e.index == at && e.term == term)
                        };
                        let on = self.disks.iter().filter(has).count();
                        if on < 2 && !self.changed {
                            return Err(format!(
                                "S8: entry {at} is committed and not durable on a majority"
                            ));
                        }
                        self.committed.push(term);
                    }
                }
            }
        }
        Ok(())
    }

    /// The state without what makes no difference: 128 bits, so that two states are never taken for
    /// one.
    fn key(&self) -> (u64, u64) {
        let mut bytes = Bytes::default();
        for n in 0..3 {
            bytes.consensus(&self.nodes[n]);
            let disk = &self.disks[n];
            bytes
                .add(disk.term.0)
                .node(disk.vote.as_ref())
                .add(u64::from(disk.counts))
                .entries(&disk.entries);
            for (durable, waits) in &self.pending[n] {
                match durable {
                    Durable::Vote { term, vote } => bytes.add(4).add(term.0).node(vote.as_ref()),
                    Durable::Entries(entries) => bytes.add(5).entries(entries),
                    _ => bytes.add(6),
                };
                for (to, talk) in waits {
                    bytes.node(Some(to)).talk(talk);
                }
            }
            bytes.add(7);
        }
        for (from, to, talk) in &self.wires {
            bytes.add(*from as u64).add(*to as u64).talk(talk);
        }
        bytes.add(8);
        let late = self.late.iter().map(|(from, to, talk)| {
            let mut bytes = Bytes::default();
            bytes.add(*from as u64).add(*to as u64).talk(talk);
            bytes.0
        });
        let mut late: Vec<Vec<u8>> = late.collect();
        late.sort();
        late.iter().for_each(|one| bytes.0.extend(one));
        let Budget {
            campaigns,
            proposals,
            lates,
            crashes,
            losses,
            changes,
            hands,
        } = self.budget;
        let left = [campaigns, proposals, lates, crashes, losses, changes, hands];
        for left in left {
            bytes.add(u64::from(left));
        }
        for (term, n) in &self.leaders {
            bytes.add(term.0).add(*n as u64);
        }
        for term in &self.committed {
            bytes.add(term.0);
        }
        let hash = |salt: u8| {
            let mut hasher = DefaultHasher::new();
            hasher.write_u8(salt);
            hasher.write(&bytes.0);
            hasher.finish()
        };
        (hash(0), hash(1))
    }
}

/// What a state is written down as.
#[derive(Default)]
struct Bytes(Vec<u8>);

impl Bytes {
    /// A node's own state.
    fn consensus(&mut self, node: &Consensus) {
        self.add(node.term.0)
            .add(node.commit.0)
            .add(node.stable.0)
            .add(node.vote_stable.0);
        self.add(u64::from(node.counts))
            .node(node.vote.as_ref())
            .node(node.leader.as_ref());
        self.entries(node.log.after(Index(0)));
        match &node.role {
            Role::Follower => self.add(0),
            Role::Sounding { yes } => yes.iter().fold(self.add(1), |b, n| b.node(Some(n))),
            Role::Candidate { votes } => votes.iter().fold(self.add(2), |b, (n, yes)| {
                b.node(Some(n)).add(u64::from(*yes))
            }),
            Role::Leader(leader) => leader.followers.values().fold(
                self.add(3)
                    .node(leader.hands_over.as_ref().map(|(to, _)| to)),
                |b, p| {
                    b.add(p.next.0)
                        .add(p.matched.0)
                        .add(p.told.0)
                        .add(p.store as u64)
                },
            ),
        };
    }

    fn add(&mut self, number: u64) -> &mut Self {
        self.0
            .push(u8::try_from(number).expect("all numbers are small here"));
        self
    }

    fn node(&mut self, node: Option<&NodeId>) -> &mut Self {
        self.add(node.map_or(9, |n| place(n) as u64))
    }

    fn entries(&mut self, entries: &[Entry]) -> &mut Self {
        for e in entries {
            self.add(e.term.0).add(e.index.0);
            if let Some(voters) = e.command.voters() {
                self.add(20 + u64::from(voters.is_joint()));
            }
        }
        self.add(99)
    }

    fn talk(&mut self, talk: &Talk) -> &mut Self {
        match talk {
            Talk::PreVote { term, last } => {
                self.add(10).add(term.0).add(last.term.0).add(last.index.0)
            }
            Talk::PreVoteReply { term, yes, own } => {
                self.add(11).add(term.0).add(u64::from(*yes)).add(own.0)
            }
            Talk::RequestVote { term, last, .. } => {
                self.add(12).add(term.0).add(last.term.0).add(last.index.0)
            }
            Talk::RequestVoteReply { term, yes } => self.add(13).add(term.0).add(u64::from(*yes)),
            Talk::AppendEntries {
                term,
                prev,
                entries,
                commit,
                ..
            } => self
                .add(14)
                .add(term.0)
                .add(prev.term.0)
                .add(prev.index.0)
                .add(commit.0)
                .entries(entries),
            Talk::AppendEntriesReply {
                term,
                matched,
                counts,
                ..
            } => {
                let (yes, at) = match matched {
                    Ok(at) => (1, at.0),
                    Err(at) => (0, at.0),
                };
                self.add(15)
                    .add(term.0)
                    .add(yes)
                    .add(at)
                    .add(u64::from(*counts))
            }
            Talk::Expelled { term } => self.add(16).add(term.0),
            Talk::Take { term } => self.add(17).add(term.0),
            Talk::InstallSnapshot { .. } | Talk::InstallSnapshotReply { .. } => {
                unreachable!("no log is compacted here")
            }
        }
    }
}

/// How many states there are, or what is wrong in the first bad one that was found.
fn explore(budget: Budget, broken: Broken) -> Result<usize, String> {
    let mut seen = BTreeSet::new();
    let first = World::new(budget, broken);
    seen.insert(first.key());
    let mut open = vec![first];
    while let Some(world) = open.pop() {
        for step in world.steps() {
            let mut next = world.after(&step, broken);
            next.check()?;
            if seen.insert(next.key()) {
                open.push(next);
            }
        }
    }
    Ok(seen.len())
}

const NONE: Budget = Budget {
    campaigns: 2,
    proposals: 0,
    lates: 0,
    crashes: 0,
    losses: 0,
    changes: 0,
    hands: 0,
};

/// The numbers are pinned: a change of them is a change of what consensus does, or of how
/// thoroughly it is looked at.
#[test]
fn every_schedule_without_a_crash_is_safe() {
    assert_eq!(
        explore(
            Budget {
                proposals: 1,
                ..NONE
            },
            Broken::Nothing
        ),
        Ok(67_607)
    );
    assert_eq!(
        explore(Budget { lates: 1, ..NONE }, Broken::Nothing),
        Ok(155_987)
    );
    assert_eq!(
        explore(
            Budget {
                campaigns: 3,
                ..NONE
            },
            Broken::Nothing
        ),
        Ok(176_867)
    );
}

#[test]
fn every_schedule_with_a_crash_is_safe() {
    assert_eq!(
        explore(Budget { crashes: 1, ..NONE }, Broken::Nothing),
        Ok(466_607)
    );
}

#[test]
fn every_schedule_with_a_lost_store_is_safe() {
    assert_eq!(
        explore(Budget { losses: 1, ..NONE }, Broken::Nothing),
        Ok(460_176)
    );
}

/// V2: the way from three voters to one of them, with everything that may come between.
#[test]
fn every_schedule_of_a_change_of_voters_is_safe() {
    let change = Budget { changes: 2, ..NONE };
    assert_eq!(explore(change, Broken::Nothing), Ok(116_105));
    let late = explore(change, Broken::OneStep).expect_err("one step is found");
    assert!(late.starts_with("S1") || late.starts_with("S2"), "{late}");
}

/// V5, without its leases: whoever takes over leads the next term, and nobody else does.
#[test]
fn every_schedule_of_a_hand_over_is_safe() {
    let hands = Budget { hands: 2, ..NONE };
    assert_eq!(explore(hands, Broken::Nothing), Ok(479_495));
}

/// What it would find.
#[test]
fn a_broken_rule_is_found() {
    let found = |budget, broken| {
        explore(budget, broken).expect_err("a rule is broken, and nothing is found")
    };
    let early = found(Budget { crashes: 1, ..NONE }, Broken::SaidTooEarly);
    assert!(
        early.starts_with("S1") || early.starts_with("S8"),
        "{early}"
    );
    let empty = found(
        Budget { losses: 1, ..NONE },
        Broken::Rule(Planted::EmptyStoreVotes),
    );
    assert!(
        empty.starts_with("S1") || empty.starts_with("S2"),
        "{empty}"
    );
}
