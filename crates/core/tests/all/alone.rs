//! One node alone, as the daemon drives it: what it does at a start, and how often it wants to be
//! woken.

use crate::lone::{Others, config, drive, revision, spec, start, start_broken};
use karst_core::about::{About, Room};
use karst_core::author::Level;
use karst_core::authority::Claim;
use karst_core::command::{Command, WorkloadAct};
use karst_core::consensus::{Entry, LogId, Snapshot, Stored, Talk};
use karst_core::event::FactKind;
use karst_core::gate::GateOrder;
use karst_core::message::{Message, Says};
use karst_core::node::{Effect, Input};
use karst_core::operation::Mode;
use karst_core::replica::{
    Action, Data, Done, Observation, Parts, Presence, ReplicaReport, Report, Role,
};
use karst_core::request::{Answer, LONGEST_NOTE, Plea, Request};
use karst_core::spec::{Finding, FindingKind, Severity, Spec};
use karst_core::state::ClusterState;
use karst_core::{Epoch, Index, Node, NodeId, Planted, Position, SwitchPoint, Term, Time};
use std::collections::BTreeMap;
use std::time::Duration;

/// A spec that does not name the present holder is no reason to die at each start: gates hold, and
/// the status says so.
#[test]
fn a_holder_that_the_spec_does_not_name_is_a_finding() {
    let mut state = ClusterState::default();
    let (workload, epoch) = ("w".into(), Epoch(1));
    let (point, sync, doubtful) = (SwitchPoint::first("1"), vec![], vec![]);
    for command in [
        Command::Workload(
            "w".into(),
            WorkloadAct::Assign {
                epoch,
                holder: "gone".into(),
                why: String::new(),
            },
        ),
        Command::Workload(
            "w".into(),
            WorkloadAct::Open {
                unprotected: false,
                epoch,
                point,
                sync,
                doubtful,
            },
        ),
        Command::Workload(workload, WorkloadAct::Serve { epoch }),
    ] {
        assert!(state.apply(state.applied.next(), &command));
    }
    let snapshot = Some(Snapshot {
        last: LogId::new(Term(3), state.applied),
        state,
    });
    let mut node = start(
        spec(&["solo"]),
        Stored {
            term: Term(3),
            snapshot,
            ..Stored::forming("s".into())
        },
    );
    let mut effects = Vec::new();
    for ms in (0..2_000).step_by(10) {
        effects.extend(drive(&mut node, Time::from_millis(ms), Input::Woke));
    }
    assert!(node.is_coordinator());
    let forwards = |e: &Effect| {
        matches!(
            e,
            Effect::Gate {
                order: GateOrder::Forward { .. },
                ..
            }
        )
    };
    assert!(!effects.iter().any(forwards));
    assert!(
        node.status()
            .findings
            .iter()
            .any(|f| f.finding.what.contains("gone is primary of w")),
        "{:?}",
        node.status().findings
    );
}

/// An empty store that was not told to form a cluster does nothing by itself, and says what to do.
#[test]
fn an_empty_store_elects_nobody() {
    let mut node = start(
        spec(&["solo"]),
        Stored {
            store: Some("s".into()),
            ..Stored::default()
        },
    );
    for ms in (0..5_000).step_by(10) {
        drive(&mut node, Time::from_millis(ms), Input::Woke);
    }
    assert!(!node.is_coordinator());
    assert!(
        node.status()
            .findings
            .iter()
            .any(|f| f.finding.remedy.contains("karst node enrol solo"))
    );
}

