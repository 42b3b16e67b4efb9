//! The world: one queue of happenings in true time, hosts with clocks of their own, a network, and servers.

mod addresses;
mod devices;
mod disturb;
mod servers;

use crate::check::{Data as DataCheck, Failure, Truth};
use crate::fault::{Fault, Script};
use crate::server::Server;
use karst_core::authority::Claim;
use karst_core::consensus::Stored;
use karst_core::message::Message;
use karst_core::node::{AddressOrder, GateOrder, Write};
use karst_core::power::PowerOrder;
use karst_core::replica::agent::Kept;
use karst_core::replica::{Action, GateReport};
use karst_core::spec::Spec;
use karst_core::view::Status;
use karst_core::{BootId, Effect, Index, Input, Node, NodeConfig, NodeId, Planted, Term, Time, WorkloadId};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};
use std::time::Duration;

const MS: u64 = 1_000_000;
/// Small: a run of a minute takes several, and whoever was away for some seconds needs one.
const SNAPSHOT_AFTER: u64 = 12;

/// What is on a host's disk, synced.
#[derive(Clone, Default)]
struct Disk {
    stored: Stored,
    kept: BTreeMap<WorkloadId, Kept>,
}

impl Disk {
    fn write(&mut self, write: Write) {
        match write {
            Write::Log(durable) => self.stored.take(durable),
            Write::Kept { workload, kept } => {
                self.kept.insert(workload, kept);
            }
        }
    }
}

struct Host {
    node: Option<Node>,
    /// Of the daemon's run: happenings meant for an earlier run are dropped.
    run: u64,
    boot: u64,
    disk: Disk,
    sync_ms: u64,
    synced_at: u64,
    paused: Vec<Input>,
    is_paused: bool,
    has_power: bool,
    offset: u64,
    rate_ppm: i64,
    server: Server,
    /// Whether its daemon looks at the server all the time, or now and then.
    closely: bool,
    /// The deadman's deadline on the host's clock.
    deadline: Option<Time>,
    deadline_count: u64,
    has_address: bool,
    /// The daemon's run and turn of the last order about it that was carried out: the hands do one thing at a time.
    address_turn: (u64, u64),
    address_deadline: Option<Time>,
    acting: BTreeSet<u64>,
    wake: Option<u64>,
    isolated: u32,
    gate: GateReport,
}

impl Host {
    fn clock(&self, now: u64) -> Time {
        Time(self.offset + (i128::from(now) * i128::from(1_000_000 + self.rate_ppm) / 1_000_000) as u64)
    }
    /// True time at which the host's clock shows `t`, rounded up.
    fn true_time(&self, t: Time) -> u64 {
        let local = i128::from(t.0.saturating_sub(self.offset));
        (local * 1_000_000 / i128::from(1_000_000 + self.rate_ppm) + 1) as u64
    }
}

fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

enum Happening {
    Input(NodeId, u64, Input),
    Wake(NodeId, u64, u64),
    Durable(NodeId, u64, u64, Vec<Write>),
    Act(NodeId, u64, u64, Action),
    Deadman(NodeId, u64),
    Address(NodeId, u64, AddressOrder),
    AddressLook(NodeId, u64, u64),
    Device(NodeId, u64, NodeId, PowerOrder, devices::Step),
    Fault(Fault),
    End(Fault),
    Tick,
}

/// What takes as long as given, every time; where nothing is given, chance decides.
#[derive(Clone, Copy, Debug, Default)]
pub struct Slow {
    /// A power device, from the order to the reading.
    pub device: Option<Duration>,
    /// The promotion of a server.
    pub promote: Option<Duration>,
    /// A standby's report of its final position.
    pub settle: Option<Duration>,
    /// A sync of any node's store; a commit needs two, one after the other.
    pub disk: Option<Duration>,
}

