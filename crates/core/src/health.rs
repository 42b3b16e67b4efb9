//! From heartbeats to verdicts: who is heard, who is suspected.
//!
//! An accrual detector per peer: the bound adapts to the arrivals seen, between the floor and the
//! ceiling of the spec. It is for speed only; safety rests on leases. Beats are numbered, so that a
//! link that loses some is seen as lossy and not as slow.

use crate::ids::NodeId;
use crate::members::{Members, Ordered};
use crate::spec::Timings;
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

/// Arrivals remembered per peer.
const WINDOW: usize = 64;
/// A gap this many standard deviations over the mean is suspicious.
const DEVIATIONS: f64 = 8.0;

/// Beats missed in a row that are an outage and no loss.
const OUTAGE: u64 = 16;
/// A share of so few beats says nothing.
const COUNTED: usize = 20;
/// A link that loses as many of its beats is worth a word: in per cent.
pub const LOSSY: u8 = 5;

/// What a beat says of whom its sender hears. It has to fit a datagram at every size, so that it
/// names nobody.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hears {
    /// How long ago it heard whoever is told this; none if never.
    pub you: Option<Duration>,
    /// Whom it heard within the detector's floor.
    pub lately: Members,
    /// The revision of the spec whose members these are.
    pub of: u64,
}

/// How one node hears another.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hearing {
    /// Since its last beat.
    pub age: Duration,
    /// Of its last beats, in per cent.
    pub lost: u8,
    /// Its attempts to connect arrive: what it sends comes through, and nothing comes back to it.
    /// Anybody can pretend to that, so it is for people's eyes only.
    pub knocks: bool,
}

#[derive(Clone, Debug)]
struct Arrivals {
    last: Time,
    gaps: VecDeque<f64>,
    numbers: VecDeque<u64>,
    /// How long a silence is unsuspicious, as the gaps say.
    bound: Duration,
    /// What that peer says whom it hears, as of when it said so.
    hears: Hears,
    suspected: bool,
}

impl Arrivals {
    /// A gap since the last beat, and what follows from it within these limits.
    fn add_gap(&mut self, gap: Duration, floor: Duration, ceiling: Duration) {
        self.gaps.push_back(gap.as_secs_f64());
        if self.gaps.len() > WINDOW {
            self.gaps.pop_front();
        }
        if self.gaps.len() < 8 {
            return;
        }
        let n = self.gaps.len() as f64;
        let mean = self.gaps.iter().sum::<f64>() / n;
        let variance = self.gaps.iter().map(|g| (g - mean).powi(2)).sum::<f64>() / n;
        self.bound =
            Duration::from_secs_f64(mean + DEVIATIONS * variance.sqrt()).clamp(floor, ceiling);
    }

    fn count(&mut self, number: u64) {
        // Beats may overtake each other; a lower number than any that is remembered is a new run of
        // the peer.
        let (oldest, newest) = (
            self.numbers.front().copied(),
            self.numbers.iter().max().copied(),
        );
        let follows = oldest.is_none_or(|o| number >= o)
            && newest.is_none_or(|n| number <= n.saturating_add(OUTAGE));
        if !follows {
            self.numbers.clear();
        }
        self.numbers.push_back(number);
        if self.numbers.len() > WINDOW {
            self.numbers.pop_front();
        }
    }

    fn lost(&self) -> u8 {
        if self.numbers.len() < COUNTED {
            return 0;
        }
        let (least, most) = (self.numbers.iter().min(), self.numbers.iter().max());
        let sent = most.zip(least).map_or(1, |(most, least)| most - least + 1);
        (100 * sent.saturating_sub(self.numbers.len() as u64) / sent) as u8
    }
}

