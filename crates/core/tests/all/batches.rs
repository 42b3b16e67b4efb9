//! What one batch of decisions may do to itself, and what a wish may do once it is over: commands
//! that change what others rest on are alone (G1), consent is for now (G4), and the record says what
//! became of a wish (G9).

use crate::desk::calm::{calm, intend, primary_sees, wanted};
use crate::desk::{self, Case, standby, w};
use karst_core::author::Author;
use karst_core::command::{ClusterAct, Command, WorkloadAct};
use karst_core::intent::Want;
use karst_core::operation::{Cause, Kind, Operation, Outcome};
use karst_core::replica::{Data, Observation, Presence, Promotion, ReplicaReport, Role, Setting};
use karst_core::safetypoint::{GoingBack, HeldBack, Mark, SafetyPoint, Stage};
use karst_core::spec::{Alone, Loss, Revision, Spec, WorkloadSpec};
use karst_core::steward::{self, Notes};
use karst_core::{Epoch, Index, NodeId, OperationId, Planted, Position, SwitchPoint};
use std::sync::Arc;
use std::time::Duration;

/// The commands that a node commits by one look at this scene.
fn batch(case: &Case, ground_waits: &mut bool) -> Vec<Command> {
    let mut all = wanted(case);
    all.extend(case.decided(&mut Notes::default()));
    steward::batch(all, ground_waits, case.planted)
}

/// Looks and commits until nothing is left to do.
fn settle(case: &mut Case) {
    let mut ground_waits = false;
    for _ in 0..10 {
        let all = batch(case, &mut ground_waits);
        if all.is_empty() {
            return;
        }
        commit(case, &all);
        follow(case);
    }
    panic!("it goes on for ever: {:?}", batch(case, &mut ground_waits));
}

fn commit(case: &mut Case, commands: &[Command]) {
    for command in commands {
        let at = case.state.applied.next();
        case.state.apply(at, command);
    }
}

fn revise(case: &mut Case, change: impl FnOnce(&mut WorkloadSpec)) {
    let mut spec = case.spec.clone();
    change(spec.workloads.get_mut(&w()).unwrap());
    let revision = Revision {
        number: 2,
        ..Revision::first(spec, "two")
    };
    intend(case, Want::Revision(Arc::new(revision)));
}
fn follow(case: &mut Case) {
    case.spec = (*case.state.charter.revision.as_ref().unwrap().spec).clone();
}

/// A loss by size comes into force while a standby leaves the set.
#[test]
fn nobody_is_waited_for_where_some_loss_is_allowed() {
    let mut case = calm();
    revise(&mut case, |w| w.loss = Loss::Bytes(1_000_000));
    let down = Observation::down(Data::Present { standby: true });
    let stopped = ReplicaReport {
        seen: Some(down),
        ..ReplicaReport::default()
    };
    case.report("polje", stopped);
    settle(&mut case);
    assert_eq!(case.spec.workloads[&w()].loss, Loss::Bytes(1_000_000));
    let sync = &case.state.workload(&w()).sync;
    assert!(sync.asked.is_empty() && sync.sure.is_empty(), "{sync:?}");
}

/// The same batch as one that rests on the old spec and on the new one: a number is one setting.
#[test]
fn a_number_is_one_setting() {
    let mut case = calm();
    revise(&mut case, |w| w.loss = Loss::Bytes(1_000_000));
    let adopt = wanted(&case);
    let [Command::Cluster(ClusterAct::Adopt { .. })] = adopt.as_slice() else {
        panic!("{adopt:?}");
    };
    let epoch = Epoch(2);
    let late = |sure: &[&str], number| WorkloadAct::Sync {
        epoch,
        number,
        sure: sure.iter().map(|n| NodeId::from(*n)).collect(),
        asked: sure.iter().map(|n| NodeId::from(*n)).collect(),
        unprotected: false,
        why: String::new(),
    };
    commit(&mut case, &adopt);
    let made = case.state.workload(&w()).sync.clone();
    let late = Command::Workload(w(), late(&["uvala"], made.number));
    commit(&mut case, &[late]);
    assert_eq!(case.state.workload(&w()).sync, made);
}

