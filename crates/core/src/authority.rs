//! Leases: who may act as primary *now* (S3).
//!
//! The log says who may be primary; a lease says until when it may be without asking again. The
//! holder counts its lease from the moment it **sent** the request; the coordinator counts from the
//! moment it **sent** the grant and adds the rate bound. So the holder always stops first.

use crate::ids::{Epoch, NodeId, WorkloadId};
use crate::time::{Time, shortened, stretched};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// What a lease covers.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Claim {
    /// Being the primary of a workload, under one of its epochs.
    Primary(WorkloadId),
    /// Answering for its floating address, under one of its numbers.
    Address(WorkloadId),
}

impl Claim {
    pub fn workload(&self) -> &WorkloadId {
        match self {
            Claim::Primary(id) | Claim::Address(id) => id,
        }
    }
}

impl std::fmt::Display for Claim {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Claim::Primary(id) => write!(f, "{id}"),
            Claim::Address(id) => write!(f, "{id}'s address"),
        }
    }
}

/// The holder's side: one workload's lease, and what the deadman has confirmed.
#[derive(Clone, Debug, Default)]
pub struct Authority {
    lease: Option<(Epoch, Time)>,
    armed: Option<Time>,
    /// Since when the deadman owes an answer to what it was told.
    told: Option<Time>,
}

impl Authority {
    /// At a daemon's start: what the deadman still counts down is not known yet. A server that runs
    /// is left alone until the deadman has said so, for at most this long (A7).
    pub fn awaiting(until: Time) -> Self {
        Self {
            armed: Some(until),
            ..Self::default()
        }
    }

    /// Takes a grant; returns the deadline to arm the deadman with, if it is later than the one
    /// before by what is `worth` its being woken. A grant that is passed over covers nothing.
    pub fn on_grant(
        &mut self,
        epoch: Epoch,
        sent: Time,
        lease: Duration,
        worth: Duration,
    ) -> Option<Time> {
        let until = sent + shortened(lease);
        let newer = self
            .lease
            .is_none_or(|(e, u)| epoch > e || (epoch == e && until >= u + worth));
        newer.then(|| {
            self.lease = Some((epoch, until));
            until
        })
    }

    pub fn on_told(&mut self, now: Time) {
        self.told.get_or_insert(now);
    }

    /// Whether the deadman has to be told that nothing is left to watch: once, and not again before
    /// it has answered.
    pub fn disarms(&mut self, now: Time) -> bool {
        let disarms = self.armed.is_some() && self.told.is_none();
        if disarms {
            self.on_told(now);
        }
        disarms
    }

    /// The deadman confirmed that it acts before `deadline`, or that it watches nothing here.
    pub fn on_armed(&mut self, deadline: Option<Time>) {
        (self.armed, self.told) = (deadline, None);
    }

    /// The deadman has let a lease pass without a word: nothing can be held here until it answers
    /// again.
    pub fn is_deadman_silent(&self, now: Time, kill_bound: Duration) -> bool {
        self.told.is_some_and(|told| told + kill_bound <= now) && self.stop_by(kill_bound) <= now
    }

    pub fn armed(&self) -> Option<Time> {
        self.armed
    }

    /// Whether a primary of `epoch` may be started or promoted now: leased, armed, and with time
    /// left to stop again.
    pub fn may_act(&self, epoch: Epoch, now: Time, kill_bound: Duration) -> bool {
        let leased = self
            .lease
            .is_some_and(|(e, until)| e == epoch && until > now + kill_bound);
        leased
            && self
                .armed
                .is_some_and(|deadline| deadline > now + kill_bound)
    }

    /// When a running primary has to be stopped (C2): the kill bound before the deadline that the
    /// deadman confirmed. A lease that the deadman has not confirmed covers nothing (C6); a
    /// deadline confirmed to an earlier run of the daemon still does (A7).
    pub fn stop_by(&self, kill_bound: Duration) -> Time {
        self.armed
            .map_or(Time::ZERO, |deadline| deadline - kill_bound)
    }

    /// Until when anything of the workload may act here at all; what the simulator checks S3
    /// against.
    pub fn holds_until(&self) -> Time {
        self.armed.unwrap_or(Time::ZERO)
    }
}

/// A gate's permission to forward (C8): the same lease, without a deadman.
#[derive(Clone, Copy, Debug, Default)]
pub struct GateLease(Option<(Epoch, Time)>);

