//! What people want of a cluster, close to trouble and close to each other: interleavings that broke
//! a promise once, each with its rule broken on purpose where that shows it.

use crate::plants::{AT, Check, Scene, all_found, n, off_for, scene, submit};
use crate::wishes::{maintenance, sailings, wish_at};
use karst_core::Planted;
use karst_core::request::Request;
use karst_core::spec::{Alone, Spec};
use karst_sim::{Edit, Failure, Fault, Run, Script, Shape, Slow, World, ferry_spec};
use std::time::Duration;

fn ms(millis: u64) -> Duration {
    Duration::from_millis(millis)
}

fn play(
    spec: Spec,
    seed: u64,
    (faults, until_ms): (Vec<(u64, Fault)>, u64),
    slow: Slow,
    planted: Option<Planted>,
) -> (World, Result<(), Box<Failure>>) {
    let mut world = World::new(spec, seed, planted);
    world.slow_down(slow);
    let script = Script {
        faults,
        until_ms,
        calm_ms: 0,
    };
    let result = world.run(&script);
    (world, result)
}

fn without_steps(mut spec: Spec) -> Spec {
    spec.steps.clear();
    spec
}

fn switchover(to: &str) -> Request {
    Request::Switchover {
        workload: sailings(),
        to: Some(n(to)),
        by: "marlin".into(),
        plan_only: false,
    }
}

fn ask(of: &str, request: Request) -> Fault {
    let of = n(of);
    Fault::Ask { of, request }
}

fn rest(of: &str, nodes: &[&str]) -> Fault {
    wish_at(of, maintenance(nodes, true), false)
}

/// Longer timings are in force, and their coordinator is cut off before a majority has answered a
/// message that asks for them (G2).
#[test]
fn nobody_counts_on_longer_promises_than_were_given() {
    let broken = |planted| {
        let tries = (0..4).flat_map(|seed| (1..60).map(move |x| (seed, x)));
        let fails = |(seed, x): &(u64, u64)| {
            let to = Some(n("doline"));
            let by = "marlin".into();
            let longer = Edit::Timings(Box::default());
            let faults = vec![
                (6_000, ask("polje", Request::HandOver { to, by })),
                (AT, submit("doline", longer)),
                (
                    AT + x,
                    Fault::Isolate {
                        node: n("doline"),
                        for_ms: 4_000,
                    },
                ),
            ];
            let spec = without_steps(Shape::Brisk.spec(false));
            let disk = Some(ms(10));
            let slow = Slow {
                disk,
                ..Slow::default()
            };
            let (_, result) = play(spec, *seed, (faults, 13_000), slow, planted);
            result.is_err_and(|failure| failure.guarantee == "lease")
        };
        tries.into_iter().filter(fails).count()
    };
    assert_eq!(broken(None), 0);
    assert!(broken(Some(Planted::LongerThanAsked)) > 0);
}

#[test]
fn rules_of_a_cluster_that_changes() {
    use Planted::*;
    let five = || {
        let mut spec = Shape::FiveNodes.spec(false);
        let workloads = spec.workloads.values_mut();
        workloads.for_each(|w| w.alone = Alone::Continue);
        spec
    };
    let continues = || {
        let mut spec = Shape::TwoReplicas.spec(false);
        let workloads = spec.workloads.values_mut();
        workloads.for_each(|w| w.alone = Alone::Continue);
        without_steps(spec)
    };
    all_found(vec![
        // Three of five voters rest, in two wishes, and are switched off as the screen allows.
        Scene {
            until: 40_000,
            ..scene(RestsAlone, Check("shown"), five(), |c| {
                let of = c.coordinator.as_str();
                let off = |of: &str| Fault::SwitchOff {
                    of: n(of),
                    down_ms: 60_000,
                };
                let all = ["cenote", "doline", "polje", "ponor", "uvala"];
                let rests = [
                    (AT, rest(of, &["doline", "uvala"])),
                    (AT + 8_000, rest(of, &["ponor"])),
                ];
                let looks = all.map(|node| (AT + 24_000, off(node)));
                rests.into_iter().chain(looks).collect()
            })
        },
        // A standby dies while the primary writes a long checkpoint for a move.
        scene(
            SettingWaits,
            Check("L1"),
            without_steps(ferry_spec()),
            |c| {
                let slow = Fault::SlowCheckpoint {
                    node: n("doline"),
                    takes_ms: 28_000,
                    for_ms: 60_000,
                };
                vec![
                    (AT, slow),
                    (AT + 10, ask(c.coordinator.as_str(), switchover("polje"))),
                    (AT + 500, off_for("uvala", 60_000)),
                ]
            },
        )
        .until_calm(80_000),
        // Commits return alone, and the set that they are to wait for is said to be there.
        scene(UnprovenSetting, Check("S5"), continues(), |_| {
            vec![
                (AT, off_for("polje", 2_000)),
                (
                    AT + 1_900,
                    Fault::StalledSetting {
                        node: n("doline"),
                        for_ms: 30_000,
                    },
                ),
                (
                    AT + 7_000,
                    Fault::SlowStandby {
                        node: n("polje"),
                        for_ms: 30_000,
                    },
                ),
                (AT + 8_500, off_for("doline", 60_000)),
            ]
        }),
    ]);
}

