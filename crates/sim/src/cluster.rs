//! The clusters that the seeds run: the ferry company's own, and others of every shape.

use karst_core::author::Level;
use karst_core::ownstep::{IfFails, OwnStep, Point};
use karst_core::spec::{
    AddressSpec, After, Algorithm, Alone, Clock, Follows, Leads, Loss, NameSpec, NodeSpec,
    PowerSpec, Readmit, Reads, ReplicaSpec, Spec, Subnet, Timings, WorkloadSpec,
};
use karst_core::{NodeId, WorkloadId};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Duration;

fn address(host: u8, port: u16) -> SocketAddr {
    SocketAddr::from(([10, 20, 0, host], port))
}

fn node(zone: &str, votes: u32, witness: bool, host: u8) -> NodeSpec {
    NodeSpec {
        zone: zone.into(),
        votes,
        witness,
        peer: address(host, 7411),
        api: None,
        console: None,
        power: None,
        readmit: Readmit::Auto,
        clock: Clock::Steady,
        local: Level::Observe,
    }
}

fn replica(rank: u32, host: u8, port: u16) -> ReplicaSpec {
    ReplicaSpec {
        rank,
        address: address(host, port),
        data: format!("/data/{port}"),
        log: None,
        copy_from: None,
        base_backup: None,
    }
}

/// Three voters in three zones (one a witness), a fourth node without a vote, one workload with
/// three replicas.
pub fn ferry_spec() -> Spec {
    Spec {
        cluster: "skerry".into(),
        timings: Timings::default(),
        zones: ["northquay", "southquay", "lighthouse"]
            .map(String::from)
            .to_vec(),
        nodes: BTreeMap::from([
            ("doline".into(), node("northquay", 1, false, 11)),
            ("polje".into(), node("southquay", 1, false, 12)),
            ("ponor".into(), node("lighthouse", 1, true, 13)),
            ("uvala".into(), node("southquay", 0, false, 14)),
        ]),
        workloads: BTreeMap::from([("sailings".into(), sailings())]),
        steps: BTreeMap::from([
            step("ask", Point::BeforeSwitchover),
            step("drain", Point::BeforeMaintenance),
            step("look", Point::BeforePromotion),
            step("warm", Point::AfterPromotion),
        ]),
    }
}

fn step(name: &str, at: Point) -> (String, OwnStep) {
    let step = OwnStep {
        at,
        program: name.into(),
        args: Vec::new(),
        user: None,
        limit: Duration::from_secs(1),
        if_fails: if at.may_stop() {
            IfFails::Stop
        } else {
            IfFails::GoOn
        },
        workloads: Default::default(),
        nodes: Default::default(),
    };
    (name.into(), step)
}

fn sailings() -> WorkloadSpec {
    WorkloadSpec {
        driver: "postgres".into(),
        loss: Loss::None,
        alone: Alone::Block,
        adopt: false,
        rules: Default::default(),
        restart: false,
        replicas: BTreeMap::from([
            ("doline".into(), replica(1, 11, 5432)),
            ("polje".into(), replica(2, 12, 5432)),
            ("uvala".into(), replica(9, 14, 5432)),
        ]),
        gates: BTreeMap::from([
            ("ponor".into(), address(13, 7433)),
            ("uvala".into(), address(14, 7433)),
        ]),
        reads: Some(Reads {
            gates: BTreeMap::from([
                ("ponor".into(), address(13, 7434)),
                ("uvala".into(), address(14, 7434)),
            ]),
            age: Duration::from_secs(4),
            behind: None,
            primary: true,
            except: Default::default(),
        }),
        name: Some(NameSpec {
            record: "sailings.ferries.example".into(),
            zone: "ferries.example".into(),
            server: address(53, 53),
            ttl: Duration::from_secs(5),
            leads: Leads::Primary,
            key: "karst".into(),
            secret: "file:/dns.key".into(),
            algorithm: Algorithm::default(),
        }),
        address: Some(AddressSpec {
            on: vec![Subnet {
                ip: [10, 30, 0, 50].into(),
                prefix: 24,
            }],
            follows: Follows::Gate,
        }),
        settings: BTreeMap::new(),
    }
}

/// The same with a power device for each host; whoever is off stays so.
pub fn powered_spec() -> Spec {
    powered(ferry_spec(), After::Off)
}

fn powered(mut spec: Spec, after: After) -> Spec {
    for node in spec.nodes.values_mut() {
        node.power = Some(PowerSpec {
            driver: "command".into(),
            settings: BTreeMap::new(),
            after,
        });
    }
    spec
}

/// Who is hostile in the shape of that name.
pub const HOSTILE: &str = "weir";

/// The hostile node asks in this name, and no person has it.
pub const FORGER: &str = "cormorant";

/// A kind of cluster.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Shape {
    /// The ferry company's own.
    Ferry,
    OneNode,
    TwoNodes,
    FiveNodes,
    SevenNodes,
    EvenVotes,
    TwoReplicas,
    /// Two workloads on the same nodes, their primaries on different ones.
    TwoWorkloads,
    AddressOnPrimary,
    Brisk,
    /// A dead primary is started again where it died.
    Restart,
    /// Writes go on without a standby.
    AloneContinue,
    /// A loss by size is allowed.
    LossBySize,
    /// Machines whose clocks may stand still, with power devices.
    ClockMayStop,
    /// One more node without a vote or a replica, which says whatever it likes.
    Hostile,
    /// The same with a vote, beside three: it keeps to the forms, and lies.
    HostileVoter,
}

