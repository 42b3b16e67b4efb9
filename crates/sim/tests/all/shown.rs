//! What a person who asks a node is shown: one sentence that is true, and what is behind it.

use crate::wishes::{maintenance, sailings, wish, wish_at};
use karst_core::NodeId;
use karst_core::operation::Mode;
use karst_core::request::{Answer, Request};
use karst_core::spec::{Alone, FindingKind, Loss};
use karst_core::steward::outlook::Writes;
use karst_core::view::{Condition, NeedKind, NodeState, NodeView, PowerView, ReplicaState, Status};
use karst_sim::{Fault, Script, World, ferry_spec, powered_spec};

const AT: u64 = 8_000;

/// The cluster so long after these faults, which all begin at once.
fn after(ms: u64, mut world: World, faults: &[Fault]) -> World {
    let faults = faults.iter().map(|f| (AT, f.clone())).collect();
    // Whoever looks in the middle of a failure finds nobody serving.
    if let Err(failure) = world.run(&Script {
        faults,
        until_ms: AT + ms,
        calm_ms: 0,
    }) {
        assert_eq!(failure.guarantee, "L1", "{failure}");
    }
    world
}

/// As the coordinator sees it, whoever that is.
fn seen(world: &World) -> Status {
    let leads = |node: &NodeId| {
        world
            .status(node)
            .filter(|s| s.coordinator.as_ref() == Some(node))
    };
    ferry_spec()
        .nodes
        .keys()
        .find_map(leads)
        .expect("somebody leads")
}

fn node<'a>(status: &'a Status, name: &str) -> &'a NodeView {
    status
        .nodes
        .iter()
        .find(|n| n.node.as_str() == name)
        .expect("it is in the spec")
}

fn off(name: &str) -> Fault {
    Fault::PowerCut {
        node: name.into(),
        down_ms: 60_000,
    }
}

fn cut(name: &str) -> Fault {
    Fault::Isolate {
        node: name.into(),
        for_ms: 60_000,
    }
}

#[test]
fn calm_then_a_voter_less_then_no_majority() {
    for seed in 0..3 {
        let calm = seen(&after(500, World::new(ferry_spec(), seed, None), &[]));
        assert_eq!(
            (calm.condition, calm.workloads[0].condition),
            (Condition::Healthy, Condition::Healthy)
        );
        let well = "All is well. sailings: doline is primary; 2 of 2 standbys have every write.";
        assert_eq!(calm.sentence, well);
        assert_eq!(
            (calm.writes.state, calm.needs_you.len()),
            (Writes::Accepted, 0)
        );
        assert!(calm.writes.for_ms.is_some());
        assert!(
            calm.quorum.heard == 3 && calm.quorum.cannot_lose.is_empty(),
            "{:?}",
            calm.quorum
        );

        // Any two voters stop it, and no zone does.
        let stops: Vec<&str> = calm
            .quorum
            .if_lost
            .iter()
            .filter(|loss| !loss.holds)
            .map(|loss| loss.what.as_str())
            .collect();
        let pairs = ["doline and polje", "doline and ponor", "polje and ponor"];
        assert_eq!(stops, pairs);

        let less = seen(&after(
            3_000,
            World::new(ferry_spec(), seed, None),
            &[off("ponor")],
        ));
        assert_eq!(
            (less.condition, less.sentence.as_str()),
            (
                Condition::Degraded,
                "No heartbeat from ponor; all workloads serve."
            )
        );
        assert_eq!(less.quorum.cannot_lose, ["doline".into(), "polje".into()]);

        // Whoever is left says what is missing, of what, and that nothing happens.
        let world = after(
            5_000,
            World::new(ferry_spec(), seed, None),
            &[off("polje"), off("ponor")],
        );
        for survivor in ["doline", "uvala"] {
            let alone = world.status(&survivor.into()).expect("its daemon runs");
            assert_eq!(
                (alone.condition, alone.writes.state, &alone.coordinator),
                (Condition::Unknown, Writes::Unknown, &None)
            );
            let needs: Vec<NeedKind> = alone.needs_you.iter().map(|need| need.kind).collect();
            assert_eq!(needs, [NeedKind::BringVoters]);
            let said = format!(
                "No majority: {survivor} hears 1 of 3 votes and 2 are needed; not heard: polje and ponor."
            );
            assert!(
                alone.sentence.starts_with(&said)
                    && alone.sentence.ends_with("Nothing is promoted."),
                "{alone:?}"
            );
            assert_eq!(
                alone.quorum.cannot_lose,
                [],
                "there is nothing left to lose"
            );
        }
    }
}

/// A voter with a new store is there, and is no vote: one more lost and nothing is promoted.
#[test]
fn a_vote_that_does_not_count_is_not_counted() {
    let lost = Fault::LoseStore {
        node: "ponor".into(),
        down_ms: 100,
    };
    let status = seen(&after(3_000, World::new(ferry_spec(), 1, None), &[lost]));
    assert_eq!(
        (status.quorum.heard, node(&status, "ponor").votes_count),
        (2, Some(false))
    );
    assert_eq!(status.quorum.cannot_lose, ["doline".into(), "polje".into()]);
    assert_eq!(status.condition, Condition::Degraded);
    assert!(
        status.sentence.starts_with("No vote of ponor counts"),
        "{}",
        status.sentence
    );
}

