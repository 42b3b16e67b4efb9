//! Who holds a workload, when it counts as lost, and what is made of it then.

use crate::desk::{Case, asked, assign, at, standby, w};
use karst_core::author::Author;
use karst_core::command::{Command, Ended, Standing, WorkloadAct};
use karst_core::operation::{Kind, Mode, ModeSet};
use karst_core::replica::{
    Action, Data, Doing, Downstream, Observation, Presence, Promotion, ReplicaReport, Role,
};
use karst_core::spec::Loss;

use karst_core::steward::Notes;
use karst_core::{BootId, Epoch, NodeId, Position, SwitchPoint};
use std::time::Duration;

/// A holder whose server runs as a standby serves nobody, whatever made it one: seen by its
/// patience, and replaced (L1).
#[test]
fn a_holder_that_is_a_standby_is_replaced() {
    let mut case = Case::new(Loss::None).open_again();
    case.report("doline", standby(300));
    let mut notes = Notes::default();
    let revoked = |case: &Case, notes: &mut Notes| {
        let commands = case.decided(notes);
        commands.into_iter().find_map(|c| match c {
            Command::Workload(_, WorkloadAct::Revoke { why, .. }) => Some(why),
            _ => None,
        })
    };
    assert_eq!(
        revoked(&case, &mut notes),
        None,
        "it may just have been promoted"
    );
    case.pass(case.spec.timings.suspicion_ceiling);
    let why = revoked(&case, &mut notes).unwrap_or_default();
    assert!(why.contains("runs as a standby"), "{why}");
}

fn surrendered() -> Ended {
    Ended::Surrender {
        boot: BootId::from("b"),
        clean_at: None,
    }
}

/// F1: whoever may follow is not therefore somebody who has every write. After a restart in place
/// the history says nothing of how far a standby is.
#[test]
fn an_opening_counts_only_who_was_confirmed_before() {
    let mut case = Case::new(Loss::None);
    let polje = || vec![NodeId::from("polje")];
    let (workload, epoch, why) = (w(), Epoch(1), String::new());
    case.apply(&Command::Workload(
        workload,
        WorkloadAct::Sync {
            unprotected: false,
            epoch,
            number: 2,
            sure: polje(),
            asked: polje(),
            why,
        },
    ));
    case.apply(&assign(2, "doline"));
    case.report("uvala", standby(1_000));
    case.report("polje", standby(1 << 40));
    let promotion = Promotion {
        point: SwitchPoint {
            writes_from: 1 << 40,
            ..SwitchPoint::first("1")
        },
        unique: false,
    };
    case.report(
        "doline",
        ReplicaReport {
            opened: Some((Epoch(2), promotion)),
            ..ReplicaReport::default()
        },
    );
    let opens = case.decided(&mut Notes::default());
    let Some(Command::Workload(_, WorkloadAct::Open { sync, point, .. })) = opens.first() else {
        panic!("{opens:?}")
    };
    assert_eq!(
        (sync, point.writes_from, point.began),
        (&polje(), 1 << 40, 0)
    );
    // What it lacks keeps it from taking over, too.
    case.apply(&opens[0]);
    let (workload, epoch) = (w(), Epoch(2));
    case.apply(&Command::Workload(
        workload.clone(),
        WorkloadAct::Revoke {
            epoch,
            why: String::new(),
        },
    ));
    case.apply(&Command::Workload(
        workload,
        WorkloadAct::End {
            epoch,
            how: surrendered(),
        },
    ));
    case.report(
        "uvala",
        ReplicaReport {
            settled: Some((Epoch(2), at(1_000))),
            ..standby(1_000)
        },
    );
    case.refused("uvala", "it lacks");
    case.report(
        "polje",
        ReplicaReport {
            settled: Some((Epoch(2), at(1 << 39))),
            ..standby(1 << 39)
        },
    );
    assert_eq!(
        case.verdict("polje").excluded,
        None,
        "a member has every acknowledged write, however far it is"
    );
}

