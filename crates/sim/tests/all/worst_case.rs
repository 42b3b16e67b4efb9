//! L1: no outage is longer than the worst case that is printed beforehand, and each of its terms is
//! real: a world in which it takes as long as it may comes near it.

use karst_core::NodeId;
use karst_core::outage::{Case, POWER_ALLOWANCE, PROMOTE_ALLOWANCE, worst_cases};
use karst_core::spec::{Spec, Timings};
use karst_sim::{Fault, Script, Slow, World, ferry_spec, powered_spec};
use std::time::Duration;

/// Enough for the coordinator to have been on the primary's host in some, and on another in most.
const SEEDS: std::ops::Range<u64> = 0..12;
const CUT_AT: u64 = 8_000;

fn ms(ms: u64) -> Duration {
    Duration::from_millis(ms)
}

/// How long nobody could write after the primary's host lost its power, with each seed.
fn pauses(spec: &Spec, slow: Slow, more: &[(u64, Fault)]) -> Vec<Duration> {
    let cut = (
        CUT_AT,
        Fault::PowerCut {
            node: "doline".into(),
            down_ms: 8_000,
        },
    );
    let faults: Vec<(u64, Fault)> = more.iter().cloned().chain([cut]).collect();
    let script = Script {
        faults,
        until_ms: 30_000,
        calm_ms: 10_000,
    };
    let pause = |seed| {
        let mut world = World::new(spec.clone(), seed, None);
        world.slow_down(slow);
        world.run(&script).unwrap_or_else(|f| panic!("{f}"));
        assert_eq!(world.epoch(), 2, "seed {seed}: it moved once");
        world.longest_pause()
    };
    SEEDS.map(pause).collect()
}

fn longest(pauses: &[Duration]) -> Duration {
    pauses.iter().copied().max().expect("there are seeds")
}

fn mean(pauses: &[Duration]) -> Duration {
    pauses.iter().sum::<Duration>() / pauses.len() as u32
}

fn printed(cases: [Case; 2]) -> Duration {
    let all = worst_cases(&Timings::default());
    let wanted = all.iter().filter(|c| cases.contains(&c.kind));
    wanted
        .map(|c| c.total())
        .max()
        .expect("the cases are printed")
}

/// What a promotion itself may take: the rest of its allowance is for the first replicated write.
const PROMOTION: Duration = Duration::from_millis(300);

/// A client's writes are 4 ms apart: a pause is seen as up to two of them longer than it was.
const SEEN: Duration = Duration::from_millis(8);

/// A commit is the coordinator's sync, another node's, and two ways between them.
const DISK: Duration = Duration::from_millis(20);

#[test]
fn every_term_of_a_confirmed_power_cut_is_real_and_the_sum_is_kept() {
    let spec = powered_spec();
    let worst = printed([Case::HostLostAndOff, Case::BothLostAndOff]);
    let usual = pauses(&spec, Slow::default(), &[]);
    assert!(PROMOTION < PROMOTE_ALLOWANCE);
    let limit = spec.timings.settle_limit;
    let terms = [
        // By chance a device takes up to 90 ms, a promotion up to 120, a report up to 30.
        (
            "device",
            Slow {
                device: Some(POWER_ALLOWANCE),
                ..Slow::default()
            },
            POWER_ALLOWANCE - ms(90),
        ),
        (
            "promotion",
            Slow {
                promote: Some(PROMOTION),
                ..Slow::default()
            },
            PROMOTION - ms(120),
        ),
        // Four commits stand in a row, and the attempt that has to be durable.
        (
            "commits",
            Slow {
                disk: Some(DISK),
                ..Slow::default()
            },
            DISK * 5,
        ),
        // Whoever takes longer is not waited for.
        (
            "final positions",
            Slow {
                settle: Some(limit * 4),
                ..Slow::default()
            },
            limit - ms(30),
        ),
    ];
    for (term, slow, more) in terms {
        let pauses = pauses(&spec, slow, &[]);
        assert!(
            longest(&pauses) <= worst + SEEN,
            "{term}: {pauses:?}, and {worst:?} was printed"
        );
        // On the average: which seed is the worst changes with it.
        let (mean, without) = (mean(&pauses), mean(&usual));
        assert!(
            mean + ms(60) >= without + more,
            "{term}: {mean:?} in place of {without:?}: it costs nothing"
        );
    }
    let all = Slow {
        device: Some(POWER_ALLOWANCE),
        promote: Some(PROMOTION),
        settle: Some(limit * 4),
        disk: Some(DISK),
    };
    let pause = longest(&pauses(&spec, all, &[]));
    assert!(
        pause <= worst + SEEN && pause >= worst.mul_f64(0.7),
        "all of them: {pause:?} of {worst:?}"
    );
}