/// A new primary opens alone while a revision says that writes go on alone.
#[test]
fn writes_go_on_alone_where_the_spec_says_so() {
    let mut case = calm();
    lose_all_but_polje(&mut case);
    revise(&mut case, |w| w.alone = Alone::Continue);
    settle(&mut case);
    let sync = case.state.workload(&w()).sync.clone();
    assert!(case.state.workload(&w()).is_open());
    assert!(sync.unprotected && sync.asked.is_empty(), "{sync:?}");
}

/// With the rule broken the two are one batch. The setting that is wrong then is mended.
#[test]
fn a_setting_that_is_not_the_specs_is_mended() {
    let mut case = calm();
    lose_all_but_polje(&mut case);
    revise(&mut case, |w| w.alone = Alone::Continue);
    case.planted = Some(Planted::GroundInBatch);
    let all = batch(&case, &mut false);
    assert!(
        all.iter().any(Command::is_ground) && all.len() > 1,
        "{all:?}"
    );
    commit(&mut case, &all);
    follow(&mut case);
    assert!(!case.state.workload(&w()).sync.unprotected);
    case.planted = None;
    settle(&mut case);
    assert!(case.state.workload(&w()).sync.unprotected);
}

/// polje has been promoted under epoch 3, and nobody else is heard of the replicas.
fn lose_all_but_polje(case: &mut Case) {
    let epoch = Epoch(2);
    let (holder, why) = (NodeId::from("polje"), String::new());
    let how = karst_core::command::Ended::LeaseOver;
    for act in [
        WorkloadAct::Revoke {
            epoch,
            why: why.clone(),
        },
        WorkloadAct::End { epoch, how },
        WorkloadAct::Assign {
            epoch: Epoch(3),
            holder,
            why,
        },
    ] {
        case.apply(&Command::Workload(w(), act));
    }
    case.reports.remove(&NodeId::from("doline"));
    case.reports.remove(&NodeId::from("uvala"));
    let point = SwitchPoint {
        history: "2".into(),
        parent: Some("1".into()),
        began: 100,
        writes_from: 100,
    };
    let seen = Observation {
        presence: Presence::Runs,
        role: Some(Role::Primary),
        position: Some(Position::new("2", 100)),
        ..Observation::down(Data::Present { standby: false })
    };
    let promotion = Promotion {
        point,
        unique: true,
    };
    let report = ReplicaReport {
        seen: Some(seen),
        opened: Some((Epoch(3), promotion)),
        sync_held: Some((Epoch(3), 1)),
        ..ReplicaReport::default()
    };
    case.report("polje", report);
}

/// uvala is held back at point p of epoch 2, and a person wants sailings to go back to it.
fn goes_back(case: &mut Case) -> (OperationId, Mark) {
    let (workload, name, node) = (w(), "p".to_string(), NodeId::from("uvala"));
    let bare = false;
    let point = intend(
        case,
        Want::SafetyPoint(SafetyPoint {
            workload: workload.clone(),
            name: name.clone(),
            node: node.clone(),
            bare,
        }),
    );
    let sync = WorkloadAct::Sync {
        epoch: Epoch(2),
        number: 2,
        sure: vec!["polje".into()],
        asked: vec!["polje".into()],
        unprotected: false,
        why: String::new(),
    };
    case.apply(&Command::Workload(w(), sync));
    let label = format!("p.{}.2", point.0);
    let mark = Mark {
        label,
        epoch: Epoch(2),
        at: desk::at(90),
    };
    for stage in [Stage::Stops, Stage::Marks, Stage::Stands(mark.clone())] {
        let held = HeldBack {
            intent: point,
            name: name.clone(),
            node: node.clone(),
            stage,
        };
        case.apply(&Command::Workload(w(), WorkloadAct::HoldBack(Some(held))));
    }
    let back = GoingBack {
        workload,
        point,
        name,
        node,
    };
    (intend(case, Want::GoingBack(back)), mark)
}

fn move_of(back: OperationId) -> Command {
    Command::begin(Operation {
        kind: Kind::ForcedFailover,
        workload: w(),
        from: Some("doline".into()),
        to: Some("uvala".into()),
        by: Author::person("captain"),
        cause: Cause::AskedFor,
        why: String::new(),
        asks: false,
        accept_loss: u64::MAX,
        intent: Some(back),
    })
}

/// uvala stands at its point, and is heard.
fn stands(case: &mut Case, mark: Mark) {
    let mut there = standby(90);
    if let Some(seen) = &mut there.seen {
        (seen.held_at, seen.streaming) = (Some(mark.label), false);
    }
    case.report("uvala", there);
}

