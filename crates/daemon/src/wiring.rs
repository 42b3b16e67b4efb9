//! The wiring: which task carries out which effect, and the tasks, which follow the node's shape.

use crate::about::Own;
use crate::allowed::Allowed;
use crate::arguments::Common;
use crate::heart::{Glance, Tell};
use crate::lock::{lock, write};
use crate::steps::OwnSteps;
use crate::{deadman, hands, peers, readiness};
use anyhow::{Context, Result};
use hands::Hand;
use karst_adapters::{Address, Bounds, Name, Placed, Power, Server};
use karst_core::address::{AddressOrder, Connection};
use karst_core::authority::Claim;
use karst_core::gate::{GateOrder, ReadOrder};
use karst_core::name::NameOrder;
use karst_core::node::CALM_LOOKS;
use karst_core::ownstep::Occasion;
use karst_core::power::PowerOrder;
use karst_core::spec::{
    Finding, FindingKind, NameSpec, PowerSpec, Revision, Severity, Subnet, WorkloadSpec,
};
use karst_core::{Effect, Input, NodeId, Spec, WorkloadId};
use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::runtime::{Builder, Handle};
use tokio::sync::mpsc::{self, UnboundedSender};
use tokio::sync::watch;

/// Between two tries at what cannot be had.
const TRY_AGAIN: Duration = Duration::from_secs(5);

/// What every task on this host needs.
pub struct Host {
    pub me: NodeId,
    pub common: Common,
    pub tls: PathBuf,
    /// What this host's owner lets a spec reach.
    pub allowed: Allowed,
    pub tell: Tell,
    pub glance: watch::Receiver<Glance>,
    /// Whoever answers people reads the spec in force there.
    pub in_force: watch::Sender<Arc<Revision>>,
    /// What cannot be had here, for people.
    pub lacks: Own,
    /// The site's own steps here.
    pub steps: OwnSteps,
    /// What this host is examined for.
    pub examine: watch::Sender<readiness::Wanted>,
    /// Where peers are dialled, and where everything else runs.
    pub pulse: Handle,
    pub workers: Handle,
}

/// Where each kind of effect goes.
pub struct Wiring {
    host: Host,
    peers: peers::Peers,
    deadman: UnboundedSender<deadman::Order>,
    pub servers: Servers,
    hands: Hands,
    steps: UnboundedSender<Occasion>,
    heartbeat: Duration,
    /// What the spec places here and cannot be had, and when that is tried again.
    unmade: Vec<Unmade>,
    try_again: Instant,
}

/// Something of the spec that cannot be made here, and why. Nothing is said of a server or an address
/// that nobody has looked at: it may run, or be here, all the same (C5).
#[derive(PartialEq)]
struct Unmade {
    of: String,
    why: String,
}

impl std::fmt::Display for Unmade {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.of, self.why)
    }
}

/// The servers of the replicas that are here.
#[derive(Clone, Default)]
pub struct Servers(Arc<Mutex<BTreeMap<WorkloadId, Arc<Server>>>>);

impl Servers {
    pub fn by_workload(&self) -> BTreeMap<WorkloadId, Arc<Server>> {
        lock(&self.0).clone()
    }

    pub fn all(&self) -> Vec<Arc<Server>> {
        lock(&self.0).values().cloned().collect()
    }
}

/// One task: what it was made for, and how it is told what to do. It ends when this is dropped.
struct Task<S, O> {
    of: S,
    orders: UnboundedSender<O>,
}

/// To one floating address: what to do, and whose clients to rouse once it is here.
type AddressOrders = (AddressOrder, Vec<Connection>);
/// To one power device: what to do, and which hardware it has to be.
type PowerOrders = (PowerOrder, Option<String>);

/// The tasks.
#[derive(Default)]
struct Hands {
    replicas: BTreeMap<WorkloadId, Task<WorkloadSpec, Hand>>,
    gates: BTreeMap<WorkloadId, Task<SocketAddr, GateOrder>>,
    read_gates: BTreeMap<WorkloadId, Task<SocketAddr, ReadOrder>>,
    addresses: BTreeMap<WorkloadId, Task<Vec<Subnet>, AddressOrders>>,
    names: BTreeMap<WorkloadId, Task<NameSpec, NameOrder>>,
    power: BTreeMap<NodeId, Task<PowerSpec, PowerOrders>>,
}

impl Wiring {
    /// Without any task yet: they come with the node's shape.
    pub fn new(host: Host, peers: peers::Peers, deadman: UnboundedSender<deadman::Order>) -> Self {
        let (steps, ordered) = mpsc::unbounded_channel();
        host.workers.spawn(host.steps.clone().serve(ordered));
        Self {
            host,
            steps,
            peers,
            deadman,
            servers: Servers::default(),
            hands: Hands::default(),
            heartbeat: Duration::ZERO,
            unmade: Vec::new(),
            try_again: Instant::now(),
        }
    }

