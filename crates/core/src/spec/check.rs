//! Whether a spec is sound: findings with the path of the key at fault. Lines and columns are the
//! parser's side's work.

use super::endpoints::endpoints;
use super::finding::{Finding, FindingKind, Findings, did_you_mean, nearest};
use super::model::{Alone, Clock, Loss, Readmit, Spec, WorkloadSpec};
use super::steps::steps;
use crate::ids::{NodeId, WorkloadId};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::Path;

/// Everything that is wrong or worth knowing, errors first.
pub fn check(spec: &Spec) -> Vec<Finding> {
    let mut found = Findings(Vec::new());
    sizes(spec, &mut found);
    names(spec, &mut found);
    nodes(spec, &mut found);
    clocks(spec, &mut found);
    votes(spec, &mut found);
    addresses(spec, &mut found);
    directories(spec, &mut found);
    steps(spec, &mut found);
    let in_a_circle = needs_themselves(spec);
    for (id, workload) in &spec.workloads {
        workload_findings(spec, id, workload, &mut found);
        if in_a_circle.contains(id) {
            found.error(
                &["workload", id.as_str(), "needs"],
                format!(
                    "`{id}` needs itself, by way of what it needs: none of them would be first"
                ),
                "take one of them out of the circle",
            );
        }
    }
    for (key, allowed) in spec.timings.out_of_bounds() {
        let what = format!("`{key}` is out of bounds");
        found.error(&["timing", key], what, format!("use {allowed}"));
    }
    for rule in spec
        .timings
        .inequalities()
        .iter()
        .filter(|rule| !rule.holds())
    {
        found.error(
            &["timing", rule.key],
            format!(
                "impossible timings: {} ({:?} is not more than {:?})",
                rule.rule, rule.left, rule.right
            ),
            format!(
                "raise `{}` or lower the others, or leave all to `timings = \"default\"`",
                rule.key
            ),
        );
    }
    found.0.sort_by_key(|f| f.severity);
    found.0
}

/// A coordinator's work was measured with so many (docs/benchmarks.md).
const MOST_NODES: usize = 1_000;
const MOST_WORKLOADS: usize = 5_000;

fn sizes(spec: &Spec, found: &mut Findings) {
    let all = [
        ("node", spec.nodes.len(), MOST_NODES),
        ("workload", spec.workloads.len(), MOST_WORKLOADS),
    ];
    for (kind, count, most) in all.into_iter().filter(|(_, count, most)| count > most) {
        found.error(
            &[kind],
            format!("{count} tables [{kind}.NAME], and one coordinator looks after {most} at most"),
            "describe a second cluster for the others",
        );
    }
}

fn is_name(text: &str) -> bool {
    let ok = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-' || c == '_';
    (1..=40).contains(&text.len())
        && text.chars().all(ok)
        && text.starts_with(|c: char| c.is_ascii_lowercase())
}

fn names(spec: &Spec, found: &mut Findings) {
    let remedy = "use 1 to 40 lower-case letters, digits, dashes and underscores, a letter first";
    if !is_name(&spec.cluster) {
        found.error(
            &["cluster"],
            format!("`{}` is not a name", spec.cluster),
            remedy,
        );
    }
    let kinds = [
        (
            "zone",
            spec.zones.iter().map(String::as_str).collect::<Vec<_>>(),
        ),
        ("node", spec.nodes.keys().map(|n| n.as_str()).collect()),
        ("step", spec.steps.keys().map(String::as_str).collect()),
        (
            "workload",
            spec.workloads.keys().map(|w| w.as_str()).collect(),
        ),
    ];
    for (kind, list) in kinds {
        for name in list.into_iter().filter(|n| !is_name(n)) {
            found.error(&[kind, name], format!("`{name}` is not a name"), remedy);
        }
    }
}

fn nodes(spec: &Spec, found: &mut Findings) {
    if spec.nodes.is_empty() {
        found.error(
            &[],
            "no node is described",
            "add a [node.NAME] table for each host",
        );
    }
    for (id, node) in &spec.nodes {
        if !spec.zones.contains(&node.zone) {
            let near = nearest(&node.zone, spec.zones.iter().map(String::as_str));
            found.error(
                &["node", id.as_str(), "zone"],
                format!("there is no zone `{}`", node.zone),
                did_you_mean(near, "add a [zone.NAME] table, or name one that is there"),
            );
        }
        if node.votes > 7 {
            found.error(
                &["node", id.as_str(), "votes"],
                format!("{} votes", node.votes),
                "use 0 to 7",
            );
        }
        if node.power.is_some() && node.readmit == Readmit::Ask {
            found.warn(
                FindingKind::ReadmitAsks,
                &["node", id.as_str(), "readmit"],
                "after its power was cut it waits for `karst node readmit NODE`",
                "use `readmit = \"auto\"` where a host that has booted anew may come back by itself",
            );
        }
        if node.witness && node.votes == 0 {
            found.error(
                &["node", id.as_str(), "votes"],
                "a witness without a vote decides nothing",
                "give it one vote, or remove it",
            );
        }
    }
}

