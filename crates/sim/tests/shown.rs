//! What a person who asks a node is shown: one sentence that is true, and what is behind it.

use karst_core::NodeId;
use karst_core::spec::Alone;
use karst_core::view::{Condition, NodeState, NodeView, PowerView, ReplicaState, Status};
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
        assert!(
            calm.quorum.heard == 3 && calm.quorum.cannot_lose.is_empty(),
            "{:?}",
            calm.quorum
        );

        let less = seen(&after(
            3_000,
            World::new(ferry_spec(), seed, None),
            &[off("ponor")],
        ));
        assert_eq!(
            (less.condition, less.sentence.as_str()),
            (Condition::Weakened, "Not heard: ponor. Workloads run.")
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
                (alone.condition, &alone.coordinator),
                (Condition::Down, &None)
            );
            let said = format!(
                "No majority: {survivor} hears 1 of 3 votes and 2 are needed; not heard: polje, ponor."
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
    assert_eq!(status.condition, Condition::Weakened);
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
        let said = world(1_200).workloads[0].sentence.clone();
        let rest = said
            .strip_prefix("sailings: doline is not heard; in ")
            .and_then(|t| t.split_once(" ms at most"));
        let rest: u64 = rest.expect(&said).0.parse().expect("a number");
        // The last grant left at most a heartbeat and a half before the cut.
        assert!((600..=900).contains(&rest), "{said}");
        let later = world(6_000);
        assert_eq!(later.condition, Condition::Weakened);
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
            Condition::Weakened,
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
        assert_eq!(one.condition, Condition::Weakened);
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
            .is_some_and(|why| why.contains("nobody has heard doline for")),
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