/// A whole cluster with its clients, driven by one seed.
pub struct World {
    seed: u64,
    spec: Spec,
    workload: WorkloadId,
    planted: Option<Planted>,
    chance: Pcg64Mcg,
    now: u64,
    order: u64,
    queue: BinaryHeap<Reverse<(u64, u64)>>,
    happenings: BTreeMap<u64, Happening>,
    hosts: BTreeMap<NodeId, Host>,
    cut: BTreeMap<(NodeId, NodeId), u32>,
    lossy: u32,
    dead_devices: u32,
    slow: Slow,
    truth: Truth,
    story: Vec<String>,
    next_write: u64,
    last_acknowledged: u64,
    address_answered: u64,
    /// Who holds the address, and whose clients the holders were told to rouse.
    holders: Vec<NodeId>,
    roused: BTreeSet<NodeId>,
    longest_pause: u64,
    next_promotion: u64,
}

struct Servers<'a>(&'a BTreeMap<NodeId, Host>);

impl DataCheck for Servers<'_> {
    fn lacks(&self, holder: &NodeId, acknowledged: &BTreeSet<u64>) -> Option<u64> {
        let has: BTreeSet<u64> = self.0[holder].server.wal.iter().copied().collect();
        acknowledged.difference(&has).next().copied()
    }
    fn durable_on(&self, index: Index, term: Term) -> Vec<NodeId> {
        let has = |h: &Host| {
            let stored = &h.disk.stored;
            let within = stored.snapshot.as_ref().is_some_and(|s| s.last.1 >= index);
            within || stored.entries.iter().any(|e| (e.term, e.index) == (term, index))
        };
        self.0.iter().filter(|(_, h)| has(h)).map(|(n, _)| n.clone()).collect()
    }
}

impl World {
    pub fn new(spec: Spec, seed: u64, planted: Option<Planted>) -> Self {
        let mut chance = Pcg64Mcg::seed_from_u64(seed);
        let workload = spec.workloads.keys().next().expect("the spec has a workload").clone();
        let mut hosts = BTreeMap::new();
        for id in spec.nodes.keys() {
            let host = Host {
                node: None,
                run: 0,
                boot: 0,
                disk: Disk::default(),
                sync_ms: 1,
                synced_at: 0,
                paused: Vec::new(),
                is_paused: false,
                closely: true,
                has_power: true,
                offset: chance.random_range(0..1_000_000 * MS),
                rate_ppm: chance.random_range(-9_000..=9_000),
                server: Server::new(),
                deadline: None,
                deadline_count: 0,
                has_address: false,
                address_turn: (0, 0),
                address_deadline: None,
                acting: BTreeSet::new(),
                wake: None,
                isolated: 0,
                gate: GateReport::default(),
            };
            hosts.insert(id.clone(), host);
        }
        let mut world = Self {
            seed,
            spec,
            workload,
            planted,
            chance,
            now: 0,
            order: 0,
            queue: BinaryHeap::new(),
            happenings: BTreeMap::new(),
            hosts,
            cut: BTreeMap::new(),
            lossy: 0,
            dead_devices: 0,
            slow: Slow::default(),
            truth: Truth::default(),
            story: Vec::new(),
            next_write: 1,
            last_acknowledged: 0,
            address_answered: 0,
            holders: Vec::new(),
            roused: BTreeSet::new(),
            longest_pause: 0,
            next_promotion: 1,
        };
        let ids: Vec<NodeId> = world.hosts.keys().cloned().collect();
        for id in ids {
            world.start_daemon(&id);
        }
        world.after(MS, Happening::Tick);
        world
    }

    /// From here on these take that long.
    pub fn slow_down(&mut self, slow: Slow) {
        self.slow = slow;
    }

    /// Of the committed log, the epoch of the workload; how often it moved.
    pub fn epoch(&self) -> u64 {
        self.truth.state.workload(&self.workload).epoch.0
    }

    /// What a person who asks this node is shown now; none where no daemon runs.
    pub fn status(&self, node: &NodeId) -> Option<Status> {
        Some(self.hosts[node].node.as_ref()?.status())
    }

    /// Whose power was ever cut, or was about to be.
    pub fn was_fenced(&self) -> bool {
        self.story.iter().any(|line| line.contains(" is fenced by "))
    }

    /// The longest time without an acknowledged write, after the first.
    pub fn longest_pause(&self) -> Duration {
        Duration::from_nanos(self.longest_pause)
    }

    /// Who had the address, in order, and whose clients were told by the holder after.
    pub fn address_story(&self) -> (&[NodeId], &BTreeSet<NodeId>) {
        (&self.holders, &self.roused)
    }