/// Neither a checkpoint nor a back-off holds the setting of the sync set up once a standby is gone
/// (G6).
#[test]
fn writes_go_on_while_a_move_is_prepared_and_once_trouble_is_over() {
    let spec = || without_steps(ferry_spec());
    for seed in 0..3 {
        let long = vec![
            (
                AT - 100,
                Fault::SlowCheckpoint {
                    node: n("doline"),
                    takes_ms: 28_000,
                    for_ms: 60_000,
                },
            ),
            (AT, ask("polje", switchover("polje"))),
            (AT + 500, off_for("uvala", 60_000)),
        ];
        let (world, result) = play(spec(), seed, (long, 60_000), Slow::default(), None);
        result.unwrap();
        let pause = world.longest_pause();
        assert!(
            pause < ms(3_000),
            "seed {seed}: {pause:?} behind a checkpoint"
        );
        for for_ms in [9_000, 17_000] {
            let fails = vec![
                (
                    AT,
                    Fault::Flaky {
                        percent: 100,
                        for_ms,
                    },
                ),
                (AT + 10, off_for("uvala", 120_000)),
            ];
            let (world, result) = play(spec(), seed, (fails, 50_000), Slow::default(), None);
            result.unwrap();
            let pause = world.longest_pause();
            let most = ms(for_ms + 1_000);
            assert!(
                pause < most,
                "seed {seed}: {pause:?} for {for_ms} ms of trouble"
            );
        }
    }
}

/// The only other copy is not given up while who has every write is not settled (G7).
#[test]
fn a_copy_is_not_removed_in_the_middle_of_a_failover() {
    for seed in 0..3 {
        for x in (0..300).step_by(30) {
            let out = Edit::ReplicaOut(sailings(), n("doline"));
            let kill = Fault::KillServer {
                node: n("doline"),
                lingers_ms: 1,
            };
            let faults = vec![(AT, kill), (AT + x, submit("ponor", out))];
            let slow = Slow {
                promote: Some(ms(110)),
                ..Slow::default()
            };
            let spec = without_steps(Shape::TwoReplicas.spec(false));
            let (world, result) = play(spec, seed, (faults, 25_000), slow, None);
            result.unwrap_or_else(|failure| panic!("seed {seed}, {x} ms: {failure}"));
            let paused = world.longest_pause();
            assert!(
                paused < ms(10_000),
                "seed {seed}, {x} ms: writes waited {paused:?}"
            );
        }
    }
}

/// Every wish with every option, with clocks that move and people who do what their screen allows.
#[test]
fn guarantees_hold_while_people_want_everything() {
    // The last one failed once: by its check, which took what a minority had heard for heard.
    for seed in (0..60).chain([1_796_166_031_989]) {
        let run = Run::lively(seed);
        if let Err(failure) = run.play(None) {
            panic!("{:?}: {failure}", run.shape);
        }
    }
}
