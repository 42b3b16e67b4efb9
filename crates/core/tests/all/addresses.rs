//! A floating address is with one node at a time (S7): it leaves in the log before it can be gone,
//! is gone before it arrives elsewhere, and a holder that is only late keeps it (L2).

use crate::desk::{Case, w};
use karst_core::address::AddressReport;
use karst_core::command::{Command, Ended, WorkloadAct};
use karst_core::health::Hears;
use karst_core::replica::GateReport;
use karst_core::spec::{AddressSpec, Follows, Loss};

use karst_core::steward::Notes;
use karst_core::{BootId, Epoch, NodeId, SwitchPoint};
use std::time::Duration;

/// Epoch 2 is open on `doline`; gates run on `polje` and `uvala`.
fn case(follows: Follows) -> Case {
    let mut case = Case::new(Loss::None).open_again();
    let workload = case.spec.workloads.get_mut(&w()).unwrap();
    workload.address = Some(AddressSpec {
        on: vec!["10.30.0.50/24".parse().unwrap()],
        follows,
    });
    workload.gates = ["polje", "uvala"]
        .map(|n| (NodeId::from(n), ([10, 0, 0, 1], 26900).into()))
        .into();
    for node in ["polje", "uvala"] {
        gate(&mut case, node, true, None);
    }
    case.elected_at = case.now;
    case
}

fn gate(case: &mut Case, node: &str, listening: bool, forwarding: Option<Epoch>) {
    let report = &mut case.reports.get_mut(&NodeId::from(node)).unwrap().report;
    report.parts.gates.insert(
        w(),
        GateReport {
            listening,
            forwarding,
            ..GateReport::default()
        },
    );
}

fn address(case: &mut Case, node: &str, seen: AddressReport) {
    case.reports
        .get_mut(&NodeId::from(node))
        .unwrap()
        .report
        .parts
        .addresses
        .insert(w(), seen);
}

/// What is proposed about the address.
fn decided(case: &Case) -> Option<Command> {
    let about = |c: &Command| {
        matches!(
            c,
            Command::Workload(_, WorkloadAct::Place { .. })
                | Command::Workload(_, WorkloadAct::Withdraw { .. })
                | Command::Workload(_, WorkloadAct::Vacate { .. })
        )
    };
    case.decided(&mut Notes::default()).into_iter().find(about)
}

fn goes_to(case: &Case) -> Option<(String, u64)> {
    match decided(case)? {
        Command::Workload(_, WorkloadAct::Place { holder, number, .. }) => {
            Some((holder.to_string(), number.0))
        }
        _ => None,
    }
}

fn place(case: &mut Case, number: u64, holder: &str) {
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Place {
            number: Epoch(number),
            holder: holder.into(),
            why: String::new(),
        },
    ));
}

#[test]
fn a_gate_that_forwards_comes_before_one_that_holds() {
    let mut case = case(Follows::Gate);
    assert_eq!(
        goes_to(&case),
        Some(("polje".into(), 1)),
        "by name where both hold"
    );
    gate(&mut case, "uvala", true, Some(Epoch(2)));
    assert_eq!(goes_to(&case), Some(("uvala".into(), 1)));
    gate(&mut case, "uvala", true, Some(Epoch(1)));
    assert_eq!(
        goes_to(&case),
        Some(("polje".into(), 1)),
        "to a primary that is none any more"
    );
    gate(&mut case, "polje", false, None);
    gate(&mut case, "uvala", false, None);
    assert_eq!(decided(&case), None, "nobody would answer behind it");
}

