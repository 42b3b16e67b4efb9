//! What the log makes of decisions that come in any order: whatever a revision takes away, nobody
//! holds it under that revision (R1); what is wanted waits its turn.

use karst_core::author::{Author, Level};
use karst_core::command::{ClusterAct, Command, NodeAct, WorkloadAct};
use karst_core::intent::{Intent, Invitation, Maintenance, Want};
use karst_core::operation::Outcome;
use karst_core::position::SwitchPoint;
use karst_core::spec::{
    AddressSpec, Alone, Clock, Finding, Follows, Loss, NodeSpec, Readmit, ReplicaSpec, Revision,
    Spec, Subnet, Timings, WorkloadSpec, check,
};
use karst_core::state::ClusterState;
use karst_core::votes::{Voters, Votes};
use karst_core::{Epoch, Index, NodeId, OperationId};
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

fn spec() -> Spec {
    let at = |port| SocketAddr::from(([10, 0, 0, 1], port));
    let node = || NodeSpec {
        zone: "quay".into(),
        votes: 1,
        witness: false,
        peer: at(1),
        api: None,
        console: None,
        power: None,
        readmit: Readmit::Auto,
        clock: Clock::Steady,
        local: Level::Observe,
    };
    let names = ["doline", "polje", "uvala"].map(NodeId::from);
    let replica = |rank| ReplicaSpec {
        rank,
        address: at(2),
        data: "/data".into(),
        log: None,
        copy_from: None,
        base_backup: None,
    };
    let workload = WorkloadSpec {
        driver: "lines".into(),
        loss: Loss::None,
        alone: Alone::Block,
        adopt: false,
        rules: Default::default(),
        restart: false,
        replicas: names.iter().cloned().zip((1..4).map(replica)).collect(),
        reads: None,
        name: None,
        gates: names.iter().map(|n| (n.clone(), at(3))).collect(),
        address: Some(AddressSpec {
            on: vec![Subnet {
                ip: [10, 0, 0, 9].into(),
                prefix: 24,
            }],
            follows: Follows::Gate,
        }),
        settings: BTreeMap::new(),
    };
    Spec {
        cluster: "skerry".into(),
        timings: Timings::default(),
        zones: vec!["quay".into()],
        nodes: names.iter().map(|n| (n.clone(), node())).collect(),
        workloads: [("sailings".into(), workload)].into(),
        steps: BTreeMap::new(),
    }
}

/// The same without uvala, its replica, its gate and its vote.
fn smaller() -> Spec {
    let mut spec = spec();
    spec.nodes.remove(&"uvala".into());
    for workload in spec.workloads.values_mut() {
        workload.replicas.remove(&"uvala".into());
        workload.gates.remove(&"uvala".into());
    }
    spec
}

fn intend(want: Want) -> Command {
    Command::Cluster(ClusterAct::Intend(Intent {
        want,
        by: Author::person("marlin"),
        at: 0,
        why: None,
        until: None,
    }))
}

fn revision(number: u64, spec: Spec) -> Arc<Revision> {
    Arc::new(Revision {
        number,
        ..Revision::first(spec, "")
    })
}

fn found() -> Command {
    Command::Cluster(ClusterAct::Found {
        revision: revision(1, spec()),
        founders: spec().votes(),
    })
}

fn formed() -> ClusterState {
    let mut state = ClusterState::default();
    let founding = found();
    assert!(state.apply(Index(1), &founding));
    assert!(state.apply(Index(2), &intend(Want::Revision(revision(2, smaller())))));
    state
}

