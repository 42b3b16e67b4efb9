//! Each rule broken on purpose is found by the check that guards it, and by nothing else than the
//! plant: the same script passes without it. Three are broken in `core/tests`: A1 and F4 in
//! `consensus.rs`, A2's "never grant what ends" in `alone.rs`. Many of these scripts broke a
//! guarantee before the rule was kept as it is now.

use crate::plants::*;
use crate::wishes::point;
use karst_core::operation::Mode;
use karst_core::request::Request;
use karst_core::spec::Timings;
use karst_core::{NodeId, Planted};
use karst_sim::{Edit, Fault, Script, Shape, World, ferry_spec, powered_spec};

#[test]
fn rules_of_consensus_and_leases() {
    use Planted::*;
    all_found(vec![
        scene(SkipLeaseWait, Check("S3"), ferry_spec(), |_| {
            vec![(AT, isolate("doline", 6_000))]
        }),
        scene(NeverSilent, Check("lease"), ferry_spec(), |c| {
            vec![(
                AT,
                Fault::Isolate {
                    node: c.coordinator.clone(),
                    for_ms: 6_000,
                },
            )]
        }),
        scene(NoRelay, Move, ferry_spec(), |c| {
            let both = [
                (c.coordinator.as_str(), "doline"),
                ("doline", c.coordinator.as_str()),
            ];
            both.into_iter()
                .filter(|(a, b)| a != b)
                .map(|(a, b)| (AT, one_way(a, b, 8_000)))
                .collect()
        }),
        scene(SendBeforeDurable, Check("S8"), ferry_spec(), |c| {
            let slow = ["doline", "polje", "ponor"].map(|v| {
                (
                    AT,
                    Fault::SlowDisk {
                        node: n(v),
                        sync_ms: 300,
                        for_ms: 20_000,
                    },
                )
            });
            slow.into_iter()
                .chain([(AT + 50, ask(c.coordinator.as_str(), mode(Mode::Act)))])
                .collect()
        }),
        // An entry waits for the coordinator's own disk; the other one that has it is put back to
        // before it.
        scene(CountExpelled, Check("S8"), ferry_spec(), |c| {
            let leader = c.coordinator.clone();
            let mut voters: Vec<NodeId> = ["doline", "polje", "ponor"]
                .map(n)
                .into_iter()
                .filter(|v| *v != leader)
                .collect();
            let (away, restored) = (voters.remove(0), voters.remove(0));
            vec![
                (
                    AT,
                    Fault::Isolate {
                        node: away,
                        for_ms: 6_000,
                    },
                ),
                (
                    AT,
                    Fault::SlowDisk {
                        node: leader.clone(),
                        sync_ms: 1_000,
                        for_ms: 6_000,
                    },
                ),
                (AT + 20, ask(leader.as_str(), mode(Mode::Act))),
                (
                    AT + 60,
                    Fault::RestoreStore {
                        node: restored,
                        down_ms: 20,
                    },
                ),
            ]
        }),
        // The only other voter that had the newest entries is gone, and a third one comes with
        // nothing.
        scene(EmptyStoreVotes, Check("S2"), ferry_spec(), |_| {
            vec![
                (AT, isolate("ponor", 4_000)),
                (
                    AT + 500,
                    ask(
                        "doline",
                        Request::Switchover {
                            workload: "sailings".into(),
                            to: Some(n("polje")),
                            by: by(),
                            plan_only: false,
                        },
                    ),
                ),
                (AT + 3_000, off("doline")),
                (AT + 3_000, off("uvala")),
                (
                    AT + 3_000,
                    Fault::LoseStore {
                        node: n("polje"),
                        down_ms: 300,
                    },
                ),
            ]
        }),
        // One voter goes on alone with two that have never been heard.
        scene(VoteUnready, Check("L1"), only_doline_votes(), |_| {
            vec![
                (AT, off_for("polje", 40_000)),
                (AT, off_for("ponor", 40_000)),
                (AT + 2_000, submit("doline", Edit::AllBack)),
            ]
        })
        .grown()
        .until_calm(80_000),
        // The old coordinator is slow to notice that another one leads by its own doing.
        scene(HandOverWithLease, Check("lease"), ferry_spec(), |c| {
            let to = Request::HandOver { to: None, by: by() };
            vec![(AT + c.seed * 7, ask(c.coordinator.as_str(), to))]
        }),
        // The coordinator does not hear of the next one, and counts on the promises to it.
        scene(
            TakesFromAnybody,
            Check("lease"),
            Shape::HostileVoter.spec(false),
            |c| {
                let other = |n: &&str| *n != c.coordinator.as_str();
                let others = ["doline", "polje", "ponor", "uvala"]
                    .into_iter()
                    .filter(other);
                let others: Vec<&str> = others.collect();
                let cut = isolate_from(c.coordinator.as_str(), &others);
                let lies = hostile_voter(AT - 1_000, 9_000);
                lies.into_iter().chain(cut).collect()
            },
        ),
        scene(RestartInSet, Check("K4"), ferry_spec(), |c| {
            let (of, workload) = (c.coordinator.clone(), "sailings".into());
            vec![(AT, Fault::Restart { of, workload })]
        }),
        // A safety point is over before its standby has gone up to it.
        scene(JoinsWhileStopped, Check("K4"), ferry_spec(), |c| {
            let (of, nodes) = (c.coordinator.clone(), vec![]);
            let over = Fault::Rest {
                of,
                nodes,
                end: true,
            };
            vec![(AT, point()), (AT + 50 + c.seed * 20, over)]
        }),
        // A lease of before is longer than those that are granted now, and its holder was granted
        // one of those too.
        scene(LastGrantCounts, Check("S3"), ferry_spec(), |c| {
            let edit = Edit::Timings(Box::new(Timings::brisk()));
            vec![
                (AT, submit(c.coordinator.as_str(), edit)),
                (AT + 60 + c.seed * 7, isolate("doline", 8_000)),
            ]
        }),
        // The same, and whoever granted it is gone.
        scene(RetireAtOnce, Check("S3"), ferry_spec(), |c| {
            let at = AT + 30 + c.seed * 7;
            vec![
                (
                    AT,
                    submit(
                        c.coordinator.as_str(),
                        Edit::Timings(Box::new(Timings::brisk())),
                    ),
                ),
                (at, isolate("doline", 8_000)),
                (
                    at + 30,
                    Fault::KillDaemon {
                        node: c.coordinator.clone(),
                        down_ms: 8_000,
                    },
                ),
            ]
        }),
        // Each of these is believed only where the rule against it is broken; the node's own name
        // and key are enough for it.
        scene(
            SpeaksForOthers,
            Check("S8"),
            Shape::Hostile.spec(false),
            |_| hostile(),
        ),
        scene(
            BelievesLevels,
            Check("who asks"),
            Shape::Hostile.spec(false),
            |_| hostile(),
        ),
        scene(
            GrantsFromAnybody,
            Check("S3"),
            Shape::Hostile.spec(false),
            |_| {
                // It is not heard by the hostile node either, which would pass on what it says.
                let deaf = (AT, one_way("doline", "weir", 8_000));
                let cut = isolate_from("doline", &["polje", "ponor", "uvala"]);
                hostile().into_iter().chain(cut).chain([deaf]).collect()
            },
        )
        .unguarded(),
        scene(
            LeadsWithoutVote,
            Check("S8"),
            Shape::Hostile.spec(false),
            |_| hostile(),
        ),
        scene(
            VouchesForItself,
            Check("S8"),
            Shape::Hostile.spec(false),
            |_| hostile(),
        ),
        // It has a gate for readers and a standby, and hears nobody.
        scene(ReadersForEver, Check("readers"), ferry_spec(), |_| {
            vec![(AT, isolate("uvala", 20_000))]
        }),
        // Answers get lost, and it is not looked at again.
        Scene {
            until: 30_000,
            calm: 12_000,
            ..scene(NameTakenAsOrdered, Check("name"), ferry_spec(), |_| {
                let move_to = |to: &str| Fault::Ask {
                    of: n("ponor"),
                    request: Request::Switchover {
                        workload: "sailings".into(),
                        to: Some(n(to)),
                        by: "marlin".into(),
                        plan_only: false,
                    },
                };
                vec![(AT, move_to("polje"))]
            })
        },
        scene(MixReports, Check("report"), ferry_spec(), |_| {
            let lossy = Fault::Lossy {
                percent: 30,
                late_ms: 60,
                for_ms: 9_000,
            };
            vec![(AT, lossy), (AT + 1_000, isolate("doline", 3_000))]
        }),
    ]);
}

