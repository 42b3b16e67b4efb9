//! All intervals, and the inequalities between them (SAFETY A8).

use crate::time::{RATE_BOUND_PER_MILLE, shortened, stretched};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// Intervals of one cluster. `default()` and [`Timings::brisk`] set all at once; a file may change
/// any by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Timings {
    /// Between two heartbeats; at least 10 ms, default 100 ms. Shorter costs traffic and wake-ups.
    pub heartbeat: Duration,
    /// Suspicion never comes earlier than this after the last heartbeat; default 400 ms.
    pub suspicion_floor: Duration,
    /// ... and never later than this; default 800 ms.
    pub suspicion_ceiling: Duration,
    /// E: how long a voter keeps faith with a coordinator it heard; default 600 ms.
    pub election_timeout: Duration,
    /// Candidates spread their campaigns over this; default up to 300 ms.
    pub election_jitter: Duration,
    /// L: how long one grant of authority lasts; default 2 s. Longer rides out longer stalls and
    /// delays failover by lease.
    pub lease: Duration,
    /// The deadman starts ending a server this long before its lease ends (C2); default 300 ms.
    pub kill_bound: Duration,
    /// How long a planned stop may take before the switchover is undone or forced; default 10 s.
    pub stop_limit: Duration,
    /// How long a standby may take to report its final position before candidates are chosen
    /// without it; default 150 ms. The only one that could confirm writes has longer:
    /// [`Timings::patience_alone`].
    pub settle_limit: Duration,
    /// How long a primary's server may answer nobody, once a probe of it was in vain, before it is
    /// replaced; default 3 s. Shorter takes a busy server for a hung one.
    pub answer_limit: Duration,
    /// How long writes may wait for one member of the sync set that streams, before they go on
    /// without it; default 10 s.
    pub keep_up_limit: Duration,
}

impl Default for Timings {
    fn default() -> Self {
        let ms = Duration::from_millis;
        Self {
            heartbeat: ms(100),
            suspicion_floor: ms(400),
            suspicion_ceiling: ms(800),
            election_timeout: ms(600),
            election_jitter: ms(300),
            lease: ms(2000),
            kill_bound: ms(300),
            stop_limit: ms(10_000),
            settle_limit: ms(150),
            answer_limit: ms(3_000),
            keep_up_limit: ms(10_000),
        }
    }
}

/// No interval is longer: sums of them stay small, and a typing error is seen.
pub const LONGEST: Duration = Duration::from_secs(3_600);
const SHORTEST_HEARTBEAT: Duration = Duration::from_millis(10);

/// What a commit in the log may take before it is out of the ordinary, for the arithmetic of A8.
pub const COMMIT_ALLOWANCE: Duration = Duration::from_millis(50);

impl Timings {
    pub fn brisk() -> Self {
        let ms = Duration::from_millis;
        Self {
            heartbeat: ms(40),
            suspicion_floor: ms(160),
            suspicion_ceiling: ms(320),
            election_timeout: ms(250),
            election_jitter: ms(120),
            lease: ms(800),
            kill_bound: ms(150),
            ..Self::default()
        }
    }

    /// The intervals that are out of bounds, with what is allowed. The rest of Karst adds and multiplies
    /// them without looking (G11).
    pub fn out_of_bounds(&self) -> Vec<(&'static str, String)> {
        let all = [
            ("heartbeat", self.heartbeat),
            ("suspicion_floor", self.suspicion_floor),
            ("suspicion_ceiling", self.suspicion_ceiling),
            ("election_timeout", self.election_timeout),
            ("election_jitter", self.election_jitter),
            ("lease", self.lease),
            ("kill_bound", self.kill_bound),
            ("stop_limit", self.stop_limit),
            ("settle_limit", self.settle_limit),
            ("answer_limit", self.answer_limit),
            ("keep_up_limit", self.keep_up_limit),
        ];
        let long = all.into_iter().filter(|(_, time)| *time > LONGEST);
        let mut found: Vec<_> = long
            .map(|(key, _)| (key, format!("at most {LONGEST:?}")))
            .collect();
        if self.heartbeat < SHORTEST_HEARTBEAT {
            found.push(("heartbeat", format!("at least {SHORTEST_HEARTBEAT:?}")));
        }
        found
    }

