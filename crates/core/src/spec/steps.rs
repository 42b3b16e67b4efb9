//! Whether the site's own steps are sound: what they name is there, and they keep nothing from being
//! done that has to be.

use super::finding::{Findings, did_you_mean, nearest};
use super::model::Spec;
use crate::ids::{NodeId, WorkloadId};
use crate::ownstep::{IfFails, OwnStep};
use std::ops::RangeInclusive;
use std::time::Duration;

const LIMIT: RangeInclusive<Duration> = Duration::from_millis(100)..=Duration::from_secs(3_600);
/// While clients wait.
const SHORT: Duration = Duration::from_secs(60);

pub(super) fn steps(spec: &Spec, found: &mut Findings) {
    for (name, step) in &spec.steps {
        program(name, step, found);
        names(spec, name, step, found);
        let limit = ["step", name, "limit"];
        if !LIMIT.contains(&step.limit) {
            let given = crate::text::span(step.limit);
            found.error(
                &limit,
                format!("{given} is out of bounds"),
                "use 100ms to 1h",
            );
        } else if step.at.delays_clients() && step.limit > SHORT {
            let given = crate::text::span(step.limit);
            found.error(
                &limit,
                format!("{given}, and clients may wait while it runs"),
                "use 1min at most, or have it run at another point",
            );
        }
        if step.if_fails == IfFails::Stop && !step.at.may_stop() {
            found.error(
                &["step", name, "if_fails"],
                format!(
                    "nothing is kept from being done by a step `{}`",
                    step.at.word()
                ),
                "leave it out, or have it run before a switchover, promotion, clone or maintenance",
            );
        }
    }
}

fn program(name: &str, step: &OwnStep, found: &mut Findings) {
    let ok = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let program = &step.program;
    if !(1..=100).contains(&program.len()) || !program.chars().all(ok) || program.starts_with('.') {
        found.error(
            &["step", name, "program"],
            format!("`{program}` is no file's name"),
            "name a file in the hosts' directory of steps, without that directory (`--steps`)",
        );
    }
}

fn names(spec: &Spec, name: &str, step: &OwnStep, found: &mut Findings) {
    if !step.workloads.is_empty() && !step.at.is_of_workload() {
        found.error(
            &["step", name, "workloads"],
            format!(
                "`{}` is about a node, and about no workload",
                step.at.word()
            ),
            "leave it out",
        );
    }
    for id in step
        .workloads
        .iter()
        .filter(|id| !spec.workloads.contains_key(*id))
    {
        let near = nearest(id.as_str(), spec.workloads.keys().map(WorkloadId::as_str));
        found.error(
            &["step", name, "workloads"],
            format!("there is no workload `{id}`"),
            did_you_mean(near, "name one that is there"),
        );
    }
    for node in step
        .nodes
        .iter()
        .filter(|node| !spec.nodes.contains_key(*node))
    {
        let near = nearest(node.as_str(), spec.nodes.keys().map(NodeId::as_str));
        found.error(
            &["step", name, "nodes"],
            format!("there is no node `{node}`"),
            did_you_mean(near, "name one that is there"),
        );
    }
}