    /// # Errors
    /// If something of the node's shape cannot be made.
    pub fn carry_out(&mut self, effect: Effect) -> Result<()> {
        if !self.unmade.is_empty() && self.try_again <= Instant::now() {
            let revision = self.host.in_force.borrow().clone();
            self.make(&revision.spec);
        }
        match effect {
            Effect::Shape {
                revision,
                longest_lease,
                is_logged,
            } => {
                let _on_it = self.host.pulse.enter();
                self.peers.reshape(&revision.spec, is_logged);
                self.host.in_force.send_replace(revision.clone());
                self.shape(&revision.spec, longest_lease);
                // What a node is formed with is put right before it goes on; a revision that came
                // while it runs must not end what else is here.
                if !is_logged && let Some(unmade) = self.unmade.first() {
                    anyhow::bail!("{unmade}");
                }
            }
            Effect::Examine { wanted } => drop(self.host.examine.send_replace(wanted)),
            Effect::Dismiss { claim } => self.dismiss(claim),
            Effect::Send { to, message } => self.peers.send(&to, message),
            Effect::Refuse { gone } => self.peers.refuse(gone),
            Effect::Reach { strangers } => self.peers.reach(strangers),
            Effect::Way { to, via } => self.peers.set_way(&to, via.as_ref()),
            Effect::Act {
                workload,
                id,
                action,
                operation,
            } => {
                let act = Hand::Act {
                    id,
                    action,
                    operation,
                };
                tell(&self.hands.replicas, &workload, act);
            }
            Effect::Steps { occasion } => drop(self.steps.send(occasion)),
            Effect::Cancel { workload, id } => {
                tell(&self.hands.replicas, &workload, Hand::Cancel { id });
            }
            Effect::Attend { workload, closely } => {
                tell(&self.hands.replicas, &workload, Hand::Attend { closely });
            }
            Effect::Arm { claim, deadline } => {
                self.tell_deadman(deadman::Order::Arm { claim, deadline });
            }
            Effect::Disarm { claim } => self.tell_deadman(deadman::Order::Disarm { claim }),
            Effect::Address {
                workload,
                order,
                connections,
            } => tell(&self.hands.addresses, &workload, (order, connections)),
            Effect::Gate { workload, order } => tell(&self.hands.gates, &workload, order),
            Effect::Readers { workload, order } => {
                tell(&self.hands.read_gates, &workload, order);
            }
            Effect::Name { workload, order } => tell(&self.hands.names, &workload, order),
            Effect::Power {
                node,
                order,
                system,
            } => tell(&self.hands.power, &node, (order, system)),
            // The heart keeps these to itself.
            Effect::Persist { .. } | Effect::Answer { .. } | Effect::Record(_) => {}
        }
        Ok(())
    }

    fn tell_deadman(&self, order: deadman::Order) {
        let _ = self.deadman.send(order);
    }

    /// Makes what is missing, and makes anew what is another one now. A replica's hand and an
    /// address's end when they are dismissed, and not before.
    fn shape(&mut self, spec: &Spec, longest_lease: Duration) {
        let heartbeat = spec.timings.heartbeat;
        if std::mem::replace(&mut self.heartbeat, heartbeat) != heartbeat {
            for task in self.hands.replicas.values() {
                let _ = task.orders.send(Hand::Pace { heartbeat });
            }
        }
        for (id, workload) in &spec.workloads {
            self.watch(id, workload, longest_lease);
        }
        self.shape_gates(spec);
        self.make(spec);
    }