/// A coordinator whose entry waits for another's disk sleeps meanwhile.
#[test]
fn an_entry_that_is_not_committed_yet_keeps_nobody_awake() {
    let mut a = start(
        spec(&["a", "b", "c"]),
        Stored {
            term: Term(1),
            ..Stored::forming("s".into())
        },
    );
    let mut others = Others {
        stalled: false,
        stall_at_revoke: false,
        last: Index(0),
    };
    let mut now = Time::ZERO;
    for ms in 0..6_000 {
        now = Time::from_millis(ms);
        others.pump(&mut a, now, Input::Woke);
    }
    assert!(a.is_coordinator());
    others.stalled = true;
    let request = Request::Mode {
        workload: "w".into(),
        mode: Mode::Watch,
        by: "captain".into(),
        at: 0,
        why: None,
        until: None,
    };
    others.pump(
        &mut a,
        now,
        Input::Asked {
            ticket: 1,
            request,
            level: Level::Administer,
            token: None,
        },
    );
    let (end, mut wakes) = (now + Duration::from_millis(300), 0);
    while now < end {
        now = a.poll_timeout().max(now + Duration::from_micros(10));
        others.pump(&mut a, now, Input::Woke);
        wakes += 1;
    }
    assert!(wakes < 50, "{wakes} wakes in 300 ms");
}

/// A disk that hangs: what is held back until it is durable does not grow with each heartbeat, and
/// nothing else waits.
#[test]
fn a_hanging_disk_holds_back_few_messages() {
    let mut b = start(
        spec(&["b", "c", "d"]),
        Stored {
            term: Term(1),
            ..Stored::forming("s".into())
        },
    );
    let (mut sent, mut beats) = (0, 0);
    let entry = Entry {
        term: Term(2),
        index: Index(1),
        command: Command::Noop,
    };
    let mut hears = |b: &mut Node, ms: u64, entries: Vec<_>| {
        let prev = if entries.is_empty() {
            LogId::new(Term(2), Index(1))
        } else {
            LogId::default()
        };
        let (now, news) = (Time::from_millis(ms), !entries.is_empty());
        let talk = Talk::AppendEntries {
            term: Term(2),
            prev,
            entries,
            commit: Index(0),
            sent: now,
            news,
            keep: Duration::from_millis(600),
        };
        b.handle(
            now,
            Input::Received {
                from: "c".into(),
                message: Message::Talk(talk),
            },
        );
        let mut number = None;
        while let Some(effect) = b.poll_effect() {
            match effect {
                Effect::Persist { number: n, .. } => number = Some(n),
                Effect::Send {
                    message: Message::Talk(_),
                    ..
                } => sent += 1,
                Effect::Send { message, .. } if message.is_beat() => beats += 1,
                _ => {}
            }
        }
        number
    };
    let hanging = hears(&mut b, 1_000, vec![entry]).expect("it has something to store");
    for beat in 1..100 {
        hears(&mut b, 1_000 + 100 * beat, Vec::new());
    }
    assert!(sent == 0 && beats > 100, "{sent} answers, {beats} beats");
    b.handle(
        Time::from_millis(11_000),
        Input::Persisted { number: hanging },
    );
    let mut answers = 0;
    while let Some(effect) = b.poll_effect() {
        answers += u32::from(matches!(
            effect,
            Effect::Send {
                message: Message::Talk(Talk::AppendEntriesReply { .. }),
                ..
            }
        ));
    }
    assert!(
        (1..=2).contains(&answers),
        "{answers} answers to a hundred heartbeats"
    );
}

