//! The cluster that the seeds run: the ferry company's four nodes and its workload that may lose nothing.

use karst_core::spec::{
    AddressSpec, Alone, Follows, Loss, NodeSpec, PowerSpec, Readmit, ReplicaSpec, Spec, Subnet, Timings, WorkloadSpec,
};
use std::collections::BTreeMap;
use std::net::SocketAddr;

/// Three voters in three zones (one a witness), a fourth node without a vote, one workload with three replicas.
pub fn ferry_spec() -> Spec {
    let address = |host: u8, port: u16| SocketAddr::from(([10, 20, 0, host], port));
    let node = |zone: &str, votes, witness, host| NodeSpec {
        zone: zone.into(),
        votes,
        witness,
        peer: address(host, 4700),
        api: None,
        power: None,
        readmit: Readmit::Auto,
    };
    let replica = |rank, host| ReplicaSpec { rank, address: address(host, 5432), data: "/data".into(), log: None };
    Spec {
        cluster: "skerry".into(),
        timings: Timings::default(),
        zones: ["northquay", "southquay", "lighthouse"].map(String::from).to_vec(),
        nodes: BTreeMap::from([
            ("doline".into(), node("northquay", 1, false, 11)),
            ("polje".into(), node("southquay", 1, false, 12)),
            ("ponor".into(), node("lighthouse", 1, true, 13)),
            ("uvala".into(), node("southquay", 0, false, 14)),
        ]),
        workloads: BTreeMap::from([(
            "sailings".into(),
            WorkloadSpec {
                driver: "postgres".into(),
                loss: Loss::None,
                alone: Alone::Block,
                restart: false,
                replicas: BTreeMap::from([
                    ("doline".into(), replica(1, 11)),
                    ("polje".into(), replica(2, 12)),
                    ("uvala".into(), replica(9, 14)),
                ]),
                gates: BTreeMap::from([("ponor".into(), address(13, 6432)), ("uvala".into(), address(14, 6432))]),
                address: Some(AddressSpec {
                    on: vec![Subnet { ip: [10, 30, 0, 50].into(), prefix: 24 }],
                    follows: Follows::Gate,
                }),
                settings: BTreeMap::new(),
            },
        )]),
    }
}

/// The same with a power device for each host.
pub fn powered_spec() -> Spec {
    let mut spec = ferry_spec();
    for node in spec.nodes.values_mut() {
        node.power = Some(PowerSpec { driver: "command".into(), settings: BTreeMap::new() });
    }
    spec
}