/// Hosts of replicas whose lease may prove nothing (C4).
fn clocks(spec: &Spec, found: &mut Findings) {
    let hold = spec.workloads.values().flat_map(|w| {
        let gates = w.gates.keys().filter(|id| w.may_hold_address(id));
        w.replicas.keys().chain(gates)
    });
    let hold: BTreeSet<&NodeId> = hold.collect();
    for (id, node) in spec.nodes.iter().filter(|(id, _)| hold.contains(id)) {
        let path = ["node", id.as_str(), "clock"];
        match (node.clock, &node.power) {
            (Clock::MayStop, None) => found.error(
                &path,
                format!("the clock of {id} may stop, and nothing can say that the host is off: nobody could ever replace it"),
                "add [node.NAME.power], or `clock = \"steady\"` where the host cannot be suspended",
            ),
            (Clock::Unsaid, None) => found.warn(
                FindingKind::ClockNotSaid,
                &path,
                format!("a virtual machine that is suspended and resumed may not notice that its lease is over: {id} is trusted \
                         not to be one"),
                "say `clock = \"steady\"` for a host that cannot be suspended; else `clock = \"may-stop\"` and a power device",
            ),
            _ => {}
        }
    }
}

fn votes(spec: &Spec, found: &mut Findings) {
    let votes = spec.votes();
    let total = votes.total();
    if spec.nodes.is_empty() {
        return;
    }
    if total == 0 {
        found.error(
            &[],
            "nobody votes",
            "give at least one node a vote; three nodes in three zones is best",
        );
        return;
    }
    if votes.voters().count() > 7 {
        found.error(
            &[],
            "more than seven voters",
            "set `votes = 0` on all but seven nodes",
        );
    }
    if total.is_multiple_of(2) && !spec.nodes.values().any(|n| n.witness) {
        found.error(
            &[],
            format!(
                "an even number of votes ({total}) and no witness: losing half of them is losing the majority, so \
                 nothing would fail over"
            ),
            "add a witness with one vote in another zone, or give one node more or fewer votes",
        );
    } else if total.is_multiple_of(2) {
        found.warn(
            FindingKind::EvenVotes,
            &[],
            format!(
                "an even number of votes ({total}) survives no more losses than {} would",
                total - 1
            ),
            "make the number of votes odd",
        );
    }
    if votes.voters().count() < 3 {
        found.warn(
            FindingKind::FewVoters,
            &[],
            "fewer than three voters: losing one stops every decision",
            "add a voter or a witness",
        );
    }
    for zone in &spec.zones {
        let inside = votes.granted(
            spec.nodes
                .iter()
                .filter(|(_, n)| n.zone == *zone)
                .map(|(id, _)| id),
        );
        if 2 * (total - inside) <= total {
            found.warn(
                FindingKind::ZoneHoldsMajority,
                &["zone", zone],
                format!("losing zone {zone} ({inside} of {total} votes) loses the majority"),
                "spread the votes so that no zone holds half of them",
            );
        }
    }
}

fn addresses(spec: &Spec, found: &mut Findings) {
    let mut seen: BTreeMap<(bool, SocketAddr), String> = BTreeMap::new();
    let mut claim = |udp: bool, address: SocketAddr, path: &[&str], found: &mut Findings| {
        if let Some(other) = seen.insert((udp, address), path.join(".")) {
            found.error(
                path,
                format!("duplicate address {address}: `{other}` has it already"),
                "give each its own address or port",
            );
        }
    };
    for (id, node) in &spec.nodes {
        claim(true, node.peer, &["node", id.as_str(), "peer"], found);
        if let Some(api) = node.api {
            claim(false, api, &["node", id.as_str(), "api"], found);
        }
    }
    for (w, workload) in &spec.workloads {
        for (n, replica) in &workload.replicas {
            claim(
                false,
                replica.address,
                &["workload", w.as_str(), "replica", n.as_str(), "address"],
                found,
            );
        }
        for (n, address) in &workload.gates {
            claim(
                false,
                *address,
                &["workload", w.as_str(), "gate", n.as_str()],
                found,
            );
        }
        for (n, address) in workload.reads.iter().flat_map(|reads| &reads.gates) {
            claim(
                false,
                *address,
                &["workload", w.as_str(), "reads", "gate", n.as_str()],
                found,
            );
        }
    }
}