/// An attempt to go back failed. Its intent is closed as undone, and nothing is begun for it
/// again; what was under way for it is refused.
#[test]
fn what_is_said_to_be_undone_is_not_done() {
    let mut case = calm();
    let (back, mark) = goes_back(&mut case);
    // uvala was not heard for a moment, and another became primary.
    let tried = case.apply(&move_of(back));
    let outcome = Outcome::Diverted("polje became primary in place of uvala".into());
    let finish = WorkloadAct::Finish {
        operation: OperationId(tried.0),
        outcome,
        phases: vec![],
    };
    case.apply(&Command::Workload(w(), finish));
    primary_sees(&mut case, &["polje"]);
    stands(&mut case, mark);
    case.pass(Duration::from_millis(1));
    let all = wanted(&case);
    let closes = |c: &Command| matches!(c, Command::Cluster(ClusterAct::Close { intent, .. }) if *intent == back);
    assert!(all.iter().any(closes), "{all:?}");
    commit(&mut case, &all);
    assert!(case.state.running(&w()).is_none(), "{all:?}");
    let at = case.state.applied.next();
    assert!(!case.state.apply(at, &move_of(back)));
}

/// Until the former primary's epoch is revoked going back can be ended, and then nothing is revoked;
/// afterwards it cannot be ended.
#[test]
fn going_back_is_ended_or_goes_on() {
    let ended = |back| {
        let outcome = Outcome::Undone("ended by captain".into());
        Command::Cluster(ClusterAct::Close {
            intent: back,
            outcome,
        })
    };
    let revokes = |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Revoke { .. }));
    for planted in [None, Some(Planted::EndedGoesOn)] {
        let mut case = calm();
        let (back, _) = goes_back(&mut case);
        case.apply(&move_of(back));
        case.apply(&ended(back));
        primary_sees(&mut case, &["polje"]);
        case.planted = planted;
        let all = case.decided(&mut Notes::default());
        let goes_on = all.iter().any(revokes);
        assert_eq!(goes_on, planted.is_some(), "{all:?}");
        commit(&mut case, &all);
        assert_eq!(case.state.running(&w()).is_none(), planted.is_none());
    }

    let mut case = calm();
    let (back, _) = goes_back(&mut case);
    case.apply(&move_of(back));
    let revoke = WorkloadAct::Revoke {
        epoch: Epoch(2),
        why: String::new(),
    };
    case.apply(&Command::Workload(w(), revoke));
    let at = case.state.applied.next();
    assert!(!case.state.apply(at, &ended(back)));
    assert!(case.state.charter.intents.contains_key(&back));
}

/// The holder of the point is fenced within a commit of the wish: it is closed, and not carried out
/// whenever the node is readmitted.
#[test]
fn consent_is_for_now() {
    for planted in [None, Some(Planted::ConsentForEver)] {
        let mut case = calm();
        case.planted = planted;
        let (back, mark) = goes_back(&mut case);
        primary_sees(&mut case, &["polje"]);
        case.reports.remove(&NodeId::from("uvala"));
        let all = wanted(&case);
        commit(&mut case, &all);
        stands(&mut case, mark);
        case.pass(Duration::from_secs(56));
        primary_sees(&mut case, &["polje"]);
        let later = wanted(&case);
        let begins = |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Begin(_)));
        assert_eq!(later.iter().any(begins), planted.is_some(), "{later:?}");
        let is_kept = case.state.charter.intents.contains_key(&back);
        assert_eq!(is_kept, planted.is_some());
    }
}

/// P1: a workload goes back to a standby that stands at the point, and to no other place.
#[test]
fn going_back_is_to_the_point() {
    for (stands_there, begins) in [(true, true), (false, false)] {
        let mut case = calm();
        let (_, mark) = goes_back(&mut case);
        primary_sees(&mut case, &["polje"]);
        if stands_there {
            stands(&mut case, mark);
        } else {
            case.report("uvala", standby(95));
        }
        case.pass(Duration::from_millis(1));
        let all = wanted(&case);
        let begun = |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Begin(_)));
        assert_eq!(all.iter().any(begun), begins, "{all:?}");
    }
}

