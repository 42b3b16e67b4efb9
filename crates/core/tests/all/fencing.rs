//! Whose power may be cut, when a cut counts, and who comes back (C7, S6, L2).

use crate::desk::{Case, NODES, standby, w};
use karst_core::author::Author;
use karst_core::command::{Command, Ended, NodeAct, WorkloadAct};
use karst_core::health::Hears;
use karst_core::members::Ordered;
use karst_core::operation::{Cause, Kind, Operation};
use karst_core::replica::{Data, Observation, Presence, ReplicaReport, Role};
use karst_core::spec::{After, Loss, PowerSpec, Readmit};

use karst_core::steward::Notes;
use karst_core::steward::fencing::{decide_nodes, obstacle_to_return, to_cut, to_turn_on};
use karst_core::{BootId, Epoch, Index, NodeId};
use std::collections::BTreeMap;
use std::time::Duration;

const MS: Duration = Duration::from_millis(1);

fn doline() -> NodeId {
    "doline".into()
}

/// Epoch 2 is open on `doline`, which has a power device; all is well so far.
fn well() -> Case {
    let mut case = Case::new(Loss::None).open_again();
    let node = case.spec.nodes.get_mut(&doline()).unwrap();
    node.power = Some(PowerSpec {
        driver: "redfish".into(),
        settings: BTreeMap::new(),
        after: After::On,
    });
    let seen = Observation {
        presence: Presence::Runs,
        role: Some(Role::Primary),
        ..Observation::down(Data::Present { standby: false })
    };
    case.report(
        "doline",
        ReplicaReport {
            seen: Some(seen),
            ..ReplicaReport::default()
        },
    );
    case.elected_at = case.now;
    case
}

/// Time passes in which these are silent; the others are heard each heartbeat, and say that they
/// hear `by` and nobody else.
fn silent(case: &mut Case, nodes: &[&str], time: Duration, by: &[&str]) {
    for beat in 1..=(time.as_millis() / 100) as u64 {
        case.now += 100 * MS;
        for node in NODES.iter().filter(|n| !nodes.contains(n)) {
            let members: Ordered = case.spec.nodes.keys().cloned().collect();
            let hears = Hears {
                you: Some(50 * MS),
                lately: members.pick(|n| by.contains(&n.as_str())),
                of: 0,
            };
            case.health.on_beat(&(*node).into(), beat, hears, case.now);
            if let Some(heard) = case.reports.get_mut(&NodeId::from(*node)) {
                heard.at = case.now;
            }
        }
    }
}

fn is_gone(case: &Case) -> bool {
    case.with(|scene, _| scene.is_gone(&doline()))
}

fn fences(commands: &[Command]) -> bool {
    commands
        .iter()
        .any(|c| matches!(c, Command::Node(_, NodeAct::Fence { .. })))
}

#[test]
fn a_silence_is_a_loss_only_where_nobody_else_can_tell_better() {
    let after = |silence: u64, nodes: &[&str], by: &[&str]| {
        let mut case = well();
        silent(&mut case, nodes, silence as u32 * MS, by);
        case
    };
    assert!(
        !is_gone(&after(500, &["doline"], &[])),
        "a daemon that is started again is no lost host"
    );
    assert!(is_gone(&after(800, &["doline"], &[])));
    assert!(
        !is_gone(&after(800, &["doline"], &["doline"])),
        "a peer hears it"
    );
    assert!(
        !is_gone(&after(800, &["doline", "polje"], &[])),
        "two of four votes are no majority: who is cut off?"
    );
    let mut case = after(800, &["doline"], &[]);
    case.awake_since = case.now;
    assert!(
        !is_gone(&case),
        "the coordinator itself stood still meanwhile"
    );
    let mut case = after(800, &["doline"], &[]);
    case.reports.get_mut(&doline()).unwrap().at = case.now;
    assert!(
        !is_gone(&case),
        "its check-ins come round the broken link (A4)"
    );
}