/// Everything that gives something to uvala, takes it from there, or has the smaller spec in force.
fn decisions() -> Vec<Command> {
    let about = |act| Command::Workload("sailings".into(), act);
    let uvala = || NodeId::from("uvala");
    let all = || vec![NodeId::from("polje"), uvala()];
    let sync = |number, list: Vec<NodeId>| {
        about(WorkloadAct::Sync {
            epoch: Epoch(1),
            number,
            sure: list.clone(),
            asked: list,
            unprotected: false,
            why: String::new(),
        })
    };
    let assign = |epoch, holder: &str| {
        about(WorkloadAct::Assign {
            epoch: Epoch(epoch),
            holder: holder.into(),
            why: String::new(),
        })
    };
    let votes = |names: &[&str]| Votes::new(names.iter().map(|n| (NodeId::from(*n), 1)));
    let without = || votes(&["doline", "polje"]);
    vec![
        assign(1, "doline"),
        assign(1, "uvala"),
        about(WorkloadAct::Open {
            epoch: Epoch(1),
            point: SwitchPoint::first("1"),
            sync: all(),
            unprotected: false,
            doubtful: vec![],
        }),
        sync(2, vec!["polje".into()]),
        sync(3, all()),
        about(WorkloadAct::Revoke {
            epoch: Epoch(1),
            why: String::new(),
        }),
        about(WorkloadAct::End {
            epoch: Epoch(1),
            how: karst_core::command::Ended::LeaseOver,
        }),
        assign(2, "uvala"),
        about(WorkloadAct::Place {
            number: Epoch(1),
            holder: uvala(),
            why: String::new(),
        }),
        about(WorkloadAct::Withdraw {
            number: Epoch(1),
            why: String::new(),
        }),
        about(WorkloadAct::Vacate {
            number: Epoch(1),
            how: karst_core::command::Ended::LeaseOver,
        }),
        Command::Cluster(ClusterAct::Voters(Voters {
            now: spec().votes(),
            next: Some(without()),
        })),
        Command::Cluster(ClusterAct::Voters(without().into())),
        Command::Cluster(ClusterAct::Adopt {
            intent: OperationId(2),
        }),
        Command::Cluster(ClusterAct::Adopt {
            intent: OperationId(2),
        }),
    ]
}

/// What the spec in force does not have holds nothing.
fn holds_nothing_outside(state: &ClusterState) -> Result<(), String> {
    let spec = &state.charter.revision.as_ref().expect("it is founded").spec;
    for (id, w) in &state.workloads {
        let workload = &spec.workloads[id];
        let list = w
            .holder()
            .into_iter()
            .chain(&w.sync.asked)
            .chain(&w.sync.sure);
        let mut list = list.filter(|n| !workload.replicas.contains_key(*n));
        if let Some(node) = list.next() {
            return Err(format!("{node} holds a part of {id}"));
        }
        if let Some(node) = w
            .place
            .holder
            .as_ref()
            .filter(|n| !workload.may_hold_address(n))
        {
            return Err(format!("{node} has the address of {id}"));
        }
    }
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4_000))]

    /// R1: every order of entries has a safe outcome.
    #[test]
    fn whatever_leaves_holds_nothing(order in prop::collection::vec(0usize..15, 1..24)) {
        let (mut state, all) = (formed(), decisions());
        for (at, which) in order.iter().enumerate() {
            state.apply(Index(at as u64 + 3), &all[*which]);
            holds_nothing_outside(&state).map_err(TestCaseError::fail)?;
        }
    }
}

/// The way that the steward takes leads there.
#[test]
fn what_is_emptied_first_is_let_go_of() {
    let (mut state, all) = (formed(), decisions());
    let mut at = 3;
    let mut apply = |state: &mut ClusterState, which: usize| {
        at += 1;
        state.apply(Index(at), &all[which])
    };
    assert!(apply(&mut state, 0) && apply(&mut state, 2) && apply(&mut state, 8));
    assert!(
        !apply(&mut state, 13),
        "uvala votes, is waited for, and has the address"
    );
    for which in [3, 9, 10, 11, 12] {
        assert!(apply(&mut state, which), "{which}");
    }
    assert!(apply(&mut state, 13), "{:?}", state.charter);
    assert_eq!(state.charter.past[0].number, 1);
    assert!(
        !apply(&mut state, 4) && !apply(&mut state, 8),
        "uvala is not in the spec"
    );
}