    pub fn acknowledged(&self) -> usize {
        self.truth.acknowledged.len()
    }

    /// Runs the script to its end; the first broken guarantee stops it.
    pub fn run(&mut self, script: &Script) -> Result<(), Box<Failure>> {
        for (at, fault) in &script.faults {
            self.at(at * MS, Happening::Fault(fault.clone()));
        }
        while self.now < script.until_ms * MS {
            let Some(Reverse((at, order))) = self.queue.pop() else { break };
            let Some(happening) = self.happenings.remove(&order) else { continue };
            self.now = at;
            self.step(happening).map_err(|(g, what)| self.failure(g, what))?;
        }
        let lately = self.now.saturating_sub(self.last_acknowledged) < 1_000 * MS;
        let floats = self.spec.workloads[&self.workload].address.is_some();
        if floats && script.calm_ms > 0 && self.now.saturating_sub(self.address_answered) > 100 * MS {
            return Err(self.failure("L1", "nobody answers for the address".into()));
        }
        self.truth.check_served(&self.workload, lately).map_err(|(g, what)| self.failure(g, what))
    }

    fn failure(&self, guarantee: &'static str, what: String) -> Box<Failure> {
        let story = self.story.iter().rev().take(120).rev().cloned().collect();
        Box::new(Failure { guarantee, what, seed: self.seed, at_ms: self.now / MS, story })
    }

    fn tell(&mut self, line: String) {
        self.story.push(format!("{:>9.3} ms  {line}", self.now as f64 / MS as f64));
    }

    fn at(&mut self, at: u64, happening: Happening) {
        self.order += 1;
        self.queue.push(Reverse((at.max(self.now), self.order)));
        self.happenings.insert(self.order, happening);
    }

    fn after(&mut self, delay: u64, happening: Happening) {
        self.at(self.now + delay, happening);
    }

    fn step(&mut self, happening: Happening) -> Result<(), (&'static str, String)> {
        match happening {
            Happening::Input(id, run, input) => self.input(&id, run, input)?,
            Happening::Wake(id, run, order) => {
                if self.hosts[&id].wake == Some(order) {
                    self.host(&id).wake = None;
                    self.input(&id, run, Input::Woke)?;
                }
            }
            Happening::Durable(id, run, number, writes) => {
                let host = self.host(&id);
                if host.run == run && host.has_power {
                    writes.into_iter().for_each(|w| host.disk.write(w));
                    self.input(&id, run, Input::Persisted { number })?;
                }
            }
            Happening::Act(id, run, number, action) => self.finish_action(&id, run, number, action)?,
            Happening::Deadman(id, count) => self.deadman(&id, count)?,
            Happening::Address(id, run, order) => self.address(&id, run, order)?,
            Happening::AddressLook(id, run, turn) => self.look_at_address(&id, run, turn)?,
            Happening::Device(by, run, node, order, step) => self.device(&by, run, node, order, step)?,
            Happening::Fault(fault) => self.begin_fault(fault)?,
            Happening::End(fault) => self.end_fault(fault)?,
            Happening::Tick => self.tick()?,
        }
        let primaries: Vec<&NodeId> =
            self.hosts.iter().filter(|(_, h)| h.server.runs && h.server.primary).map(|(n, _)| n).collect();
        if primaries.len() > 1 {
            return Err(("S3", format!("two primaries run at once: {primaries:?}")));
        }
        self.check_address()?;
        let primaries: Vec<&NodeId> =
            self.hosts.iter().filter(|(_, h)| h.server.runs && h.server.primary).map(|(n, _)| n).collect();
        // S6: whoever was cut off holds nothing before it is readmitted.
        let fenced_off = |n: &&&NodeId| self.truth.state.fenced(n).is_some_and(|f| f.off);
        if let Some(node) = primaries.iter().find(fenced_off) {
            return Err(("S6", format!("{node} is fenced and runs a primary")));
        }
        Ok(())
    }

    fn host(&mut self, id: &NodeId) -> &mut Host {
        self.hosts.get_mut(id).expect("hosts are never removed")
    }

