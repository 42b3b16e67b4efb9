//! Who may become primary, and why the others may not: one reason each, and the newest of the safe
//! ones first.

use crate::desk::{Case, NODES, asked, assign, at, second, standby, w};
use karst_core::author::Author;
use karst_core::command::{Command, Ended, NodeAct, Standing, WorkloadAct};
use karst_core::heads::Head;
use karst_core::health::Hears;
use karst_core::operation::{Kind, Mode, ModeSet};
use karst_core::replica::{Data, Observation, Promotion, ReplicaReport, Role};
use karst_core::spec::{After, Alone, Loss, ReplicaSpec};

use karst_core::state::Tenure;
use karst_core::steward::candidates::MayLack;
use karst_core::steward::{Notes, next_look};
use karst_core::{BootId, Epoch, NodeId, Position};
use std::time::Duration;

/// A standby whose server gave no answer to the newest look.
fn silent() -> ReplicaReport {
    let mut silent = ReplicaReport {
        settled: None,
        ..standby(200)
    };
    silent.seen.as_mut().unwrap().role = None;
    silent
}

#[test]
fn the_newest_is_chosen_then_the_first_in_rank() {
    let mut case = Case::new(Loss::None);
    assert_eq!(case.chosen().as_deref(), Some("polje"));
    case.report("uvala", standby(101));
    assert_eq!(case.chosen().as_deref(), Some("uvala"));
}

#[test]
fn one_that_has_not_settled_is_waited_for() {
    let mut case = Case::new(Loss::None);
    case.report(
        "uvala",
        ReplicaReport {
            settled: None,
            ..standby(200)
        },
    );
    assert!(case.verdict("uvala").pending);
    assert_eq!(case.chosen(), None);
    case.report(
        "uvala",
        ReplicaReport {
            settled: Some((Epoch(0), at(200))),
            ..standby(200)
        },
    );
    assert!(
        case.verdict("uvala").pending,
        "a position from an earlier epoch says nothing"
    );
}

/// Nobody is ahead of whoever has what a clean stop left: a planned move does not wait for the
/// slowest standby.
#[test]
fn the_target_of_a_planned_move_waits_for_nobody_if_it_has_everything() {
    for (end, chosen) in [(100, Some("polje".to_string())), (101, None)] {
        let mut case = Case::new(Loss::None);
        let clean = Ended::Surrender {
            boot: BootId::from("b"),
            clean_at: Some(end),
        };
        let state = case.state.workloads.get_mut(&w()).unwrap();
        (state.tenure, state.clean_end) = (
            Tenure::Ended {
                last: "doline".into(),
                how: clean,
            },
            Some(end),
        );
        case.report(
            "uvala",
            ReplicaReport {
                settled: None,
                ..standby(100)
            },
        );
        assert_eq!(case.chosen(), None, "nobody asked for polje");
        assert!(case.state.apply(
            case.state.applied.next(),
            &Command::begin(asked(Kind::Switchover, 0))
        ));
        assert_eq!(case.chosen(), chosen, "the log ends at {end}");
    }
}

/// A primary that died may have sent the beginning of a record: who received that is not past the
/// end of the log, and counts from the new epoch's beginning on.
#[test]
fn the_beginning_of_a_record_is_not_data() {
    for (settled, counts) in [(100, true), (101, false)] {
        let mut case = Case::new(Loss::None);
        case.apply(&Command::Workload(
            w(),
            WorkloadAct::Assign {
                epoch: Epoch(2),
                holder: "polje".into(),
                why: String::new(),
            },
        ));
        case.report(
            "polje",
            ReplicaReport {
                opened: Some((
                    Epoch(2),
                    Promotion {
                        point: second(100),
                        unique: true,
                    },
                )),
                ..standby(100)
            },
        );
        case.report(
            "uvala",
            ReplicaReport {
                settled: Some((Epoch(1), at(settled))),
                ..standby(128)
            },
        );
        let opens = case.decided(&mut Notes::default());
        let sync = opens.iter().find_map(|c| match c {
            Command::Workload(_, WorkloadAct::Open { sync, .. }) => {
                Some(sync.contains(&"uvala".into()))
            }
            _ => None,
        });
        assert_eq!(sync, Some(counts), "settled at {settled}: {opens:?}");
    }
}