#[test]
fn rules_of_authority_and_fencing() {
    use Planted::*;
    all_found(vec![
        // The deadman is gone, the daemon begins anew, and nobody says until when it may act.
        scene(LeaseForEver, Check("S3"), ferry_spec(), |_| {
            vec![
                (
                    AT,
                    Fault::KillDeadman {
                        node: n("doline"),
                        for_ms: 60_000,
                    },
                ),
                (
                    AT + 200,
                    Fault::KillDaemon {
                        node: n("doline"),
                        down_ms: 100,
                    },
                ),
                (AT + 250, isolate("doline", 8_000)),
            ]
        })
        .unguarded(),
        scene(FirstProcessOnly, Check("S3"), ferry_spec(), |_| {
            vec![(
                AT,
                Fault::KillServer {
                    node: n("doline"),
                    lingers_ms: 1_500,
                },
            )]
        }),
        scene(OutliveLease, Check("S3"), ferry_spec(), |_| {
            vec![(AT, isolate("doline", 6_000))]
        })
        .unguarded(),
        scene(NoGuard, Check("S3"), ferry_spec(), |_| {
            vec![(
                AT,
                Fault::FreezeHost {
                    node: n("doline"),
                    for_ms: 6_000,
                },
            )]
        }),
        scene(
            TrustStoppedClock,
            Check("S3"),
            Shape::ClockMayStop.spec(true),
            |_| {
                let dead = Fault::DeadDevices { for_ms: 12_000 };
                vec![
                    (AT - 50, dead),
                    (
                        AT,
                        Fault::Suspend {
                            node: n("doline"),
                            for_ms: 6_000,
                        },
                    ),
                ]
            },
        ),
        scene(SurrenderEarly, Check("S3"), ferry_spec(), |c| {
            let hangs = Fault::HangActions {
                node: n("doline"),
                for_ms: 5_000,
            };
            vec![
                (AT, hangs),
                (
                    AT + 20,
                    ask(c.coordinator.as_str(), failover("polje", u64::MAX)),
                ),
            ]
        }),
        scene(TrustWithoutDeadman, Check("S3"), ferry_spec(), |_| {
            vec![
                (
                    AT,
                    Fault::KillDeadman {
                        node: n("doline"),
                        for_ms: 60_000,
                    },
                ),
                (AT + 5_000, isolate("doline", 20_000)),
                (
                    AT + 5_000,
                    Fault::KillDaemon {
                        node: n("doline"),
                        down_ms: 20_000,
                    },
                ),
            ]
        })
        .unguarded(),
        scene(AssumeOff, Check("S6"), powered_spec(), |_| {
            vec![
                (AT - 50, Fault::DeadDevices { for_ms: 10_000 }),
                (AT, isolate("doline", 6_000)),
            ]
        }),
        scene(GateWithoutLease, Check("C8"), ferry_spec(), |_| {
            vec![(AT, isolate("ponor", 6_000)), (AT, isolate("uvala", 6_000))]
        }),
        scene(AddressAtOnce, Check("S7"), ferry_spec(), |_| {
            vec![
                (AT, isolate("ponor", 6_000)),
                (AT + 8_000, isolate("uvala", 4_000)),
            ]
        }),
        // The order to stop waits behind a disk that hangs: the deadman is gone, and the host is
        // cut off.
        scene(HoldBackStops, Check("S3"), ferry_spec(), |c| {
            vec![
                (
                    AT,
                    Fault::KillDeadman {
                        node: n("doline"),
                        for_ms: 100_000,
                    },
                ),
                (
                    AT,
                    Fault::SlowDisk {
                        node: n("doline"),
                        sync_ms: 16_000,
                        for_ms: 100_000,
                    },
                ),
                (AT + 5, ask(c.coordinator.as_str(), mode(Mode::Act))),
                (AT + 40, isolate("doline", 12_000)),
            ]
        })
        .unguarded(),
        // Nobody may take over, and the primary's host is not heard for a moment.
        scene(FenceForNothing, Fence, powered_spec(), |_| {
            vec![
                (AT, one_way("doline", "polje", 6_000)),
                (AT, one_way("doline", "uvala", 6_000)),
                (AT + 4_000, isolate("doline", 900)),
            ]
        })
        .until_calm(42_000),
    ]);
}

