//! Whether what clients connect to is sound: gates for readers, floating addresses, names.

use super::finding::{Findings, did_you_mean, nearest};
use super::model::{Follows, Leads, MARK_OF_NAME, WorkloadSpec};
use std::time::Duration;

/// How old what a reader sees may be: how far a server is, is looked at once a second where all is
/// calm.
const LEAST_AGE: Duration = Duration::from_secs(2);
const MOST_AGE: Duration = Duration::from_secs(3_600);
/// Of a name in DNS as it is written, without the dot at its end (RFC 1035, 3.1).
const MOST_NAME: usize = 253;
const TTL: std::ops::RangeInclusive<Duration> = Duration::from_secs(1)..=Duration::from_secs(3_600);

/// All of a workload's that are more than a port of a node.
pub(super) fn endpoints(w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    reads(w, workload, found);
    address(w, workload, found);
    name(w, workload, found);
}

/// Readers have a way in, somebody who serves them, and a limit that can be told from where they are.
fn reads(w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    let Some(reads) = &workload.reads else { return };
    let path = |key| ["workload", w, "reads", key];
    if reads.gates.is_empty() {
        found.error(
            &path("gate"),
            "no gate for readers",
            "add `[workload.NAME.reads.gate]` with an address on two nodes",
        );
    }
    let bounds = LEAST_AGE..=MOST_AGE;
    if !bounds.contains(&reads.age) {
        found.error(
            &path("age"),
            format!("{} is out of bounds", crate::text::span(reads.age)),
            "use 2s to 1h: how far a server is, is looked at once a second",
        );
    }
    for node in &reads.except {
        if !workload.replicas.contains_key(node) {
            let near = nearest(node.as_str(), workload.replicas.keys().map(|n| n.as_str()));
            found.error(
                &path("except"),
                format!("there is no replica on `{node}`"),
                did_you_mean(near, "name nodes that have one"),
            );
        }
    }
    // While any of them is primary another one is needed.
    let serve = workload
        .replicas
        .keys()
        .filter(|n| !reads.except.contains(*n));
    if serve.count() < 2 && !reads.primary && !workload.replicas.is_empty() {
        found.error(
            &path("except"),
            "nobody is left to serve readers while the other one is primary",
            "leave two replicas for them, or write `primary = true`",
        );
    }
}

fn address(w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    let Some(address) = &workload.address else {
        return;
    };
    let path = ["workload", w, "address"];
    if address.on.is_empty() {
        found.error(
            &path,
            "no address is given",
            "write `on = [\"10.30.0.50/24\"]`",
        );
    }
    if address.follows == Follows::Gate && workload.gates.is_empty() {
        found.error(
            &path,
            "it follows a gate, and there is none",
            "add `[workload.NAME.gate]`, or `follows = \"primary\"`",
        );
    }
    for (n, subnet) in address.on.iter().enumerate() {
        if address.on[..n].iter().any(|other| other.has(subnet.ip)) {
            found.error(
                &path,
                format!("{subnet} is in the same subnet as the one before"),
                "give one address for each subnet",
            );
        }
        let there = workload
            .replicas
            .values()
            .map(|r| r.address.ip())
            .chain(workload.gates.values().map(|g| g.ip()));
        if there.into_iter().any(|ip| ip == subnet.ip) {
            found.error(
                &path,
                format!("{} is a node's own address", subnet.ip),
                "give it one that no node has",
            );
        }
    }
}

/// A name is one that DNS takes, within its zone, and leads to something.
fn name(w: &str, workload: &WorkloadSpec, found: &mut Findings) {
    let Some(name) = &workload.name else { return };
    let path = |key| ["workload", w, "name", key];
    for (key, text, most) in [
        ("record", &name.record, MOST_NAME - MARK_OF_NAME.len()),
        ("zone", &name.zone, MOST_NAME),
        ("key", &name.key, MOST_NAME),
    ] {
        if let Some(why) = trouble_of_name(text, most) {
            found.error(
                &path(key),
                format!("`{text}` is no name in DNS: {why}"),
                "write it as \"sailings.ferries.example\", without a dot at its end",
            );
        }
    }
    let (record, zone) = (name.record.to_lowercase(), name.zone.to_lowercase());
    let within = record.strip_suffix(&zone);
    if !within.is_some_and(|rest| rest.is_empty() || rest.ends_with('.')) {
        found.error(
            &path("record"),
            format!("`{}` is not in the zone `{}`", name.record, name.zone),
            "name the zone that it is in",
        );
    }
    if !TTL.contains(&name.ttl) || name.ttl.subsec_nanos() != 0 {
        found.error(
            &path("ttl"),
            format!("{} is out of bounds", crate::text::span(name.ttl)),
            "use whole seconds, 1s to 1h: clients go on to where it led for so long",
        );
    }
    let (what, remedy) = match name.leads {
        Leads::Address if workload.address.is_none() => (
            "it leads to the floating address, and there is none",
            "add `[workload.NAME.address]`, or `leads = \"gates\"` or `\"primary\"`",
        ),
        Leads::Gates if workload.gates.is_empty() => (
            "it leads to the gates, and there are none",
            "add `[workload.NAME.gate]`, or `leads = \"primary\"`",
        ),
        _ => return,
    };
    found.error(&path("leads"), what, remedy);
}

/// RFC 1035, 2.3.1 and 2.3.4; an underscore is taken as well, as in RFC 8552.
fn trouble_of_name(text: &str, most: usize) -> Option<String> {
    if text.is_empty() || text.len() > most {
        return Some(format!("it has to have 1 to {most} characters"));
    }
    let fits = |label: &str| {
        (1..=63).contains(&label.len())
            && label
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    let wrong = text.split('.').find(|label| !fits(label))?;
    Some(format!(
        "`{wrong}` is no part of one (1 to 63 letters, digits and dashes)"
    ))
}