/// A2: once the end of an epoch is in the coordinator's log, committed or not, its holder is
/// granted nothing more.
#[test]
fn what_ends_is_not_granted() {
    for (planted, granted) in [(None, 0), (Some(Planted::GrantWhatEnds), 1)] {
        let mut spec = spec(&["a", "b", "c"]);
        let w = spec.workloads.values_mut().next().unwrap();
        let replica = w.replicas.values().next().unwrap().clone();
        w.replicas.insert("b".into(), replica);
        let mut state = ClusterState::default();
        let (epoch, holder) = (Epoch(1), NodeId::from("b"));
        let (point, sync, doubtful) = (SwitchPoint::first("1"), vec![], vec![]);
        for command in [
            Command::Workload(
                "w".into(),
                WorkloadAct::Assign {
                    epoch,
                    holder,
                    why: String::new(),
                },
            ),
            Command::Workload(
                "w".into(),
                WorkloadAct::Open {
                    unprotected: false,
                    epoch,
                    point,
                    sync,
                    doubtful,
                },
            ),
        ] {
            assert!(state.apply(state.applied.next(), &command));
        }
        let snapshot = Some(Snapshot {
            last: LogId::new(Term(1), state.applied),
            state,
        });
        let mut a = start_broken(
            spec,
            Stored {
                term: Term(1),
                snapshot,
                ..Stored::forming("s".into())
            },
            planted,
        );
        let mut others = Others {
            stalled: false,
            stall_at_revoke: true,
            last: Index(0),
        };
        let standby = Observation {
            presence: Presence::Runs,
            role: Some(Role::Standby),
            position: Some(Position::new("1", 5)),
            ..Observation::down(Data::Present { standby: true })
        };
        let mut now = Time::ZERO;
        for ms in 0..1_500 {
            now = Time::from_millis(ms);
            others.pump(&mut a, now, Input::Woke);
        }
        others.pump(
            &mut a,
            now,
            Input::Observed {
                workload: "w".into(),
                observation: standby,
            },
        );
        let checkin = |number| {
            let parts = Parts {
                replicas: BTreeMap::from([("w".into(), ReplicaReport::default())]),
                ..Parts::default()
            };
            let report = Report {
                boot: "b".into(),
                store: None,
                counts: true,
                system: None,
                parts,
            };
            let (wants, says) = (
                vec![(Claim::Primary("w".into()), Epoch(1))],
                Says::Full(Box::new(report)),
            );
            Input::Received {
                from: "b".into(),
                message: Message::Checkin {
                    number,
                    sent: now,
                    wants,
                    says,
                    news: true,
                },
            }
        };
        let leases = |effects: &[Effect]| {
            let granted = effects.iter().filter_map(|e| match e {
                Effect::Send {
                    message: Message::Grant { leases, .. },
                    ..
                } => Some(leases.len()),
                _ => None,
            });
            granted.sum::<usize>()
        };
        assert_eq!(
            leases(&drive(&mut a, now, checkin(1))),
            1,
            "it holds the epoch"
        );
        let (workload, to, by) = ("w".into(), "a".into(), "marlin".into());
        let request = Request::Failover {
            workload,
            to,
            by,
            accept_loss: u64::MAX,
            plan_only: false,
        };
        others.pump(
            &mut a,
            now,
            Input::Asked {
                ticket: 1,
                request,
                level: Level::Administer,
                token: None,
            },
        );
        assert!(others.stalled, "the revocation is in the log");
        assert_eq!(
            leases(&drive(&mut a, now, checkin(2))),
            granted,
            "{planted:?}"
        );
    }
}

/// A spec in which another node has all that this one had.
fn elsewhere(mut spec: Spec) -> Spec {
    let workload = spec
        .workloads
        .get_mut(&"w".into())
        .expect("it is in the spec");
    let replica = workload
        .replicas
        .remove(&"solo".into())
        .expect("it is here");
    workload.replicas.insert("other".into(), replica);
    let gate = workload.gates.remove(&"solo".into()).expect("it is here");
    workload.gates.insert("other".into(), gate);
    spec
}

fn spec_of_two() -> Spec {
    let mut spec = spec(&["solo", "other"]);
    spec.nodes
        .get_mut(&"other".into())
        .expect("it is in the spec")
        .votes = 0;
    spec
}

fn observed(runs: bool) -> Input {
    let mut observation = Observation::down(Data::Present { standby: true });
    observation.presence = if runs { Presence::Runs } else { Presence::Gone };
    observation.role = runs.then_some(Role::Standby);
    Input::Observed {
        workload: "w".into(),
        observation,
    }
}

fn is_dismissed(effects: &[Effect]) -> bool {
    let claim = Claim::Primary("w".into());
    effects.contains(&Effect::Dismiss { claim })
}

