//! One node, and what stands for the others.

use karst_core::author::Level;
use karst_core::command::{Command, WorkloadAct};
use karst_core::consensus::{Entry, Stored, Talk};
use karst_core::message::Message;
use karst_core::node::{Effect, Input, NodeConfig};
use karst_core::spec::{
    Alone, Clock, Loss, NodeSpec, Readmit, ReplicaSpec, Revision, Spec, Timings, WorkloadSpec,
};
use karst_core::{BootId, Index, Node, NodeId, Planted, Term, Time};
use std::collections::BTreeMap;
use std::sync::Arc;

pub fn spec(voters: &[&str]) -> Spec {
    let address = |host: usize, port| ([10, 0, 0, host as u8], port).into();
    let node = |host| NodeSpec {
        zone: "z".into(),
        votes: 1,
        witness: false,
        peer: address(host, 1),
        api: None,
        console: None,
        power: None,
        readmit: Readmit::Auto,
        clock: Clock::Steady,
        local: Level::Observe,
    };
    let first = NodeId::from(voters[0]);
    let replica = ReplicaSpec {
        rank: 1,
        address: address(0, 2),
        data: "/d".into(),
        log: None,
        copy_from: None,
        base_backup: None,
    };
    let workload = WorkloadSpec {
        driver: "postgres".into(),
        loss: Loss::None,
        alone: Alone::Block,
        adopt: false,
        rules: Default::default(),
        restart: false,
        replicas: BTreeMap::from([(first.clone(), replica)]),
        gates: BTreeMap::from([(first, address(0, 3))]),
        reads: None,
        name: None,
        address: None,
        settings: BTreeMap::new(),
    };
    Spec {
        cluster: "c".into(),
        timings: Timings::default(),
        zones: vec!["z".into()],
        nodes: voters
            .iter()
            .enumerate()
            .map(|(host, n)| (NodeId::from(*n), node(host)))
            .collect(),
        workloads: BTreeMap::from([("w".into(), workload)]),
        steps: BTreeMap::new(),
    }
}

pub fn start(spec: Spec, stored: Stored) -> Node {
    start_broken(spec, stored, None)
}

pub fn start_broken(spec: Spec, stored: Stored, planted: Option<Planted>) -> Node {
    let me = spec.nodes.keys().next().expect("there is a node").clone();
    let config = NodeConfig {
        stored,
        planted,
        ..config(spec, me.as_str())
    };
    Node::new(config, Time::ZERO)
}

/// Of a node that forms the cluster.
pub fn config(spec: Spec, me: &str) -> NodeConfig {
    NodeConfig {
        me: me.into(),
        given: revision(spec),
        alone: false,
        boot: BootId::from("b"),
        system: None,
        seed: 1,
        stored: Stored::forming("s".into()),
        kept: BTreeMap::new(),
        snapshot_after: 1000,
        planted: None,
    }
}

/// Everything is durable at once; what the node does otherwise is returned.
pub fn drive(node: &mut Node, now: Time, input: Input) -> Vec<Effect> {
    node.handle(now, input);
    let mut effects = Vec::new();
    while let Some(effect) = node.poll_effect() {
        match effect {
            Effect::Persist { number, .. } => node.handle(now, Input::Persisted { number }),
            other => effects.push(other),
        }
    }
    effects
}

/// The other voters: they answer everything at once, and store nothing new once they stall.
pub struct Others {
    pub stalled: bool,
    pub stall_at_revoke: bool,
    pub last: Index,
}

impl Others {
    pub fn answer(&mut self, talk: Talk) -> Option<Talk> {
        Some(match talk {
            Talk::PreVote { term, .. } => Talk::PreVoteReply {
                term,
                yes: true,
                own: Term(0),
            },
            Talk::RequestVote { term, .. } => Talk::RequestVoteReply { term, yes: true },
            Talk::AppendEntries {
                term,
                prev,
                entries,
                sent,
                news,
                ..
            } => {
                let revokes = |e: &Entry| {
                    matches!(e.command, Command::Workload(_, WorkloadAct::Revoke { .. }))
                };
                self.stalled |= self.stall_at_revoke && entries.iter().any(revokes);
                if !self.stalled {
                    self.last = self.last.max(Index(prev.index.0 + entries.len() as u64));
                }
                Talk::AppendEntriesReply {
                    term,
                    matched: Ok(self.last),
                    sent,
                    news,
                    counts: true,
                }
            }
            _ => return None,
        })
    }

    pub fn pump(&mut self, node: &mut Node, now: Time, input: Input) {
        let mut effects = drive(node, now, input);
        while let Some(effect) = effects.pop() {
            if let Effect::Send {
                to,
                message: Message::Talk(talk),
            } = effect
                && to.as_str() == "b"
                && let Some(talk) = self.answer(talk)
            {
                effects.extend(drive(
                    node,
                    now,
                    Input::Received {
                        from: to,
                        message: Message::Talk(talk),
                    },
                ));
            }
        }
    }
}

pub fn revision(spec: Spec) -> Arc<Revision> {
    Arc::new(Revision::first(spec, ""))
}