/// The opaque minute: while nobody serves it is said what is waited for, and for how long yet.
#[test]
fn a_silent_primary_is_waited_for_until_its_lease_is_over() {
    for seed in 0..3 {
        let world = |ms| {
            seen(&after(
                ms,
                World::new(ferry_spec(), seed, None),
                &[off("doline")],
            ))
        };
        let waiting = world(1_200);
        assert_eq!(
            (waiting.writes.state, waiting.condition),
            (Writes::Unknown, Condition::Unknown)
        );
        let said = waiting.workloads[0].sentence.clone();
        let rest = said
            .split_once("its lease expires in ")
            .and_then(|(_, rest)| rest.split_once(" ms at most"));
        let rest: u64 = rest.expect(&said).0.parse().expect("a number");
        // The last grant left at most a heartbeat and a half before the cut.
        assert!((600..=900).contains(&rest), "{said}");
        let later = world(6_000);
        assert_eq!(
            (later.condition, later.writes.state),
            (Condition::Degraded, Writes::Accepted)
        );
        assert!(
            later.sentence.contains("is primary; 1 of 2 standbys"),
            "{}",
            later.sentence
        );
        assert!(
            later.sentence.contains("missing: doline (not heard)"),
            "{}",
            later.sentence
        );
    }
}

#[test]
fn a_primary_without_standbys_says_what_becomes_of_writes() {
    let cases = [
        (
            Alone::Block,
            Condition::Down,
            "writes wait, as no standby can confirm them",
        ),
        (
            Alone::Continue,
            Condition::Degraded,
            "writes are unprotected",
        ),
    ];
    for (alone, condition, words) in cases {
        let mut spec = ferry_spec();
        spec.workloads.values_mut().for_each(|w| w.alone = alone);
        let one = seen(&after(
            3_000,
            World::new(spec.clone(), 1, None),
            &[cut("uvala")],
        ));
        assert_eq!(one.condition, Condition::Degraded);
        assert!(
            one.sentence
                .contains("1 of 2 standbys have every write; missing: uvala (not heard)"),
            "{one:?}"
        );
        let none = seen(&after(
            4_000,
            World::new(spec, 1, None),
            &[cut("uvala"), off("polje")],
        ));
        assert_eq!(none.condition, condition, "{}", none.sentence);
        let facts = (
            none.writes.state,
            none.needs_you.first().map(|need| need.kind),
        );
        assert_eq!(
            facts,
            match alone {
                Alone::Block => (Writes::Stopped, Some(NeedKind::BringStandby)),
                Alone::Continue => (Writes::Accepted, None),
            }
        );
        assert!(
            none.sentence.contains(words)
                && none.sentence.contains("missing: polje (not heard), uvala"),
            "{none:?}"
        );
        assert_eq!(
            none.workloads[0].next.is_some(),
            condition == Condition::Down
        );
        let primary = none.workloads[0]
            .replicas
            .iter()
            .find(|r| r.state == ReplicaState::Primary)
            .expect("a primary");
        assert_eq!(
            primary.detail == "accepts writes",
            alone == Alone::Continue,
            "{primary:?}"
        );
    }
}

#[test]
fn links_are_shown_as_what_they_are() {
    let one_way = Fault::OneWay {
        from: "doline".into(),
        to: "polje".into(),
        for_ms: 60_000,
    };
    let status = seen(&after(3_000, World::new(ferry_spec(), 3, None), &[one_way]));
    assert_eq!(node(&status, "polje").does_not_hear, ["doline".into()]);
    assert_eq!(
        node(&status, "doline").does_not_hear,
        [],
        "the other way works"
    );
    assert!(
        status.nodes.iter().all(|n| n.state == NodeState::Up),
        "{:?}",
        status.nodes
    );

    let lossy = Fault::Lossy {
        percent: 20,
        late_ms: 60,
        for_ms: 60_000,
    };
    let status = seen(&after(8_000, World::new(ferry_spec(), 3, None), &[lossy]));
    for n in &status.nodes {
        assert!(
            n.does_not_hear.is_empty() && n.misses.values().all(|lost| (5..45).contains(lost)),
            "{n:?}"
        );
    }
    assert!(
        status.nodes.iter().any(|n| !n.misses.is_empty()),
        "nobody misses anything"
    );
}