/// What one node hears of the others.
#[derive(Clone, Debug)]
pub struct Health {
    floor: Duration,
    ceiling: Duration,
    since: Time,
    me: NodeId,
    members: Ordered,
    /// The revision that has these members.
    revision: u64,
    peers: BTreeMap<NodeId, Arrivals>,
    /// When each last tried to connect.
    knocked: BTreeMap<NodeId, Time>,
}

/// A change of verdict, for the record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    Suspected {
        node: NodeId,
        silent: Duration,
        bound: Duration,
    },
    Back {
        node: NodeId,
        silent: Duration,
    },
}

impl Verdict {
    pub fn node(&self) -> &NodeId {
        match self {
            Verdict::Suspected { node, .. } | Verdict::Back { node, .. } => node,
        }
    }
}

impl Health {
    pub fn new(timings: &Timings, me: NodeId, members: Ordered, now: Time) -> Self {
        Self {
            floor: timings.suspicion_floor,
            ceiling: timings.suspicion_ceiling,
            since: now,
            me,
            members,
            revision: 0,
            peers: BTreeMap::new(),
            knocked: BTreeMap::new(),
        }
    }

    /// Other limits, and other members; of whom is none any more nothing is remembered.
    pub fn reshape(
        &mut self,
        (floor, ceiling): (Duration, Duration),
        members: Ordered,
        revision: u64,
    ) {
        (self.floor, self.ceiling, self.revision) = (floor, ceiling, revision);
        self.peers.retain(|node, _| members.contains(node));
        self.knocked.retain(|node, _| members.contains(node));
        self.members = members;
    }

    /// Takes a heartbeat.
    pub fn on_beat(
        &mut self,
        from: &NodeId,
        number: u64,
        hears: Hears,
        now: Time,
    ) -> Option<Verdict> {
        let fresh = Arrivals {
            last: now,
            gaps: VecDeque::new(),
            numbers: VecDeque::new(),
            bound: self.ceiling,
            hears: Hears::default(),
            suspected: false,
        };
        let peer = self.peers.entry(from.clone()).or_insert(fresh);
        peer.count(number);
        let silent = now.since(peer.last);
        let back = std::mem::take(&mut peer.suspected);
        if !back && !silent.is_zero() {
            peer.add_gap(silent, self.floor, self.ceiling);
        }
        (peer.last, peer.hears) = (now, hears);
        back.then(|| Verdict::Back {
            node: from.clone(),
            silent,
        })
    }

    /// A peer tries to connect.
    pub fn on_knock(&mut self, from: &NodeId, now: Time) {
        self.knocked.insert(from.clone(), now);
    }

    /// How long a silence of this peer is unsuspicious.
    pub fn bound(&self, node: &NodeId) -> Duration {
        self.peers.get(node).map_or(self.ceiling, |p| p.bound)
    }

    /// How long ago the peer was heard; since the start if never.
    pub fn silence(&self, node: &NodeId, now: Time) -> Duration {
        now.since(self.peers.get(node).map_or(self.since, |p| p.last))
    }

    pub fn is_suspected(&self, node: &NodeId, now: Time) -> bool {
        self.silence(node, now) >= self.bound(node)
    }

    /// New suspicions, and when to look again.
    pub fn on_time(&mut self, now: Time) -> (Vec<Verdict>, Time) {
        let mut verdicts = Vec::new();
        let mut due = now + self.ceiling;
        for (node, peer) in &mut self.peers {
            let (silent, bound) = (now.since(peer.last), peer.bound);
            if silent >= bound && !peer.suspected {
                peer.suspected = true;
                verdicts.push(Verdict::Suspected {
                    node: node.clone(),
                    silent,
                    bound,
                });
            } else if silent < bound {
                due = due.min(peer.last + bound);
            }
        }
        (verdicts, due)
    }

    /// For the own heartbeats: whom this node heard within the floor.
    pub fn lately(&self, now: Time) -> Members {
        let near = |n: &NodeId| {
            self.peers
                .get(n)
                .is_some_and(|p| now.since(p.last) < self.floor)
        };
        self.members.pick(near)
    }

