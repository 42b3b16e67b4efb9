//! Random faults of every kind over every shape of cluster: S1 to S8, L1 and L2 hold.
//! `KARST_SEEDS=A..B` runs others; a failure prints the fewest faults that tell it. `make soak`
//! runs as many as there is time for.

use crate::plants::hostile_voter;
use karst_core::NodeId;
use karst_core::spec::{Spec, Timings};
use karst_sim::{Edit, Fault, Run, Script, Shape, World, ferry_spec, powered_spec, shrink};
use std::collections::BTreeMap;
use std::time::Duration;

/// Of each shape: 420 in all.
const SEEDS: u64 = 30;

fn seeds() -> std::ops::Range<u64> {
    #[expect(
        clippy::disallowed_methods,
        reason = "the test's own switch, not the world's"
    )]
    let given = std::env::var("KARST_SEEDS").ok();
    let parse = |text: String| {
        let (a, b) = text.split_once("..")?;
        Some(a.parse().ok()?..b.parse().ok()?)
    };
    given.and_then(parse).unwrap_or(0..SEEDS)
}

/// Each of the seeds with these shapes.
fn hold(shapes: &[Shape]) {
    for shape in shapes {
        for seed in seeds() {
            // Every other seed has power devices.
            let run = Run::with_shape(seed * Shape::ALL.len() as u64, *shape);
            if let Err(failure) = run.play(None) {
                let (least, failure) = shrink(&run, failure);
                panic!(
                    "{shape:?}, seed {}: {:#?}\n{failure}",
                    run.seed, least.script.faults
                );
            }
        }
    }
}

/// The spec and the members change meanwhile: the same guarantees hold, and whatever is wanted is
/// done in the end.
#[test]
fn guarantees_hold_while_the_cluster_changes() {
    // A host joined that did not know of the node which coordinated by then; one that had been away
    // refused whoever has a vote only since; one came back fenced; the loss changed before a primary
    // opened.
    let once = [
        1_795_991_830_375,
        1_795_995_013_353,
        1_795_995_014_634,
        1_795_995_013_544,
        1_795_995_010_943,
        1_795_995_011_304,
        1_796_002_102_023,
        // A history of the same name was gone back from before the replica came in again.
        1_796_025_460_371,
        // Whoever a person had chosen could not be promoted, and was chosen again and again.
        1_796_025_461_786,
        // A safety point was over before its standby had gone up to it, and writes waited for that.
        1_796_045_592_733,
        1_796_045_592_734,
        1_796_045_592_992,
        // Whoever was to vote lost its store while that was being committed.
        1_796_048_514_156,
        // A member that does not count yet lost its store once more, and was answered for ever.
        1_796_051_473_656,
        // A standby that missed two changes of the primary had more than the first of them kept, and readers
        // were let to that.
        1_796_064_931_250,
    ];
    for seed in seeds().chain(once) {
        let run = Run::changing(seed);
        if let Err(failure) = run.play(None) {
            let (least, failure) = shrink(&run, failure);
            panic!(
                "changing, seed {seed}: {:#?}\n{failure}",
                least.script.faults
            );
        }
    }
}

/// What they play is every kind of fault that a script draws, and many of each. A store that is put
/// back and a hostile node have tests of their own.
#[test]
fn every_kind_of_fault_is_played() {
    let mut played = BTreeMap::<String, usize>::new();
    for shape in Shape::ALL {
        for seed in 0..SEEDS {
            let run = Run::with_shape(seed * Shape::ALL.len() as u64, shape);
            for (_, fault) in run.script.faults {
                let said = format!("{fault:?}");
                let kind = said.split(' ').next().unwrap_or_default();
                *played.entry(kind.into()).or_default() += 1;
            }
        }
    }
    let drawn = "KillDaemon PauseDaemon KillDeadman LateDeadman PowerCut LoseStore FreezeHost Suspend \
                 KillServer HangServer Isolate OneWay Partition Lossy SlowDisk ClockRate DeadDevices \
                 LateDevices Flaky HangActions SlowStandby Ask";
    for kind in drawn.split_whitespace() {
        assert!(
            played.get(kind).is_some_and(|count| *count >= 20),
            "{kind}: {played:?}"
        );
    }
}

#[test]
fn guarantees_hold_on_small_clusters() {
    hold(&[
        Shape::Ferry,
        Shape::OneNode,
        Shape::TwoNodes,
        Shape::EvenVotes,
        Shape::TwoReplicas,
    ]);
}

