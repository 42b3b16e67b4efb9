//! From heartbeats to verdicts: who is heard, who is suspected.
//!
//! An accrual detector per peer: the bound adapts to the arrivals seen, between the floor and the ceiling of the spec.
//! It is for speed only; safety rests on leases. Beats are numbered, so that a link that loses some is seen as lossy and not
//! as slow.

use crate::ids::NodeId;
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

/// How one node hears another.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hearing {
    /// Since its last beat.
    pub age: Duration,
    /// Of its last beats, in per cent.
    pub lost: u8,
    /// Its attempts to connect arrive: what it sends comes through, and nothing comes back to it. Anybody can pretend to
    /// that, so it is for people's eyes only.
    pub knocks: bool,
}

#[derive(Clone, Debug)]
struct Arrivals {
    last: Time,
    gaps: VecDeque<f64>,
    numbers: VecDeque<u64>,
    /// What that peer says whom it hears, as of when it said so.
    heard: BTreeMap<NodeId, Hearing>,
    suspected: bool,
}

impl Arrivals {
    fn count(&mut self, number: u64) {
        // Beats may overtake each other; a lower number than any that is remembered is a new run of the peer.
        let (oldest, newest) = (self.numbers.front().copied(), self.numbers.iter().max().copied());
        let follows = oldest.is_none_or(|o| number >= o) && newest.is_none_or(|n| number <= n + OUTAGE);
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
    peers: BTreeMap<NodeId, Arrivals>,
    /// When each last tried to connect.
    knocked: BTreeMap<NodeId, Time>,
}

/// A change of verdict, for the record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    Suspected { node: NodeId, silent: Duration, bound: Duration },
    Back { node: NodeId, silent: Duration },
}

impl Health {
    pub fn new(timings: &Timings, now: Time) -> Self {
        Self {
            floor: timings.suspicion_floor,
            ceiling: timings.suspicion_ceiling,
            since: now,
            peers: BTreeMap::new(),
            knocked: BTreeMap::new(),
        }
    }

    /// Takes a heartbeat.
    pub fn on_beat(&mut self, from: &NodeId, number: u64, heard: Vec<(NodeId, Hearing)>, now: Time) -> Option<Verdict> {
        let fresh = Arrivals {
            last: now,
            gaps: VecDeque::new(),
            numbers: VecDeque::new(),
            heard: BTreeMap::new(),
            suspected: false,
        };
        let peer = self.peers.entry(from.clone()).or_insert(fresh);
        peer.count(number);
        let silent = now.since(peer.last);
        let back = std::mem::take(&mut peer.suspected);
        if !back && !silent.is_zero() {
            peer.gaps.push_back(silent.as_secs_f64());
            if peer.gaps.len() > WINDOW {
                peer.gaps.pop_front();
            }
        }
        peer.last = now;
        peer.heard = heard.into_iter().collect();
        back.then(|| Verdict::Back { node: from.clone(), silent })
    }

    /// A peer tries to connect.
    pub fn on_knock(&mut self, from: &NodeId, now: Time) {
        self.knocked.insert(from.clone(), now);
    }

    /// How long a silence of this peer is unsuspicious.
    pub fn bound(&self, node: &NodeId) -> Duration {
        let Some(peer) = self.peers.get(node).filter(|p| p.gaps.len() >= 8) else { return self.ceiling };
        let n = peer.gaps.len() as f64;
        let mean = peer.gaps.iter().sum::<f64>() / n;
        let variance = peer.gaps.iter().map(|g| (g - mean).powi(2)).sum::<f64>() / n;
        Duration::from_secs_f64(mean + DEVIATIONS * variance.sqrt()).clamp(self.floor, self.ceiling)
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
        let names: Vec<NodeId> = self.peers.keys().cloned().collect();
        for node in names {
            let (silent, bound) = (self.silence(&node, now), self.bound(&node));
            let peer = self.peers.get_mut(&node).expect("its name was just listed");
            if silent >= bound && !peer.suspected {
                peer.suspected = true;
                verdicts.push(Verdict::Suspected { node, silent, bound });
            } else if silent < bound {
                due = due.min(peer.last + bound);
            }
        }
        (verdicts, due)
    }

    /// For the own heartbeats and reports: how this node hears each peer.
    pub fn hears(&self, now: Time) -> BTreeMap<NodeId, Hearing> {
        let knocks = |n: &NodeId| self.knocked.get(n).is_some_and(|at| now.since(*at) < self.ceiling * 2);
        let hearing = |n: &NodeId, age, lost| (n.clone(), Hearing { age, lost, knocks: knocks(n) });
        let heard = self.peers.iter().map(|(n, p)| hearing(n, now.since(p.last), p.lost()));
        let never = self.knocked.keys().filter(|n| !self.peers.contains_key(*n));
        heard.chain(never.map(|n| hearing(n, now.since(self.since), 0))).collect()
    }