/// D13: the first write of a new primary waits for no standby that is not heard.
#[test]
fn a_standby_that_is_not_heard_confirms_nothing_of_a_new_primary() {
    for (silent, counts) in [("", true), ("uvala", false)] {
        let mut case = Case::new(Loss::None);
        case.apply(&assign(2, "polje"));
        case.pass_without(Duration::from_secs(2), silent);
        let (point, unique) = (second(100), true);
        let promoted = ReplicaReport {
            opened: Some((Epoch(2), Promotion { point, unique })),
            ..standby(100)
        };
        case.report("polje", promoted);
        let opens = case.decided(&mut Notes::default());
        let Some(Command::Workload(_, WorkloadAct::Open { sync, .. })) = opens.first() else {
            panic!("{opens:?}")
        };
        assert_eq!(sync.contains(&"uvala".into()), counts, "{opens:?}");
    }
}

/// D5: a promotion that knew nothing of the history that was open last may have made one of the
/// same name. Whoever is on the parent follows for certain; everybody else is copied anew.
#[test]
fn an_opening_under_a_name_that_may_be_anothers_doubts_who_is_not_on_its_parent() {
    for (unique, history, counts) in [
        (true, "1", true),
        (false, "1", true),
        (true, "2", true),
        (false, "2", false),
    ] {
        let mut case = Case::new(Loss::None);
        case.apply(&assign(2, "polje"));
        let point = second(100);
        let promotion = Promotion { point, unique };
        case.report(
            "polje",
            ReplicaReport {
                opened: Some((Epoch(2), promotion)),
                ..standby(100)
            },
        );
        let mut follower = standby(100);
        follower.seen.as_mut().unwrap().position = Some(Position::new(history, 100));
        follower.settled = None;
        case.report("uvala", follower);
        let opens = case.decided(&mut Notes::default());
        let Some(Command::Workload(_, WorkloadAct::Open { sync, doubtful, .. })) = opens.first()
        else {
            panic!("{opens:?}")
        };
        let uvala: NodeId = "uvala".into();
        assert_eq!(
            (sync.contains(&uvala), doubtful.contains(&uvala)),
            (counts, !counts),
            "on history {history}, unique: {unique}"
        );
    }
}

/// A busy standby that missed one look may be ahead: choosing without it would leave it with data
/// past the switch point.
#[test]
fn one_that_did_not_answer_once_is_waited_for_and_not_for_ever() {
    let mut case = Case::new(Loss::None);
    // Another that can confirm the writes of whoever is chosen.
    let spec = case.spec.workloads.get_mut(&w()).unwrap();
    let third = spec.replicas[&NodeId::from("polje")].clone();
    spec.replicas
        .insert("ponor".into(), ReplicaSpec { rank: 9, ..third });
    case.state
        .workloads
        .get_mut(&w())
        .unwrap()
        .sync
        .sure
        .push("ponor".into());
    case.report("ponor", standby(100));
    case.report("uvala", silent());
    let mut notes = Notes::default();
    assert_eq!(case.chosen_with(&mut notes), None);
    let mut answers = case.copy();
    answers.report("uvala", standby(200));
    assert_eq!(
        answers.chosen_with(&mut notes.clone()).as_deref(),
        Some("uvala")
    );
    case.pass(case.spec.timings.settle_limit);
    assert_eq!(
        case.chosen_with(&mut notes).as_deref(),
        Some("polje"),
        "the others cannot wait for longer"
    );
}

/// Where writes wait for a standby anyway (D3, D13), the last one that could confirm them is waited
/// for longer: were it ahead of the one chosen, they would wait for its rewind.
#[test]
fn the_only_one_to_confirm_writes_is_waited_for_longer() {
    for alone in [Alone::Block, Alone::Continue] {
        let mut case = Case::new(Loss::None);
        case.spec.workloads.get_mut(&w()).unwrap().alone = alone;
        case.report("uvala", silent());
        let mut notes = Notes::default();
        assert_eq!(case.chosen_with(&mut notes), None);
        let timings = case.spec.timings.clone();
        case.pass(timings.settle_limit);
        let next = case.with(|scene, _| next_look(scene, &w(), &notes));
        let chosen = case.chosen_with(&mut notes.clone());
        if alone == Alone::Continue {
            assert_eq!(chosen.as_deref(), Some("polje"), "writes need nobody");
            continue;
        }
        assert_eq!(chosen, None);
        assert!(next > case.now, "what has passed asks for no other look");
        let mut answers = case.copy();
        answers.report("uvala", standby(200));
        assert_eq!(
            answers.chosen_with(&mut notes.clone()).as_deref(),
            Some("uvala")
        );
        let mut gone = case.copy();
        gone.reports.remove(&NodeId::from("uvala"));
        assert_eq!(
            gone.chosen_with(&mut notes.clone()).as_deref(),
            Some("polje"),
            "nobody waits for a lost one"
        );
        case.pass(timings.patience_alone() - timings.settle_limit);
        assert_eq!(
            case.chosen_with(&mut notes).as_deref(),
            Some("polje"),
            "not for ever"
        );
    }
}