    /// For the own heartbeats: how long ago this peer was heard.
    pub fn age(&self, node: &NodeId, now: Time) -> Option<Duration> {
        Some(now.since(self.peers.get(node)?.last))
    }

    /// For reports: the peers that this node does not hear as it should, late, with losses, or
    /// never.
    pub fn ill(&self, now: Time) -> BTreeMap<NodeId, Hearing> {
        let hearing = |n: &NodeId| {
            let knocks = self
                .knocked
                .get(n)
                .is_some_and(|at| now.since(*at) < self.ceiling * 2);
            Hearing {
                age: self.silence(n, now),
                lost: self.peers.get(n).map_or(0, Arrivals::lost),
                knocks,
            }
        };
        let ill = |(n, h): &(NodeId, Hearing)| {
            h.age >= self.floor || h.lost >= LOSSY || !self.peers.contains_key(n)
        };
        let others = self.members.iter().filter(|n| **n != self.me);
        others
            .map(|n| (n.clone(), hearing(n)))
            .filter(ill)
            .collect()
    }

    /// A peer that this node hears and that says it hears `target`: a way round a broken link (A4).
    pub fn relay_to(&self, target: &NodeId, now: Time) -> Option<NodeId> {
        let good = |n: &&NodeId| {
            *n != target
                && self.silence(n, now) < self.floor
                && self.heard_by(n, target) == Some(true)
        };
        self.peers.keys().find(good).cloned()
    }

    /// Whether the direct link with a peer is broken in either direction: it is silent, or says
    /// that it has not heard this node for as long.
    pub fn is_broken(&self, node: &NodeId, limit: Duration, now: Time) -> bool {
        let deaf = |p: &Arrivals| p.hears.you.is_none_or(|age| age > limit);
        self.silence(node, now) > limit || self.peers.get(node).is_some_and(deaf)
    }

    /// Whether it was ever heard.
    pub fn knows(&self, node: &NodeId) -> bool {
        self.peers.contains_key(node)
    }

    /// Whether a peer had heard the other within the floor when it said so last; none if it never
    /// said anything, or speaks of other members.
    pub fn heard_by(&self, peer: &NodeId, other: &NodeId) -> Option<bool> {
        let hears = &self.peers.get(peer)?.hears;
        (hears.of == self.revision).then(|| self.members.has(&hears.lately, other))
    }