/// One revision at a time, for the one in force; nobody rests twice.
#[test]
fn what_is_wanted_waits_its_turn() {
    let mut state = formed();
    let mut at = 10;
    let mut apply = |state: &mut ClusterState, command: &Command| {
        at += 1;
        state.apply(Index(at), command)
    };
    let another = intend(Want::Revision(revision(2, spec())));
    assert!(!apply(&mut state, &another), "one is pending");
    let close = Command::Cluster(ClusterAct::Close {
        intent: OperationId(2),
        outcome: Outcome::Undone("ended by marlin".into()),
    });
    assert!(apply(&mut state, &close) && !apply(&mut state, &close));
    let late = intend(Want::Revision(revision(3, spec())));
    assert!(!apply(&mut state, &late), "it was written for another one");
    assert!(apply(&mut state, &another));
    let rest = |names: &[&str]| {
        intend(Want::Maintenance(Maintenance {
            nodes: names.iter().map(|n| NodeId::from(*n)).collect(),
            votes: None,
            back: false,
            held: BTreeMap::new(),
            bare: Default::default(),
            cut_off: Default::default(),
        }))
    };
    assert!(apply(&mut state, &rest(&["polje", "uvala"])));
    assert!(
        !apply(&mut state, &rest(&["doline", "uvala"])),
        "uvala rests"
    );
    assert!(apply(&mut state, &rest(&["doline"])));
}

/// G11: an interval that no sum bears is refused where it would come into the log. A daemon that met it
/// there would end at every start.
#[test]
fn no_revision_has_an_interval_that_no_sum_bears() {
    for (longest, taken) in [
        (Duration::from_secs(3_600), true),
        (Duration::from_secs(3_601), false),
        (Duration::MAX, false),
    ] {
        let mut state = ClusterState::default();
        state.apply(Index(1), &found());
        let mut slow = spec();
        slow.timings.keep_up_limit = longest;
        let of_it = |f: &Finding| f.path == ["timing", "keep_up_limit"];
        assert_eq!(check(&slow).iter().any(of_it), !taken, "{longest:?}");
        let revision = intend(Want::Revision(revision(2, slow)));
        assert_eq!(state.apply(Index(2), &revision), taken, "{longest:?}");
    }
    let mut slow = spec().timings;
    slow.heartbeat = Duration::ZERO;
    assert_eq!(slow.out_of_bounds()[0].0, "heartbeat");
}

/// R5: what loss a revision accepts is another setting of the primary, with a number of its own.
#[test]
fn another_loss_is_another_setting() {
    let mut state = ClusterState::default();
    let founding = found();
    state.apply(Index(1), &founding);
    for (at, which) in [0, 2].into_iter().enumerate() {
        assert!(state.apply(Index(at as u64 + 2), &decisions()[which]));
    }
    let mut looser = spec();
    for workload in looser.workloads.values_mut() {
        workload.loss = Loss::Bytes(1_000);
    }
    assert!(state.apply(Index(5), &intend(Want::Revision(revision(2, looser)))));
    let adopt = Command::Cluster(ClusterAct::Adopt {
        intent: OperationId(5),
    });
    assert!(state.apply(Index(6), &adopt));
    let set = &state.workload(&"sailings".into()).sync;
    assert_eq!((set.number, set.unprotected, set.asked.len()), (2, true, 0));
}

/// V6: what a lost store promised and what the new one promises are never votes of one voter.
#[test]
fn a_store_is_replaced_where_its_node_has_no_say() {
    let mut state = formed();
    let uvala = || NodeId::from("uvala");
    let enrol = Command::Node(
        uvala(),
        NodeAct::Enrol {
            store: "new".into(),
            by: Author::person("marlin"),
        },
    );
    let votes = |names: &[&str]| Votes::new(names.iter().map(|n| (NodeId::from(*n), 1)));
    let (with, without) = (
        || votes(&["doline", "polje", "uvala"]),
        || votes(&["doline", "polje"]),
    );
    let halves = |now, next| Command::Cluster(ClusterAct::Voters(Voters { now, next }));
    let mut at = 10;
    let mut taken_in = |state: &mut ClusterState, voters: Command| {
        at += 2;
        assert!(state.apply(Index(at), &voters));
        state.apply(Index(at + 1), &enrol)
    };
    for (now, next) in [
        (with(), None),
        (with(), Some(without())),
        (without(), Some(with())),
    ] {
        assert!(
            !taken_in(&mut state, halves(now.clone(), next.clone())),
            "{now:?} {next:?}"
        );
        assert_eq!(
            state.nodes.get(&uvala()).and_then(|n| n.enrolled.clone()),
            None
        );
    }
    assert!(taken_in(&mut state, halves(without(), None)));
    assert_eq!(state.nodes[&uvala()].enrolled, Some("new".into()));
}

fn invite_uvala(digest: &str) -> Command {
    Command::Cluster(ClusterAct::Invite(Invitation {
        node: "uvala".into(),
        digest: digest.into(),
        until: 100,
        by: Author::person("marlin"),
        used: None,
    }))
}

