//! The wiring: which task carries out which effect, and the tasks.

use crate::arguments::Run;
use crate::heart::{Glance, Tell};
use crate::{deadman, hands, peers};
use anyhow::{Context, Result};
use karst_adapters::{Address, Bounds, Power, Server};
use karst_core::address::{AddressOrder, Connection};
use karst_core::gate::GateOrder;
use karst_core::node::CALM_LOOKS;
use karst_core::power::PowerOrder;
use karst_core::{Effect, NodeId, Spec, WorkloadId};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use tokio::sync::mpsc::{self, UnboundedSender};
use tokio::sync::watch;

/// Where each kind of effect goes.
pub struct Wiring {
    peers: peers::Peers,
    deadman: UnboundedSender<deadman::Order>,
    replicas: BTreeMap<WorkloadId, UnboundedSender<hands::Hand>>,
    gates: BTreeMap<WorkloadId, UnboundedSender<GateOrder>>,
    addresses: BTreeMap<WorkloadId, AddressOrders>,
    power: BTreeMap<NodeId, PowerOrders>,
}

impl Wiring {
    /// With what is started besides: the addresses and the power devices.
    pub fn new(
        (peers, deadman, hands): (peers::Peers, UnboundedSender<deadman::Order>, Hands),
        spec: &Spec,
        me: &NodeId,
        glance: &watch::Receiver<Glance>,
        tell: &Tell,
    ) -> Result<Self> {
        Ok(Self {
            peers,
            deadman,
            replicas: hands.replicas,
            gates: hands.gates,
            addresses: start_addresses(spec, me, tell)?,
            power: start_power(spec, glance, tell)?,
        })
    }

    pub fn carry_out(&self, effect: Effect) {
        match effect {
            Effect::Send { to, message } => self.peers.send(&to, message),
            Effect::Way { to, via } => self.peers.set_way(&to, via.as_ref()),
            Effect::Act {
                workload,
                id,
                action,
                operation: _,
            } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Act { id, action });
                }
            }
            Effect::Cancel { workload, id } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Cancel { id });
                }
            }
            Effect::Attend { workload, closely } => {
                if let Some(hand) = self.replicas.get(&workload) {
                    let _ = hand.send(hands::Hand::Attend { closely });
                }
            }
            Effect::Arm { claim, deadline } => {
                let _ = self.deadman.send(deadman::Order::Arm { claim, deadline });
            }
            Effect::Disarm { claim } => {
                let _ = self.deadman.send(deadman::Order::Disarm { claim });
            }
            Effect::Address {
                workload,
                order,
                connections,
            } => {
                if let Some(address) = self.addresses.get(&workload) {
                    let _ = address.send((order, connections));
                }
            }
            Effect::Gate { workload, order } => {
                if let Some(gate) = self.gates.get(&workload) {
                    let _ = gate.send(order);
                }
            }
            Effect::Power {
                node,
                order,
                system,
            } => {
                if let Some(device) = self.power.get(&node) {
                    let _ = device.send((order, system));
                }
            }
            // The heart keeps these to itself.
            Effect::Persist { .. } | Effect::Answer { .. } | Effect::Record(_) => {}
        }
    }
}

/// To one floating address: what to do, and whose clients to rouse once it is here.
type AddressOrders = UnboundedSender<(AddressOrder, Vec<Connection>)>;
/// To one power device: what to do, and which hardware it has to be.
type PowerOrders = UnboundedSender<(PowerOrder, Option<String>)>;

#[derive(Default)]
pub struct Hands {
    pub servers: Vec<Arc<Server>>,
    pub replicas: BTreeMap<WorkloadId, UnboundedSender<hands::Hand>>,
    pub gates: BTreeMap<WorkloadId, UnboundedSender<GateOrder>>,
}

pub fn start_hands(run: &Run, spec: &Spec, me: &NodeId, tell: &Tell) -> Result<Hands> {
    let mut hands = Hands::default();
    let bounds = Bounds::of_gate(
        spec.workloads
            .values()
            .filter(|w| w.gates.contains_key(me))
            .count(),
    );
    for (id, workload) in &spec.workloads {
        if let Some(replica) = workload.replicas.get(me) {
            let processes = run.common.processes(id, &replica.data);
            let places = (run.common.runtime.as_path(), run.tls.as_path());
            let server = Arc::new(Server::from_spec(id, workload, me, places, processes)?);
            hands.servers.push(server.clone());
            let (hand, told) = mpsc::unbounded_channel();
            tokio::spawn(hands::replica(
                id.clone(),
                server,
                spec.timings.heartbeat,
                told,
                tell.clone(),
            ));
            hands.replicas.insert(id.clone(), hand);
        }
        if let Some(address) = workload.gates.get(me) {
            let (order, orders) = mpsc::unbounded_channel();
            // A floating address comes and goes: the gate has to listen on whatever this host has.
            let everywhere = SocketAddr::from((std::net::Ipv6Addr::UNSPECIFIED, address.port()));
            let listen = if workload.may_hold_address(me) {
                everywhere
            } else {
                *address
            };
            let (at, every) = ((listen, bounds), spec.timings.heartbeat * CALM_LOOKS);
            tokio::spawn(hands::gate(id.clone(), at, every, orders, tell.clone()));
            hands.gates.insert(id.clone(), order);
        }
    }
    Ok(hands)
}

fn start_addresses(
    spec: &Spec,
    me: &NodeId,
    tell: &Tell,
) -> Result<BTreeMap<WorkloadId, AddressOrders>> {
    let mut addresses = BTreeMap::new();
    for (id, workload) in spec
        .workloads
        .iter()
        .filter(|(_, w)| w.may_hold_address(me))
    {
        let Some(address) = &workload.address else {
            continue;
        };
        let hand =
            Address::new(address.on.clone()).with_context(|| format!("the address of {id}"))?;
        let (order, orders) = mpsc::unbounded_channel();
        tokio::spawn(hands::address(id.clone(), hand, orders, tell.clone()));
        addresses.insert(id.clone(), order);
    }
    Ok(addresses)
}

/// Every node can ask every device: whoever is coordinator does.
fn start_power(
    spec: &Spec,
    glance: &watch::Receiver<Glance>,
    tell: &Tell,
) -> Result<BTreeMap<NodeId, PowerOrders>> {
    let mut devices = BTreeMap::new();
    for (id, node) in &spec.nodes {
        let Some(power) = &node.power else { continue };
        let device =
            Arc::new(Power::from_spec(power).with_context(|| format!("spec, node.{id}.power"))?);
        let (order, orders) = mpsc::unbounded_channel();
        tokio::spawn(hands::power(
            id.clone(),
            device,
            orders,
            glance.clone(),
            tell.clone(),
        ));
        devices.insert(id.clone(), order);
    }
    Ok(devices)
}
