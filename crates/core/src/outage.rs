//! The worst-case outage, as a sum of its terms.

use crate::spec::{COMMIT_ALLOWANCE, Timings};
use crate::time::stretched;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What a promotion may take until the first replicated write: measured 140 to 250 ms under load on
/// two cores, bounded here with room.
pub const PROMOTE_ALLOWANCE: Duration = Duration::from_millis(400);

/// What a power device may take until it was read as off: a session, the order, the reading.
pub const POWER_ALLOWANCE: Duration = Duration::from_millis(500);

/// How long a look at a server that hangs may take before it is in vain, the one that was under way
/// included.
pub const PROBE_ALLOWANCE: Duration = Duration::from_millis(2_000);

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WorstCase {
    pub case: String,
    pub terms: Vec<(String, Duration)>,
}

impl WorstCase {
    pub fn total(&self) -> Duration {
        self.terms.iter().map(|(_, d)| *d).sum()
    }
}

/// The losses that the spec check prints, each with where its time goes.
pub fn worst_cases(timings: &Timings) -> Vec<WorstCase> {
    let commit = ("a commit in the log".to_string(), COMMIT_ALLOWANCE);
    let promote = (
        "promotion and first replicated write".to_string(),
        PROMOTE_ALLOWANCE,
    );
    let settle = ("final positions".to_string(), timings.settle_limit);
    let election = |t: &Timings| {
        vec![
            (
                "coordinator's silence noticed".to_string(),
                stretched(t.stickiness),
            ),
            (
                "candidates' spread, one tie".to_string(),
                t.election_spread * 2,
            ),
            ("election".to_string(), COMMIT_ALLOWANCE),
        ]
    };
    let lease = (
        "the lease runs out, as the coordinator counts it".to_string(),
        timings.lease_is_over_after(),
    );
    let last = ("the last renewal's way".to_string(), timings.renewal());
    let off = ("power cut and read back".to_string(), POWER_ALLOWANCE);
    let case = |name: &str, terms: Vec<(String, Duration)>| WorstCase {
        case: name.into(),
        terms,
    };
    vec![
        case(
            "server process lost",
            vec![
                (
                    "its exit seen, its last process ended".into(),
                    timings.kill_bound,
                ),
                ("report to the coordinator".into(), timings.renewal()),
                commit.clone(),
                settle.clone(),
                commit.clone(),
                promote.clone(),
            ],
        ),
        case(
            "server hangs",
            vec![
                ("a look at it is in vain".into(), PROBE_ALLOWANCE),
                ("it answers nobody".into(), timings.answer_limit),
                ("report to the coordinator".into(), timings.renewal()),
                commit.clone(),
                ("its last process ended".into(), timings.kill_bound),
                settle.clone(),
                commit.clone(),
                promote.clone(),
            ],
        ),
        case(
            "host lost, its power confirmed off",
            vec![
                (
                    "suspicion, also of the peers".into(),
                    timings.suspicion_ceiling + timings.renewal(),
                ),
                commit.clone(),
                off.clone(),
                commit.clone(),
                settle.clone(),
                commit.clone(),
                promote.clone(),
            ],
        ),
        case(
            "host lost, by lease alone",
            vec![
                last.clone(),
                lease.clone(),
                commit.clone(),
                settle.clone(),
                commit.clone(),
                promote.clone(),
            ],
        ),
        case(
            "primary and coordinator lost together, the power confirmed off",
            election(timings)
                .into_iter()
                .chain([
                    commit.clone(),
                    off,
                    commit.clone(),
                    settle.clone(),
                    commit.clone(),
                    promote.clone(),
                ])
                .collect(),
        ),
        case(
            "primary and coordinator lost together",
            election(timings)
                .into_iter()
                .chain([lease, commit.clone(), settle, commit.clone(), promote])
                .collect(),
        ),
        case(
            "standby lost",
            vec![
                ("suspicion".into(), timings.suspicion_ceiling),
                commit,
                ("the primary takes the smaller set".into(), COMMIT_ALLOWANCE),
            ],
        ),
    ]
}