#[test]
fn each_exclusion_has_its_reason() {
    let mut case = Case::new(Loss::None);
    case.report(
        "polje",
        ReplicaReport {
            suspect: true,
            ..standby(100)
        },
    );
    case.refused("polje", "never completed");
    let mut primary = standby(100);
    primary.seen.as_mut().unwrap().role = Some(Role::Primary);
    case.report("polje", primary);
    case.refused("polje", "does not answer as a standby");
    let stopped = ReplicaReport {
        seen: Some(Observation::down(Data::Present { standby: true })),
        ..standby(100)
    };
    case.report("polje", stopped);
    case.refused("polje", "does not run");
    case.reports.remove(&NodeId::from("polje"));
    case.refused("polje", "not heard");
    let (workload, node) = (w(), NodeId::from("uvala"));
    let next = case.state.applied.next();
    case.state.apply(
        next,
        &Command::Workload(
            workload,
            WorkloadAct::Mark {
                node,
                standing: Standing::NeedsClone("a test".into()),
            },
        ),
    );
    case.refused("uvala", "must be rewound or cloned first: a test");
    assert_eq!(case.chosen(), None, "nobody is better than somebody unsafe");
}

#[test]
fn outside_the_sync_set_or_the_history_nobody_is_safe() {
    let mut case = Case::new(Loss::None);
    let state = case.state.workloads.get_mut(&w()).unwrap();
    state.sync.sure = vec!["uvala".into()];
    case.refused("polje", "not in the sync set");
    assert_eq!(case.chosen().as_deref(), Some("uvala"));
    let state = case.state.workloads.get_mut(&w()).unwrap();
    let opened = state.opened.as_mut().unwrap();
    opened.point = second(90);
    case.refused("uvala", "it has 10 bytes past the point");
    // Exactly at the switch point, it has the history and nothing else.
    case.report("uvala", standby(90));
    assert_eq!(case.verdict("uvala").excluded, None);
}

#[test]
fn a_bounded_loss_counts_bytes() {
    let mut case = Case::new(Loss::Bytes(50));
    case.refused("polje", "how far it is behind doline is not known");
    assert_eq!(case.chosen(), None, "what is not known is not zero (F2)");
    case.heads.note(
        &w(),
        Head {
            epoch: Epoch(1),
            position: 140,
        },
        true,
        case.now,
    );
    assert_eq!(case.verdict("polje").excluded, None, "40 bytes behind");
    case.report("uvala", standby(80));
    case.refused("uvala", "60 bytes behind; 50 may be lost");
}

/// A first start that lost its authority before the epoch was opened is tried again where its data
/// are, once every report is fresh, and not at once.
#[test]
fn a_first_start_cut_short_is_tried_again() {
    let mut case = Case::new(Loss::None);
    case.state.workloads.get_mut(&w()).unwrap().opened = None;
    for node in ["polje", "uvala"] {
        let seen = Some(Observation::down(Data::Empty));
        case.report(
            node,
            ReplicaReport {
                seen,
                ..ReplicaReport::default()
            },
        );
    }
    let mut notes = Notes::default();
    assert_eq!(
        case.chosen_with(&mut notes),
        None,
        "a try that failed at once would fail again at once"
    );
    case.pass(case.spec.timings.lease);
    assert_eq!(case.chosen_with(&mut notes).as_deref(), Some("doline"));
    case.reports.remove(&NodeId::from("doline"));
    assert_eq!(
        case.chosen_with(&mut notes),
        None,
        "whether the absent one has data decides"
    );
}

