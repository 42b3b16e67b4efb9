//! What two specs alone say of a change from one to the other: it needs no state of the cluster, so that it is
//! found out off the heart's thread, where a long spec holds nothing up.

use super::check::check;
use super::finding::{Finding, Severity};
use super::model::{Leads, Spec, WorkloadSpec};
use super::reach::newly_reached;
use super::{Change, Revision, fixed};
use crate::ids::{NodeId, WorkloadId};
use crate::ownstep::{IfFails, OwnStep};
use std::collections::{BTreeMap, BTreeSet};

/// A spec, held against the revision in force.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Judged {
    /// The number of the revision that was in force.
    pub based_on: u64,
    pub change: Change,
    /// Reasons why this spec cannot be in force in any state of the cluster.
    pub unmet: Vec<String>,
    pub consequences: Vec<String>,
}

impl Judged {
    pub fn new(now: &Revision, text: &str, spec: &Spec) -> Self {
        let change = Change::between(&now.spec, spec);
        let findings = check(spec);
        let mut unmet = obstacles(&now.spec, spec, &findings);
        if *spec == *now.spec && *text == *now.text {
            unmet.push("nothing is different from the spec in force".into());
        }
        // The effects of a spec with errors are of no use.
        let consequences = if unmet.is_empty() {
            consequences(&now.spec, spec, &change, &findings)
        } else {
            Vec::new()
        };
        Self {
            based_on: now.number,
            change,
            unmet,
            consequences,
        }
    }
}

fn obstacles(was: &Spec, is: &Spec, findings: &[Finding]) -> Vec<String> {
    let mut unmet: Vec<String> = fixed(was, is)
        .into_iter()
        .map(|fixed| {
            let key = fixed.path.join(".");
            format!(
                "{key} cannot change while the cluster runs; {}",
                fixed.remedy
            )
        })
        .collect();
    let errors = findings.iter();
    let errors = errors.filter(|finding| finding.severity == Severity::Error);
    unmet.extend(errors.map(|e| format!("{}: {}; {}", e.path.join("."), e.what, e.remedy)));
    unmet
}

fn consequences(was: &Spec, is: &Spec, change: &Change, findings: &[Finding]) -> Vec<String> {
    let mut all = Vec::new();
    for (id, node) in &change.replicas_out {
        let data = was.workloads.get(id).and_then(|w| w.replicas.get(node));
        if let Some(replica) = data {
            all.push(format!(
                "the data of {id} stay on {node} in {}: nothing removes them",
                replica.data
            ));
        }
    }
    for id in &change.workloads_out {
        if let Some(workload) = was.workloads.get(id) {
            let places = workload.replicas.iter();
            let places: Vec<String> = places.map(|(n, r)| format!("{n} {}", r.data)).collect();
            all.push(format!(
                "{id} is served no more; its data stay: {}",
                places.join(", ")
            ));
        }
    }
    for node in &change.nodes_out {
        all.push(format!(
            "{node} is heard no more, and its key is refused; its daemon runs on there, with nothing to do, until somebody stops it"
        ));
    }
    for (id, spec) in &is.workloads {
        let left = spec.replicas.len();
        let before = was.workloads.get(id).map(|w| w.replicas.len());
        if before.is_some_and(|before| left < before) {
            let standbys = standbys(left.saturating_sub(1));
            all.push(format!("{id} has {standbys} from then on"));
        }
    }
    for (id, was) in &was.workloads {
        let is = is.workloads.get(id);
        let closes = |n: &&NodeId| is.is_some_and(|is| !is.gates.contains_key(*n));
        for node in was.gates.keys().filter(closes) {
            all.push(format!(
                "the gate of {id} on {node} closes: whoever is connected there connects anew elsewhere"
            ));
        }
    }
    for (id, was) in &was.workloads {
        let is = is.workloads.get(id);
        let gates = |w: &WorkloadSpec| w.reads.as_ref().map(|reads| reads.gates.clone());
        let (was, is) = (gates(was), is.map(|is| gates(is).unwrap_or_default()));
        for (node, at) in was.into_iter().flatten() {
            if is.as_ref().is_some_and(|is| is.get(&node) != Some(&at)) {
                all.push(format!(
                    "the read gate of {id} on {node} closes: whoever reads there connects anew elsewhere"
                ));
            }
        }
    }
    all.extend(newly_reached(was, is));
    all.extend(words_changed(was, is));
    all.extend(names_changed(was, is));
    all.extend(steps_changed(change, was, is));
    for id in &change.settings {
        let was = was.workloads.get(id).map(|w| &w.settings);
        let is = is.workloads.get(id).map(|w| &w.settings);
        if let Some((was, is)) = was.zip(is) {
            let keys = was.keys().chain(is.keys()).collect::<BTreeSet<_>>();
            let other = keys.into_iter().filter(|k| was.get(*k) != is.get(*k));
            let other: Vec<&str> = other.map(String::as_str).collect();
            all.push(format!("{id} has other settings: {}", other.join(", ")));
            all.extend(clients_changed(id, was, is));
        }
    }
    let known: BTreeSet<String> = check(was).iter().map(Finding::name).collect();
    let new = findings.iter();
    let new = new.filter(|f| f.severity == Severity::Warning && !known.contains(&f.name()));
    all.extend(new.map(|f| format!("from then on: {}", f.what)));
    if change.timings {
        let (was, is) = (&was.timings, &is.timings);
        all.push(format!(
            "leases last {} ms in place of {} ms; until {} ms later a failover waits as long as before",
            is.lease.as_millis(),
            was.lease.as_millis(),
            was.lease_is_over_after().as_millis()
        ));
    }
    let out = change
        .nodes_out
        .iter()
        .filter(|n| was.nodes.get(*n).is_some_and(|node| node.votes > 0));
    let out: Vec<&str> = out.map(NodeId::as_str).collect();
    if !out.is_empty() {
        let left = was.votes().total() - was.votes().granted(&change.nodes_out);
        all.push(format!(
            "without {} there are {left} votes, and {} of them are needed, until others have joined",
            out.join(", "),
            left / 2 + 1
        ));
    }
    all
}

