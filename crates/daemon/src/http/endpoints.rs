//! What clients paste to reach a workload, and whom each string reaches now.

use karst_adapters::server::{Reach, connections};
use karst_api::Endpoint;
use karst_core::NodeId;
use karst_core::view::{ReplicaState, ReplicaView, WorkloadView};
use std::net::{IpAddr, SocketAddr};

/// In the words of the driver's own clients.
pub fn of(workload: &WorkloadView, driver: &str) -> Vec<Endpoint> {
    let mut list = Vec::new();
    let mut add = |purpose: &str, to: &[SocketAddr], reach: Reach, reaches: &[NodeId]| {
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
    let gates: Vec<SocketAddr> = workload.gates.iter().map(|g| g.address).collect();
    let servers: Vec<SocketAddr> = workload.replicas.iter().map(|r| r.address).collect();
    if let Some(port) = gates.first().or(servers.first()).map(SocketAddr::port) {
        let subnets = workload.address.iter().flat_map(|a| &a.on);
        for ip in subnets.filter_map(|on| on.split('/').next()?.parse::<IpAddr>().ok()) {
            let (purpose, to) = ("writes, the one address to keep", [(ip, port).into()]);
            add(purpose, &to, Reach::Through, &primary);
        }
    }
    if !gates.is_empty() {
        add("writes, any gate", &gates, Reach::Through, &primary);
    }
    for gate in &workload.gates {
        let purpose = format!("writes, gate on {}", gate.node);
        let reaches: Vec<NodeId> = gate.forwards_to.iter().cloned().collect();
        add(&purpose, &[gate.address], Reach::Through, &reaches);
    }
    let purpose = "writes, without a gate";
    add(purpose, &servers, Reach::Primary, &primary);
    let serve = |r: &&ReplicaView| r.state == ReplicaState::Standby;
    let standbys = workload.replicas.iter().filter(serve);
    let standbys: Vec<NodeId> = standbys.map(|r| r.node.clone()).collect();
    if let Some(reads) = &workload.reads {
        let gates: Vec<SocketAddr> = reads.gates.iter().map(|g| g.address).collect();
        let serve = reads.readers.iter().filter(|r| r.serves == Some(true));
        let serve: Vec<NodeId> = serve.map(|r| r.node.clone()).collect();
        add("reads, any read gate", &gates, Reach::Through, &serve);
        for gate in &reads.gates {
            let purpose = format!("reads, read gate on {}", gate.node);
            let to = [gate.address];
            add(&purpose, &to, Reach::Through, &gate.forwards_to);
        }
    }
    let purpose = "reads, without a gate, however old";
    add(purpose, &servers, Reach::Reader, &standbys);
    list
}