#[test]
fn rules_of_replication() {
    use Planted::*;
    /// Two of the five are lost for good, the others lag.
    fn two_lost(lagging: Vec<(u64, Fault)>, at: u64) -> Vec<(u64, Fault)> {
        lagging
            .into_iter()
            .chain([(at, off("doline")), (at, off("polje"))])
            .collect()
    }
    fn slow(name: &str) -> (u64, Fault) {
        (
            AT,
            Fault::SlowStandby {
                node: n(name),
                for_ms: 9_000,
            },
        )
    }
    all_found(vec![
        scene(WaitForOne, Check("S5"), five(), |_| {
            two_lost(vec![slow("uvala"), slow("cenote")], AT + 2_000)
        }),
        scene(GrowAtOnce, Check("S5"), five(), |_| {
            let away = ["uvala", "cenote"].map(|v| (AT, isolate(v, 2_000)));
            two_lost(
                away.into_iter()
                    .chain([slow("uvala"), slow("cenote")])
                    .collect(),
                AT + 3_500,
            )
        }),
        scene(ShrinkLate, Check("S5"), five(), |_| {
            let away = ["uvala", "cenote"].map(|v| (AT, isolate(v, 3_000)));
            two_lost(away.to_vec(), AT + 2_990)
        }),
        scene(
            IgnoreUnprotected,
            Check("S5"),
            Shape::AloneContinue.spec(false),
            |_| {
                let away = ["polje", "uvala"].map(|v| (AT, isolate(v, 3_000)));
                away.into_iter()
                    .chain([(AT + 2_990, off("doline"))])
                    .collect()
            },
        ),
        // A new primary is cut off before its epoch is open, and its commits return already.
        scene(OpenEarly, Check("S5"), ferry_spec(), |c| {
            let slow = ["polje", "ponor"].map(|v| {
                (
                    AT,
                    Fault::SlowDisk {
                        node: n(v),
                        sync_ms: 300,
                        for_ms: 60_000,
                    },
                )
            });
            slow.into_iter()
                .chain([
                    (AT, off("doline")),
                    (AT + 2_400 + 130 * c.seed, isolate("polje", 6_000)),
                ])
                .collect()
        }),
        // Two promotions from the same point, of which the first was never opened.
        scene(ForgetAttempt, Check("D5"), ferry_spec(), |c| {
            let slow = ["polje", "ponor"].map(|v| {
                (
                    AT,
                    Fault::SlowDisk {
                        node: n(v),
                        sync_ms: 300,
                        for_ms: 9_000,
                    },
                )
            });
            slow.into_iter()
                .chain([
                    (AT, off("doline")),
                    (AT + 2_400 + 130 * c.seed, isolate("polje", 4_000)),
                ])
                .collect()
        })
        .until_calm(60_000),
        scene(PromoteLaggard, Check("S5"), ferry_spec(), |_| {
            vec![(AT, isolate("uvala", 1_500)), (AT + 1_520, kill("doline"))]
        }),
        scene(ServeAtOnce, Check("D7"), Shape::Restart.spec(false), |_| {
            vec![(AT, kill("doline"))]
        }),
        // A standby that was cut off from its primary catches up while that one is started again in
        // place, and then both the primary and the only one that has everything are lost.
        scene(
            OpenCountsLaggards,
            Check("S5"),
            {
                let mut spec = powered_spec();
                spec.workloads.values_mut().for_each(|w| w.restart = true);
                spec
            },
            |_| {
                vec![
                    (AT, one_way("doline", "polje", 9_000)),
                    (AT + 9_000, kill("doline")),
                    (AT + 9_700, off("doline")),
                    (AT + 9_700, off("uvala")),
                ]
            },
        ),
        // Everybody who knew how far the primary was has begun anew.
        scene(
            UnknownIsZero,
            Check("S5"),
            Shape::LossBySize.spec(false),
            |_| {
                vec![
                    (AT, one_way("doline", "polje", 12_000)),
                    (AT + 8_000, off("uvala")),
                    (AT + 8_200, off("doline")),
                    (
                        AT + 8_210,
                        Fault::KillDaemon {
                            node: n("polje"),
                            down_ms: 300,
                        },
                    ),
                    (
                        AT + 8_210,
                        Fault::KillDaemon {
                            node: n("ponor"),
                            down_ms: 300,
                        },
                    ),
                ]
            },
        ),
    ]);
}

