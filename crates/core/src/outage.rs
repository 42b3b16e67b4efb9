//! The worst-case outage, as a sum of its terms.

use crate::ownstep::Point;
use crate::spec::{COMMIT_ALLOWANCE, Spec, Timings};
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

/// What takes how long.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Share {
    pub what: String,
    #[serde(rename = "ms", with = "crate::time::millis")]
    #[cfg_attr(feature = "schema", schema(value_type = f64))]
    pub took: Duration,
}

/// What is lost, and what proves that nothing of it acts any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Case {
    ServerLost,
    ServerHangs,
    HostLostAndOff,
    HostLost,
    /// The primary's host, which is the coordinator's.
    BothLostAndOff,
    BothLost,
    StandbyLost,
}

impl Case {
    pub fn text(self) -> &'static str {
        match self {
            Case::ServerLost => "server process lost",
            Case::ServerHangs => "server hangs",
            Case::HostLostAndOff => "host lost, its power confirmed off",
            Case::HostLost => "host lost, by lease alone",
            Case::BothLostAndOff => {
                "primary and coordinator lost together, the power confirmed off"
            }
            Case::BothLost => "primary and coordinator lost together",
            Case::StandbyLost => "standby lost",
        }
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WorstCase {
    pub kind: Case,
    /// The kind in words.
    pub case: String,
    pub terms: Vec<Share>,
}

impl WorstCase {
    pub fn total(&self) -> Duration {
        self.terms.iter().map(|share| share.took).sum()
    }
}

/// The same with the site's own steps, of which clients wait for those of the workload and the node
/// that have most.
pub fn worst_cases_of(spec: &Spec) -> Vec<WorstCase> {
    let nodes = || spec.nodes.keys();
    let promotion = |node| {
        let of = |id| spec.time_of_steps(Point::BeforePromotion, Some(id), node);
        spec.workloads.keys().map(of).max()
    };
    let promotion = nodes().filter_map(promotion).max().unwrap_or_default();
    let fence = nodes().map(|node| spec.time_of_steps(Point::BeforeFence, None, node));
    let fence = fence.max().unwrap_or_default();
    let mut cases = worst_cases(&spec.timings);
    for case in &mut cases {
        let cuts = matches!(case.kind, Case::HostLostAndOff | Case::BothLostAndOff);
        let own = [
            ("own steps before a fence", fence, cuts),
            (
                "own steps before a promotion",
                promotion,
                case.kind != Case::StandbyLost,
            ),
        ];
        let own = own
            .into_iter()
            .filter(|(_, time, is)| *is && !time.is_zero());
        case.terms
            .extend(own.map(|(what, time, _)| share(what, time)));
    }
    cases
}

/// The losses that the spec check prints, each with where its time goes.
pub fn worst_cases(timings: &Timings) -> Vec<WorstCase> {
    let terms = Shares(timings);
    vec![
        terms.server_lost(),
        terms.server_hangs(),
        terms.host_lost_and_off(),
        terms.host_lost(),
        case(
            Case::BothLostAndOff,
            [terms.election(), vec![commit(), off()], terms.takeover()],
        ),
        case(
            Case::BothLost,
            [terms.election(), vec![terms.lease()], terms.takeover()],
        ),
        terms.standby_lost(),
    ]
}

fn case<const N: usize>(kind: Case, terms: [Vec<Share>; N]) -> WorstCase {
    let terms = terms.into_iter().flatten().collect();
    WorstCase {
        kind,
        case: kind.text().into(),
        terms,
    }
}

fn commit() -> Share {
    share("a commit in the log", COMMIT_ALLOWANCE)
}

fn off() -> Share {
    share("power cut and read back", POWER_ALLOWANCE)
}

fn share(what: &str, took: Duration) -> Share {
    Share {
        what: what.into(),
        took,
    }
}

/// The parts that cases are made of.
struct Shares<'a>(&'a Timings);

impl Shares<'_> {
    fn lease(&self) -> Share {
        let over = self.0.lease_is_over_after();
        share("the lease runs out, as the coordinator counts it", over)
    }

    fn report(&self) -> Share {
        share("report to the coordinator", self.0.renewal())
    }

    fn election(&self) -> Vec<Share> {
        let silence = stretched(self.0.election_timeout);
        vec![
            share("coordinator's silence noticed", silence),
            share("candidates' spread, one tie", self.0.election_jitter * 2),
            share("election", COMMIT_ALLOWANCE),
        ]
    }

    /// From the end of the old authority, which has to be committed first, to the first replicated write.
    fn takeover(&self) -> Vec<Share> {
        let promote = "promotion and first replicated write";
        vec![
            commit(),
            share("final positions", self.0.settle_limit),
            commit(),
            share(promote, PROMOTE_ALLOWANCE),
        ]
    }

    fn server_lost(&self) -> WorstCase {
        let seen = "its exit seen, its last process ended";
        let first = vec![share(seen, self.0.kill_bound), self.report()];
        case(Case::ServerLost, [first, self.takeover()])
    }

    fn server_hangs(&self) -> WorstCase {
        let first = vec![
            share("a look at it is in vain", PROBE_ALLOWANCE),
            share("it answers nobody", self.0.answer_limit),
            self.report(),
            commit(),
            share("its last process ended", self.0.kill_bound),
        ];
        // What ends it is committed as soon as it is reported.
        let rest = self.takeover().split_off(1);
        case(Case::ServerHangs, [first, rest])
    }

    fn host_lost_and_off(&self) -> WorstCase {
        let suspicion = self.0.suspicion_ceiling + self.0.renewal();
        let first = vec![
            share("suspicion, also of the peers", suspicion),
            commit(),
            off(),
        ];
        case(Case::HostLostAndOff, [first, self.takeover()])
    }

    fn host_lost(&self) -> WorstCase {
        let last = share("the last renewal's way", self.0.renewal());
        case(Case::HostLost, [vec![last, self.lease()], self.takeover()])
    }

    fn standby_lost(&self) -> WorstCase {
        let terms = vec![
            share("suspicion", self.0.suspicion_ceiling),
            commit(),
            share("the primary takes the smaller set", COMMIT_ALLOWANCE),
        ];
        case(Case::StandbyLost, [terms])
    }
}
