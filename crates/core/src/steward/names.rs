//! Where a workload's name is to lead: to what takes writes now. What is not known changes nothing,
//! so that a name goes on leading to where it led last.

use super::scene::Scene;
use crate::ids::{NodeId, WorkloadId};
use crate::spec::{Leads, WorkloadSpec};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// None while nobody is there to be led to.
pub(crate) fn leads_to(
    scene: &Scene,
    id: &WorkloadId,
    spec: &WorkloadSpec,
    leads: Leads,
) -> Option<BTreeSet<IpAddr>> {
    let w = scene.state.workload(id);
    let heard = |node: &NodeId| {
        let report = scene.reports.get(node).filter(|_| scene.is_up(node));
        let report = report.filter(|_| scene.state.fenced(node).is_none());
        report.map(|heard| &heard.report.parts)
    };
    let to: BTreeSet<IpAddr> = match leads {
        // It leads there once the primary is open, and not while it is being made (D4).
        Leads::Primary => {
            let holder = w.holder().filter(|_| w.is_open())?;
            [spec.replicas.get(holder)?.address.ip()].into()
        }
        Leads::Gates => {
            let listens = |node: &&NodeId| {
                let gate = heard(node).and_then(|parts| parts.gates.get(id));
                gate.is_some_and(|gate| gate.listening && !gate.unreachable)
            };
            let nodes = spec.gates.keys().filter(listens);
            nodes.map(|node| spec.gates[node].ip()).collect()
        }
        Leads::Address => {
            let holder = w.place.holder.as_ref().filter(|_| !w.place.leaving)?;
            let address = heard(holder)?.addresses.get(id)?;
            let of_spec = spec.address.iter().flat_map(|a| &a.on).map(|s| s.ip);
            let held = |ip: &IpAddr| address.held && address.on.contains(ip);
            of_spec.filter(held).collect()
        }
    };
    (!to.is_empty()).then_some(to)
}