/// A replica that the spec has elsewhere now is stopped before its hand goes, whatever the log says
/// of its workload, and says nothing more to the others, who would not believe it.
#[test]
fn what_the_spec_has_elsewhere_is_stopped_and_then_let_go_of() {
    let mut node = Node::new(config(spec_of_two(), "solo"), Time::ZERO);
    let ms = Time::from_millis;
    let shape = node.poll_effect();
    assert!(matches!(&shape, Some(Effect::Shape { .. })), "{shape:?}");
    drive(&mut node, ms(1), observed(true));
    assert!(node.status().workloads[0].replicas[0].server.is_some());
    node.reshape(revision(elsewhere(spec_of_two())));
    let effects = drive(&mut node, ms(100), Input::Woke);
    let (mut stop, mut shaped) = (None, false);
    for effect in &effects {
        match effect {
            Effect::Act {
                id,
                action: Action::StopNow,
                ..
            } => stop = Some(*id),
            Effect::Shape { revision, .. } => {
                shaped = !revision.spec.workloads[&"w".into()]
                    .replicas
                    .contains_key(&"solo".into())
            }
            _ => {}
        }
    }
    let id = stop.expect("what runs is stopped");
    assert!(shaped && !is_dismissed(&effects));
    assert_eq!(node.replicas().count(), 0, "it reports nothing of it");
    let acted = Input::Acted {
        workload: "w".into(),
        id,
        result: Ok(Done::Stopped { clean_at: None }),
    };
    let mut effects = drive(&mut node, ms(110), observed(false));
    effects.extend(drive(&mut node, ms(120), acted));
    // The deadman was never heard: until it says what it counts down, something is.
    assert!(!is_dismissed(&effects));
    let disarm = Effect::Disarm {
        claim: Claim::Primary("w".into()),
    };
    assert!(effects.contains(&disarm));
    let armed = Input::Armed {
        claim: Claim::Primary("w".into()),
        deadline: None,
        unguarded: None,
    };
    assert!(is_dismissed(&drive(&mut node, ms(130), armed)));
}

/// A node that left while it was away lets go of everything once most of the others say so, and goes
/// on when it is spoken to again; one alone is not believed.
#[test]
fn whoever_is_no_node_any_more_lets_go_of_everything() {
    let mut node = Node::new(config(spec(&["solo", "b", "c", "d"]), "solo"), Time::ZERO);
    let ms = Time::from_millis;
    let says = |by: &str| Input::Removed {
        by: by.into(),
        since: Index(812),
    };
    let shapes = |effects: Vec<Effect>| -> Vec<usize> {
        let all = effects.into_iter().filter_map(|effect| match effect {
            Effect::Shape { revision, .. } => Some(revision.spec.workloads.len()),
            _ => None,
        });
        all.collect()
    };
    drive(&mut node, ms(1), observed(false));
    for (at, by) in [(2, "b"), (3, "b"), (4, "stranger"), (5, "solo")] {
        assert_eq!(shapes(drive(&mut node, ms(at), says(by))), [0; 0], "{by}");
    }
    assert!(node.removed().is_none() && node.replicas().count() == 1);
    assert_eq!(shapes(drive(&mut node, ms(6), says("c"))), [0]);
    assert_eq!(
        (node.removed(), node.replicas().count()),
        (Some(Index(812)), 0)
    );
    let said = node.status();
    let sentence = "solo is no node of this cluster any more, by entry 812";
    assert!(said.sentence.contains(sentence), "{}", said.sentence);
    assert!(
        said.findings
            .iter()
            .any(|f| f.finding.kind == FindingKind::Removed)
    );
    let beat = Input::Received {
        from: "c".into(),
        message: Message::Beat {
            number: 1,
            hears: Default::default(),
            heads: vec![],
            votes: Index(0),
        },
    };
    assert_eq!(shapes(drive(&mut node, ms(7), beat)), [1]);
    assert!(node.removed().is_none());
}