fn join(invitation: u64, key: &str) -> Command {
    Command::Cluster(ClusterAct::Join {
        invitation: OperationId(invitation),
        key: key.into(),
    })
}

/// M1: an invitation is for one key, once; the next one of the same node takes its place.
#[test]
fn an_invitation_is_used_once() {
    let mut state = formed();
    assert!(!state.apply(Index(3), &join(4, "a")), "nobody is invited");
    assert!(state.apply(Index(4), &invite_uvala("first")));
    assert!(state.apply(Index(5), &join(4, "a")));
    assert!(!state.apply(Index(6), &join(4, "b")), "it was used");
    assert!(state.apply(Index(7), &invite_uvala("second")));
    assert!(
        !state.apply(Index(8), &join(4, "b")),
        "it is not there any more"
    );
    assert!(state.apply(Index(9), &join(7, "b")));
}

/// M1: the line of a node that left gets nobody in, whether it was used or not; and a key is one
/// node's.
#[test]
fn an_invitation_ends_with_its_node_and_a_key_is_one_nodes() {
    let mut state = formed();
    let shows =
        |node: &str, key: &str| Command::Node(node.into(), NodeAct::Key { key: key.into() });
    assert!(state.apply(Index(3), &shows("polje", "of polje")));
    assert!(state.apply(Index(4), &invite_uvala("d")));
    assert!(
        !state.apply(Index(5), &join(4, "of polje")),
        "it is polje's"
    );
    assert!(!state.apply(Index(6), &shows("uvala", "of polje")));
    assert_eq!(state.charter.invitations[&OperationId(4)].used, None);

    let two = Votes::new(["doline", "polje"].map(|n| (NodeId::from(n), 1)));
    let voters = Command::Cluster(ClusterAct::Voters(two.into()));
    let adopt = Command::Cluster(ClusterAct::Adopt {
        intent: OperationId(2),
    });
    assert!(state.apply(Index(7), &voters) && state.apply(Index(8), &adopt));
    assert!(state.charter.invitations.is_empty());
    assert!(!state.apply(Index(9), &join(4, "new")), "uvala has left");
}

/// M1: a key speaks for its node until that leaves, or until another host joins under its name; and
/// again once the name is back without anybody else having joined.
#[test]
fn a_key_that_has_left_speaks_for_nobody() {
    let (mut state, uvala) = (formed(), NodeId::from("uvala"));
    let shows = |key: &str| Command::Node(uvala.clone(), NodeAct::Key { key: key.into() });
    let adopt = |intent| {
        Command::Cluster(ClusterAct::Adopt {
            intent: OperationId(intent),
        })
    };
    let two = Votes::new(["doline", "polje"].map(|n| (NodeId::from(n), 1)));
    let voters = Command::Cluster(ClusterAct::Voters(two.into()));
    let refused = |state: &ClusterState| {
        let keys = state.charter.gone.keys.keys();
        keys.cloned().collect::<Vec<_>>()
    };
    assert!(state.apply(Index(3), &shows("old")) && !state.apply(Index(4), &shows("old")));
    assert!(state.apply(Index(5), &shows("renewed")));
    assert!(state.apply(Index(6), &voters) && state.apply(Index(7), &adopt(2)));
    assert_eq!(refused(&state), ["old", "renewed"]);
    assert_eq!(state.charter.gone.at, Index(7));
    assert!(!state.apply(Index(8), &shows("old")), "it left with that");
    assert!(!state.apply(Index(9), &adopt(2)));
    assert_eq!(
        state.charter.gone.at,
        Index(7),
        "a late one changes nothing"
    );

    let back = intend(Want::Revision(revision(3, spec())));
    assert!(state.apply(Index(10), &back) && state.apply(Index(11), &adopt(10)));
    assert_eq!(refused(&state), [""; 0]);

    let invite = invite_uvala("d");
    assert!(state.apply(Index(12), &invite) && state.apply(Index(13), &join(12, "another")));
    assert_eq!(refused(&state), ["old", "renewed"], "another has its name");
    assert!(state.apply(Index(14), &invite));
    let again = join(14, "old");
    assert!(!state.apply(Index(15), &again), "that key has left");
    assert_eq!(state.nodes[&uvala].keys, ["another"]);
}
