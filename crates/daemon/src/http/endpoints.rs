//! What clients paste to reach a workload, and whom each string reaches now.

use karst_adapters::server::{Reach, connection};
use karst_api::Endpoint;
use karst_core::NodeId;
use karst_core::view::WorkloadView;
use std::net::{IpAddr, SocketAddr};

/// In the words of the driver's own clients.
pub fn of(workload: &WorkloadView, driver: &str) -> Vec<Endpoint> {
    let row = |purpose: String, text: String, reaches: Option<NodeId>| Endpoint {
        workload: workload.workload.to_string(),
        purpose,
        text,
        reaches,
    };
    let primary = || workload.primary.clone();
    let through = |to: &[SocketAddr]| connection(driver, to, Reach::Through);
    let gates: Vec<SocketAddr> = workload.gates.iter().map(|g| g.address).collect();
    let servers: Vec<SocketAddr> = workload.replicas.iter().map(|r| r.address).collect();
    let mut list = Vec::new();
    if let Some(port) = gates.first().or(servers.first()).map(SocketAddr::port) {
        let subnets = workload.address.iter().flat_map(|a| &a.on);
        let floating = subnets.filter_map(|on| on.split('/').next()?.parse::<IpAddr>().ok());
        list.extend(floating.map(|ip| {
            let text = through(&[(ip, port).into()]);
            row("writes, the one address to keep".into(), text, primary())
        }));
    }
    list.extend(workload.gates.iter().map(|g| {
        let purpose = format!("writes, gate on {}", g.node);
        row(purpose, g.address.to_string(), g.forwards_to.clone())
    }));
    if !gates.is_empty() {
        list.push(row("writes, any gate".into(), through(&gates), primary()));
    }
    list.push(row(
        "writes, without a gate".into(),
        connection(driver, &servers, Reach::Primary),
        primary(),
    ));
    list.push(row(
        "load balancer probe".into(),
        format!("/role/{}/primary", workload.workload),
        primary(),
    ));
    list
}