/// What comes back to this node before it was let go of is made anew afterwards, and by one hand.
#[test]
fn what_comes_back_meanwhile_is_let_go_of_first() {
    let mut node = Node::new(config(spec_of_two(), "solo"), Time::ZERO);
    let ms = Time::from_millis;
    drive(&mut node, ms(1), observed(true));
    node.reshape(revision(elsewhere(spec_of_two())));
    drive(&mut node, ms(100), Input::Woke);
    node.reshape(revision(spec_of_two()));
    drive(&mut node, ms(110), Input::Woke);
    assert_eq!(node.replicas().count(), 0, "the one before still runs");
    drive(&mut node, ms(120), observed(false));
    let acted = Input::Acted {
        workload: "w".into(),
        id: 1,
        result: Ok(Done::Stopped { clean_at: None }),
    };
    drive(&mut node, ms(125), acted);
    let armed = Input::Armed {
        claim: Claim::Primary("w".into()),
        deadline: None,
        unguarded: None,
    };
    let effects = drive(&mut node, ms(130), armed);
    let dismissed = effects
        .iter()
        .position(|e| matches!(e, Effect::Dismiss { .. }));
    let shaped = effects
        .iter()
        .rposition(|e| matches!(e, Effect::Shape { .. }));
    assert!(dismissed.is_some() && dismissed < shaped, "{effects:?}");
    assert_eq!(node.replicas().count(), 1);
}

/// Whoever is coordinator knows of nodes and workloads of the new spec alone, and leads on at its
/// pace.
#[test]
fn a_coordinator_goes_on_under_another_spec() {
    let mut node = Node::new(config(spec_of_two(), "solo"), Time::ZERO);
    let mut now = Time::ZERO;
    while !node.is_coordinator() && now < Time::from_millis(5_000) {
        now += Duration::from_millis(10);
        drive(&mut node, now, Input::Woke);
    }
    let mut other = spec_of_two();
    other.workloads.clear();
    other.nodes.remove(&"other".into());
    other.timings.heartbeat = Duration::from_millis(120);
    let plea = Plea::Revision {
        text: "another".into(),
        spec: Box::new(other),
        based_on: Some(1),
        judged: None,
    };
    let request = Request::Intend {
        plea,
        by: "marlin".into(),
        at: 0,
        why: None,
        seen: None,
        plan_only: false,
    };
    let asked = Input::Asked {
        ticket: 1,
        request,
        level: Level::Administer,
        token: None,
    };
    let answered = drive(&mut node, now, asked);
    let started = |e: &Effect| {
        let Effect::Answer { answer, .. } = e else {
            return false;
        };
        matches!(answer, Answer::Started { .. })
    };
    assert!(answered.iter().any(started), "{answered:?}");
    now += Duration::from_millis(10);
    drive(&mut node, now, Input::Woke);
    let mut sent = Vec::new();
    for _ in 0..200 {
        now += Duration::from_millis(10);
        sent.extend(drive(&mut node, now, Input::Woke));
    }
    assert!(node.is_coordinator());
    let to_other = |e: &Effect| matches!(e, Effect::Send { to, .. } if to.as_str() == "other");
    assert!(!sent.iter().any(to_other));
    let status = node.status();
    assert_eq!((status.nodes.len(), status.workloads.len()), (1, 0));
}

