//! Leases: who may act as primary *now* (S3).
//!
//! The log says who may be primary; a lease says until when it may be without asking again. The
//! holder counts its lease from the moment it **sent** the request; the coordinator counts from the
//! moment it **sent** the grant and adds the rate bound. So the holder always stops first.

use crate::ids::{Epoch, WorkloadId};
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

/// What a grant gives its holder. What it rests on travels with it, and is not read anew.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lease {
    pub claim: Claim,
    pub epoch: Epoch,
    /// Counted from when it was asked for, on the holder's clock.
    pub length: Duration,
    /// So long before its end its holder begins to stop.
    pub kill_bound: Duration,
}

/// When what is held must have ended, on the holder's clock.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Deadline {
    pub at: Time,
    /// So long before it the end begins.
    pub kill_bound: Duration,
}

impl Deadline {
    pub fn stop_by(self) -> Time {
        self.at - self.kill_bound
    }
}

/// The holder's side: one workload's lease, and what the deadman has confirmed.
#[derive(Clone, Debug, Default)]
pub struct Authority {
    lease: Option<(Epoch, Deadline)>,
    armed: Option<Deadline>,
    /// Since when the deadman owes an answer to what it was told.
    told: Option<Time>,
}

impl Authority {
    /// At a daemon's start: what the deadman still counts down is not known yet. A server that runs
    /// is left alone until the deadman has said so, for at most this long (A7).
    pub fn awaiting(until: Deadline) -> Self {
        Self {
            armed: Some(until),
            ..Self::default()
        }
    }