#[test]
fn the_revocation_comes_first_and_planned_moves_fence_nobody() {
    let mut case = well();
    silent(&mut case, &["doline"], 800 * MS, &[]);
    let commands = case.decided(&mut Notes::default());
    let order = [
        |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Begin(_))),
        |c: &Command| matches!(c, Command::Workload(_, WorkloadAct::Revoke { .. })),
        |c: &Command| matches!(c, Command::Node(_, NodeAct::Fence { .. })),
    ];
    assert!(
        commands.len() == 3 && commands.iter().zip(order).all(|(c, is)| is(c)),
        "{commands:?}"
    );

    let mut without = case.copy();
    without.spec.nodes.get_mut(&doline()).unwrap().power = None;
    assert!(
        !fences(&without.decided(&mut Notes::default())),
        "there is no device"
    );

    let planned = Operation {
        kind: Kind::Switchover,
        workload: w(),
        from: Some(doline()),
        to: Some("polje".into()),
        by: Author::person("captain"),
        cause: Cause::AskedFor,
        why: "asked for".into(),
        asks: false,
        accept_loss: 0,
        intent: None,
    };
    case.apply(&Command::begin(planned));
    assert!(
        !fences(&case.decided(&mut Notes::default())),
        "somebody is moving it on purpose"
    );
}

/// Fenced, revoked, and not read as off yet.
fn fenced(by: Author) -> (Case, Index) {
    let mut case = well();
    silent(&mut case, &["doline"], 800 * MS, &[]);
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Revoke {
            epoch: Epoch(2),
            why: String::new(),
        },
    ));
    let boot = Some(BootId::from("b"));
    let fence = case.apply(&Command::Node(
        doline(),
        NodeAct::Fence {
            boot,
            why: "not heard".into(),
            by,
            after: After::On,
        },
    ));
    (case, fence)
}

#[test]
fn authority_ends_with_an_off_that_was_read_after_this_fence() {
    let (mut case, fence) = fenced(Author::Cluster);
    let ended = |case: &Case| case.decided(&mut Notes::default());
    assert_eq!(ended(&case), [], "a request proves nothing");
    case.off.insert(doline(), Index(fence.0 - 1));
    assert_eq!(ended(&case), [], "it was off once, after an earlier fence");
    case.off.insert(doline(), fence);
    assert_eq!(
        ended(&case),
        [Command::Workload(
            w(),
            WorkloadAct::End {
                epoch: Epoch(2),
                how: Ended::PowerOff
            }
        )]
    );
    let nodes = case.with(|scene, _| decide_nodes(scene, &NODES.map(NodeId::from)));
    assert_eq!(
        nodes,
        [Command::Node(doline(), NodeAct::PowerOff { fence })],
        "and it is in the log for the next coordinator"
    );
}

#[test]
fn a_node_that_is_heard_again_keeps_its_power_unless_a_person_fenced_it() {
    for (by, cut) in [(Author::Cluster, false), (Author::person("captain"), true)] {
        let (mut case, fence) = fenced(by.clone());
        assert_eq!(
            case.with(|scene, _| to_cut(scene)),
            [(doline(), fence)],
            "{by}"
        );
        case.pass(100 * MS);
        assert_eq!(!case.with(|scene, _| to_cut(scene)).is_empty(), cut, "{by}");
        case.reports.get_mut(&doline()).unwrap().report.boot = BootId::from("new");
        let again = case.with(|scene, _| to_cut(scene));
        assert_eq!(again, [], "{by}: it has booted since");
    }
}

/// It has ended, been read as off, and has booted anew: its replica is what `seen` says.
fn back(readmit: Readmit, boot: &str, seen: Option<Observation>) -> Case {
    let (mut case, fence) = fenced(Author::Cluster);
    case.spec.nodes.get_mut(&doline()).unwrap().readmit = readmit;
    case.apply(&Command::Node(doline(), NodeAct::PowerOff { fence }));
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(2),
            how: Ended::PowerOff,
        },
    ));
    case.report(
        "doline",
        ReplicaReport {
            seen,
            ..ReplicaReport::default()
        },
    );
    case.reports.get_mut(&doline()).unwrap().report.boot = BootId::from(boot);
    case.pass(100 * MS);
    case
}

