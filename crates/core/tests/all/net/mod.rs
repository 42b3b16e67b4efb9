//! Consensuses on a network that is in the test's hand.

use karst_core::author::Author;
use karst_core::command::{ClusterAct, Command};
use karst_core::consensus::{Consensus, Durable, Order, Pace, Setup, Stored, Talk};
use karst_core::state::ClusterState;
use karst_core::votes::Votes;
use karst_core::{Index, NodeId, Planted, Time};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::time::Duration;

pub const PACE: Pace = Pace {
    heartbeat: Duration::from_millis(100),
    election_timeout: Duration::from_millis(600),
    election_jitter: Duration::from_millis(300),
};
pub const QUIET: Duration = Duration::from_millis(612);

/// Three voters and a member without a vote. Everything ordered is durable at once unless `slow`.
pub struct Net {
    pub nodes: BTreeMap<NodeId, Consensus>,
    pub disks: BTreeMap<NodeId, Stored>,
    pub wires: VecDeque<(NodeId, NodeId, Talk)>,
    pub cut: BTreeSet<NodeId>,
    pub slow: BTreeSet<NodeId>,
    /// Slow, and with something to sync: nothing that was ordered later leaves.
    pub stuck: BTreeSet<NodeId>,
    pub events: Vec<Order>,
    /// Is lost at the moment in which it is asked for its vote.
    pub dies_when_asked: Option<NodeId>,
    pub now: Time,
}

pub fn id(name: &str) -> NodeId {
    name.into()
}

pub fn founder(name: &NodeId) -> Stored {
    Stored::forming(name.as_str().into())
}

pub fn member(name: &NodeId, stored: Stored, now: Time) -> Consensus {
    broken_member(name, stored, now, None)
}

pub fn broken_member(
    name: &NodeId,
    stored: Stored,
    now: Time,
    planted: Option<Planted>,
) -> Consensus {
    let voters = ["a", "b", "c"].map(|n| (id(n), 1));
    let members = ["a", "b", "c", "d"].map(id).into();
    let (me, votes) = (name.clone(), Votes::new(voters));
    let setup = Setup {
        me,
        members,
        founders: votes.into(),
        pace: PACE,
        quiet: QUIET,
        planted,
    };
    Consensus::new(setup, stored, now, Net::chance(name))
}

impl Net {
    pub fn new() -> Self {
        Self::with(None)
    }

    pub fn with(planted: Option<Planted>) -> Self {
        let names = ["a", "b", "c", "d"].map(id);
        let node = |n: &NodeId| broken_member(n, founder(n), Time::ZERO, planted);
        Self {
            nodes: names.iter().map(|n| (n.clone(), node(n))).collect(),
            disks: names.iter().map(|n| (n.clone(), founder(n))).collect(),
            wires: VecDeque::new(),
            cut: BTreeSet::new(),
            slow: BTreeSet::new(),
            stuck: BTreeSet::new(),
            events: Vec::new(),
            dies_when_asked: None,
            now: Time::ZERO,
        }
    }

    pub fn chance(name: &NodeId) -> f64 {
        match name.as_str() {
            "a" => 0.0,
            "b" => 0.4,
            _ => 0.9,
        }
    }

    /// Takes a node's orders, and sends what may be sent.
    pub fn take(&mut self, name: &NodeId) {
        loop {
            let orders = self.nodes.get_mut(name).unwrap().take_orders();
            if orders.is_empty() {
                return;
            }
            for order in orders {
                match order {
                    Order::Persist(_) if self.slow.contains(name) => {
                        self.stuck.insert(name.clone());
                    }
                    Order::Send(..) if self.stuck.contains(name) => {}
                    Order::Persist(durable) => self.persist(name, durable),
                    Order::Send(to, talk) => self.wires.push_back((name.clone(), to, talk)),
                    event => self.events.push(event),
                }
            }
        }
    }

    pub fn persist(&mut self, name: &NodeId, durable: Durable) {
        let disk = self.disks.get_mut(name).unwrap();
        let (last, term) = durable.reached();
        disk.take(durable);
        self.nodes
            .get_mut(name)
            .unwrap()
            .on_stable(last, term, self.now);
    }

    pub fn deliver_all(&mut self) {
        let names: Vec<NodeId> = self.nodes.keys().cloned().collect();
        names.iter().for_each(|n| self.take(n));
        while let Some((from, to, talk)) = self.wires.pop_front() {
            if self.dies_when_asked.as_ref() == Some(&to)
                && matches!(talk, Talk::RequestVote { .. })
            {
                self.cut.insert(to.clone());
            }
            if self.cut.contains(&from) || self.cut.contains(&to) {
                continue;
            }
            self.nodes
                .get_mut(&to)
                .unwrap()
                .on_talk(&from, talk, self.now, Self::chance(&to));
            self.take(&to);
        }
    }

    pub fn run(&mut self, ms: u64) {
        for _ in 0..ms / 10 {
            self.now += Duration::from_millis(10);
            for (name, node) in &mut self.nodes {
                if node.next_due(self.now) <= self.now {
                    node.on_time(self.now, Self::chance(name));
                }
            }
            self.deliver_all();
        }
    }

    pub fn restart(&mut self, name: &str) {
        self.restart_broken(name, None);
    }

    pub fn restart_broken(&mut self, name: &str, planted: Option<Planted>) {
        let node = broken_member(&id(name), self.disks[&id(name)].clone(), self.now, planted);
        self.nodes.insert(id(name), node);
    }

    pub fn leaders(&self) -> Vec<&str> {
        self.nodes
            .iter()
            .filter(|(_, n)| n.is_leader())
            .map(|(name, _)| name.as_str())
            .collect()
    }

    /// A snapshot takes the place of everything that this node knows to be committed.
    pub fn compact(&mut self, name: &str) {
        let node = self.nodes.get_mut(&id(name)).unwrap();
        // Empty entries build nothing but their number; something that takes several pieces is there.
        let mut state = ClusterState::default();
        for number in 0..150 {
            let known = ClusterAct::Acknowledge {
                finding: format!("finding-{number}"),
                by: Author::person("marlin"),
                at: 1_800_000_000,
                note: String::new(),
            };
            state.apply(Index(1), &Command::Cluster(known));
        }
        state.applied = node.commit();
        node.compact(&state);
        self.deliver_all();
    }

    pub fn propose(&mut self, name: &str) -> Option<Index> {
        let indexes = self
            .nodes
            .get_mut(&id(name))
            .unwrap()
            .propose(vec![Command::Noop], self.now);
        let index = indexes.map(|i| *i.end());
        self.deliver_all();
        index
    }
}