    /// One renewal: the wait for the next heartbeat and the exchange itself.
    pub fn renewal(&self) -> Duration {
        self.heartbeat + self.heartbeat / 2
    }

    /// By how much a lease has to become longer for the deadman to be told: with each second
    /// heartbeat.
    pub fn worth_arming(&self) -> Duration {
        self.heartbeat + self.heartbeat / 2
    }

    /// How long the choice of a primary waits for the one standby without which nobody could
    /// confirm writes: as long as a node that fell silent may go unnoticed.
    pub fn patience_alone(&self) -> Duration {
        self.settle_limit.max(self.suspicion_ceiling)
    }

    /// How long nothing may come from a member of the sync set for which writes wait, before they
    /// go on without it: so that they have waited for no longer than the suspicion ceiling, with
    /// the time until that is seen and committed.
    pub fn stuck_after(&self) -> Duration {
        self.suspicion_ceiling * 7 / 16
    }

    /// How long after a grant left the coordinator it may still be valid anywhere.
    pub fn lease_is_over_after(&self) -> Duration {
        stretched(self.lease)
    }

    /// A voter's promise after a restart: no vote and no campaign for this long (A1).
    pub fn quiet_after_start(&self) -> Duration {
        stretched(self.election_timeout)
    }

    /// Every inequality that the guarantees rest on, with both sides; none of intervals that are out of
    /// bounds.
    pub fn inequalities(&self) -> Vec<Inequality> {
        if !self.out_of_bounds().is_empty() {
            return Vec::new();
        }
        let rho = f64::from(RATE_BOUND_PER_MILLE) / 10.0;
        vec![
            Inequality {
                key: "lease",
                rule: format!(
                    "a lost coordinator never costs a healthy primary its lease: lease - {rho} % - kill_bound - \
                     2.5 * heartbeat > election_timeout + {} % + election_jitter + commit + renewal",
                    2.0 * rho
                ),
                left: shortened(self.lease)
                    .saturating_sub(self.kill_bound)
                    .saturating_sub(self.heartbeat + self.worth_arming()),
                right: stretched(self.election_timeout) + self.election_jitter + COMMIT_ALLOWANCE + self.renewal(),
            },
            Inequality {
                key: "suspicion_floor",
                rule: "three heartbeats in a row may be lost before anyone is suspected: suspicion_floor > 3 * \
                       heartbeat"
                    .into(),
                left: self.suspicion_floor,
                right: self.heartbeat * 3,
            },
            Inequality {
                key: "election_timeout",
                rule: "a coordinator is not given up for jitter: election_timeout > 4 * heartbeat".into(),
                left: self.election_timeout,
                right: self.heartbeat * 4,
            },
            Inequality {
                key: "suspicion_ceiling",
                rule: "suspicion_ceiling > suspicion_floor".into(),
                left: self.suspicion_ceiling,
                right: self.suspicion_floor,
            },
            Inequality {
                key: "kill_bound",
                rule: "ending a server's processes takes up to 25 ms on an idle host: kill_bound > 50 ms".into(),
                left: self.kill_bound,
                right: Duration::from_millis(50),
            },
        ]
    }
}

/// `left > right`, or the timings are refused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inequality {
    /// The timing to change first.
    #[serde(skip_deserializing)]
    pub key: &'static str,
    pub rule: String,
    pub left: Duration,
    pub right: Duration,
}

impl Inequality {
    pub fn holds(&self) -> bool {
        self.left > self.right
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_sets_are_sound_and_a_short_lease_is_not() {
        for timings in [Timings::default(), Timings::brisk()] {
            assert!(
                timings.inequalities().iter().all(Inequality::holds),
                "{timings:?}"
            );
        }
        let short = Timings {
            lease: Duration::from_millis(1200),
            ..Timings::default()
        };
        let broken: Vec<_> = short
            .inequalities()
            .into_iter()
            .filter(|i| !i.holds())
            .map(|i| i.key)
            .collect();
        assert_eq!(broken, ["lease"]);
    }
}