/// Lines of a list of clients that come or go.
fn clients_changed(
    id: &WorkloadId,
    was: &BTreeMap<String, String>,
    is: &BTreeMap<String, String>,
) -> Vec<String> {
    fn lines(of: &BTreeMap<String, String>) -> Vec<&str> {
        let text = of.get("clients").map_or("", String::as_str);
        let lines = text.lines().map(str::trim);
        let written = |line: &&str| !line.is_empty() && !line.starts_with('#');
        lines.filter(written).collect()
    }
    let (was, is) = (lines(was), lines(is));
    let (before, now): (BTreeSet<_>, BTreeSet<_>) =
        (was.iter().copied().collect(), is.iter().copied().collect());
    let out = was.iter().filter(|line| !now.contains(*line));
    let out = out.map(|line| format!("{id} goes by this line for clients no more: {line}"));
    let new = is.iter().filter(|line| !before.contains(*line));
    let new = new.map(|line| format!("{id} goes by a new line for clients: {line}"));
    out.chain(new).collect()
}

pub(crate) fn standbys(count: usize) -> String {
    match count {
        0 => "no standby".into(),
        1 => "one standby".into(),
        more => format!("{more} standbys"),
    }
}

/// Another `loss` or `alone` holds for the cluster from its entry, and for writes from when the primary
/// has taken it. A primary that is cut off takes nothing until its lease is over.
fn words_changed(was: &Spec, is: &Spec) -> Vec<String> {
    let most = was.timings.lease_is_over_after().as_millis();
    let both = is.workloads.iter();
    let both = both.filter_map(|(id, is)| Some((id, was.workloads.get(id)?, is)));
    let text = |(id, was, is): (&WorkloadId, &WorkloadSpec, &WorkloadSpec)| {
        let loss = (was.loss != is.loss).then_some("loss");
        let alone = (was.alone != is.alone).then_some("alone");
        let keys: Vec<&str> = loss.into_iter().chain(alone).collect();
        (!keys.is_empty()).then(|| {
            format!(
                "the new {} of {id} holds for writes once its primary has taken it; a primary that is cut off acknowledges by the old one for {most} ms at most",
                keys.join(" and ")
            )
        })
    };
    both.filter_map(text).collect()
}

/// Names that begin to lead somewhere, and those that nobody keeps any more.
fn names_changed(was: &Spec, is: &Spec) -> Vec<String> {
    let name = |spec: &Spec, id: &WorkloadId| {
        let name = spec.workloads.get(id)?.name.as_ref()?;
        Some((name.record.clone(), name.leads))
    };
    let ids: BTreeSet<&WorkloadId> = was.workloads.keys().chain(is.workloads.keys()).collect();
    let mut all = Vec::new();
    for id in ids {
        let (was, is) = (name(was, id), name(is, id));
        if let Some((record, leads)) = is.clone().filter(|_| was != is) {
            let to = match leads {
                Leads::Address => "the floating address",
                Leads::Gates => "the gates",
                Leads::Primary => "the primary",
            };
            all.push(format!("{record} leads to {to} of {id} from then on"));
        }
        let kept = is.map(|(record, _)| record);
        if let Some((record, _)) = was.filter(|(record, _)| kept.as_ref() != Some(record)) {
            all.push(format!(
                "{record} stays at its name server and is kept no more: remove it there"
            ));
        }
    }
    all
}

/// Own steps that run from then on, and those that do not any more.
fn steps_changed(change: &Change, was: &Spec, is: &Spec) -> Vec<String> {
    let new = change.steps.iter();
    let new = new.filter_map(|name| Some((name, is.steps.get(name)?)));
    let runs = |(name, step): (&String, &OwnStep)| {
        let so = match step.if_fails {
            IfFails::GoOn => "and everything goes on if it fails",
            IfFails::Stop => "and may keep it from being done",
        };
        let (at, limit) = (step.at.word(), crate::text::span(step.limit));
        format!("own step {name} runs {at}, for {limit} at most, {so}")
    };
    let gone = was
        .steps
        .keys()
        .filter(|name| !is.steps.contains_key(*name));
    let gone = gone.map(|name| format!("own step {name} runs no more"));
    new.map(runs).chain(gone).collect()
}
