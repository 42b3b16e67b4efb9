//! A workload that is as it should be, and what people want of it.

use super::{Case, at, standby, w};
use karst_core::Epoch;
use karst_core::OperationId;
use karst_core::author::Author;
use karst_core::command::{ClusterAct, Command, WorkloadAct};
use karst_core::intent::{Intent, Want};
use karst_core::replica::{Data, Downstream, Observation, Presence, ReplicaReport, Role};
use karst_core::spec::{Loss, Revision};
use karst_core::steward::steps;
use std::sync::Arc;

pub fn intend(case: &mut Case, want: Want) -> OperationId {
    let intent = Intent {
        want,
        by: Author::person("captain"),
        at: 0,
        why: None,
        until: None,
    };
    OperationId(case.apply(&Command::Cluster(ClusterAct::Intend(intent))).0)
}

pub fn wanted(case: &Case) -> Vec<Command> {
    case.with(|scene, _| steps::decide(scene).0)
}

/// Epoch 2 is open on `doline`, both standbys stream, and every server is in its first run.
pub fn calm() -> Case {
    let mut case = Case::new(Loss::None).open_again();
    let founders = case.spec.votes();
    let revision = Arc::new(Revision::first(case.spec.clone(), "one"));
    case.apply(&Command::Cluster(ClusterAct::Found { revision, founders }));
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Serve { epoch: Epoch(2) },
    ));
    primary_sees(&mut case, &["polje", "uvala"]);
    for node in ["polje", "uvala"] {
        runs(&mut case, node, "1");
    }
    case
}

pub fn primary_sees(case: &mut Case, streaming: &[&str]) {
    let sync = &case.state.workload(&w()).sync;
    let held = Some((sync.epoch, sync.number));
    let downstream = |node: &&str| Downstream {
        node: (*node).into(),
        sent: Some(100),
        flushed: Some(100),
        replayed: Some(100),
        streaming: true,
        near: true,
        delay: None,
    };
    let seen = Observation {
        presence: Presence::Runs,
        run: Some("1".into()),
        role: Some(Role::Primary),
        position: Some(at(100)),
        can_write: Some(true),
        standbys: streaming.iter().map(downstream).collect(),
        ..Observation::down(Data::Present { standby: false })
    };
    case.report(
        "doline",
        ReplicaReport {
            seen: Some(seen),
            sync_held: held,
            ..ReplicaReport::default()
        },
    );
}

/// A standby that streams, in that run of its server.
pub fn runs(case: &mut Case, node: &str, run: &str) {
    let mut report = standby(100);
    if let Some(seen) = &mut report.seen {
        (seen.run, seen.streaming) = (Some(run.into()), true);
        seen.upstream = Some("doline".into());
    }
    report.let_go = Some(case.state.workload(&w()).let_go);
    case.report(node, report);
}