#[test]
fn without_a_device_the_lease_is_the_longest_term_and_the_sum_is_kept() {
    let worst = printed([Case::HostLost, Case::BothLost]);
    let lease = Timings::default().lease_is_over_after();
    let slow = Slow {
        promote: Some(PROMOTION),
        ..Slow::default()
    };
    let silent = [(CUT_AT - 1_000, Fault::DeadDevices { for_ms: 10_000 })];
    for (what, spec, more) in [
        ("no device", ferry_spec(), &[][..]),
        ("a dead device", powered_spec(), &silent),
    ] {
        let pause = longest(&pauses(&spec, slow, more));
        assert!(
            pause <= worst + SEEN,
            "{what}: {pause:?}, and {worst:?} was printed"
        );
        assert!(
            pause >= lease,
            "{what}: {pause:?} is shorter than the lease of {lease:?}"
        );
    }
}

/// Every kind of fault that ends a primary's or a standby's service, alone, against the case that
/// is printed for it.
#[test]
fn no_kind_of_fault_costs_more_than_its_case() {
    let (node, for_ms) = ("doline".into(), 60_000);
    let primary = |fault: fn(NodeId, u64) -> Fault| fault("doline".into(), 60_000);
    let standby = |fault: fn(NodeId, u64) -> Fault| fault("polje".into(), 60_000);
    let lease = [Case::HostLost, Case::BothLost];
    let set = [Case::StandbyLost, Case::StandbyLost];
    let server = [Case::ServerLost, Case::ServerLost];
    let cases = [
        (
            server,
            Fault::KillServer {
                node,
                lingers_ms: 100,
            },
        ),
        (
            [Case::ServerHangs, Case::ServerHangs],
            primary(|node, for_ms| Fault::HangServer { node, for_ms }),
        ),
        (
            lease,
            primary(|node, for_ms| Fault::Isolate { node, for_ms }),
        ),
        (
            lease,
            primary(|node, for_ms| Fault::FreezeHost { node, for_ms }),
        ),
        (
            lease,
            primary(|node, for_ms| Fault::Suspend { node, for_ms }),
        ),
        (
            lease,
            primary(|node, down_ms| Fault::KillDaemon { node, down_ms }),
        ),
        (
            lease,
            primary(|node, for_ms| Fault::PauseDaemon { node, for_ms }),
        ),
        (
            lease,
            primary(|node, for_ms| Fault::KillDeadman { node, for_ms }),
        ),
        (
            lease,
            Fault::Partition {
                inside: vec!["doline".into()],
                for_ms,
            },
        ),
        (
            set,
            standby(|node, down_ms| Fault::PowerCut { node, down_ms }),
        ),
        (set, standby(|node, for_ms| Fault::Isolate { node, for_ms })),
        (
            set,
            standby(|node, for_ms| Fault::FreezeHost { node, for_ms }),
        ),
        (
            set,
            standby(|node, lingers_ms| Fault::KillServer { node, lingers_ms }),
        ),
    ];
    for (case, fault) in cases {
        let worst = printed(case);
        for seed in 0..6 {
            let mut world = World::new(ferry_spec(), seed, None);
            let script = Script {
                faults: vec![(CUT_AT, fault.clone())],
                until_ms: CUT_AT + 20_000,
                calm_ms: 0,
            };
            world.run(&script).unwrap_or_else(|f| panic!("{f}"));
            let pause = world.longest_pause();
            assert!(
                pause <= worst + SEEN,
                "{fault:?}, seed {seed}: {pause:?}, and {worst:?} was printed"
            );
        }
    }
}