    /// A peer that this node hears and that says it hears `target`: a way round a broken link (A4).
    pub fn relay_to(&self, target: &NodeId, now: Time) -> Option<NodeId> {
        let fresh = |d: Duration| d < self.floor;
        let good = |(n, p): &(&NodeId, &Arrivals)| {
            *n != target && fresh(now.since(p.last)) && p.heard.get(target).is_some_and(|h| fresh(h.age))
        };
        self.peers.iter().find(good).map(|(n, _)| n.clone())
    }

    /// Whether the direct link with a peer is broken in either direction: it is silent, or says that it has not heard this
    /// node for as long. `me` is this node.
    pub fn is_broken(&self, node: &NodeId, me: &NodeId, limit: Duration, now: Time) -> bool {
        let deaf = |p: &Arrivals| p.heard.get(me).is_none_or(|h| h.age > limit);
        self.silence(node, now) > limit || self.peers.get(node).is_some_and(deaf)
    }

    /// Whom a peer says it hears, as of its last heartbeat.
    pub fn heard_by(&self, node: &NodeId) -> Option<&BTreeMap<NodeId, Hearing>> {
        self.peers.get(node).map(|p| &p.heard)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn aged(ms: u64) -> Hearing {
        Hearing { age: Duration::from_millis(ms), ..Hearing::default() }
    }

    /// A steady peer is suspected at the floor, a jittery one later, nobody after the ceiling (L2).
    #[test]
    fn the_bound_adapts_between_floor_and_ceiling() {
        let timings = Timings::default();
        let bound_after = |gaps: &[u64]| {
            let mut health = Health::new(&timings, Time::ZERO);
            let mut now = Time::ZERO;
            for (gap, number) in gaps.iter().cycle().zip(0..40) {
                now += Duration::from_millis(*gap);
                health.on_beat(&"a".into(), number, vec![], now);
            }
            assert!(!health.is_suspected(&"a".into(), now + Duration::from_millis(399)));
            assert!(health.is_suspected(&"a".into(), now + timings.suspicion_ceiling));
            health.bound(&"a".into())
        };
        assert_eq!(bound_after(&[100]), timings.suspicion_floor);
        let jittery = bound_after(&[60, 160]);
        assert!(jittery > timings.suspicion_floor && jittery < timings.suspicion_ceiling, "{jittery:?}");
        assert_eq!(bound_after(&[10, 600]), timings.suspicion_ceiling);
    }

    /// One-way losses: what it hears says nothing about being heard (A4).
    #[test]
    fn a_link_is_broken_in_either_direction() {
        let (now, limit) = (Time::from_millis(1000), Duration::from_millis(300));
        let mut health = Health::new(&Timings::default(), now);
        let mut broken = |heard: &[(&str, u64)], later: u64| {
            let heard = heard.iter().map(|(n, ms)| ((*n).into(), aged(*ms))).collect();
            health.on_beat(&"a".into(), 0, heard, now);
            health.is_broken(&"a".into(), &"me".into(), limit, now + Duration::from_millis(later))
        };
        assert!(!broken(&[("me", 90)], 100));
        assert!(broken(&[("me", 90)], 301), "it is silent");
        assert!(broken(&[("me", 301)], 100), "it does not hear me");
        assert!(broken(&[("b", 10)], 100), "it never heard me");
    }

    #[test]
    fn a_relay_hears_both_sides() {
        let mut health = Health::new(&Timings::default(), Time::ZERO);
        let now = Time::from_millis(1000);
        health.on_beat(&"deaf".into(), 0, vec![("target".into(), aged(3000))], now);
        assert_eq!(health.relay_to(&"target".into(), now), None);
        health.on_beat(&"good".into(), 0, vec![("target".into(), aged(90))], now);
        assert_eq!(health.relay_to(&"target".into(), now), Some("good".into()));
    }

    /// A fifth lost is seen as a fifth, an outage or a new run of the peer is no loss, and a beat overtaken is not lost.
    #[test]
    fn lost_beats_are_counted() {
        let mut health = Health::new(&Timings::default(), Time::ZERO);
        let mut lost = |numbers: &mut dyn Iterator<Item = u64>| {
            numbers.for_each(|n| drop(health.on_beat(&"a".into(), n, vec![], Time::from_millis(1))));
            health.hears(Time::from_millis(1))[&"a".into()].lost
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
        let mut health = Health::new(&Timings::default(), Time::ZERO);
        health.on_knock(&"a".into(), Time::from_millis(5_000));
        assert!(health.hears(Time::from_millis(5_100))[&"a".into()].knocks);
        assert!(!health.hears(Time::from_millis(9_000))[&"a".into()].knocks);
        assert!(health.is_suspected(&"a".into(), Time::from_millis(5_100)), "it says nothing about its health");
    }
}