/// No two replicas of one node may share a directory, nor have one within the other's: each
/// replaces its own as a whole.
fn directories(spec: &Spec, found: &mut Findings) {
    let mut taken: BTreeMap<&NodeId, BTreeMap<&Path, String>> = BTreeMap::new();
    for (w, workload) in &spec.workloads {
        for (n, replica) in &workload.replicas {
            let own = [
                ("data", Some(&replica.data)),
                ("log", replica.log.as_ref()),
                ("base_backup", replica.base_backup.as_ref()),
            ];
            for (key, directory) in own
                .into_iter()
                .filter_map(|(key, d)| Some((key, Path::new(d?))))
            {
                let path = ["workload", w.as_str(), "replica", n.as_str(), key];
                let here = taken.entry(n).or_default();
                // Paths are ordered by their parts: those within this one follow it.
                let above = directory.ancestors().find_map(|above| here.get(above));
                let mut from_here = here.range::<&Path, _>(directory..);
                let below = from_here.next().filter(|(p, _)| p.starts_with(directory));
                if let Some(other) = above.or(below.map(|(_, other)| other)) {
                    found.error(
                        &path,
                        format!(
                            "{} is `{other}`'s directory, or one within the other",
                            directory.display()
                        ),
                        "give each its own directory",
                    );
                }
                here.insert(directory, path.join("."));
            }
        }
    }
}

fn workload_findings(spec: &Spec, id: &WorkloadId, workload: &WorkloadSpec, found: &mut Findings) {
    let w = id.as_str();
    if workload.replicas.is_empty() {
        found.error(
            &["workload", w],
            "no replica is described",
            "add a [workload.NAME.replica.NODE] table",
        );
    }
    places(spec, w, workload, found);
    for (node, replica) in &workload.replicas {
        if !(1..=100).contains(&replica.rank) {
            let path = ["workload", w, "replica", node.as_str(), "rank"];
            found.error(
                &path,
                format!("rank {}", replica.rank),
                "use 1 (preferred) to 100",
            );
        }
        let from = replica.copy_from.as_ref();
        if let Some(from) = from.filter(|n| *n == node || !workload.replicas.contains_key(*n)) {
            let path = ["workload", w, "replica", node.as_str(), "copy_from"];
            let others = workload.replicas.keys().filter(|other| *other != node);
            let others: Vec<&str> = others.map(NodeId::as_str).collect();
            let remedy = match others.as_slice() {
                [] => "leave it out: there is no other replica".to_string(),
                others => format!("name another replica of it: {}", others.join(", ")),
            };
            found.error(&path, format!("`{from}` has no copy to copy from"), remedy);
        }
    }
    let nodes = workload.replicas.keys().filter_map(|n| spec.nodes.get(n));
    let zones: BTreeSet<&str> = nodes.map(|n| n.zone.as_str()).collect();
    if workload.replicas.len() > 1 && spec.zones.len() > 1 && zones.len() == 1 {
        let zone: Vec<&str> = zones.into_iter().collect();
        found.warn(
            FindingKind::OneZone,
            &["workload", w],
            format!(
                "all copies are in zone {}: nothing can take over when that is lost",
                zone.concat()
            ),
            "put a replica into another zone",
        );
    }
    losses(w, workload, found);
    rules(spec, id, workload, found);
    endpoints(w, workload, found);
    if workload.gates.is_empty() {
        found.warn(
            FindingKind::NoGate,
            &["workload", w],
            "no gate: clients have to find the primary by themselves",
            "add `[workload.NAME.gate]` with an address on two nodes",
        );
    }
}

/// Replicas and gates are on nodes that can have them.
fn places(spec: &Spec, w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    let replicas = workload.replicas.keys().map(|n| (vec!["replica"], n));
    let gates = workload.gates.keys().map(|n| (vec!["gate"], n));
    let readers = workload.reads.iter().flat_map(|reads| reads.gates.keys());
    let readers = readers.map(|n| (vec!["reads", "gate"], n));
    for (kind, node) in replicas.chain(gates).chain(readers) {
        let path = [&["workload", w], kind.as_slice(), &[node.as_str()]].concat();
        match spec.nodes.get(node) {
            None => {
                let near = nearest(node.as_str(), spec.nodes.keys().map(|n| n.as_str()));
                found.error(
                    &path,
                    format!("there is no node `{node}`"),
                    did_you_mean(near, "add a [node.NAME] table, or name one that is there"),
                );
            }
            Some(n) if n.witness && kind == ["replica"] => found.error(
                &path,
                format!("`{node}` is a witness, and a witness never runs a workload"),
                "put the replica on another node, or remove `witness = true`",
            ),
            Some(_) => {}
        }
    }
}