#[test]
fn guarantees_hold_on_large_clusters() {
    hold(&[Shape::FiveNodes, Shape::SevenNodes, Shape::TwoWorkloads]);
}

#[test]
fn guarantees_hold_whatever_the_spec_allows() {
    hold(&[
        Shape::Restart,
        Shape::AloneContinue,
        Shape::LossBySize,
        Shape::AddressOnPrimary,
    ]);
}

#[test]
fn guarantees_hold_with_other_clocks() {
    hold(&[Shape::Brisk, Shape::ClockMayStop]);
}

#[test]
fn guarantees_hold_beside_a_hostile_node() {
    hold(&[Shape::Hostile]);
}

/// Four votes: two majorities have two voters in common, and one of them is honest.
#[test]
fn guarantees_hold_beside_a_hostile_voter() {
    hold(&[Shape::HostileVoter]);
}

/// Five votes: two majorities may have the liar alone in common. docs/security.md says so, and this test that
/// the lies of the one above are heard.
#[test]
fn a_hostile_voter_makes_two_coordinators_of_five_votes() {
    let mut spec = Shape::HostileVoter.spec(false);
    spec.nodes.values_mut().for_each(|node| node.votes = 1);
    let sides = [["doline", "polje"], ["ponor", "uvala"]];
    let apart = |(a, b): (&str, &str)| Fault::OneWay {
        from: a.into(),
        to: b.into(),
        for_ms: 20_000,
    };
    let [one, other] = sides;
    let mut faults = hostile_voter(250, 20_000);
    for (a, b) in one.into_iter().flat_map(|a| other.map(|b| (a, b))) {
        faults.extend([(a, b), (b, a)].map(|pair| (3_000, apart(pair))));
    }
    let broken = seeds().any(|seed| {
        let script = Script {
            faults: faults.clone(),
            until_ms: 25_000,
            calm_ms: 0,
        };
        World::new(spec.clone(), seed, None).run(&script).is_err()
    });
    assert!(broken);
}

/// Seeds that broke a guarantee, or the world that they ran in, when they were first run.
#[test]
fn seeds_that_failed_once_pass() {
    for seed in [
        307,
        489,
        977,
        1_102,
        1_178,
        102_212,
        103_738,
        107_311,
        111_469,
        1_002_622,
        1_006_555,
        1_012_896,
        2_003_399,
        1_796_005_671_798,
        1_796_007_700_002,
        1_796_045_593_662,
    ] {
        let run = Run::of(seed);
        if let Err(failure) = run.play(None) {
            panic!("{:?}: {failure}", run.shape);
        }
    }
}

/// Every other seed has power devices.
fn spec_of(seed: u64) -> Spec {
    if seed.is_multiple_of(2) {
        ferry_spec()
    } else {
        powered_spec()
    }
}

/// L2: with no fault nothing moves, whatever the cluster's shape.
#[test]
fn nothing_moves_without_a_fault() {
    for (seed, shape) in (0..).zip(Shape::ALL) {
        for with_power in [false, true] {
            let mut world = World::new(shape.spec(with_power), seed, None);
            world
                .run(&Script::calm(60))
                .unwrap_or_else(|f| panic!("{shape:?}: {f}"));
            assert_eq!(world.epoch(), 1, "{shape:?}");
            assert!(!world.was_fenced(), "{shape:?}");
            assert!(
                world.acknowledged() > 10_000,
                "{shape:?}: {} writes",
                world.acknowledged()
            );
        }
    }
}

/// K1: whoever rests gets no vote, and has the one that the spec gives it once it takes part again.
#[test]
fn a_node_in_maintenance_gains_no_vote() {
    for seed in 0..6 {
        let mut world = World::new(spec_of(seed), seed, None);
        let run = |world: &mut World, until_ms: u64, faults: Vec<(u64, Fault)>| {
            let script = Script {
                faults,
                until_ms,
                calm_ms: 0,
            };
            world.run(&script).unwrap_or_else(|f| panic!("{f}"));
            let leader = world.coordinator().expect("somebody leads").clone();
            let votes = world.status(&leader).expect("it runs").quorum.total;
            (leader, votes)
        };
        let (of, votes) = run(&mut world, 8_000, Vec::new());
        assert_eq!(votes, 3);
        let rest = |end| Fault::Rest {
            of: of.clone(),
            nodes: vec!["uvala".into()],
            end,
        };
        let edit = Fault::Submit {
            of: of.clone(),
            edit: Edit::Votes("uvala".into(), 1),
        };
        let (_, votes) = run(
            &mut world,
            20_000,
            vec![(8_100, rest(false)), (11_000, edit)],
        );
        assert_eq!(votes, 3, "it rests");
        let (_, votes) = run(&mut world, 30_000, vec![(20_100, rest(true))]);
        assert_eq!(votes, 4, "it is back");
    }
}

