//! The daemon of each node is killed right after each step of each plan, in turn: whatever was under
//! way is done in the end, by whoever coordinates then, and every guarantee holds meanwhile.

use crate::wishes::{n, point, sailings, wish};
use karst_core::request::{Plea, Request};
use karst_core::spec::Timings;
use karst_sim::{Edit, Fault, Script, World, ferry_spec};
use std::collections::BTreeSet;

const SEED: u64 = 7;
/// What is planned begins then, in milliseconds.
const AT: u64 = 8_000;
/// By then it is done, where nobody is killed.
const DONE: u64 = 20_000;
/// By then everything has to be whole again.
const WHOLE: u64 = 45_000;
/// A daemon is away for longer than its peers wait for it.
const AWAY: u64 = 900;

fn submit(edit: Edit) -> Fault {
    let of = n("polje");
    Fault::Submit { of, edit }
}

fn run(faults: Vec<(u64, Fault)>, until_ms: u64, calm_ms: u64) -> (World, Option<String>) {
    let mut world = World::new(ferry_spec(), SEED, None);
    let failure = world.run(&Script {
        faults,
        until_ms,
        calm_ms,
    });
    (world, failure.err().map(|failure| failure.to_string()))
}

/// The milliseconds in which something was decided or done, where nobody is killed.
fn steps(before: &[(u64, Fault)], plan: &Fault) -> BTreeSet<u64> {
    let faults = before.iter().cloned().chain([(AT, plan.clone())]);
    let (world, failure) = run(faults.collect(), DONE, 5_000);
    assert_eq!(failure, None, "without any fault");
    let at = |line: &String| {
        let (ms, what) = line.trim_start().split_once(" ms ")?;
        let ms: f64 = ms.parse().ok()?;
        (ms >= AT as f64 && !what.contains("FAULT")).then_some(ms as u64)
    };
    world.story().iter().filter_map(at).collect()
}

/// Whatever lasts until a person ends it is ended then.
const ENDED: u64 = 25_000;

fn killed_after_each_step_of(plan: Fault, least: usize) {
    killed_after_each_step(&[], plan, least);
}

fn killed_after_each_step(before: &[(u64, Fault)], plan: Fault, least: usize) {
    let (of, nodes, end) = (n("polje"), Vec::new(), true);
    let ends = Fault::Rest { of, nodes, end };
    let steps = steps(before, &plan);
    assert!(
        steps.len() >= least,
        "it has {} steps: {steps:?}",
        steps.len()
    );
    for step in steps {
        for node in ferry_spec().nodes.keys() {
            let kill = Fault::KillDaemon {
                node: node.clone(),
                down_ms: AWAY,
            };
            let mut faults = before.to_vec();
            faults.extend([(AT, plan.clone()), (step + 1, kill), (ENDED, ends.clone())]);
            let (_, failure) = run(faults, WHOLE, 20_000);
            if let Some(failure) = failure {
                panic!("{node} killed at {} ms of {plan:?}: {failure}", step + 1);
            }
        }
    }
}

#[test]
fn of_a_switchover() {
    let request = Request::Switchover {
        workload: sailings(),
        to: Some(n("polje")),
        by: "marlin".into(),
        plan_only: false,
    };
    let of = n("polje");
    killed_after_each_step_of(Fault::Ask { of, request }, 5);
}

#[test]
fn of_a_failover() {
    killed_after_each_step_of(
        Fault::KillServer {
            node: n("doline"),
            lingers_ms: 5,
        },
        4,
    );
}

#[test]
fn of_other_timings() {
    killed_after_each_step_of(submit(Edit::Timings(Box::new(Timings::brisk()))), 3);
}

#[test]
fn of_another_vote() {
    killed_after_each_step_of(submit(Edit::Votes(n("uvala"), 1)), 3);
}

#[test]
fn of_a_replica_out_that_is_primary() {
    killed_after_each_step_of(submit(Edit::ReplicaOut(sailings(), n("doline"))), 6);
}

#[test]
fn of_a_node_out() {
    killed_after_each_step_of(submit(Edit::NodeOut(n("doline"))), 6);
}

#[test]
fn of_a_workload_out() {
    killed_after_each_step_of(submit(Edit::WorkloadOut(sailings())), 3);
}

#[test]
fn of_a_rolling_restart() {
    let (of, workload) = (n("polje"), sailings());
    killed_after_each_step_of(Fault::Restart { of, workload }, 8);
}

#[test]
fn of_a_rest() {
    let (of, nodes) = (n("polje"), vec![n("doline")]);
    let end = false;
    killed_after_each_step_of(Fault::Rest { of, nodes, end }, 5);
}

#[test]
fn of_a_safety_point() {
    killed_after_each_step_of(point(), 6);
}

#[test]
fn of_going_back_to_one() {
    let workload = sailings();
    let back = wish(Plea::GoBack { workload });
    killed_after_each_step(&[(AT - 3_000, point())], back, 6);
}

#[test]
fn of_a_new_store_taken_in() {
    let (node, down_ms) = (n("ponor"), 200);
    let lost = Fault::LoseStore { node, down_ms };
    let node = n("ponor");
    killed_after_each_step(&[(AT - 3_000, lost)], wish(Plea::Enrol { node }), 4);
}