/// F11: a setting from elsewhere was in force, by which commits return alone. No standby is known to
/// have everything then.
#[test]
fn a_setting_from_elsewhere_ends_what_rests_on_karsts() {
    for ends_promise in [false, true] {
        let mut case = calm();
        primary_sees(&mut case, &["polje", "uvala"]);
        let doline = case.reports.get_mut(&NodeId::from("doline")).unwrap();
        let replica = doline.report.parts.replicas.get_mut(&w()).unwrap();
        replica.seen.as_mut().unwrap().overruled.push(Setting {
            name: "synchronous_standby_names".into(),
            value: String::new(),
            source: String::new(),
            ends_promise,
        });
        let all = case.decided(&mut Notes::default());
        let none_is_sure = |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Sync { sure, .. }) if sure.is_empty());
        assert_eq!(all.iter().any(none_is_sure), ends_promise, "{all:?}");
    }
}

/// A workload is removed, its data are thrown away, and one of the same name is added: it goes on from
/// the epochs of the former, and nothing else of that one is true of it.
#[test]
fn a_namesake_without_data_gets_a_primary() {
    let mut case = calm();
    let with = case.spec.clone();
    let epoch = Epoch(2);
    let (how, why) = (karst_core::command::Ended::LeaseOver, String::new());
    for act in [
        WorkloadAct::Revoke { epoch, why },
        WorkloadAct::End { epoch, how },
    ] {
        case.apply(&Command::Workload(w(), act));
    }
    for (number, spec) in [(2, without(&with)), (3, with.clone())] {
        let revision = Revision {
            number,
            ..Revision::first(spec, "another")
        };
        let intent = intend(&mut case, Want::Revision(Arc::new(revision)));
        case.apply(&Command::Cluster(ClusterAct::Adopt { intent }));
        let outcome = Outcome::Done;
        case.apply(&Command::Cluster(ClusterAct::Close { intent, outcome }));
    }
    for node in ["doline", "polje", "uvala"] {
        let seen = Some(Observation::down(Data::Empty));
        let report = ReplicaReport {
            seen,
            ..ReplicaReport::default()
        };
        case.report(node, report);
    }
    settle(&mut case);
    let w = case.state.workload(&w());
    assert_eq!(w.grantable(), Some(&"doline".into()));
    assert!(w.epoch > Epoch(2) && w.opened.is_none());
}

fn without(spec: &Spec) -> Spec {
    Spec {
        workloads: Default::default(),
        ..spec.clone()
    }
}

/// A revision is ended by a person in the moment in which it comes into force.
#[test]
fn what_is_in_force_is_not_said_to_be_undone() {
    let mut case = calm();
    revise(&mut case, |w| w.alone = Alone::Continue);
    let (intent, _) = case.state.charter.pending().expect("it waits");
    let all = batch(&case, &mut false);
    assert_eq!(all, [Command::Cluster(ClusterAct::Adopt { intent })]);
    commit(&mut case, &all);
    let outcome = Outcome::Undone("ended by captain".into());
    let ended = Command::Cluster(ClusterAct::Close { intent, outcome });
    let at = case.state.applied.next();
    assert!(!case.state.apply(at, &ended));
}

/// While a failover is under way the new primary is in the set of the former one. It does not count
/// as a standby.
#[test]
fn nobody_confirms_its_own_writes() {
    let mut case = calm();
    let confirming = |case: &Case| {
        let w = case.state.workload(&w());
        w.confirming().cloned().collect::<Vec<NodeId>>()
    };
    assert_eq!(confirming(&case), ["polje", "uvala"].map(NodeId::from));
    lose_all_but_polje(&mut case);
    assert_eq!(confirming(&case), ["uvala"].map(NodeId::from));
}

/// Where what others rest on is refused for ever, failovers go on, and where others are proposed for
/// ever, it comes about.
#[test]
fn neither_keeps_the_other_waiting() {
    let ground = Command::Cluster(ClusterAct::Retire { since: Index(1) });
    let serve = Command::Workload(w(), WorkloadAct::Serve { epoch: Epoch(1) });
    let both = || vec![serve.clone(), ground.clone()];
    let mut waits = false;
    for expected in [&serve, &ground, &serve] {
        let batch = steward::batch(both(), &mut waits, None);
        assert_eq!(batch.iter().collect::<Vec<_>>(), [expected]);
    }
    let alone = vec![ground.clone(), ground.clone()];
    assert_eq!(steward::batch(alone, &mut waits, None), [ground]);
}