#[test]
fn it_is_with_the_open_primary_where_it_follows_that() {
    let mut case = case(Follows::Primary);
    assert_eq!(goes_to(&case), Some(("doline".into(), 1)));
    place(&mut case, 1, "doline");
    assert_eq!(decided(&case), None);
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Revoke {
            epoch: Epoch(2),
            why: String::new(),
        },
    ));
    assert_eq!(decided(&case), None, "with nobody else to go to it stays");
    let how = Ended::Surrender {
        boot: BootId::from("b"),
        clean_at: None,
    };
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(2),
            how,
        },
    ));
    let (epoch, why) = (Epoch(3), String::new());
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Assign {
            epoch,
            holder: "polje".into(),
            why,
        },
    ));
    assert_eq!(
        decided(&case),
        None,
        "order is law: not before the promotion is confirmed"
    );
    let open = Command::Workload(
        w(),
        WorkloadAct::Open {
            unprotected: false,
            epoch,
            point: SwitchPoint::first("2"),
            sync: vec![],
            doubtful: vec![],
        },
    );
    case.apply(&open);
    assert!(
        matches!(
            decided(&case),
            Some(Command::Workload(_, WorkloadAct::Withdraw { .. }))
        ),
        "{:?}",
        decided(&case)
    );
}

#[test]
fn it_arrives_only_after_it_has_left() {
    let mut case = case(Follows::Gate);
    place(&mut case, 1, "polje");
    gate(&mut case, "polje", false, None);
    let leaves = decided(&case).expect("its gate does not listen any more");
    assert!(
        matches!(
            &leaves,
            Command::Workload(
                _,
                WorkloadAct::Withdraw {
                    number: Epoch(1),
                    ..
                }
            )
        ),
        "{leaves:?}"
    );
    case.apply(&leaves);
    assert_eq!(decided(&case), None, "its holder may still answer for it");
    address(
        &mut case,
        "polje",
        AddressReport {
            surrendered: Some(Epoch(0)),
            ..AddressReport::default()
        },
    );
    assert_eq!(decided(&case), None, "it gave up an earlier turn");
    address(
        &mut case,
        "polje",
        AddressReport {
            surrendered: Some(Epoch(1)),
            ..AddressReport::default()
        },
    );
    let gone = decided(&case).expect("it is given up");
    assert!(
        matches!(
            &gone,
            Command::Workload(
                _,
                WorkloadAct::Vacate {
                    how: Ended::Surrender { .. },
                    ..
                }
            )
        ),
        "{gone:?}"
    );
    case.apply(&gone);
    assert_eq!(
        goes_to(&case),
        Some(("uvala".into(), 2)),
        "under a new number"
    );
}

#[test]
fn a_holder_that_says_nothing_loses_it_with_its_lease() {
    let mut case = case(Follows::Gate);
    place(&mut case, 1, "polje");
    let late = |case: &mut Case, ms: u64| {
        case.now += Duration::from_millis(ms);
        for node in ["doline", "uvala", "ponor"] {
            case.health
                .on_beat(&node.into(), ms, Hears::default(), case.now);
            if let Some(heard) = case.reports.get_mut(&NodeId::from(node)) {
                heard.at = case.now;
            }
        }
    };
    late(&mut case, 300);
    assert_eq!(decided(&case), None, "late is not lost");
    late(&mut case, 600);
    let leaves = decided(&case).expect("nobody hears it");
    case.apply(&leaves);
    assert_eq!(decided(&case), None, "its lease is not over");
    late(&mut case, 1_200);
    let gone = decided(&case).expect("its lease is over");
    assert!(
        matches!(
            &gone,
            Command::Workload(
                _,
                WorkloadAct::Vacate {
                    how: Ended::LeaseOver,
                    ..
                }
            )
        ),
        "{gone:?}"
    );
}

/// A node that cannot take it up is not tried again and again: another one has it.
#[test]
fn trouble_with_it_sends_it_elsewhere_once() {
    let mut case = case(Follows::Gate);
    place(&mut case, 1, "polje");
    address(
        &mut case,
        "polje",
        AddressReport {
            trouble: Some("no interface".into()),
            ..AddressReport::default()
        },
    );
    let leaves = decided(&case).expect("it has to leave");
    assert!(
        matches!(&leaves, Command::Workload(_, WorkloadAct::Withdraw { why, .. }) if why.contains("no interface")),
        "{leaves:?}"
    );
    address(
        &mut case,
        "uvala",
        AddressReport {
            trouble: Some("no interface".into()),
            ..AddressReport::default()
        },
    );
    assert_eq!(decided(&case), None, "nowhere is better: it stays");
}
