//! What the spec keeps the cluster from doing by itself, and where it wants primaries.

use crate::desk::{Case, standby, w};
use karst_core::replica::ReplicaReport;
use karst_core::spec::{Loss, Rules};
use karst_core::state::{Tenure, WorkloadState};
use karst_core::steward::Notes;
use karst_core::{NodeId, WorkloadId};
use std::collections::BTreeSet;
use std::time::Duration;

/// The spec's own rules keep the cluster from deciding, and a person from nothing.
#[test]
fn rules_keep_the_cluster_from_deciding_by_itself() {
    let mut case = Case::new(Loss::None);
    let rules = |case: &mut Case, rules: Rules| {
        case.spec.workloads.get_mut(&w()).unwrap().rules = rules;
    };
    let never = BTreeSet::from(["polje".into()]);
    rules(
        &mut case,
        Rules {
            never,
            ..Rules::default()
        },
    );
    case.refused("polje", "keeps it from being primary");
    assert_eq!(case.chosen().as_deref(), Some("uvala"));
    assert!(
        case.verdict("polje").may_with_loss(0),
        "a person may, and loses nothing"
    );
    for (keep, chosen) in [(1, Some("polje")), (2, None)] {
        rules(
            &mut case,
            Rules {
                keep,
                ..Rules::default()
            },
        );
        assert_eq!(case.chosen().as_deref(), chosen, "keep {keep}");
    }
    case.refused(
        "polje",
        "1 standbys would run beside it, and the spec keeps 2",
    );
    rules(
        &mut case,
        Rules {
            keep: 1,
            ..Rules::default()
        },
    );
    case.report("uvala", ReplicaReport::default());
    assert_eq!(case.chosen(), None, "uvala does not run");
}

/// Among equally safe ones the rules between workloads come before the rank.
#[test]
fn primaries_go_where_the_rules_between_workloads_want_them() {
    let mut case = Case::new(Loss::None);
    let other: WorkloadId = "fares".into();
    let tenure = Tenure::Open {
        holder: "polje".into(),
        serving: true,
    };
    let state = WorkloadState {
        tenure,
        ..WorkloadState::default()
    };
    case.state.workloads.insert(other.clone(), state);
    let others = BTreeSet::from([other.clone()]);
    let chosen = |case: &mut Case, rules: Rules| {
        case.spec.workloads.get_mut(&w()).unwrap().rules = rules;
        case.chosen()
    };
    let spread = Rules {
        spread: others.clone(),
        ..Rules::default()
    };
    assert_eq!(chosen(&mut case, spread.clone()).as_deref(), Some("uvala"));
    let together = Rules {
        together: others.clone(),
        ..Rules::default()
    };
    assert_eq!(chosen(&mut case, together).as_deref(), Some("polje"));
    // Nothing is lost for it, and nobody stays down for it.
    case.report("polje", standby(130));
    assert_eq!(
        chosen(&mut case, spread.clone()).as_deref(),
        Some("polje"),
        "it has more"
    );
    case.reports.remove(&NodeId::from("uvala"));
    assert_eq!(
        chosen(&mut case, spread).as_deref(),
        Some("polje"),
        "nobody else may"
    );
    // What is needed comes first, while it comes.
    let needs = Rules {
        needs: others,
        ..Rules::default()
    };
    let spec = case.spec.workloads[&w()].clone();
    case.spec.workloads.insert(other.clone(), spec);
    assert_eq!(
        chosen(&mut case, needs.clone()).as_deref(),
        Some("polje"),
        "it is there"
    );
    case.state.workloads.get_mut(&other).unwrap().tenure = Tenure::Vacant;
    // A coordinator that saw the end of the epoch waits for it; another one may come too late for that.
    let ended = std::mem::take(&mut case.state.workloads.get_mut(&w()).unwrap().tenure);
    let mut notes = Notes::default();
    case.decided(&mut notes);
    case.state.workloads.get_mut(&w()).unwrap().tenure = ended;
    case.spec.workloads.get_mut(&w()).unwrap().rules = needs;
    assert_eq!(case.chosen().as_deref(), Some("polje"));
    assert_eq!(case.chosen_with(&mut notes), None);
    case.pass(Duration::from_secs(11));
    assert_eq!(
        case.chosen_with(&mut notes).as_deref(),
        Some("polje"),
        "not for ever"
    );
}