/// L1: the primary stopped cleanly for a move, and its target never opened. Whoever has everything
/// goes on, and the target tries again only if that one cannot.
#[test]
fn after_a_promotion_that_never_opened_somebody_is_started_again() {
    let mut case = Case::new(Loss::None);
    case.apply(&assign(2, "polje"));
    let (workload, epoch) = (w(), Epoch(2));
    case.apply(&Command::Workload(
        workload.clone(),
        WorkloadAct::Revoke {
            epoch,
            why: String::new(),
        },
    ));
    case.apply(&Command::Workload(
        workload,
        WorkloadAct::End {
            epoch,
            how: surrendered(),
        },
    ));
    let mut tried = standby(100);
    tried.suspect = true;
    tried.settled = None;
    tried.seen = Some(Observation::down(Data::Present { standby: false }));
    case.report("polje", tried);
    case.report(
        "uvala",
        ReplicaReport {
            settled: Some((Epoch(2), at(100))),
            ..standby(100)
        },
    );
    assert_eq!(
        case.chosen().as_deref(),
        Some("uvala"),
        "a standby that has not failed comes first"
    );
    case.reports.remove(&NodeId::from("uvala"));
    let mut notes = Notes::default();
    assert_eq!(
        case.chosen_with(&mut notes),
        None,
        "what failed at once would fail at once again"
    );
    case.pass(case.spec.timings.lease);
    assert_eq!(
        case.chosen_with(&mut notes.clone()).as_deref(),
        Some("doline"),
        "the holder of the last opened epoch"
    );
    case.reports.remove(&NodeId::from("doline"));
    assert_eq!(
        case.chosen_with(&mut notes).as_deref(),
        Some("polje"),
        "the last copy"
    );
}

/// F6: a person always has a way while a copy exists, with the loss named, whatever is against it.
#[test]
fn one_copy_is_enough_for_a_person() {
    let mut case = Case::new(Loss::None);
    for node in ["doline", "uvala"] {
        case.reports.remove(&NodeId::from(node));
    }
    let stopped = Observation::down(Data::Present { standby: true });
    let bad: [(&str, ReplicaReport, Option<Standing>); 3] = [
        (
            "stopped",
            ReplicaReport {
                seen: Some(stopped),
                ..ReplicaReport::default()
            },
            None,
        ),
        (
            "an interrupted promotion",
            ReplicaReport {
                suspect: true,
                ..standby(100)
            },
            None,
        ),
        (
            "diverged",
            standby(100),
            Some(Standing::Diverged("a test".into())),
        ),
    ];
    for (what, report, standing) in bad {
        let mut case = case.copy();
        case.report("polje", report);
        if let Some(standing) = standing {
            case.apply(&Command::Workload(
                w(),
                WorkloadAct::Mark {
                    node: "polje".into(),
                    standing,
                },
            ));
        }
        let mut notes = Notes::default();
        assert_eq!(case.chosen_with(&mut notes), None, "{what}: not by itself");
        case.apply(&Command::begin(asked(Kind::ForcedFailover, u64::MAX)));
        case.pass(case.spec.timings.settle_limit);
        assert_eq!(
            case.chosen_with(&mut notes).as_deref(),
            Some("polje"),
            "{what}"
        );
    }
}

/// F6: a holder that has begun nothing loses its assignment, if somebody else may take over.
#[test]
fn an_idle_holder_loses_the_assignment() {
    let mut case = Case::new(Loss::None);
    case.apply(&assign(2, "polje"));
    let mut notes = Notes::default();
    let revoked = |case: &Case, notes: &mut Notes| {
        case.decided(notes)
            .iter()
            .any(|c| matches!(c, Command::Workload(_, WorkloadAct::Revoke { .. })))
    };
    assert!(!revoked(&case, &mut notes));
    case.pass(case.spec.timings.lease_is_over_after());
    case.elected_at = case.now;
    let mut busy = case.copy();
    busy.report(
        "polje",
        ReplicaReport {
            doing: Some(Doing {
                action: Action::Promote { after: None },
                time: Duration::ZERO,
            }),
            ..standby(100)
        },
    );
    assert!(!revoked(&busy, &mut notes.clone()), "it is at it");
    let mut alone = case.copy();
    alone.reports.retain(|n, _| n.as_str() == "polje");
    assert!(!revoked(&alone, &mut notes.clone()), "nobody else may");
    assert!(revoked(&case, &mut notes));
}

/// F7: a server that runs and answers nobody serves nobody; one look in vain is no verdict.
#[test]
fn a_hung_primary_is_replaced() {
    let mut case = Case::new(Loss::None).open_again();
    let hung = Observation {
        presence: Presence::Runs,
        ..Observation::down(Data::Present { standby: false })
    };
    let report = ReplicaReport {
        seen: Some(hung),
        sync_held: Some((Epoch(2), 1)),
        ..ReplicaReport::default()
    };
    case.report("doline", report);
    let mut notes = Notes::default();
    let limit = case.spec.timings.answer_limit;
    for (after, replaced) in [
        (Duration::ZERO, false),
        (limit / 2, false),
        (limit / 2, true),
    ] {
        case.pass(after);
        // Its coordinator renews its lease all the time.
        case.elected_at = case.now;
        let decided = case.decided(&mut notes);
        let revoke = decided
            .iter()
            .any(|c| matches!(c, Command::Workload(_, WorkloadAct::Revoke { .. })));
        assert_eq!(revoke, replaced, "after {after:?} more: {decided:?}");
    }
}