/// L2: a fifth of all messages lost, the others late by up to 60 ms: nobody is given up for it.
#[test]
fn nothing_moves_for_loss_and_jitter() {
    for percent in [5, 10, 20] {
        for seed in 0..4 {
            let lossy = Fault::Lossy {
                percent,
                late_ms: 60,
                for_ms: 120_000,
            };
            let mut world = World::new(spec_of(seed), seed, None);
            let script = Script {
                faults: vec![(8_000, lossy)],
                until_ms: 125_000,
                calm_ms: 0,
            };
            world
                .run(&script)
                .unwrap_or_else(|f| panic!("{percent} %: {f}"));
            assert_eq!(world.epoch(), 1, "{percent} %, seed {seed}");
            assert!(!world.was_fenced(), "{percent} %, seed {seed}");
        }
    }
}

/// A4, L2: no link that is cut in one direction costs a healthy primary its lease: renewals go
/// round it.
#[test]
fn a_one_way_cut_moves_nothing() {
    let nodes: Vec<NodeId> = ferry_spec().nodes.keys().cloned().collect();
    let pairs = nodes.iter().flat_map(|a| {
        nodes
            .iter()
            .filter(move |b| *b != a)
            .map(move |b| (a.clone(), b.clone()))
    });
    for (seed, (from, to)) in pairs.enumerate() {
        let story = format!("{from} -> {to}");
        let cut = Fault::OneWay {
            from,
            to,
            for_ms: 15_000,
        };
        let script = Script {
            faults: vec![(8_000, cut)],
            until_ms: 30_000,
            calm_ms: 5_000,
        };
        for spec in [ferry_spec(), powered_spec()] {
            let mut world = World::new(spec, seed as u64, None);
            world.run(&script).unwrap_or_else(|f| panic!("{f}"));
            assert_eq!(world.epoch(), 1, "{story}");
            assert!(!world.was_fenced(), "{story}");
        }
    }
}

/// A8: with a lease that its inequality forbids, losing the coordinator costs a healthy primary its
/// place.
#[test]
fn a_lost_coordinator_moves_nothing_where_the_timings_allow_it() {
    let moves = |timings: Timings, seed| {
        let mut spec = ferry_spec();
        spec.timings = timings;
        let mut world = World::new(spec, seed, None);
        world
            .run(&Script {
                faults: vec![],
                until_ms: 8_000,
                calm_ms: 0,
            })
            .unwrap_or_else(|f| panic!("{f}"));
        let coordinator = world.coordinator().expect("somebody leads").clone();
        if world.holder() == Some(&coordinator) {
            return false;
        }
        let lost = Fault::PowerCut {
            node: coordinator,
            down_ms: 600_000,
        };
        let _ = world.run(&Script {
            faults: vec![(8_000, lost)],
            until_ms: 20_000,
            calm_ms: 0,
        });
        world.epoch() != 1
    };
    let short = Timings {
        lease: Duration::from_millis(900),
        ..Timings::default()
    };
    assert!(short.inequalities().iter().any(|rule| !rule.holds()));
    assert!(
        (0..20).any(|seed| moves(short.clone(), seed)),
        "the inequality forbids what does no harm"
    );
    for timings in [Timings::default(), Timings::brisk()] {
        assert!(
            !(0..20).any(|seed| moves(timings.clone(), seed)),
            "{timings:?}"
        );
    }
}