/// Of several with data the one is first that the others are standbys of, and nobody where that is
/// not sure; what runs there is left alone unless the spec adopts it.
#[test]
fn a_database_with_its_standbys_is_told_from_two_databases() {
    let first = |data: [(&str, bool, Option<&str>); 2], strange: bool, adopt: bool| {
        let mut case = Case::new(Loss::None);
        case.state.workloads.clear();
        case.spec.workloads.get_mut(&w()).unwrap().adopt = adopt;
        case.report("uvala", nothing());
        for (node, standby, identity) in data {
            let seen = Observation {
                identity: identity.map(Into::into),
                strange,
                ..Observation::down(Data::Present { standby })
            };
            let seen = Some(seen);
            case.report(node, ReplicaReport { seen, ..nothing() });
        }
        case.chosen()
    };
    let (a, b) = (Some("a"), Some("b"));
    let whole = [("polje", false, a), ("doline", true, a)];
    assert_eq!(first(whole, false, false).as_deref(), Some("polje"));
    assert_eq!(first(whole, true, true).as_deref(), Some("polje"));
    assert_eq!(first(whole, true, false), None, "somebody else keeps it");
    for unsure in [
        [("polje", false, a), ("doline", true, b)],
        [("polje", false, a), ("doline", false, a)],
        [("polje", true, a), ("doline", true, a)],
        [("polje", false, None), ("doline", true, None)],
    ] {
        assert_eq!(first(unsure, false, true), None, "{unsure:?}");
    }
}

fn nothing() -> ReplicaReport {
    ReplicaReport {
        seen: Some(Observation::down(Data::Empty)),
        ..ReplicaReport::default()
    }
}

/// A replica outside the sync set takes over only where a person accepts what it may lack, and the
/// number is said.
#[test]
fn a_loss_is_taken_only_when_it_is_accepted() {
    let mut case = Case::new(Loss::None);
    let command = Command::Workload(
        w(),
        WorkloadAct::Sync {
            unprotected: false,
            epoch: Epoch(1),
            number: 2,
            sure: vec![],
            asked: vec![],
            why: String::new(),
        },
    );
    assert!(case.state.apply(case.state.applied.next(), &command));
    let judged = case.verdict("polje");
    assert_eq!(
        judged.may_lack,
        Some(MayLack::Unknown),
        "a server that has stopped says no position (F2)"
    );
    assert!(
        !judged.may_with_loss(0)
            && !judged.may_with_loss(u64::MAX - 1)
            && judged.may_with_loss(u64::MAX)
    );
    case.heads.note(
        &w(),
        Head {
            epoch: Epoch(1),
            position: 340,
        },
        true,
        case.now,
    );
    let judged = case.verdict("polje");
    assert!(
        judged
            .excluded
            .is_some_and(|why| why.contains("not in the sync set"))
    );
    assert_eq!(
        judged.may_lack,
        Some(MayLack::AtLeast {
            bytes: 240,
            age: Duration::ZERO
        })
    );
    let level = MayLack::AtLeast {
        bytes: 0,
        age: Duration::from_millis(80),
    };
    assert!(
        !level.is_within(0),
        "what was written since it was heard is not nothing"
    );
    assert_eq!(case.chosen(), None);
    for (accepted, chosen) in [(239, None), (240, Some("polje".to_string()))] {
        let mut case = case.copy();
        let begun = case.state.apply(
            case.state.applied.next(),
            &Command::begin(asked(Kind::ForcedFailover, accepted)),
        );
        assert!(begun);
        assert_eq!(case.chosen(), chosen, "{accepted} accepted");
    }
}

/// S6: a fenced node is nobody's candidate.
#[test]
fn a_fenced_node_is_excluded_until_it_is_readmitted() {
    let mut case = Case::new(Loss::None);
    let (boot, why, by) = (None, String::new(), Author::Cluster);
    let fence = Command::Node(
        "polje".into(),
        NodeAct::Fence {
            boot,
            why: why.clone(),
            by: by.clone(),
            after: After::Off,
        },
    );
    let at = case.state.applied.next();
    assert!(
        case.state.apply(at, &fence) && !case.state.apply(at.next(), &fence),
        "once only"
    );
    assert!(
        case.verdict("polje")
            .excluded
            .is_some_and(|why| why.contains("fenced"))
    );
    assert_eq!(case.chosen(), Some("uvala".into()));
    let late = Command::Node(
        "polje".into(),
        NodeAct::Readmit {
            fence: at.next(),
            why: why.clone(),
            by: by.clone(),
        },
    );
    assert!(!case.state.apply(at.next(), &late), "of another fence");
    assert!(case.state.apply(
        at.next(),
        &Command::Node("polje".into(), NodeAct::Readmit { fence: at, why, by })
    ));
    assert_eq!(case.chosen(), Some("polje".into()));
}