    /// Whose members this node speaks of.
    pub fn revision(&self) -> u64 {
        self.revision
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// This node, and those that it hears.
    fn health(now: Time) -> Health {
        let members = ["a", "b", "deaf", "good", "me", "target"].map(NodeId::from);
        Health::new(
            &Timings::default(),
            "me".into(),
            members.into_iter().collect(),
            now,
        )
    }

    /// A steady peer is suspected at the floor, a jittery one later, nobody after the ceiling (L2).
    #[test]
    fn the_bound_adapts_between_floor_and_ceiling() {
        let timings = Timings::default();
        let bound_after = |gaps: &[u64]| {
            let mut health = health(Time::ZERO);
            let mut now = Time::ZERO;
            for (gap, number) in gaps.iter().cycle().zip(0..40) {
                now += Duration::from_millis(*gap);
                health.on_beat(&"a".into(), number, Hears::default(), now);
            }
            assert!(!health.is_suspected(&"a".into(), now + Duration::from_millis(399)));
            assert!(health.is_suspected(&"a".into(), now + timings.suspicion_ceiling));
            health.bound(&"a".into())
        };
        assert_eq!(bound_after(&[100]), timings.suspicion_floor);
        let jittery = bound_after(&[60, 160]);
        assert!(
            jittery > timings.suspicion_floor && jittery < timings.suspicion_ceiling,
            "{jittery:?}"
        );
        assert_eq!(bound_after(&[10, 600]), timings.suspicion_ceiling);
    }

    /// One-way losses: what it hears says nothing about being heard (A4).
    #[test]
    fn a_link_is_broken_in_either_direction() {
        let (now, limit) = (Time::from_millis(1000), Duration::from_millis(300));
        let mut health = health(now);
        let mut broken = |you: Option<u64>, later: u64| {
            let hears = Hears {
                you: you.map(Duration::from_millis),
                ..Hears::default()
            };
            health.on_beat(&"a".into(), 0, hears, now);
            health.is_broken(&"a".into(), limit, now + Duration::from_millis(later))
        };
        assert!(!broken(Some(90), 100));
        assert!(broken(Some(90), 301), "it is silent");
        assert!(broken(Some(301), 100), "it does not hear me");
        assert!(broken(None, 100), "it never heard me");
    }

    #[test]
    fn a_relay_hears_both_sides() {
        let mut health = health(Time::ZERO);
        let now = Time::from_millis(1000);
        let hears = |health: &Health, who: &str| {
            let lately = health.members.pick(|n| n.as_str() == who);
            Hears {
                lately,
                ..Hears::default()
            }
        };
        health.on_beat(&"deaf".into(), 0, hears(&health, "good"), now);
        assert_eq!(health.relay_to(&"target".into(), now), None);
        health.on_beat(&"good".into(), 0, hears(&health, "target"), now);
        assert_eq!(health.relay_to(&"target".into(), now), Some("good".into()));
        assert_eq!(
            health.relay_to(&"target".into(), now + Timings::default().suspicion_floor),
            None,
            "it is silent"
        );
    }

    /// A report names whom it does not hear well, and nobody else.
    #[test]
    fn who_is_heard_well_is_not_named() {
        let (mut health, later) = (health(Time::ZERO), Time::from_millis(1_000));
        health.on_beat(&"a".into(), 0, Hears::default(), Time::from_millis(900));
        health.on_beat(&"b".into(), 0, Hears::default(), Time::from_millis(100));
        let named: Vec<String> = health.ill(later).keys().map(NodeId::to_string).collect();
        assert_eq!(named, ["b", "deaf", "good", "target"]);
        assert_eq!(
            health.lately(later),
            health.members.pick(|n| n.as_str() == "a")
        );
    }

    /// A fifth lost is seen as a fifth, an outage or a new run of the peer is no loss, and a beat
    /// overtaken is not lost.
    #[test]
    fn lost_beats_are_counted() {
        let mut health = health(Time::ZERO);
        let mut lost = |numbers: &mut dyn Iterator<Item = u64>| {
            numbers.for_each(|n| {
                drop(health.on_beat(&"a".into(), n, Hears::default(), Time::from_millis(1)))
            });
            health
                .ill(Time::from_millis(1))
                .get(&"a".into())
                .map_or(0, |h| h.lost)
        };
        assert_eq!(lost(&mut (0..30)), 0);
        assert_eq!(lost(&mut [31, 30, 32].into_iter()), 0, "overtaken");
        let fifth = lost(&mut (33..233).filter(|n| n % 5 != 0));
        assert!((18..=21).contains(&fifth), "{fifth} %");
        assert_eq!(lost(&mut (300..340)), 0, "an outage");
        assert_eq!(lost(&mut (0..40)), 0, "a new run");
    }

    /// Who knocks and is not heard is deaf, not silent; a while later it is silent.
    #[test]
    fn a_peer_that_knocks_is_not_cut_off_in_this_direction() {
        let mut health = health(Time::ZERO);
        health.on_knock(&"a".into(), Time::from_millis(5_000));
        assert!(health.ill(Time::from_millis(5_100))[&"a".into()].knocks);
        assert!(!health.ill(Time::from_millis(9_000))[&"a".into()].knocks);
        assert!(
            health.is_suspected(&"a".into(), Time::from_millis(5_100)),
            "it says nothing about its health"
        );
    }
}
