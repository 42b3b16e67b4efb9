//! Nodes and the quorum, as people see them.

use super::super::account::Account;
use crate::about::About;
use crate::health::{Hearing, LOSSY};
use crate::ids::{BootId, NodeId};
use crate::view::{
    AboutView, IfLost, NeedKind, NeedView, NodeState, NodeView, Quorum, QuorumNext, RoomView,
};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

impl Account<'_> {
    /// Whether its node store counts, as it says itself.
    pub(super) fn votes_count(&self, node: &NodeId) -> Option<bool> {
        if node == self.scene.me {
            Some(self.node.counts())
        } else {
            Some(self.scene.reports.get(node)?.report.counts)
        }
    }

    pub(super) fn node_view(&self, node: &NodeId) -> NodeView {
        let scene = &self.scene;
        let spec = &self.scene.spec.nodes[node];
        let silent = if node == self.scene.me {
            Duration::ZERO
        } else {
            scene.health.silence(node, scene.now)
        };
        let state = if node == self.scene.me || (self.leads && scene.reports_in(node)) {
            NodeState::Up
        } else if !scene.health.knows(node) {
            NodeState::Unheard
        } else if scene.health.is_suspected(node, scene.now) {
            NodeState::Suspected
        } else {
            NodeState::Up
        };
        // What it says is worth something while it is heard itself.
        let hears_ill = if state == NodeState::Up {
            self.hears_ill(node)
        } else {
            BTreeMap::new()
        };
        let deaf = |h: &Hearing| h.age > self.scene.spec.timings.suspicion_ceiling && !h.knocks;
        let does_not_hear = hears_ill
            .iter()
            .filter(|(_, h)| deaf(h))
            .map(|(n, _)| n.clone())
            .collect();
        let misses = hears_ill
            .iter()
            .filter(|(_, h)| h.lost >= LOSSY)
            .map(|(n, h)| (n.clone(), h.lost));
        NodeView {
            node: node.clone(),
            zone: spec.zone.clone(),
            votes: self.node.voters().weight(node),
            maintenance: self.scene.leaving.node(node),
            votes_count: self.votes_count(node),
            witness: spec.witness,
            state,
            silent_ms: silent.as_millis() as u64,
            does_not_hear,
            misses: misses.collect(),
            fenced: self.scene.state.fenced(node).map(|f| f.why.clone()),
            power: self.devices.power_of(scene.spec, node),
            console: spec.console_url(),
            about: self.about(node).map(|(boot, about)| AboutView {
                version: about.version.clone(),
                servers: about.servers.clone(),
                boot: boot.to_string(),
                unguarded: about.unguarded.clone(),
                watchdog: about.watchdog.clone(),
                rooms: about.rooms.iter().map(RoomView::from).collect(),
                certificate_until: about.certificate_until,
                authorities: about.authorities.clone(),
                since: about.since,
            }),
        }
    }

    /// What a node says of itself, with the run of its host.
    pub(super) fn about(&self, node: &NodeId) -> Option<(&BootId, &About)> {
        if node == self.scene.me {
            let host = &self.node.host;
            return Some((&host.boot, host.about.newest.as_deref()?));
        }
        let report = &self.scene.reports.get(node)?.report;
        Some((&report.boot, report.parts.about.as_deref()?))
    }

    /// Whom a node does not hear as it should: from its report, which comes round broken links,
    /// else from its last beat, which does not say since when.
    pub(super) fn hears_ill(&self, node: &NodeId) -> BTreeMap<NodeId, Hearing> {
        let scene = &self.scene;
        if node == self.scene.me {
            return scene.health.ill(scene.now);
        }
        let reported = scene
            .reports
            .get(node)
            .filter(|_| self.leads && scene.reports_in(node));
        if let Some(ill) = reported.and_then(|h| h.report.parts.hears_ill.as_ref()) {
            return ill.clone();
        }
        let unheard =
            |other: &&NodeId| *other != node && scene.health.heard_by(node, other) == Some(false);
        let silent = Hearing {
            age: Duration::MAX,
            ..Hearing::default()
        };
        self.scene
            .spec
            .nodes
            .keys()
            .filter(unheard)
            .map(|n| (n.clone(), silent))
            .collect()
    }

    pub(super) fn quorum_view(&self, nodes: &[NodeView]) -> Quorum {
        let voters = self.node.voters();
        let votes = &voters.now;
        let weight = |n: &NodeView| votes.weight(&n.node);
        let up = || {
            nodes
                .iter()
                .filter(|n| n.state == NodeState::Up && n.votes_count != Some(false))
        };
        let heard: u32 = up().map(weight).sum();
        let has_majority = heard >= votes.needed();
        let needs =
            |n: &&NodeView| has_majority && weight(n) > 0 && heard - weight(n) < votes.needed();
        let next = voters.next.as_ref().map(|next| QuorumNext {
            votes: next.iter().map(|(n, w)| (n.clone(), w)).collect(),
            needed: next.needed(),
            heard: up().map(|n| next.weight(&n.node)).sum(),
        });
        let cannot_lose = up().filter(needs).map(|n| n.node.clone());
        let counted: Vec<&NodeView> = up().filter(|n| n.votes > 0).collect();
        Quorum {
            total: votes.total(),
            needed: votes.needed(),
            heard,
            cannot_lose: cannot_lose.collect(),
            if_lost: if_lost(&counted, heard, votes.needed()),
            next,
        }
    }

    /// Nothing is decided until some come back. What else is needed nobody knows meanwhile.
    pub(super) fn lacks_voters(&self, quorum: &Quorum, nodes: &[NodeView]) -> Option<NeedView> {
        let goes_on = self.leads || quorum.heard >= quorum.needed;
        if goes_on || self.node.removed().is_some() {
            return None;
        }
        let silent = nodes
            .iter()
            .filter(|n| n.votes > 0 && n.state != NodeState::Up);
        let silent: Vec<&str> = silent.map(|n| n.node.as_str()).collect();
        Some(NeedView {
            kind: NeedKind::BringVoters,
            about: self.scene.spec.cluster.clone(),
            what: format!(
                "{} hears {} of {} votes, and {} are needed",
                self.scene.me, quorum.heard, quorum.total, quorum.needed
            ),
            next: format!(
                "bring {} back, or mend the network to it",
                silent.join(" or ")
            ),
            for_ms: None,
        })
    }
}

/// Pairs that are named: nobody reads more.
const PAIRS: usize = 20;

/// Of the voters that are heard and count.
fn if_lost(voters: &[&NodeView], heard: u32, needed: u32) -> Vec<IfLost> {
    let without = |what: String, votes: u32| {
        let left = heard.saturating_sub(votes);
        let holds = left >= needed;
        IfLost { what, left, holds }
    };
    let single = |n: &NodeView| without(n.node.to_string(), n.votes);
    let zones: BTreeSet<&str> = voters.iter().map(|n| n.zone.as_str()).collect();
    let zones = zones.into_iter().map(|zone| {
        let there = voters.iter().filter(|n| n.zone == zone);
        without(format!("all of {zone}"), there.map(|n| n.votes).sum())
    });
    let mut all: Vec<IfLost> = voters.iter().map(|n| single(n)).chain(zones).collect();
    let bearable = voters.iter().filter(|n| single(n).holds);
    let pairs = bearable.clone().enumerate().flat_map(|(i, one)| {
        let others = bearable.clone().skip(i + 1);
        others.map(move |other| {
            let what = format!("{} and {}", one.node, other.node);
            without(what, one.votes + other.votes)
        })
    });
    all.extend(pairs.filter(|pair| !pair.holds).take(PAIRS));
    all
}