    fn start_daemon(&mut self, id: &NodeId) {
        let (spec, planted, seed) = (self.spec.clone(), self.planted, self.chance.random());
        let now = self.now;
        let host = self.host(id);
        host.run += 1;
        let config = NodeConfig {
            me: id.clone(),
            spec,
            boot: BootId::from(format!("boot-{}", host.boot)),
            system: None,
            seed,
            stored: host.disk.stored.clone(),
            kept: host.disk.kept.clone(),
            snapshot_after: SNAPSHOT_AFTER,
            planted,
        };
        host.node = Some(Node::new(config, host.clock(now)));
        host.closely = true;
        host.gate = GateReport { listening: true, ..GateReport::default() };
        host.acting.clear();
        let (run, deadline, address) = (host.run, host.deadline, host.address_deadline);
        self.truth.forget(id);
        for (claim, deadline) in
            [(Claim::Primary(self.workload.clone()), deadline), (Claim::Address(self.workload.clone()), address)]
        {
            let armed = Input::Armed { claim, deadline, unguarded: None };
            self.after(1, Happening::Input(id.clone(), run, armed));
        }
        if self.spec.workloads[&self.workload].gates.contains_key(id) {
            let (workload, report) = (self.workload.clone(), self.hosts[id].gate.clone());
            self.after(MS, Happening::Input(id.clone(), run, Input::GateSeen { workload, report }));
        }
        self.after(2, Happening::Input(id.clone(), run, Input::Woke));
    }

    fn stop_daemon(&mut self, id: &NodeId) {
        let host = self.host(id);
        host.run += 1;
        host.node = None;
        host.is_paused = false;
        host.paused.clear();
    }

    /// Gives one input to a node, and carries out what follows.
    fn input(&mut self, id: &NodeId, run: u64, input: Input) -> Result<(), (&'static str, String)> {
        let now = self.now;
        let host = self.host(id);
        if host.run != run {
            return Ok(());
        }
        if host.is_paused {
            host.paused.push(input);
            return Ok(());
        }
        let clock = host.clock(now);
        let Some(node) = host.node.as_mut() else { return Ok(()) };
        node.handle(clock, input);
        let mut effects = Vec::new();
        while let Some(effect) = node.poll_effect() {
            effects.push(effect);
        }
        let due = host.true_time(host.node.as_ref().expect("it just ran").poll_timeout()).max(now + 1000);
        self.order += 1;
        let order = self.order;
        self.host(id).wake = Some(order);
        self.queue.push(Reverse((due, order)));
        self.happenings.insert(order, Happening::Wake(id.clone(), run, order));
        for effect in effects {
            self.carry_out(id, run, effect)?;
        }
        let Self { truth, hosts, .. } = self;
        let node = hosts[id].node.as_ref().expect("it just ran");
        truth.check_leader(node)?;
        truth.check_reports(node)?;
        truth.check_commits(node, &Servers(hosts))
    }