/// Rules name what is there, and leave somebody who may take over.
fn rules(spec: &Spec, id: &WorkloadId, workload: &WorkloadSpec, found: &mut Findings) {
    let (w, rules) = (id.as_str(), &workload.rules);
    let named = [
        ("spread", &rules.spread),
        ("together", &rules.together),
        ("needs", &rules.needs),
    ];
    for (key, others) in named {
        for other in others {
            let path = ["workload", w, key];
            if other == id {
                found.error(&path, format!("`{w}` itself"), "name other workloads");
            } else if !spec.workloads.contains_key(other) {
                let known = spec.workloads.keys().map(WorkloadId::as_str);
                let near = nearest(other.as_str(), known);
                found.error(
                    &path,
                    format!("there is no workload `{other}`"),
                    did_you_mean(near, "name one that is there"),
                );
            }
        }
    }
    for other in rules.spread.intersection(&rules.together) {
        found.error(
            &["workload", w, "spread"],
            format!("`{other}` is to be on the same node, and on another one"),
            "take it out of `spread` or of `together`",
        );
    }
    let able = workload
        .replicas
        .keys()
        .filter(|n| !rules.never.contains(*n));
    let able: Vec<&str> = able.map(NodeId::as_str).collect();
    match (able.as_slice(), workload.replicas.len()) {
        ([], 1..) => found.error(
            &["workload", w],
            "every replica is kept from being primary",
            "take `standby_only` away from one",
        ),
        ([one], 2..) => found.warn(
            FindingKind::NoTarget,
            &["workload", w],
            format!("{w} has no target if {one} is lost: the others are kept from being primary"),
            "let another replica be primary, or see that a person can decide",
        ),
        _ => {}
    }
    // Of all replicas one is lost, and one takes over.
    let left = workload.replicas.len().saturating_sub(2);
    if rules.keep as usize > left && workload.replicas.len() > 1 {
        let count = workload.replicas.len();
        found.warn(
            FindingKind::NoTarget,
            &["workload", w, "keep"],
            format!(
                "{w} has no target if its primary is lost: of {count} replicas {left} would be standbys, and {} are to be kept",
                rules.keep
            ),
            "add replicas, or keep fewer",
        );
    }
}

/// The workloads of circles of needs: the strongly connected components of more than one workload
/// (Tarjan 1972), found in one pass without recursion, as a spec may have a chain of thousands.
fn needs_themselves(spec: &Spec) -> BTreeSet<WorkloadId> {
    let needs = |id: &WorkloadId| {
        let needs = spec
            .workloads
            .get_key_value(id)
            .map(|(_, w)| &w.rules.needs);
        let known = needs.into_iter().flatten();
        known.filter(|other| spec.workloads.contains_key(*other))
    };
    let mut circles = BTreeSet::new();
    // When each was met first, and the earliest that is reached from it and is still on the stack.
    let mut met: BTreeMap<&WorkloadId, (usize, usize)> = BTreeMap::new();
    let (mut stack, mut on_stack) = (Vec::new(), BTreeSet::new());
    for root in spec.workloads.keys() {
        if met.contains_key(root) {
            continue;
        }
        let mut way = vec![(root, needs(root))];
        met.insert(root, (met.len(), met.len()));
        stack.push(root);
        on_stack.insert(root);
        while let Some((id, rest)) = way.last_mut() {
            let id = *id;
            let own = met[id];
            if let Some(next) = rest.next() {
                match met.get(next).copied() {
                    None => {
                        met.insert(next, (met.len(), met.len()));
                        stack.push(next);
                        on_stack.insert(next);
                        way.push((next, needs(next)));
                    }
                    Some((first, _)) if on_stack.contains(next) => {
                        met.insert(id, (own.0, own.1.min(first)));
                    }
                    Some(_) => {}
                }
                continue;
            }
            way.pop();
            if let Some((above, _)) = way.last() {
                let of_above = met[*above];
                met.insert(*above, (of_above.0, of_above.1.min(own.1)));
            }
            if own.0 == own.1 {
                let from = stack.iter().rposition(|other| *other == id).unwrap_or(0);
                let together = stack.split_off(from);
                for other in &together {
                    on_stack.remove(*other);
                }
                if together.len() > 1 {
                    circles.extend(together.into_iter().cloned());
                }
            }
        }
    }
    circles
}

/// What `loss = "none"` asks of the replicas.
fn losses(w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    if workload.loss != Loss::None {
        return;
    }
    if workload.replicas.len() == 1 {
        found.warn(
            FindingKind::SingleReplica,
            &["workload", w],
            "a single replica: nothing can take over",
            "add a replica on another node",
        );
    }
    if workload.alone == Alone::Continue {
        found.warn(
            FindingKind::WritesUnprotected,
            &["workload", w, "alone"],
            "with no standby left, writes go on unprotected, and are lost with their host",
            "use `alone = \"block\"` where no write may be lost",
        );
    }
    if workload.alone == Alone::Block && workload.replicas.len() == 2 {
        found.warn(
            FindingKind::TwoReplicasBlock,
            &["workload", w, "alone"],
            "two replicas and `alone = \"block\"`: losing either one stops writes until it is back",
            "add a third replica",
        );
    }
}