/// Whoever takes the floating address up knows who was connected to the holder before, however that
/// went away.
#[test]
fn the_next_holder_of_the_address_knows_whom_to_tell() {
    let gone = |node: &NodeId| {
        let node = node.clone();
        [
            Fault::PowerCut {
                node: node.clone(),
                down_ms: 6_000,
            },
            Fault::Isolate {
                node: node.clone(),
                for_ms: 6_000,
            },
            Fault::KillDaemon {
                node,
                down_ms: 4_000,
            },
        ]
    };
    for seed in 0..6 {
        let mut world = World::new(ferry_spec(), seed, None);
        world
            .run(&Script::calm(8))
            .unwrap_or_else(|f| panic!("{f}"));
        let first = world
            .address_story()
            .0
            .last()
            .expect("somebody has it")
            .clone();
        for fault in gone(&first) {
            let mut world = World::new(ferry_spec(), seed, None);
            let script = Script {
                faults: vec![(8_000, fault.clone())],
                until_ms: 20_000,
                calm_ms: 5_000,
            };
            world.run(&script).unwrap_or_else(|f| panic!("{f}"));
            let (holders, roused) = world.address_story();
            assert!(
                holders.len() > 1,
                "seed {seed}, {fault:?}: it stayed on {first}"
            );
            assert!(
                roused.contains(&first),
                "seed {seed}, {fault:?}: nobody told the clients of {first}"
            );
        }
    }
}

/// The same seed tells the same story.
#[test]
fn a_seed_replays() {
    let story = |seed| {
        let mut world = World::new(ferry_spec(), seed, None);
        let script = Script {
            faults: vec![(
                8_000,
                Fault::PowerCut {
                    node: "doline".into(),
                    down_ms: 4_000,
                },
            )],
            until_ms: 9_000,
            calm_ms: 0,
        };
        // It ends in the middle of a failover: L1 is "broken", and the story comes with it.
        world
            .run(&script)
            .expect_err("nobody serves yet")
            .to_string()
    };
    assert_eq!(story(7), story(7));
    assert_ne!(story(7), story(8));
}

/// A host that is cut off, or without power, is replaced as soon as its power is confirmed off,
/// well before its lease is over; with the devices dead the lease's end does it. The host comes
/// back by itself, and holds nothing before (S6).
#[test]
fn a_confirmed_power_cut_is_quicker_than_the_lease() {
    let story = |dead: bool, fault: Fault, seed| {
        let faults = [Fault::DeadDevices { for_ms: 9_000 }]
            .into_iter()
            .filter(|_| dead)
            .map(|f| (7_500, f));
        let faults = faults.chain([(8_000, fault)]).collect();
        let mut world = World::new(powered_spec(), seed, None);
        world
            .run(&Script {
                faults,
                until_ms: 40_000,
                calm_ms: 20_000,
            })
            .unwrap_or_else(|f| panic!("{f}"));
        world.longest_pause()
    };
    for seed in 0..6 {
        for fault in [
            Fault::Isolate {
                node: "doline".into(),
                for_ms: 6_000,
            },
            Fault::PowerCut {
                node: "doline".into(),
                down_ms: 6_000,
            },
        ] {
            let (quick, slow) = (story(false, fault.clone(), seed), story(true, fault, seed));
            assert!(
                quick < Duration::from_millis(1_700),
                "seed {seed}: {quick:?}"
            );
            assert!(
                slow > Duration::from_millis(2_000) && slow < Duration::from_millis(4_000),
                "seed {seed}: {slow:?}"
            );
        }
    }
}

/// L1: a planned move whose target stands still, or dies, at any moment of it ends with a primary,
/// with two replicas too.
#[test]
fn a_move_to_somebody_who_never_opens_ends_with_a_primary() {
    use karst_core::request::Request;
    let (workload, to) = ("sailings".into(), Some("polje".into()));
    let request = Request::Switchover {
        workload,
        to,
        by: "marlin".into(),
        plan_only: false,
    };
    let ask = Fault::Ask {
        of: "ponor".into(),
        request,
    };
    let troubles = [
        Fault::PauseDaemon {
            node: "polje".into(),
            for_ms: 3_000,
        },
        Fault::KillServer {
            node: "polje".into(),
            lingers_ms: 5,
        },
        Fault::HangActions {
            node: "polje".into(),
            for_ms: 14_000,
        },
        Fault::KillDeadman {
            node: "polje".into(),
            for_ms: 20_000,
        },
    ];
    for shape in [Shape::TwoReplicas, Shape::Ferry] {
        for delta in (0..600).step_by(30) {
            let trouble = troubles[delta as usize / 30 % troubles.len()].clone();
            let faults = vec![(8_000, ask.clone()), (8_000 + delta, trouble.clone())];
            let mut world = World::new(shape.spec(false), delta, None);
            let result = world.run(&Script {
                faults,
                until_ms: 60_000,
                calm_ms: 25_000,
            });
            result.unwrap_or_else(|f| panic!("{shape:?}, {trouble:?} after {delta} ms: {f}"));
        }
    }
}