impl Shape {
    /// All but the hostile ones: a seed's shape stays what it was.
    pub const ALL: [Shape; 14] = [
        Shape::Ferry,
        Shape::OneNode,
        Shape::TwoNodes,
        Shape::FiveNodes,
        Shape::SevenNodes,
        Shape::EvenVotes,
        Shape::TwoReplicas,
        Shape::TwoWorkloads,
        Shape::AddressOnPrimary,
        Shape::Brisk,
        Shape::Restart,
        Shape::AloneContinue,
        Shape::LossBySize,
        Shape::ClockMayStop,
    ];

    /// Whether its spec may be submitted again: an even number of votes is refused without a device.
    pub fn has_odd_votes(self) -> bool {
        !matches!(self, Shape::OneNode | Shape::TwoNodes)
    }

    /// With power devices, or without where that is allowed.
    pub fn spec(self, with_power: bool) -> Spec {
        let mut spec = ferry_spec();
        let mut own =
            |change: &dyn Fn(&mut WorkloadSpec)| spec.workloads.values_mut().for_each(change);
        match self {
            Shape::Ferry => {}
            Shape::OneNode => keep(&mut spec, &["doline"]),
            Shape::TwoNodes => keep(&mut spec, &["doline", "polje"]),
            Shape::FiveNodes => grow(&mut spec, 1),
            Shape::SevenNodes => grow(&mut spec, 3),
            Shape::EvenVotes => grow(&mut spec, 0),
            Shape::TwoReplicas => own(&|w| drop(w.replicas.remove(&NodeId::from("uvala")))),
            Shape::TwoWorkloads => {
                let second = second(&sailings());
                spec.workloads.insert("manifests".into(), second);
            }
            Shape::AddressOnPrimary => {
                own(&|w| {
                    w.address
                        .iter_mut()
                        .for_each(|a| a.follows = Follows::Primary)
                });
            }
            Shape::Brisk => spec.timings = Timings::brisk(),
            Shape::Restart => own(&|w| w.restart = true),
            Shape::AloneContinue => own(&|w| w.alone = Alone::Continue),
            Shape::LossBySize => own(&|w| w.loss = Loss::Bytes(50)),
            Shape::ClockMayStop => spec
                .nodes
                .values_mut()
                .for_each(|n| n.clock = Clock::MayStop),
            Shape::Hostile | Shape::HostileVoter => {
                let votes = u32::from(self == Shape::HostileVoter);
                spec.nodes
                    .insert(HOSTILE.into(), node("southquay", votes, false, 19));
                for workload in spec.workloads.values_mut() {
                    workload.gates.insert(HOSTILE.into(), address(19, 7433));
                }
            }
        }
        if with_power || self == Shape::ClockMayStop {
            powered(spec, After::On)
        } else {
            spec
        }
    }
}

/// Readers have their gates where there are nodes for them.
pub fn fit_readers(spec: &mut Spec) {
    for workload in spec.workloads.values_mut() {
        let reads = workload.reads.take().map(|mut reads| {
            reads.gates.retain(|n, _| spec.nodes.contains_key(n));
            reads
        });
        workload.reads = reads.filter(|reads| !reads.gates.is_empty());
    }
}

/// Only these nodes; one of them has the gate.
fn keep(spec: &mut Spec, names: &[&str]) {
    spec.nodes.retain(|n, _| names.contains(&n.as_str()));
    for workload in spec.workloads.values_mut() {
        workload.replicas.retain(|n, _| names.contains(&n.as_str()));
        workload.gates = BTreeMap::from([(names[0].into(), address(11, 7433))]);
        if names.len() == 1 {
            // Nobody will ever confirm a write.
            workload.alone = Alone::Continue;
        }
    }
    fit_readers(spec);
}

/// Everybody votes, and so many more nodes with a replica each.
fn grow(spec: &mut Spec, more: usize) {
    spec.nodes.values_mut().for_each(|n| n.votes = 1);
    for (name, host) in [("cenote", 15), ("tarn", 16), ("mere", 17)]
        .into_iter()
        .take(more)
    {
        spec.nodes
            .insert(name.into(), node("northquay", 1, false, host));
        for workload in spec.workloads.values_mut() {
            workload
                .replicas
                .insert(name.into(), replica(u32::from(host), host, 5432));
        }
    }
}

/// Another workload on the same hosts, led from elsewhere.
fn second(first: &WorkloadSpec) -> WorkloadSpec {
    let ranks = [("doline", 9, 11), ("polje", 1, 12), ("uvala", 2, 14)];
    WorkloadSpec {
        replicas: ranks
            .map(|(n, rank, host)| (NodeId::from(n), replica(rank, host, 5433)))
            .into(),
        gates: BTreeMap::from([
            ("ponor".into(), address(13, 7434)),
            ("uvala".into(), address(14, 7434)),
        ]),
        reads: None,
        name: None,
        address: None,
        ..first.clone()
    }
}

/// Five nodes that all vote, and three workloads: what speed is measured with.
pub fn five_by_three() -> Spec {
    let mut spec = Shape::FiveNodes.spec(true);
    let first = spec.workloads.values().next().expect("it has one").clone();
    for (name, port) in [("manifests", 5433), ("crew", 5434)] {
        let mut workload = second(&first);
        workload
            .replicas
            .values_mut()
            .for_each(|r| r.address.set_port(port));
        workload
            .replicas
            .values_mut()
            .for_each(|r| r.data = format!("/data/{port}"));
        workload.gates = workload
            .gates
            .keys()
            .map(|n| (n.clone(), address(13, port + 2_000)))
            .take(1)
            .collect();
        spec.workloads.insert(WorkloadId::from(name), workload);
    }
    spec
}