    fn carry_out(&mut self, id: &NodeId, run: u64, effect: Effect) -> Result<(), (&'static str, String)> {
        match effect {
            Effect::Send { to, message } => self.deliver(id, to, message),
            Effect::Persist { number, writes } => {
                let sync = self.hosts[id].sync_ms * MS;
                let delay = self.slow.disk.map_or_else(|| self.chance.random_range(sync / 4..=sync), nanos);
                // One store thread: syncs end in the order they began.
                let end = self.hosts[id].synced_at.max(self.now) + delay;
                self.host(id).synced_at = end;
                self.at(end, Happening::Durable(id.clone(), run, number, writes));
            }
            Effect::Act { id: number, action, .. } => {
                if matches!(action, Action::Promote | Action::StartPrimary | Action::Create) {
                    self.truth.check_promotion(id, &self.workload)?;
                }
                self.tell(format!("{id}: {}", action.describe()));
                self.host(id).acting.insert(number);
                let most = match action {
                    Action::Clone { .. } => 1500,
                    Action::StopClean { .. } | Action::Create | Action::StartPrimary | Action::StartStandby { .. } => {
                        300
                    }
                    Action::Promote => 120,
                    _ => 30,
                };
                let slow = match action {
                    Action::Promote => self.slow.promote,
                    Action::Settle { .. } => self.slow.settle,
                    _ => None,
                };
                let delay = slow.map_or_else(|| self.chance.random_range(MS..most * MS), nanos);
                self.after(delay, Happening::Act(id.clone(), run, number, action));
            }
            Effect::Attend { workload, closely } => {
                self.host(id).closely = closely;
                if closely {
                    let observation = self.observe(id);
                    self.after(MS, Happening::Input(id.clone(), run, Input::Observed { workload, observation }));
                }
            }
            Effect::Cancel { id: number, .. } => {
                self.host(id).acting.remove(&number);
            }
            Effect::Address { order, flows, .. } => self.order_address(id, run, order, &flows),
            Effect::Arm { claim: claim @ Claim::Address(_), deadline } => {
                self.host(id).address_deadline = Some(deadline);
                self.armed(id, run, claim, Some(deadline));
            }
            Effect::Disarm { claim: claim @ Claim::Address(_) } => {
                self.host(id).address_deadline = None;
                self.armed(id, run, claim, None);
            }
            Effect::Arm { claim, deadline } => {
                let kill_bound = self.spec.timings.kill_bound;
                let host = self.host(id);
                host.deadline = Some(deadline);
                host.deadline_count += 1;
                let (count, act_at) = (host.deadline_count, host.true_time(deadline - kill_bound));
                self.at(act_at, Happening::Deadman(id.clone(), count));
                self.armed(id, run, claim, Some(deadline));
            }
            Effect::Disarm { claim } => {
                let host = self.host(id);
                host.deadline = None;
                host.deadline_count += 1;
                self.armed(id, run, claim, None);
            }
            Effect::Gate { order, .. } => {
                let forwarding = match order {
                    GateOrder::Forward { epoch, .. } => Some(epoch),
                    GateOrder::Hold { .. } => None,
                };
                self.host(id).gate.forwarding = forwarding;
                let report = self.hosts[id].gate.clone();
                let seen = Input::GateSeen { workload: self.workload.clone(), report };
                self.after(MS / 5, Happening::Input(id.clone(), run, seen));
            }
            Effect::Power { node, order, .. } => self.ask_device(id, run, node, order),
            Effect::Answer { .. } => {}
            Effect::Record(event) => self.tell(format!("{id} records: {}", event.text)),
        }
        Ok(())
    }

    fn armed(&mut self, id: &NodeId, run: u64, claim: Claim, deadline: Option<Time>) {
        let armed = Input::Armed { claim, deadline, unguarded: None };
        self.after(MS / 5, Happening::Input(id.clone(), run, armed));
    }

    fn connected(&self, from: &NodeId, to: &NodeId) -> bool {
        let (a, b) = (&self.hosts[from], &self.hosts[to]);
        let cut = self.cut.get(&(from.clone(), to.clone())).is_some_and(|n| *n > 0);
        from == to || (a.has_power && b.has_power && a.isolated == 0 && b.isolated == 0 && !cut)
    }

    fn deliver(&mut self, from: &NodeId, to: NodeId, message: Message) {
        if !self.connected(from, &to) {
            return;
        }
        let copies = if self.lossy > 0 { self.chance.random_range(0..100u32) } else { 50 };
        if self.lossy > 0 && copies < self.lossy {
            return;
        }
        let run = self.hosts[&to].run;
        let most = if self.lossy > 0 { 60 * MS } else { 2 * MS };
        for _ in 0..(if self.lossy > 0 && copies > 95 { 2 } else { 1 }) {
            let delay = self.chance.random_range(MS / 10..most);
            let input = Input::Received { from: from.clone(), message: message.clone() };
            self.after(delay, Happening::Input(to.clone(), run, input));
        }
    }

    fn deadman(&mut self, id: &NodeId, count: u64) -> Result<(), (&'static str, String)> {
        let now = self.now;
        let host = self.host(id);
        let due = host.deadline.is_some_and(|d| host.deadline_count == count && host.clock(now) < d);
        if due && host.has_power && host.server.runs && self.planted != Some(Planted::OutliveLease) {
            self.tell(format!("{id}: the deadman ends the server"));
            self.host(id).server.stop();
        }
        Ok(())
    }

    /// One millisecond scale for callers that print times.
    pub fn now(&self) -> Duration {
        Duration::from_nanos(self.now)
    }
}