    /// What may fail on this host is tried again and again; meanwhile whoever decides, and people,
    /// are told why it is not there.
    fn make(&mut self, spec: &Spec) {
        let host = self.host.workers.clone();
        let _inside = host.enter();
        let before = std::mem::take(&mut self.unmade);
        let mut unmade = Vec::new();
        let mut note = |of: String, made: Result<()>| {
            unmade.extend(made.err().map(|error| Unmade {
                of,
                why: format!("{error:#}"),
            }));
        };
        for (id, workload) in &spec.workloads {
            // Where there is an older hand it goes on as it was.
            note(
                format!("the server of {id}"),
                self.shape_replica(id, workload, spec),
            );
            note(
                format!("the address of {id}"),
                self.shape_address(id, workload),
            );
        }
        self.hands.names.retain(|id, task| {
            let of = spec.workloads.get(id).and_then(|w| w.name.as_ref());
            of == Some(&task.of)
        });
        for (id, name) in spec
            .workloads
            .iter()
            .filter_map(|(id, w)| Some((id, w.name.as_ref()?)))
        {
            note(format!("the name of {id}"), self.shape_name(id, name, spec));
        }
        self.hands.power.retain(|node, task| {
            let of = spec.nodes.get(node).and_then(|n| n.power.as_ref());
            of == Some(&task.of)
        });
        for (node, power) in spec
            .nodes
            .iter()
            .filter_map(|(n, s)| Some((n, s.power.as_ref()?)))
        {
            note(
                format!("the power device of {node}"),
                self.shape_power(node, power, spec),
            );
        }
        for one in unmade.iter().filter(|one| !before.contains(one)) {
            tracing::error!("{one}: it cannot be had here; trying on");
        }
        let findings = unmade.iter().map(|one| Finding {
            kind: FindingKind::HostLacks,
            severity: Severity::Warning,
            path: vec!["node".into(), self.host.me.to_string()],
            what: format!("{} cannot have {one}", self.host.me),
            remedy: "put that right on its host; it is tried again each few seconds".into(),
        });
        *write(&self.host.lacks) = findings.collect();
        self.unmade = unmade;
        self.try_again = Instant::now() + TRY_AGAIN;
    }

    /// What of a workload the deadman watches on this node.
    fn watch(&self, id: &WorkloadId, workload: &WorkloadSpec, longest: Duration) {
        let me = &self.host.me;
        let server = workload.replicas.get(me).map(|replica| {
            let what = deadman::What::Server {
                data: replica.data.clone(),
                port: replica.address.port(),
            };
            (Claim::Primary(id.clone()), what)
        });
        let address = workload.address.as_ref();
        let address = address
            .filter(|_| workload.may_hold_address(me))
            .map(|address| {
                let list = address.on.iter().map(|subnet| subnet.ip).collect();
                (Claim::Address(id.clone()), deadman::What::Addresses(list))
            });
        for (claim, what) in server.into_iter().chain(address) {
            self.tell_deadman(deadman::Order::Watch {
                claim,
                what,
                longest,
            });
        }
    }

    fn shape_replica(&mut self, id: &WorkloadId, of: &WorkloadSpec, spec: &Spec) -> Result<()> {
        let Some(replica) = of.replicas.get(&self.host.me) else {
            return Ok(());
        };
        let known = self.hands.replicas.get_mut(id);
        if known.as_ref().is_some_and(|task| task.of == *of) {
            return Ok(());
        }
        self.host.allowed.server(spec, &self.host.me, id)?;
        let processes = self.host.common.processes(id, &replica.data);
        let server = Arc::new(Server::of(Placed {
            workload: id,
            spec: of,
            me: &self.host.me,
            runtime: &self.host.common.runtime,
            tls: &self.host.tls,
            processes,
        })?);
        lock(&self.servers.0).insert(id.clone(), server.clone());
        if let Some(task) = known {
            task.of = of.clone();
            let _ = task.orders.send(Hand::Serve { server });
            return Ok(());
        }
        let (orders, told) = mpsc::unbounded_channel();
        let heartbeat = spec.timings.heartbeat;
        let tell = self.host.tell.clone();
        tokio::spawn(hands::replica(
            id.clone(),
            server,
            heartbeat,
            told,
            tell,
            self.host.steps.clone(),
        ));
        let of = of.clone();
        self.hands.replicas.insert(id.clone(), Task { of, orders });
        Ok(())
    }

    fn shape_gates(&mut self, spec: &Spec) {
        let me = &self.host.me;
        let here = |id: &WorkloadId| spec.workloads.get(id)?.gates.get(me);
        let reads_here = |id: &WorkloadId| {
            let reads = spec.workloads.get(id)?.reads.as_ref();
            reads?.gates.get(me)
        };
        let ids = || spec.workloads.keys();
        let all = ids().filter_map(here).chain(ids().filter_map(reads_here));
        let bounds = Bounds::of_gate(all.count());
        let every = spec.timings.heartbeat * CALM_LOOKS;

        let gates = &mut self.hands.gates;
        gates.retain(|id, task| here(id) == Some(&task.of));
        for (id, workload) in &spec.workloads {
            let Some(of) = here(id).copied().filter(|_| !gates.contains_key(id)) else {
                continue;
            };
            let (orders, told) = mpsc::unbounded_channel();
            // A floating address comes and goes: the gate has to listen on whatever this host has.
            let everywhere = SocketAddr::from((std::net::Ipv6Addr::UNSPECIFIED, of.port()));
            let listen = if workload.may_hold_address(me) {
                everywhere
            } else {
                of
            };
            let (tell, workload) = (self.host.tell.clone(), id.clone());
            let say = move |report| {
                let workload = workload.clone();
                tell.input(Input::GateSeen { workload, report });
            };
            tokio::spawn(hands::gate(id.clone(), (listen, bounds), every, told, say));
            gates.insert(id.clone(), Task { of, orders });
        }

        let gates = &mut self.hands.read_gates;
        gates.retain(|id, task| reads_here(id) == Some(&task.of));
        for id in ids() {
            let of = reads_here(id).copied();
            let Some(of) = of.filter(|_| !gates.contains_key(id)) else {
                continue;
            };
            let (orders, told) = mpsc::unbounded_channel();
            let (tell, workload) = (self.host.tell.clone(), id.clone());
            let say = move |report| {
                let workload = workload.clone();
                tell.input(Input::ReadersSeen { workload, report });
            };
            tokio::spawn(hands::gate(id.clone(), (of, bounds), every, told, say));
            gates.insert(id.clone(), Task { of, orders });
        }
    }