/// Mode `ask` prepares and waits for approval, `watch` does nothing, `act` goes on at once.
#[test]
fn the_mode_says_who_decides() {
    for mode in Mode::ALL {
        let mut case = Case::new(Loss::None).open_again();
        let apply = |case: &mut Case, command: &Command| {
            assert!(case.state.apply(case.state.applied.next(), command))
        };
        apply(
            &mut case,
            &Command::Workload(
                w(),
                WorkloadAct::Mode(ModeSet::plain(mode, Author::person("captain"))),
            ),
        );
        let down = Observation::down(Data::Present { standby: false });
        let surrendered = Some((Epoch(2), None));
        case.report(
            "doline",
            ReplicaReport {
                seen: Some(down),
                surrendered,
                ..ReplicaReport::default()
            },
        );
        let first = case.decided(&mut Notes::default());
        match (mode, first.as_slice()) {
            (Mode::Watch, []) => {}
            (
                Mode::Act,
                [
                    Command::Workload(_, WorkloadAct::Begin(o)),
                    Command::Workload(_, WorkloadAct::Revoke { .. }),
                    Command::Workload(_, WorkloadAct::End { .. }),
                ],
            ) => assert!(!o.asks),
            (Mode::Ask, [begin @ Command::Workload(_, WorkloadAct::Begin(o))]) => {
                assert!(o.asks);
                apply(&mut case, begin);
                assert_eq!(case.decided(&mut Notes::default()), vec![], "it waits");
                let operation = case.state.workload(&w()).operation.expect("it has begun");
                apply(
                    &mut case,
                    &Command::Workload(
                        w(),
                        WorkloadAct::Approve {
                            operation,
                            by: Author::person("captain"),
                        },
                    ),
                );
                assert!(matches!(
                    case.decided(&mut Notes::default()).as_slice(),
                    [
                        Command::Workload(_, WorkloadAct::Revoke { .. }),
                        Command::Workload(_, WorkloadAct::End { .. })
                    ]
                ));
            }
            other => panic!("{other:?}"),
        }
    }
}

/// The only one that has everything is started again, though an earlier try of it was cut short
/// before its epoch opened: otherwise the workload would have no primary for ever. Not at once:
/// what failed would fail again.
#[test]
fn the_last_holder_tries_again() {
    let mut case = Case::new(Loss::None).open_again();
    let (epoch, why, how) = (
        Epoch(2),
        String::new(),
        Ended::Surrender {
            boot: BootId::from("b"),
            clean_at: None,
        },
    );
    let unsound = |node: &str| {
        Command::Workload(
            w(),
            WorkloadAct::Mark {
                node: node.into(),
                standing: Standing::Diverged("it did not stop cleanly".into()),
            },
        )
    };
    for command in [
        Command::Workload(
            w(),
            WorkloadAct::Revoke {
                epoch,
                why: why.clone(),
            },
        ),
        Command::Workload(
            w(),
            WorkloadAct::End {
                epoch,
                how: how.clone(),
            },
        ),
        Command::Workload(
            w(),
            WorkloadAct::Assign {
                epoch: Epoch(3),
                holder: "doline".into(),
                why: why.clone(),
            },
        ),
        Command::Workload(
            w(),
            WorkloadAct::Revoke {
                epoch: Epoch(3),
                why,
            },
        ),
        Command::Workload(
            w(),
            WorkloadAct::End {
                epoch: Epoch(3),
                how,
            },
        ),
        unsound("polje"),
        unsound("uvala"),
    ] {
        assert!(case.state.apply(case.state.applied.next(), &command));
    }
    let mut notes = Notes::default();
    assert_eq!(case.chosen_with(&mut notes), None);
    case.now += case.spec.timings.lease;
    for node in NODES {
        case.health
            .on_beat(&node.into(), 0, Hears::default(), case.now);
    }
    let down = Observation::down(Data::Present { standby: false });
    case.report(
        "doline",
        ReplicaReport {
            seen: Some(down),
            ..ReplicaReport::default()
        },
    );
    assert_eq!(case.chosen_with(&mut notes), Some("doline".into()));
}
