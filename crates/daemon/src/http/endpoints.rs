//! What clients paste to reach a workload, and whom each string reaches now.

use karst_adapters::server::{Reach, Target, connections};
use karst_api::Endpoint;
use karst_core::NodeId;
use karst_core::spec::Leads;
use karst_core::view::{ReplicaState, ReplicaView, WorkloadView};
use std::net::{IpAddr, SocketAddr};

/// In the words of the driver's own clients.
pub fn of(workload: &WorkloadView, driver: &str) -> Vec<Endpoint> {
    let mut list = Vec::new();
    let mut add = |purpose: &str, to: &[Target], reach: Reach, reaches: &[NodeId]| {
        let strings = connections(driver, to, reach).into_iter();
        list.extend(strings.map(|(client, text)| Endpoint {
            workload: workload.workload.to_string(),
            purpose: purpose.into(),
            client: client.into(),
            text,
            reaches: reaches.to_vec(),
        }));
    };
    let primary: Vec<NodeId> = workload.primary.iter().cloned().collect();
    let gates: Vec<Target> = workload.gates.iter().map(|g| g.address.into()).collect();
    let servers: Vec<Target> = workload.replicas.iter().map(|r| r.address.into()).collect();
    let (gate, server) = (gates.first(), servers.first());
    if let Some((name, port)) = workload.name.as_ref().and_then(|name| {
        let leads_to = match name.leads {
            Leads::Address => gate.or(server),
            Leads::Gates => gate,
            Leads::Primary => server,
        };
        Some((name, leads_to?.port))
    }) {
        let host = name.record.clone();
        let to = [Target { host, port }];
        add(
            "writes, the one name to keep",
            &to,
            Reach::Through,
            &primary,
        );
    }
    if let Some(port) = gate.or(server).map(|to| to.port) {
        let subnets = workload.address.iter().flat_map(|a| &a.on);
        for ip in subnets.filter_map(|on| on.split('/').next()?.parse::<IpAddr>().ok()) {
            let to = [SocketAddr::from((ip, port)).into()];
            let purpose = "writes, the one address to keep";
            add(purpose, &to, Reach::Through, &primary);
        }
    }
    if !gates.is_empty() {
        add("writes, any gate", &gates, Reach::Through, &primary);
    }
    for gate in &workload.gates {
        let purpose = format!("writes, gate on {}", gate.node);
        let reaches: Vec<NodeId> = gate.forwards_to.iter().cloned().collect();
        add(&purpose, &[gate.address.into()], Reach::Through, &reaches);
    }
    let purpose = "writes, without a gate";
    add(purpose, &servers, Reach::Primary, &primary);
    let serve = |r: &&ReplicaView| r.state == ReplicaState::Standby;
    let standbys = workload.replicas.iter().filter(serve);
    let standbys: Vec<NodeId> = standbys.map(|r| r.node.clone()).collect();
    if let Some(reads) = &workload.reads {
        let gates: Vec<Target> = reads.gates.iter().map(|g| g.address.into()).collect();
        let serve = reads.readers.iter().filter(|r| r.serves == Some(true));
        let serve: Vec<NodeId> = serve.map(|r| r.node.clone()).collect();
        add("reads, any read gate", &gates, Reach::Through, &serve);
        for gate in &reads.gates {
            let purpose = format!("reads, read gate on {}", gate.node);
            let to = [gate.address.into()];
            add(&purpose, &to, Reach::Through, &gate.forwards_to);
        }
    }
    let purpose = "reads, without a gate, however old";
    add(purpose, &servers, Reach::Reader, &standbys);
    list
}
