//! What the coordinator commits for what people want: servers that are restarted one after the other
//! (K4), and revisions that wait until the hosts have looked (R8).

use crate::desk::calm::{calm, intend, primary_sees, runs, wanted};
use crate::desk::{Case, w};
use karst_core::command::{ClusterAct, Command, Restarting, WorkloadAct};
use karst_core::intent::{Restart, Want};
use karst_core::operation::Kind;
use karst_core::replica::Examined;
use karst_core::spec::Revision;
use karst_core::steward::Notes;
use karst_core::{NodeId, OperationId, Planted};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// Decides about the workload until nothing more is to be done.
fn settle(case: &mut Case, notes: &mut Notes) {
    for command in case.decided(notes) {
        case.apply(&command);
    }
}

fn restarting(node: &str, run: &str) -> Command {
    let (node, run) = (node.into(), run.into());
    Command::Workload(w(), WorkloadAct::Restart(Some(Restarting { node, run })))
}

#[test]
fn servers_are_restarted_one_at_a_time_and_the_primarys_last() {
    let mut case = calm();
    let runs_now = ["doline", "polje", "uvala"].map(|n| (NodeId::from(n), "1".into()));
    let restart = Restart {
        workload: w(),
        runs: BTreeMap::from(runs_now),
        primary: "doline".into(),
    };
    let id = intend(&mut case, Want::Restart(restart));
    let mut notes = Notes::default();
    for (node, other) in [("polje", "uvala"), ("uvala", "polje")] {
        assert_eq!(wanted(&case), [restarting(node, "1")]);
        case.apply(&restarting(node, "1"));
        assert!(
            !case
                .state
                .apply(case.state.applied.next(), &restarting(other, "1"))
        );
        assert_eq!(wanted(&case), [], "one at a time");
        settle(&mut case, &mut notes);
        let set = case.state.workload(&w()).sync.sure.clone();
        assert_eq!(set, [NodeId::from(other)], "no write waits for {node}");
        // The primary waits for the smaller set now, and this one stays out of it while it is seen
        // to stream still.
        primary_sees(&mut case, &["polje", "uvala"]);
        settle(&mut case, &mut notes);
        assert_eq!(case.state.workload(&w()).sync.asked, set);
        runs(&mut case, node, "2");
        let over = Command::Workload(w(), WorkloadAct::Restart(None));
        assert_eq!(
            wanted(&case),
            std::slice::from_ref(&over),
            "{node} follows in another run"
        );
        case.apply(&over);
        if node == "polje" {
            assert_eq!(
                wanted(&case),
                [],
                "uvala is the last one that has every write"
            );
        }
        settle(&mut case, &mut notes);
        let asked = case.state.workload(&w()).sync.asked.len();
        assert_eq!(asked, 1, "{node} does not know yet that it is over");
        runs(&mut case, node, "2");
        for _ in 0..2 {
            settle(&mut case, &mut notes);
            primary_sees(&mut case, &["polje", "uvala"]);
        }
        assert_eq!(case.state.workload(&w()).sync.sure.len(), 2, "it is back");
    }
    let [Command::Workload(_, WorkloadAct::Begin(begun))] = &wanted(&case)[..] else {
        panic!("{:?}", wanted(&case));
    };
    let from = begun.from.as_ref().map(NodeId::as_str);
    assert_eq!((begun.kind, from), (Kind::Switchover, Some("doline")));
    assert!(
        !case
            .state
            .apply(case.state.applied.next(), &restarting("doline", "1"))
    );
    // Whoever is taken out meanwhile has nothing that could be restarted.
    case.apply(&restarting("polje", "2"));
    let outcome = karst_core::operation::Outcome::Undone("ended".into());
    case.apply(&Command::Cluster(ClusterAct::Close {
        intent: id,
        outcome,
    }));
    let over = Command::Workload(w(), WorkloadAct::Restart(None));
    assert_eq!(wanted(&case), [over], "nobody wants it any more");
}

#[test]
fn a_revision_waits_until_the_hosts_have_looked() {
    let mut case = calm();
    let mut spec = case.spec.clone();
    let workload = spec.workloads.get_mut(&w()).unwrap();
    workload
        .settings
        .insert("set.work_mem".into(), "8MB".into());
    let revision = Revision {
        number: 2,
        ..Revision::first(spec, "two")
    };
    let intent = intend(&mut case, Want::Revision(Arc::new(revision)));
    let adopt = Command::Cluster(ClusterAct::Adopt { intent });
    let looked = |case: &mut Case, node: &str, of: OperationId, lacks: &[&str]| {
        let heard = case.reports.get_mut(&NodeId::from(node)).unwrap();
        heard.report.parts.examined = Some(Examined {
            intent: of,
            lacks: lacks.iter().map(|l| l.to_string()).collect(),
        });
    };
    looked(&mut case, "doline", intent, &[]);
    looked(&mut case, "polje", OperationId(intent.0 - 1), &[]);
    looked(&mut case, "uvala", intent, &["no room"]);
    assert_eq!(wanted(&case), []);
    case.planted = Some(Planted::AdoptUnseen);
    assert_eq!(wanted(&case), std::slice::from_ref(&adopt));
    case.planted = None;
    looked(&mut case, "polje", intent, &[]);
    assert_eq!(wanted(&case), [], "uvala has no room");
    looked(&mut case, "uvala", intent, &[]);
    assert_eq!(wanted(&case), std::slice::from_ref(&adopt));
    // Whoever is not heard is not waited for.
    looked(&mut case, "uvala", intent, &["no room"]);
    case.pass(Duration::from_millis(100));
    case.reports.get_mut(&NodeId::from("uvala")).unwrap().at = karst_core::Time::ZERO;
    assert_eq!(wanted(&case), [adopt]);
}