fn readmits(case: &Case) -> bool {
    case.with(|scene, _| decide_nodes(scene, &NODES.map(NodeId::from)))
        .iter()
        .any(|c| matches!(c, Command::Node(_, NodeAct::Readmit { .. })))
}

#[test]
fn who_booted_anew_with_nothing_running_comes_back_by_itself() {
    let down = || Some(Observation::down(Data::Present { standby: false }));
    assert!(readmits(&back(Readmit::Auto, "new", down())));
    assert!(
        !readmits(&back(Readmit::Ask, "new", down())),
        "the spec wants a person"
    );
    assert!(
        !readmits(&back(Readmit::Auto, "b", down())),
        "the same boot as before its power was off"
    );
    assert!(
        !readmits(&back(Readmit::Auto, "new", None)),
        "its server was not looked at yet"
    );
    let primary = Observation {
        presence: Presence::Runs,
        role: Some(Role::Primary),
        ..down().unwrap()
    };
    let case = back(Readmit::Auto, "new", Some(primary));
    assert!(!readmits(&case), "a server runs there");
    let why = case
        .with(|scene, _| obstacle_to_return(scene, &doline()))
        .unwrap();
    assert!(why.contains("a server of sailings runs"), "{why}");
}

/// Its power could not be cut, its lease ended, and it was never gone.
#[test]
fn a_fence_that_was_never_carried_out_is_taken_back() {
    let (mut case, _) = fenced(Author::Cluster);
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(2),
            how: Ended::LeaseOver,
        },
    ));
    case.report("doline", standby(100));
    assert!(!readmits(&{
        let mut early = case.copy();
        early.reports.remove(&doline());
        early
    }));
    case.pass(100 * MS);
    assert!(readmits(&case));
}

/// A host that was cut is turned on once others hold what it held, and by the entry that asked for
/// it; not where the spec or a person wants it to stay off.
#[test]
fn who_was_cut_is_turned_on_again() {
    let (mut case, fence) = fenced(Author::Cluster);
    let turned_on = |case: &Case| case.with(|scene, _| to_turn_on(scene));
    assert_eq!(turned_on(&case), [], "it is on");
    let off = case.apply(&Command::Node(doline(), NodeAct::PowerOff { fence }));
    assert_eq!(turned_on(&case), [], "it still holds the workload");
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::End {
            epoch: Epoch(2),
            how: Ended::PowerOff,
        },
    ));
    assert_eq!(
        turned_on(&case),
        [(doline(), off, false)],
        "nobody has taken over yet"
    );
    let (holder, why) = (NodeId::from("polje"), String::new());
    case.apply(&Command::Workload(
        w(),
        WorkloadAct::Assign {
            epoch: Epoch(3),
            holder,
            why,
        },
    ));
    assert_eq!(turned_on(&case), [(doline(), off, true)]);
    case.on.insert(doline(), Index(off.0 - 1));
    assert_eq!(turned_on(&case).len(), 1, "it was on once, before that");
    case.on.insert(doline(), off);
    let nodes = case.with(|scene, _| decide_nodes(scene, &NODES.map(NodeId::from)));
    assert_eq!(
        nodes,
        [Command::Node(doline(), NodeAct::TurnedOn { asked: off })]
    );
    case.apply(&nodes[0]);
    case.on.clear();
    assert_eq!(
        turned_on(&case),
        [],
        "whoever turns it off by hand finds it off"
    );

    let mut case = well();
    let by = Author::person("captain");
    let why = String::new();
    let fence = case.apply(&Command::Node(
        "polje".into(),
        NodeAct::Fence {
            boot: None,
            why,
            by: by.clone(),
            after: After::Off,
        },
    ));
    case.apply(&Command::Node("polje".into(), NodeAct::PowerOff { fence }));
    assert_eq!(turned_on(&case), []);
    case.spec
        .nodes
        .get_mut(&NodeId::from("polje"))
        .unwrap()
        .power = case.spec.nodes[&doline()].power.clone();
    let asked = case.apply(&Command::Node("polje".into(), NodeAct::TurnOn { by }));
    assert_eq!(turned_on(&case), [("polje".into(), asked, true)]);
}