/// A fence that would take the majority is refused: it would be recorded by nobody, and done again
/// whenever the host is back.
#[test]
fn a_fence_that_takes_the_majority_is_refused() {
    use karst_core::request::{Answer, Request};
    // Of four nodes three vote: one of those may go, and no second one right after it.
    for (shape, with_power, asked, refused) in [
        (
            Shape::TwoNodes,
            true,
            [("doline", "polje"), ("polje", "doline")],
            1,
        ),
        (
            Shape::TwoNodes,
            false,
            [("doline", "polje"), ("polje", "doline")],
            0,
        ),
        (
            Shape::Ferry,
            true,
            [("polje", "ponor"), ("doline", "ponor")],
            1,
        ),
    ] {
        let mut world = World::new(shape.spec(with_power), 3, None);
        let fence = |node: &str, of: &str| Fault::Ask {
            of: of.into(),
            request: Request::Fence {
                node: node.into(),
                by: "marlin".into(),
            },
        };
        // One of the two coordinates, and nobody cuts its own power.
        let [(first, by), (second, by_other)] = asked;
        let faults = vec![(8_000, fence(first, by)), (8_030, fence(second, by_other))];
        let result = world.run(&Script {
            faults,
            until_ms: 8_500,
            calm_ms: 0,
        });
        result.unwrap_or_else(|f| panic!("{shape:?}: {f}"));
        let said = |a: &Answer| matches!(a, Answer::Refused { why } if why.contains("majority"));
        let count = world.answers().iter().filter(|a| said(a)).count();
        assert_eq!(count, refused, "{shape:?}: {:?}", world.answers());
    }
}

/// A move is over although a gate is on a node that is fenced, whose daemon runs: it lets nobody
/// through, and is not waited for.
#[test]
fn a_move_ends_although_a_gate_is_on_a_fenced_node() {
    use karst_core::request::Request;
    let by = || "marlin".to_string();
    let fence = Request::Fence {
        node: "uvala".into(),
        by: by(),
    };
    let request = Request::Switchover {
        workload: "sailings".into(),
        to: Some("polje".into()),
        by: by(),
        plan_only: false,
    };
    let of = NodeId::from("doline");
    let ask = |at, request| {
        (
            at,
            Fault::Ask {
                of: of.clone(),
                request,
            },
        )
    };
    for seed in 0..4 {
        let mut world = World::new(ferry_spec(), seed, None);
        let result = world.run(&Script {
            faults: vec![ask(8_000, fence.clone()), ask(10_000, request.clone())],
            until_ms: 12_000,
            calm_ms: 0,
        });
        result.unwrap_or_else(|f| panic!("{f}"));
        assert_eq!(world.holder(), Some(&"polje".into()));
        let status = world.status(&"polje".into()).expect("it runs");
        let runs = status.workloads[0].operation.as_ref();
        assert!(runs.is_none(), "seed {seed}: {runs:?}");
    }
}

/// S5: a person who accepts to lose nothing loses nothing; nothing is promoted by itself that may
/// lack more than is allowed.
#[test]
fn a_forced_failover_that_accepts_nothing_loses_nothing() {
    use karst_core::request::Request;
    for gap in (40..160).step_by(20) {
        for seed in 0..4 {
            let (workload, to) = ("sailings".into(), "polje".into());
            let request = Request::Failover {
                workload,
                to,
                by: "marlin".into(),
                accept_loss: 0,
                plan_only: false,
            };
            let cut = |from: &str| Fault::OneWay {
                from: from.into(),
                to: "polje".into(),
                for_ms: 20_000,
            };
            let faults = vec![
                (8_000, cut("doline")),
                (8_000, cut("uvala")),
                (
                    12_000,
                    Fault::Isolate {
                        node: "uvala".into(),
                        for_ms: 20_000,
                    },
                ),
                (
                    14_000,
                    Fault::KillServer {
                        node: "doline".into(),
                        lingers_ms: 1,
                    },
                ),
                (
                    14_000 + gap,
                    Fault::Ask {
                        of: "ponor".into(),
                        request,
                    },
                ),
            ];
            let mut world = World::new(ferry_spec(), seed, None);
            if let Err(failure) = world.run(&Script {
                faults,
                until_ms: 24_000,
                calm_ms: 0,
            }) {
                assert_eq!(failure.guarantee, "L1", "{failure}");
            }
        }
    }
}