impl GateLease {
    /// A late grant takes nothing back.
    pub fn on_grant(&mut self, epoch: Epoch, sent: Time, lease: Duration) {
        self.0 = self.0.max(Some((epoch, sent + shortened(lease))));
    }

    pub fn until(&self, epoch: Epoch) -> Option<Time> {
        self.0.filter(|(e, _)| *e == epoch).map(|(_, until)| until)
    }
}

/// The coordinator's side: when it last granted what.
#[derive(Clone, Debug, Default)]
pub struct Ledger {
    last: BTreeMap<Claim, (Epoch, NodeId, Time)>,
}

impl Ledger {
    pub fn on_grant(&mut self, claim: &Claim, epoch: Epoch, holder: &NodeId, now: Time) {
        self.last
            .insert(claim.clone(), (epoch, holder.clone(), now));
    }

    /// When no lease of the claim can be valid any more (A2): counted from the later of the
    /// election and the own last grant.
    pub fn over_at(&self, claim: &Claim, elected_at: Time, longest: Duration) -> Time {
        let granted = self.last.get(claim).map_or(elected_at, |(_, _, at)| *at);
        granted.max(elected_at) + stretched(longest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_deadman_is_armed_anew_when_it_is_worth_it() {
        let (ms, lease) = (Duration::from_millis, Duration::from_secs(2));
        let mut authority = Authority::default();
        let armed =
            [(1, 0), (1, 100), (1, 200), (1, 340), (1, 360), (2, 370)].map(|(epoch, sent)| {
                authority
                    .on_grant(Epoch(epoch), Time::ZERO + ms(sent), lease, ms(150))
                    .is_some()
            });
        assert_eq!(
            armed,
            [true, false, true, false, true, true],
            "a new epoch is armed at once"
        );
    }

    #[test]
    fn a_deadman_that_says_nothing_is_told_once_and_noticed_when_the_lease_passes() {
        let (ms, lease, kill) = (
            Duration::from_millis,
            Duration::from_secs(2),
            Duration::from_millis(300),
        );
        let mut authority = Authority::default();
        let at = |millis: u64| Time::ZERO + ms(millis);
        let until = authority.on_grant(Epoch(1), at(0), lease, ms(150));
        authority.on_told(at(0));
        assert!(
            !authority.is_deadman_silent(at(1), kill),
            "it was told just now"
        );
        authority.on_armed(until);
        assert!(
            !authority.is_deadman_silent(at(2_000), kill),
            "it owes nothing"
        );
        authority.on_told(at(200));
        assert!(
            !authority.is_deadman_silent(at(1_500), kill),
            "what it last confirmed still covers"
        );
        assert!(authority.is_deadman_silent(at(1_700), kill));
        assert!(
            !authority.disarms(at(1_700)),
            "it has not answered what it was told before"
        );
        authority.on_armed(until);
        assert!(!authority.is_deadman_silent(at(1_700), kill));
        assert_eq!(
            [authority.disarms(at(1_700)), authority.disarms(at(1_800))],
            [true, false]
        );
    }

    proptest! {
        /// Whatever the clocks' offsets, rates within the bound, and delays: the holder stops
        /// before the coordinator counts the lease as over.
        #[test]
        fn the_holder_stops_first(
            asked in 0u64..10_000, out in 0u64..500, back in 0u64..500,
            holder_ppm in -10_000i64..=10_000, coordinator_ppm in -10_000i64..=10_000, lease in 100u64..10_000,
        ) {
            let local = |true_ms: f64, ppm: i64| true_ms * (1.0 + ppm as f64 / 1e6);
            let lease = Duration::from_millis(lease);
            let (sent, granted) = (asked as f64, (asked + out) as f64);
            let mut authority = Authority::default();
            let until = authority
                .on_grant(Epoch(1), Time((local(sent, holder_ppm) * 1e6) as u64), lease, Duration::ZERO)
                .expect("a first grant is news");
            let mut ledger = Ledger::default();
            let (w, n) = (Claim::Primary("w".into()), NodeId::from("n"));
            ledger.on_grant(&w, Epoch(1), &n, Time((local(granted, coordinator_ppm) * 1e6) as u64));
            let over = ledger.over_at(&w, Time::ZERO, lease);
            let true_until = until.0 as f64 / (1.0 + holder_ppm as f64 / 1e6);
            let true_over = over.0 as f64 / (1.0 + coordinator_ppm as f64 / 1e6);
            prop_assert!(true_until <= true_over + 1.0, "{true_until} > {true_over} (answer took {back})");
        }
    }
}