/// What a host says is wrong there is a finding until it says otherwise. Who knows of one is in the
/// log, and is forgotten once the finding has been gone for a while: if it comes again, it is news.
#[test]
fn a_finding_is_acknowledged_by_name_until_it_is_over() {
    let mut node = Node::new(config(spec(&["solo"]), "solo"), Time::ZERO);
    let about = |free| {
        let rooms = vec![Room {
            of: "node store".into(),
            path: "/var/lib/karst".into(),
            free,
            total: 1_000,
        }];
        Input::About(Box::new(About {
            rooms,
            ..About::default()
        }))
    };
    let wait = |node: &mut Node, from: u64, to: u64| {
        for ms in (from * 1_000..to * 1_000).step_by(50) {
            drive(node, Time::from_millis(ms), Input::Woke);
        }
    };
    wait(&mut node, 0, 2);
    drive(&mut node, Time::from_millis(2_000), about(10));
    let name = "disk-fills:node.solo";
    let found = |node: &Node| {
        let status = node.status();
        status.findings.into_iter().find(|f| f.name == name)
    };
    assert!(found(&node).is_some_and(|f| f.acknowledged.is_none()));
    let ask = |finding: &str, at| Input::Asked {
        ticket: at,
        request: Request::Acknowledge {
            finding: finding.into(),
            note: Some("a larger disk is ordered".into()),
            by: "marlin".into(),
            at: 1_800_000_000,
        },
        level: Level::Operate,
        token: None,
    };
    let answered = |effects: Vec<Effect>| {
        let answer = effects.into_iter().find_map(|effect| match effect {
            Effect::Answer { answer, .. } => Some(answer),
            _ => None,
        });
        answer.expect("an answer")
    };
    let answer = answered(drive(
        &mut node,
        Time::from_millis(2_100),
        ask("no-such", 1),
    ));
    assert!(matches!(answer, Answer::Refused { why } if why.contains(name)));
    let answer = answered(drive(&mut node, Time::from_millis(2_200), ask(name, 2)));
    assert!(matches!(answer, Answer::Done { .. }), "{answer:?}");
    let known = found(&node)
        .and_then(|f| f.acknowledged)
        .expect("it is known");
    assert_eq!(known.note, "a larger disk is ordered");
    drive(&mut node, Time::from_millis(3_000), about(500));
    assert!(found(&node).is_none());
    wait(&mut node, 4, 200);
    drive(&mut node, Time::from_millis(200_000), about(10));
    assert!(
        found(&node).is_some_and(|f| f.acknowledged.is_some()),
        "too soon"
    );
    drive(&mut node, Time::from_millis(201_000), about(500));
    wait(&mut node, 202, 600);
    drive(&mut node, Time::from_millis(600_000), about(10));
    assert!(
        found(&node).is_some_and(|f| f.acknowledged.is_none()),
        "it is news"
    );
}

/// A node says what is wrong on its own host and nowhere else, and passes on a line of somebody's
/// reasons, not a book of them.
#[test]
fn a_node_speaks_for_itself_and_briefly() {
    let mut node = Node::new(config(spec(&["solo", "two"]), "solo"), Time::ZERO);
    let finding = |of: &str| Finding {
        kind: FindingKind::SecretReadable,
        severity: Severity::Warning,
        path: vec!["node".into(), of.into()],
        what: "others may read it".into(),
        remedy: "chmod 0600".into(),
    };
    let about = About {
        findings: vec![finding("solo"), finding("two")],
        ..About::default()
    };
    drive(
        &mut node,
        Time::from_millis(10),
        Input::About(Box::new(about)),
    );
    let names: Vec<String> = node.status().findings.into_iter().map(|f| f.name).collect();
    assert!(
        names.contains(&"secret-readable:node.solo".into()),
        "{names:?}"
    );
    assert!(
        !names.contains(&"secret-readable:node.two".into()),
        "{names:?}"
    );
    for (length, refused) in [(LONGEST_NOTE, false), (LONGEST_NOTE + 1, true)] {
        let message = Message::Ask {
            number: 1,
            request: Request::Acknowledge {
                finding: "secret-readable:node.solo".into(),
                note: Some("x".repeat(length)),
                by: "marlin".into(),
                at: 0,
            },
            token: None,
        };
        let from = "two".into();
        let heard = drive(
            &mut node,
            Time::from_millis(20),
            Input::Received { from, message },
        );
        let is_refusal = |e: &Effect| matches!(e, Effect::Record(e) if e.kind == FactKind::Refused);
        assert_eq!(
            heard.iter().any(is_refusal),
            refused,
            "{length} letters: {heard:?}"
        );
    }
}
