//! How a workload stands for those outside: whether writes are taken, and whether a person is
//! needed.

use crate::desk::{Case, standby, w};
use karst_core::Epoch;
use karst_core::address::AddressReport;
use karst_core::author::Author;
use karst_core::command::{Command, WorkloadAct};
use karst_core::operation::{Mode, ModeSet};
use karst_core::replica::{Data, GateReport, Observation, Presence, ReplicaReport, Role};
use karst_core::spec::{AddressSpec, Follows, Loss, Subnet};
use karst_core::state::ClusterState;
use karst_core::steward::outlook::{Need, Outlook, Writes, outlook};

fn of(case: &Case) -> Outlook {
    case.with(|scene, spec| outlook(scene, &w(), spec))
}

fn facts(case: &Case) -> (Writes, Option<Need>) {
    let Outlook { writes, need } = of(case);
    (writes, need)
}

/// A primary that answers and takes writes, or does not.
fn primary(can_write: bool) -> ReplicaReport {
    let mut report = standby(100);
    let seen = report.seen.as_mut().expect("it was seen");
    (seen.role, seen.can_write, seen.streaming) = (Some(Role::Primary), Some(can_write), false);
    report
}

/// Epoch 2 is open and serves, with `doline` and both standbys.
fn serving() -> Case {
    let mut case = Case::new(Loss::None).open_again();
    let epoch = case.state.workload(&w()).epoch;
    case.apply(&Command::Workload(w(), WorkloadAct::Serve { epoch }));
    case.report("doline", primary(true));
    case
}

fn set_mode(case: &mut Case, mode: Mode) {
    let set = ModeSet::plain(mode, Author::person("marlin"));
    case.apply(&Command::Workload(w(), WorkloadAct::Mode(set)));
}

#[test]
fn writes_are_accepted_only_where_the_primary_itself_says_so() {
    let mut case = serving();
    assert_eq!(facts(&case), (Writes::Accepted, None));
    case.report("doline", primary(false));
    assert_eq!(facts(&case), (Writes::Paused, None));
    let mut exited = primary(true);
    exited.seen.as_mut().expect("it was seen").presence = Presence::Exited;
    case.report("doline", exited);
    assert_eq!(facts(&case), (Writes::Paused, None));
}

/// Whoever reaches a primary that the coordinator does not hear may be writing to it, as long as its
/// lease may last.
#[test]
fn what_nobody_hears_is_unknown_until_its_lease_is_over() {
    let mut case = serving();
    case.reports.remove(&"doline".into());
    case.elected_at = case.now;
    assert_eq!(facts(&case), (Writes::Unknown, None));
    case.elected_at = case.now - case.spec.timings.lease * 2;
    assert_eq!(facts(&case), (Writes::Paused, None));
}

#[test]
fn a_loss_that_the_mode_leaves_to_people_stops_writes_and_needs_somebody() {
    let mut case = serving();
    set_mode(&mut case, Mode::Watch);
    assert_eq!(facts(&case), (Writes::Accepted, None), "nothing is lost");
    let mut down = primary(true);
    down.seen = Some(Observation::down(Data::Present { standby: false }));
    case.report("doline", down);
    let lost = "doline".into();
    assert_eq!(
        facts(&case),
        (Writes::Stopped, Some(Need::TakeOver { lost }))
    );
}

/// Two with data and no log that knows them: nothing is ever started, until a person says whose are
/// right.
#[test]
fn data_that_nobody_knows_wait_for_a_person() {
    let mut case = Case::new(Loss::None);
    case.state = ClusterState::default();
    let full = |standby| ReplicaReport {
        seen: Some(Observation::down(Data::Present { standby })),
        ..ReplicaReport::default()
    };
    let empty = || ReplicaReport {
        seen: Some(Observation::down(Data::Empty)),
        ..ReplicaReport::default()
    };
    case.report("doline", full(false));
    case.report("polje", empty());
    case.report("uvala", empty());
    assert_eq!(facts(&case), (Writes::Paused, None));
    case.report("uvala", full(true));
    let both = Need::ChooseData(vec!["doline".into(), "uvala".into()]);
    assert_eq!(facts(&case), (Writes::Stopped, Some(both)));
}

/// What a gate said before its host was lost is no word on where it leads now.
#[test]
fn gates_that_are_not_heard_are_not_taken_for_open_ones() {
    let mut case = serving();
    let gate = ([10, 0, 0, 13], 26_900).into();
    let workload = case.spec.workloads.get_mut(&w()).expect("it is there");
    workload.gates.insert("polje".into(), gate);
    assert_eq!(
        facts(&case),
        (Writes::Paused, None),
        "it is heard, and holds"
    );
    let epoch = case.state.workload(&w()).epoch;
    let heard = case.reports.get_mut(&"polje".into()).expect("it reported");
    let open = GateReport {
        forwarding: Some(epoch),
        ..GateReport::default()
    };
    heard.report.parts.gates.insert(w(), open);
    assert_eq!(facts(&case), (Writes::Accepted, None));
    let long_ago = case.now - case.spec.timings.suspicion_ceiling * 2;
    let heard = case.reports.get_mut(&"polje".into()).expect("it reported");
    heard.at = long_ago;
    assert_eq!(facts(&case), (Writes::Unknown, None));
}

/// Clients of the floating address write only where it is held; while its last holder is not heard
/// it may be there yet.
#[test]
fn writes_come_through_the_address_or_wait_for_it() {
    let mut case = serving();
    let subnet: Subnet = "10.30.0.50/24".parse().expect("a subnet");
    let workload = case.spec.workloads.get_mut(&w()).expect("the workload");
    workload.address = Some(AddressSpec {
        on: vec![subnet],
        follows: Follows::Primary,
    });
    assert_eq!(facts(&case).0, Writes::Paused, "it is nowhere");
    case.report("polje", standby(100));
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Place {
            number: Epoch(1),
            holder: "polje".into(),
            why: String::new(),
        },
    ));
    assert_eq!(facts(&case).0, Writes::Paused, "it is on its way");
    let heard = case.reports.get_mut(&"polje".into()).expect("it reported");
    let held = AddressReport {
        held: true,
        ..AddressReport::default()
    };
    heard.report.parts.addresses.insert(w(), held);
    assert_eq!(facts(&case), (Writes::Accepted, None));
    set_mode(&mut case, Mode::Watch);
    let long_ago = case.now - case.spec.timings.suspicion_ceiling * 2;
    case.reports
        .get_mut(&"polje".into())
        .expect("it reported")
        .at = long_ago;
    let (writes, need) = facts(&case);
    assert_ne!(writes, Writes::Accepted, "nobody hears who had it");
    assert_eq!(need, None, "the primary is well, whatever the mode");
}
