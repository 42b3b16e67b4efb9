//! Safety points: what is kept stays as it is, whatever happens to whoever keeps it.

use crate::wishes::{n, point, sailings, wish};
use karst_core::Planted;
use karst_core::request::{Plea, Request};
use karst_core::spec::Spec;
use karst_sim::{Fault, Script, World, ferry_spec};

const AT: u64 = 8_000;

fn off(node: &str, down_ms: u64) -> Fault {
    let node = n(node);
    Fault::PowerCut { node, down_ms }
}

/// What a seed comes to: the world, or which guarantee was broken.
fn play(
    seed: u64,
    faults: &[(u64, Fault)],
    planted: Option<Planted>,
) -> Result<World, &'static str> {
    play_in(ferry_spec(), seed, faults, planted)
}

fn play_in(
    spec: Spec,
    seed: u64,
    faults: &[(u64, Fault)],
    planted: Option<Planted>,
) -> Result<World, &'static str> {
    let mut world = World::new(spec, seed, planted);
    let script = Script {
        faults: faults.to_vec(),
        until_ms: 40_000,
        // A point is there until somebody drops it.
        calm_ms: 0,
    };
    match world.run(&script) {
        Ok(()) => Ok(world),
        Err(failure) => {
            println!("{failure}");
            Err(failure.guarantee)
        }
    }
}

/// Its host boots, and its daemon knows less of the log at first than it did; another is primary; then
/// it goes on from there (what it has then is checked as it opens).
#[test]
fn what_is_kept_outlives_its_host_and_its_primary() {
    let workload = sailings();
    let faults = [
        (AT, point()),
        (AT + 3_000, off("uvala", 900)),
        (AT + 6_000, off("doline", 2_500)),
        (AT + 14_000, wish(Plea::GoBack { workload })),
    ];
    for seed in 0..20 {
        let world = play(seed, &faults, None).unwrap();
        assert_eq!(world.holder(), Some(&n("uvala")), "seed {seed}");
    }
}

/// Whoever was to write it, or to be followed up to it, is lost: the next primary is that, and it stands
/// in the end; or it is over, where the standby had more than the next primary has.
#[test]
fn it_is_made_all_the_same_where_the_primary_is_lost_meanwhile() {
    let mut stood = 0;
    for seed in 0..8 {
        for late in [5, 40, 90, 150, 250, 400, 700] {
            let faults = [(AT, point()), (AT + late, off("doline", 3_000))];
            let world = play(seed, &faults, None).unwrap();
            let coordinator = world.coordinator().unwrap().clone();
            let status = world.status(&coordinator).unwrap();
            let point = status.workloads[0].safety_point.as_ref();
            let is_well = point.is_none_or(|point| point.stands);
            stood += usize::from(point.is_some());
            assert!(is_well, "seed {seed}, lost after {late} ms: {point:?}");
        }
    }
    assert!(stood > 28, "it stood in {stood} of 56");
}

/// Whoever was held back is stopped once more to follow again, and no write waits for it until it does.
#[test]
fn it_can_be_dropped_at_any_moment() {
    let (of, nodes) = (n("polje"), vec![]);
    for late in (25..1_200).step_by(25) {
        let over = Fault::Rest {
            of: of.clone(),
            nodes: nodes.clone(),
            end: true,
        };
        let faults = [(AT, point()), (AT + late, over)];
        for seed in 0..3 {
            let world = play(seed, &faults, None).unwrap();
            let status = world.status(world.coordinator().unwrap()).unwrap();
            let sync = &status.workloads[0].sync.asked;
            assert!(
                sync.contains(&n("uvala")),
                "seed {seed}, {late} ms: {sync:?}"
            );
        }
    }
}

/// Its node is fenced just then, and so it takes nothing over: nobody is moved about again and again for
/// that. Nobody cuts its power, and no gate on it is waited for.
#[test]
fn nobody_is_moved_about_for_a_point_that_cannot_be_gone_back_to() {
    let mut spec = ferry_spec();
    let workload = spec.workloads.get_mut(&sailings()).unwrap();
    workload.gates.remove(&n("uvala"));
    for after in [2_000, 3_004, 3_010] {
        let (workload, node, by) = (sailings(), n("uvala"), "marlin".into());
        let (of, request) = (n("polje"), Request::Fence { node, by });
        let faults = [
            (AT, point()),
            (AT + 3_000, wish(Plea::GoBack { workload })),
            (AT + after, Fault::Ask { of, request }),
        ];
        for seed in 0..10 {
            let world = play_in(spec.clone(), seed, &faults, None).unwrap();
            let epoch = world.epoch();
            assert!(epoch <= 3, "seed {seed}, {after} ms: epoch {epoch}");
        }
    }
}

#[test]
fn a_daemon_that_forgets_it_is_found() {
    let faults = [(AT, point()), (AT + 3_000, off("uvala", 900))];
    let found = (0..20).find(|seed| play(*seed, &faults, Some(Planted::HeldGoesOn)).is_err());
    assert!(found.is_some());
}