/// S6: a fenced host is shown as one, with the reason, the state of its power, and why it may not
/// take over.
#[test]
fn a_fenced_host_is_shown_with_the_reason() {
    let status = seen(&after(
        3_000,
        World::new(powered_spec(), 3, None),
        &[off("doline")],
    ));
    let doline = node(&status, "doline");
    assert!(
        doline
            .fenced
            .as_ref()
            .is_some_and(|why| why.contains("no heartbeat from doline for")),
        "{doline:?}"
    );
    assert_eq!(doline.power, Some(PowerView::Off));
    let w = &status.workloads[0];
    let candidate = w
        .candidates
        .iter()
        .find(|c| c.node.as_str() == "doline")
        .expect("it is listed");
    assert!(
        candidate
            .excluded
            .as_ref()
            .is_some_and(|why| why.contains("it is fenced")),
        "{candidate:?}"
    );
    assert!(
        w.sentence
            .ends_with("missing: doline (fenced, its power is off)"),
        "{}",
        w.sentence
    );
}

/// Where the cluster does nothing by itself, that is no good state, however well all is.
#[test]
fn a_mode_that_leaves_failures_to_people_is_said_and_a_loss_needs_somebody() {
    let watch = Fault::Ask {
        of: "polje".into(),
        request: Request::Mode {
            workload: "sailings".into(),
            mode: Mode::Watch,
            by: "marlin".into(),
            at: 1_800_000_000,
            why: Some("the quay is being rewired".into()),
            until: None,
        },
    };
    let well = seen(&after(
        2_000,
        World::new(ferry_spec(), 1, None),
        std::slice::from_ref(&watch),
    ));
    assert_eq!(
        (well.condition, well.writes.state, well.needs_you.len()),
        (Condition::Degraded, Writes::Accepted, 0)
    );
    assert!(
        well.sentence
            .contains("automatic failover is off (mode watch)"),
        "{}",
        well.sentence
    );
    let set = well.workloads[0].mode_set.as_ref().expect("it was set");
    assert_eq!(set.why.as_deref(), Some("the quay is being rewired"));
    let lost = seen(&after(
        6_000,
        World::new(ferry_spec(), 1, None),
        &[watch, off("doline")],
    ));
    assert_eq!(
        (lost.condition, lost.writes.state),
        (Condition::Down, Writes::Stopped)
    );
    let need = lost.needs_you.first().expect("somebody is needed");
    assert_eq!(need.kind, NeedKind::TakeOver);
    assert!(
        need.next.contains("karst failover sailings --to"),
        "{need:?}"
    );
}

/// With a bounded loss a standby that receives nothing is missed just as well.
#[test]
fn a_missing_standby_is_missed_where_some_loss_is_accepted() {
    let mut spec = ferry_spec();
    for workload in spec.workloads.values_mut() {
        workload.loss = Loss::Bytes(16_000_000);
    }
    let whole = seen(&after(2_000, World::new(spec.clone(), 1, None), &[]));
    assert_eq!(whole.condition, Condition::Healthy, "{}", whole.sentence);
    assert!(
        whole.sentence.contains("2 of 2 standbys receive"),
        "{}",
        whole.sentence
    );
    let less = seen(&after(4_000, World::new(spec, 1, None), &[off("polje")]));
    assert_eq!(less.condition, Condition::Degraded, "{}", less.sentence);
    assert!(
        less.sentence.contains("missing: polje"),
        "{}",
        less.sentence
    );
}

/// G5: what may be switched off is said for now. Once a voter outside is lost it is taken back, as a
/// finding too.
#[test]
fn a_rest_that_is_not_safe_any_more_is_a_finding() {
    let unsafe_rest = |ms, faults: Vec<(u64, Fault)>| {
        let mut world = World::new(ferry_spec(), 1, None);
        let until_ms = AT + ms;
        let outcome = world.run(&Script {
            faults,
            until_ms,
            calm_ms: 0,
        });
        outcome.unwrap_or_else(|failure| panic!("{failure}"));
        let findings = seen(&world).findings.into_iter().map(|f| f.finding);
        findings
            .filter(|f| f.kind == FindingKind::RestNotSafe)
            .collect::<Vec<_>>()
    };
    let rests = (AT, wish(maintenance(&["ponor"], true)));
    assert_eq!(unsafe_rest(5_000, vec![rests.clone()]), []);
    let lost = (AT + 5_000, off("polje"));
    let found = unsafe_rest(9_000, vec![rests, lost]);
    assert!(
        found.len() == 1 && found[0].what.contains("ponor must stay on"),
        "{found:?}"
    );
}

/// G5: a rest that takes the last gate with it says so, and wants the workload's name for it.
#[test]
fn a_rest_that_takes_the_last_way_in_is_asked_about() {
    let spec = ferry_spec();
    let gates = spec.workloads[&sailings()].gates.keys();
    let gates: Vec<&str> = gates.map(NodeId::as_str).collect();
    let unmet = |cut_off| {
        let world = after(
            1_000,
            World::new(ferry_spec(), 1, None),
            &[wish_at("polje", maintenance(&gates, cut_off), true)],
        );
        match world.answers() {
            [Answer::IntentPlan(plan)] => plan.unmet.join("; "),
            other => panic!("{other:?}"),
        }
    };
    let (asked, accepted) = (unmet(false), unmet(true));
    assert!(
        asked.contains("no way in") && asked.contains("--cut-off sailings"),
        "{asked}"
    );
    assert!(!accepted.contains("--cut-off"), "{accepted}");
}