/// F7: a member that streams and does not keep up leaves the set, so that writes go on; not if they
/// would wait all the same.
#[test]
fn a_member_that_cannot_keep_up_leaves() {
    let keep_up = Case::new(Loss::None).spec.timings.keep_up_limit.as_secs();
    for (members, moves, leaves) in [
        (&["polje", "uvala"][..], 10, Some(keep_up)),
        // Nothing at all comes from it: its stream is dead.
        (&["polje", "uvala"][..], 0, Some(1)),
        // As the last one it has everything.
        (&["uvala"][..], 10, None),
        (&["uvala"][..], 0, None),
    ] {
        let mut case = Case::new(Loss::None).open_again();
        let names: Vec<NodeId> = members.iter().map(|n| NodeId::from(*n)).collect();
        let set = &mut case.state.workloads.get_mut(&w()).unwrap().sync;
        (set.sure, set.asked) = (names.clone(), names);
        let mut notes = Notes::default();
        let mut left = None;
        for second in 0..30 {
            case.report("doline", writing(second, moves));
            let decided = case.decided(&mut notes);
            if left.is_none()
                && decided.iter().any(
                    |c| matches!(c, Command::Workload(_, WorkloadAct::Sync { sure, .. }) if sure.len() < members.len()),
                )
            {
                left = Some(second);
            }
            case.pass(Duration::from_secs(1));
            case.elected_at = case.now;
        }
        assert_eq!(left, leaves, "of {members:?}, moving by {moves}");
    }
}

/// F2: a primary that is not heard says nothing of its standbys: what was seen of them last grows
/// no older.
#[test]
fn nobody_leaves_for_what_a_silent_primary_does_not_say() {
    let mut case = Case::new(Loss::None).open_again();
    let names = vec![NodeId::from("polje"), NodeId::from("uvala")];
    let set = &mut case.state.workloads.get_mut(&w()).unwrap().sync;
    (set.sure, set.asked) = (names.clone(), names);
    let mut notes = Notes::default();
    case.report("doline", writing(0, 0));
    for _ in 0..20 {
        let decided = case.decided(&mut notes);
        assert!(
            !decided
                .iter()
                .any(|c| matches!(c, Command::Workload(_, WorkloadAct::Sync { .. }))),
            "{decided:?}"
        );
        let last = case.reports[&NodeId::from("doline")].at;
        case.pass(Duration::from_millis(100));
        case.elected_at = case.now;
        case.reports.get_mut(&NodeId::from("doline")).unwrap().at = last;
    }
}

/// A primary that writes, with one standby that has everything and one that gets on by so much a
/// second.
fn writing(second: u64, moves: u64) -> ReplicaReport {
    let at = 1_000 * second + 100_000;
    let seen = Observation {
        presence: Presence::Runs,
        role: Some(Role::Primary),
        position: Some(Position::new("1", at)),
        can_write: Some(true),
        standbys: vec![
            downstream("polje", at),
            downstream("uvala", 50_000 + moves * second),
        ],
        ..Observation::down(Data::Present { standby: false })
    };
    ReplicaReport {
        seen: Some(seen),
        sync_held: Some((Epoch(2), 1)),
        ..ReplicaReport::default()
    }
}

fn downstream(node: &str, at: u64) -> Downstream {
    let at = Some(at);
    Downstream {
        node: node.into(),
        sent: at,
        flushed: at,
        replayed: at,
        streaming: true,
        near: true,
        delay: None,
    }
}

/// A mode that was set for a time is `act` again after it, as its committed entry says; where the
/// clock is not known it stays.
#[test]
fn a_mode_for_a_time_ends_with_it() {
    let mut case = Case::new(Loss::None).open_again();
    let mut set = ModeSet::plain(Mode::Watch, Author::person("marlin"));
    (set.at, set.until) = (1_000, Some(1_600));
    case.apply(&Command::Workload(w(), WorkloadAct::Mode(set)));
    let ends = |case: &Case| {
        let commands = case.decided(&mut Notes::default());
        let set = commands.into_iter().find_map(|command| match command {
            Command::Workload(_, WorkloadAct::Mode(set)) => Some(set),
            _ => None,
        });
        set.map(|set| (set.mode, set.by))
    };
    assert_eq!(ends(&case), None);
    case.wall = Some(1_599);
    assert_eq!(ends(&case), None);
    case.wall = Some(1_600);
    assert_eq!(ends(&case), Some((Mode::Act, Author::Cluster)));
}