    /// Takes a grant that was asked for at `sent`; returns the deadline to arm the deadman with, if
    /// it is later than the one before by what is `worth` its being woken. A grant that is passed
    /// over covers nothing.
    pub fn on_grant(&mut self, lease: &Lease, sent: Time, worth: Duration) -> Option<Deadline> {
        let (epoch, until) = (lease.epoch, sent + shortened(lease.length));
        let newer = self
            .lease
            .is_none_or(|(e, u)| epoch > e || (epoch == e && until >= u.at + worth));
        newer.then(|| {
            let deadline = Deadline {
                at: until,
                kill_bound: lease.kill_bound,
            };
            self.lease = Some((epoch, deadline));
            deadline
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
    pub fn on_armed(&mut self, deadline: Option<Deadline>) {
        (self.armed, self.told) = (deadline, None);
    }

    /// The deadman has let a lease pass without a word: nothing can be held here until it answers
    /// again.
    pub fn is_deadman_silent(&self, now: Time) -> bool {
        let patience = self.armed.or(self.lease.map(|(_, deadline)| deadline));
        let patience = patience.map_or(Duration::ZERO, |deadline| deadline.kill_bound);
        self.told.is_some_and(|told| told + patience <= now) && self.stop_by() <= now
    }

    pub fn armed(&self) -> Option<Time> {
        Some(self.armed?.at)
    }

    /// Whether a primary of `epoch` may be started or promoted now: leased, armed, and with time
    /// left to stop again.
    pub fn may_act(&self, epoch: Epoch, now: Time) -> bool {
        let leased = self
            .lease
            .is_some_and(|(e, until)| e == epoch && until.stop_by() > now);
        leased && self.stop_by() > now
    }

    /// When a running primary has to be stopped (C2): the kill bound before the deadline that the
    /// deadman confirmed. A lease that the deadman has not confirmed covers nothing (C6); a
    /// deadline confirmed to an earlier run of the daemon still does (A7).
    pub fn stop_by(&self) -> Time {
        self.armed.map_or(Time::ZERO, Deadline::stop_by)
    }

    /// Until when anything of the workload may act here at all; what the simulator checks S3
    /// against.
    pub fn holds_until(&self) -> Time {
        self.armed().unwrap_or(Time::ZERO)
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

/// The coordinator's side: until when what it granted may hold.
#[derive(Clone, Debug, Default)]
pub struct Ledger {
    granted: BTreeMap<Claim, Granted>,
}

#[derive(Clone, Copy, Debug, Default)]
struct Granted {
    until: Time,
    /// The same by the slowest clock that a holder may have.
    over: Time,
}

impl Ledger {
    /// A shorter lease ends no longer one of before: whoever has that goes by it (A2).
    pub fn on_grant(&mut self, lease: &Lease, now: Time) {
        let granted = self.granted.entry(lease.claim.clone()).or_default();
        granted.until = granted.until.max(now + lease.length);
        granted.over = granted.over.max(now + stretched(lease.length));
    }

    /// As if nothing had been granted.
    pub(crate) fn forget(&mut self, claim: &Claim) {
        self.granted.remove(claim);
    }

    /// For how long what was granted holds at the most.
    pub fn left(&self, claim: &Claim, now: Time) -> Option<Duration> {
        Some(self.granted.get(claim)?.until.since(now))
    }

    /// When no lease of the claim can be valid any more (A2): all that was granted here is over, and
    /// so is the longest that an earlier coordinator can have given.
    pub fn over_at(&self, claim: &Claim, elected_at: Time, longest: Duration) -> Time {
        let others = elected_at + stretched(longest);
        let own = self.granted.get(claim).map(|granted| granted.over);
        own.map_or(others, |own| own.max(others))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn lease(epoch: u64, length: Duration) -> Lease {
        Lease {
            claim: Claim::Primary("w".into()),
            epoch: Epoch(epoch),
            length,
            kill_bound: Duration::from_millis(300),
        }
    }

    /// A2: a grant of before may be longer than what is granted now, and a primary with an armed
    /// deadline keeps the bound that came with it.
    #[test]
    fn what_a_promise_rests_on_travels_with_it() {
        let (ms, at) = (Duration::from_millis, |millis: u64| {
            Time::from_millis(millis)
        });
        let mut ledger = Ledger::default();
        ledger.on_grant(&lease(1, ms(5_000)), at(1_000));
        let over = ledger.over_at(&Claim::Primary("w".into()), at(0), ms(2_000));
        assert_eq!(over, at(1_000) + stretched(ms(5_000)));
        ledger.on_grant(&lease(1, ms(800)), at(1_100));
        let still = ledger.over_at(&Claim::Primary("w".into()), at(0), ms(2_000));
        assert_eq!(still, over, "a shorter one ends no longer one");
        let mut authority = Authority::default();
        let deadline = authority.on_grant(&lease(1, ms(2_000)), at(0), ms(150));
        authority.on_armed(deadline);
        let stop_by = authority.stop_by();
        let longer = Lease {
            kill_bound: ms(1_900),
            ..lease(1, ms(2_000))
        };
        let next = authority.on_grant(&longer, at(200), ms(150));
        assert_eq!(authority.stop_by(), stop_by, "not confirmed yet");
        authority.on_armed(next);
        assert_eq!(authority.stop_by(), next.unwrap().at - ms(1_900));
    }

    #[test]
    fn the_deadman_is_armed_anew_when_it_is_worth_it() {
        let ms = Duration::from_millis;
        let mut authority = Authority::default();
        let armed =
            [(1, 0), (1, 100), (1, 200), (1, 340), (1, 360), (2, 370)].map(|(epoch, sent)| {
                authority
                    .on_grant(&lease(epoch, ms(2_000)), Time::ZERO + ms(sent), ms(150))
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
        let ms = Duration::from_millis;
        let mut authority = Authority::default();
        let at = |millis: u64| Time::ZERO + ms(millis);
        let until = authority.on_grant(&lease(1, ms(2_000)), at(0), ms(150));
        authority.on_told(at(0));
        assert!(!authority.is_deadman_silent(at(1)), "it was told just now");
        authority.on_armed(until);
        assert!(!authority.is_deadman_silent(at(2_000)), "it owes nothing");
        authority.on_told(at(200));
        assert!(
            !authority.is_deadman_silent(at(1_500)),
            "what it last confirmed still covers"
        );
        assert!(authority.is_deadman_silent(at(1_700)));
        assert!(
            !authority.disarms(at(1_700)),
            "it has not answered what it was told before"
        );
        authority.on_armed(until);
        assert!(!authority.is_deadman_silent(at(1_700)));
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
            let longest = Duration::from_millis(lease);
            let lease = super::tests::lease(1, longest);
            let (sent, granted) = (asked as f64, (asked + out) as f64);
            let mut authority = Authority::default();
            let until = authority
                .on_grant(&lease, Time((local(sent, holder_ppm) * 1e6) as u64), Duration::ZERO)
                .expect("a first grant is news");
            let mut ledger = Ledger::default();
            ledger.on_grant(&lease, Time((local(granted, coordinator_ppm) * 1e6) as u64));
            let over = ledger.over_at(&lease.claim, Time::ZERO, longest);
            let true_until = until.at.0 as f64 / (1.0 + holder_ppm as f64 / 1e6);
            let true_over = over.0 as f64 / (1.0 + coordinator_ppm as f64 / 1e6);
            prop_assert!(true_until <= true_over + 1.0, "{true_until} > {true_over} (answer took {back})");
        }
    }
}