    fn shape_address(&mut self, id: &WorkloadId, workload: &WorkloadSpec) -> Result<()> {
        let address = workload.address.as_ref();
        let Some(address) = address.filter(|_| workload.may_hold_address(&self.host.me)) else {
            return Ok(());
        };
        let known = self.hands.addresses.get(id);
        if known.is_some_and(|task| task.of == address.on) {
            return Ok(());
        }
        let of = address.on.clone();
        let (orders, told) = mpsc::unbounded_channel();
        let (tell, on, workload) = (self.host.tell.clone(), of.clone(), id.clone());
        // The kernel's answers about links and addresses wait for one lock (rtnetlink(7)), which whatever
        // adds and removes links holds. A shared worker that waited for it would hold up gates (F5).
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let hand = {
            let _inside = runtime.enter();
            Address::new(on).with_context(|| format!("the address of {id}"))?
        };
        let thread = std::thread::Builder::new().name("address".into());
        thread.spawn(move || runtime.block_on(hands::address(workload, hand, told, tell)))?;
        self.hands.addresses.insert(id.clone(), Task { of, orders });
        Ok(())
    }

    /// Every node can have every name led elsewhere: whoever is coordinator does.
    fn shape_name(&mut self, id: &WorkloadId, of: &NameSpec, spec: &Spec) -> Result<()> {
        if self.hands.names.contains_key(id) {
            return Ok(());
        }
        self.host.allowed.name(spec, &self.host.me, id)?;
        let name = Name::new(of, &spec.cluster, id)?;
        let (orders, told) = mpsc::unbounded_channel();
        let tell = self.host.tell.clone();
        tokio::spawn(hands::name(id.clone(), name, told, tell));
        let of = of.clone();
        self.hands.names.insert(id.clone(), Task { of, orders });
        Ok(())
    }

    /// Every node can ask every device: whoever is coordinator does.
    fn shape_power(&mut self, node: &NodeId, power: &PowerSpec, spec: &Spec) -> Result<()> {
        if self.hands.power.contains_key(node) {
            return Ok(());
        }
        let may = self.host.allowed.power(spec, &self.host.me, node);
        let device = match may.and_then(|()| Ok(Power::from_spec(power)?)) {
            Ok(device) => Arc::new(device),
            Err(error) => {
                let result = Err(format!("{error:#}"));
                let (node, order) = (node.clone(), PowerOrder::Look);
                self.host.tell.input(Input::Powered {
                    node,
                    order,
                    result,
                });
                return Err(error);
            }
        };
        let (orders, told) = mpsc::unbounded_channel();
        let (glance, tell) = (self.host.glance.clone(), self.host.tell.clone());
        tokio::spawn(hands::power(
            node.clone(),
            device,
            told,
            glance,
            tell,
            self.host.steps.clone(),
        ));
        let of = power.clone();
        self.hands.power.insert(node.clone(), Task { of, orders });
        Ok(())
    }

    /// Nothing is left of it here.
    fn dismiss(&mut self, claim: Claim) {
        match &claim {
            Claim::Primary(id) => {
                self.hands.replicas.remove(id);
                lock(&self.servers.0).remove(id);
            }
            Claim::Address(id) => drop(self.hands.addresses.remove(id)),
        }
        self.tell_deadman(deadman::Order::Unwatch { claim });
    }
}

/// To one task, if there is one.
fn tell<K: Ord, S, O>(tasks: &BTreeMap<K, Task<S, O>>, to: &K, order: O) {
    if let Some(task) = tasks.get(to) {
        let _ = task.orders.send(order);
    }
}
