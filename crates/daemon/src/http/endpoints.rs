//! What clients paste to reach a workload, and whom each string reaches now.

use karst_adapters::server::{Reach, connections};
use karst_api::Endpoint;
use karst_core::NodeId;
use karst_core::view::WorkloadView;
use std::net::{IpAddr, SocketAddr};

/// In the words of the driver's own clients.
pub fn of(workload: &WorkloadView, driver: &str) -> Vec<Endpoint> {
    let mut list = Vec::new();
    let mut add = |purpose: &str, to: &[SocketAddr], reach: Reach, reaches: Option<NodeId>| {
        let strings = connections(driver, to, reach).into_iter();
        list.extend(strings.map(|(client, text)| Endpoint {
            workload: workload.workload.to_string(),
            purpose: purpose.into(),
            client: client.into(),
            text,
            reaches: reaches.clone(),
        }));
    };
    let primary = || workload.primary.clone();
    let gates: Vec<SocketAddr> = workload.gates.iter().map(|g| g.address).collect();
    let servers: Vec<SocketAddr> = workload.replicas.iter().map(|r| r.address).collect();
    if let Some(port) = gates.first().or(servers.first()).map(SocketAddr::port) {
        let subnets = workload.address.iter().flat_map(|a| &a.on);
        for ip in subnets.filter_map(|on| on.split('/').next()?.parse::<IpAddr>().ok()) {
            let to = [(ip, port).into()];
            add(
                "writes, the one address to keep",
                &to,
                Reach::Through,
                primary(),
            );
        }
    }
    if !gates.is_empty() {
        add("writes, any gate", &gates, Reach::Through, primary());
    }
    for gate in &workload.gates {
        let purpose = format!("writes, gate on {}", gate.node);
        let to = [gate.address];
        add(&purpose, &to, Reach::Through, gate.forwards_to.clone());
    }
    add(
        "writes, without a gate",
        &servers,
        Reach::Primary,
        primary(),
    );
    list
}