#[test]
fn rules_of_liveness() {
    use Planted::*;
    all_found(vec![
        // The best candidate's deadman is gone: it may never act.
        scene(NoDeadlines, Check("L1"), ferry_spec(), |_| {
            vec![
                (
                    AT - 50,
                    Fault::KillDeadman {
                        node: n("polje"),
                        for_ms: 600_000,
                    },
                ),
                (AT, off("doline")),
            ]
        })
        .until_calm(50_000),
        scene(IgnoreSilence, Check("L1"), ferry_spec(), |_| {
            vec![(
                AT,
                Fault::HangServer {
                    node: n("doline"),
                    for_ms: 600_000,
                },
            )]
        })
        .until_calm(50_000),
    ]);
}

/// A stall is found while it lasts, in the middle of the faults, and not only where clients still
/// cannot write at the end.
#[test]
fn a_stall_is_found_while_it_lasts() {
    let run = |planted| {
        let mut world = World::new(ferry_spec(), 1, planted);
        let hangs = Fault::HangServer {
            node: n("doline"),
            for_ms: 40_000,
        };
        let faults = vec![(AT, hangs.clone()), (AT + 45_000, hangs)];
        world.run(&Script {
            faults,
            until_ms: AT + 75_000,
            calm_ms: 0,
        })
    };
    run(None).unwrap();
    let failure = run(Some(Planted::IgnoreSilence)).unwrap_err();
    assert!(
        failure.guarantee == "L1" && failure.at_ms < AT + 35_000,
        "{failure}"
    );
}
