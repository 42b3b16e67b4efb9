//! The world: one queue of happenings in true time, hosts with clocks of their own, a network, and servers.

mod addresses;
mod devices;

use crate::check::{Data as DataCheck, Failure, Truth};
use crate::fault::{Fault, Script};
use crate::server::{Server, Sync};
use karst_core::authority::Claim;
use karst_core::consensus::Stored;
use karst_core::message::Message;
use karst_core::node::{AddressOrder, CALM_LOOKS, GateOrder, Write};
use karst_core::power::PowerOrder;
use karst_core::replica::agent::Kept;
use karst_core::replica::{Action, Done, Downstream, GateReport, Observation};
use karst_core::spec::Spec;
use karst_core::{BootId, Effect, Index, Input, Lsn, Node, NodeConfig, NodeId, Planted, Term, Time, WorkloadId};
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

    /// Whose power was ever cut, or was about to be.
    pub fn was_fenced(&self) -> bool {
        self.story.iter().any(|line| line.contains(" is fenced by "))
    }

    /// The longest time without an acknowledged write, after the first.
    pub fn longest_pause(&self) -> Duration {
        Duration::from_nanos(self.longest_pause)
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
                    Action::Settle => self.slow.settle,
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
            Effect::Address { order, .. } => self.order_address(id, run, order),
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

    fn finish_action(
        &mut self, id: &NodeId, run: u64, number: u64, action: Action,
    ) -> Result<(), (&'static str, String)> {
        if self.hosts[id].run != run || !self.host(id).acting.remove(&number) {
            return Ok(());
        }
        if self.hosts[id].is_paused {
            // The driver stands still with its daemon.
            self.host(id).acting.insert(number);
            self.after(10 * MS, Happening::Act(id.clone(), run, number, action));
            return Ok(());
        }
        let result = self.act(id, action);
        let (workload, observation) = (self.workload.clone(), self.observe(id));
        self.input(id, run, Input::Observed { workload: workload.clone(), observation })?;
        self.input(id, run, Input::Acted { workload, id: number, result })
    }

    fn act(&mut self, id: &NodeId, action: Action) -> Result<Done, String> {
        let promotion = self.next_promotion;
        let up = |w: &Self, n: &NodeId| w.connected(id, n) && w.hosts[n].server.runs && w.hosts[n].server.primary;
        match action {
            Action::Create | Action::StartPrimary => {
                let server = &mut self.host(id).server;
                if server.standby || (server.runs && action == Action::StartPrimary) {
                    return Err("not the data of a stopped primary".into());
                }
                if !server.runs {
                    (server.has_data, server.runs, server.primary, server.sync) = (true, true, true, Sync::Impossible);
                }
                Ok(Done::Ok)
            }
            Action::StartStandby { upstream } => {
                let server = &mut self.host(id).server;
                (server.runs, server.primary, server.standby, server.receiving) = (true, false, true, false);
                server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Checkpoint => Ok(Done::Ok),
            Action::StopClean { .. } => {
                let at = self.hosts[id].server.position();
                let behind: Vec<NodeId> = self.followers(id).into_iter().map(|(n, _)| n).collect();
                for node in behind {
                    self.stream(&node, usize::MAX);
                }
                let server = &mut self.host(id).server;
                let was_up = server.runs;
                server.stop();
                Ok(Done::Stopped { clean_at: was_up.then_some(at) })
            }
            Action::StopNow => {
                self.host(id).server.stop();
                Ok(Done::Stopped { clean_at: None })
            }
            Action::Promote => {
                self.next_promotion += 1;
                let server = &mut self.host(id).server;
                if !server.runs {
                    return Err("the server does not run".into());
                }
                if !server.primary {
                    let at = server.wal.len();
                    server.timelines.push((server.timeline().0 + 1, at, promotion));
                    (server.primary, server.standby, server.receiving) = (true, false, false);
                    server.sync = Sync::Impossible;
                }
                let (timeline, at, _) = server.timeline();
                Ok(Done::Promoted { timeline, switch: Lsn(at as u64) })
            }
            Action::Settle => {
                let server = &mut self.host(id).server;
                (server.upstream, server.receiving) = (None, false);
                Ok(Done::Settled { timeline: server.timeline().0, position: server.position() })
            }
            Action::Repoint { upstream } => {
                self.host(id).server.upstream = Some(upstream);
                Ok(Done::Ok)
            }
            Action::Clone { from } => {
                if !up(self, &from) {
                    return Err(format!("{from} does not answer"));
                }
                let (wal, timelines) =
                    (self.hosts[&from].server.wal.clone(), self.hosts[&from].server.timelines.clone());
                let fresh = Server { has_data: true, standby: true, wal, timelines, ..Server::new() };
                self.host(id).server = fresh;
                Ok(Done::Ok)
            }
            Action::Rewind { to } => {
                if !up(self, &to) {
                    return Err(format!("{to} does not answer"));
                }
                let source = self.hosts[&to].server.clone();
                self.host(id).server.rewind(&source);
                Ok(Done::Ok)
            }
            Action::SetSync { epoch, number, standbys, unprotected } => {
                let server = &mut self.host(id).server;
                if !server.runs || !server.primary || (epoch.0, number) < server.sync_number {
                    return Err("not a primary, or a late setting".into());
                }
                server.sync_number = (epoch.0, number);
                server.sync = match (standbys.is_empty(), unprotected) {
                    (true, true) => Sync::Unprotected,
                    (true, false) => Sync::Impossible,
                    _ => Sync::Names(standbys.clone()),
                };
                let (have, at) = (self.followers(id), self.hosts[id].server.wal.len());
                let all = standbys.iter().all(|n| have.iter().any(|(f, p)| f == n && *p >= at));
                if all { Ok(Done::Ok) } else { Err("not every member has everything yet".into()) }
            }
        }
    }

    /// The standbys that stream from this primary, with their positions.
    fn followers(&self, primary: &NodeId) -> Vec<(NodeId, usize)> {
        let follows = |(n, h): &(&NodeId, &Host)| {
            h.server.runs
                && h.server.receiving
                && h.server.upstream.as_ref() == Some(primary)
                && self.connected(primary, n)
        };
        self.hosts.iter().filter(follows).map(|(n, h)| (n.clone(), h.server.wal.len())).collect()
    }

    fn observe(&self, id: &NodeId) -> Observation {
        let standbys = self.followers(id).into_iter().map(|(node, at)| {
            let at = Lsn(at as u64);
            Downstream { node, sent: at, flushed: at, replayed: at, streaming: true }
        });
        self.hosts[id].server.observe(standbys.collect())
    }

    /// One standby receives up to `most` writes.
    fn stream(&mut self, id: &NodeId, most: usize) {
        let server = &self.hosts[id].server;
        let Some(from) = server.upstream.clone().filter(|_| server.runs && !server.primary) else { return };
        let Some(primary) = self.hosts.get(&from).map(|h| h.server.clone()) else { return };
        let linked = self.connected(&from, id) && self.connected(id, &from) && primary.runs && primary.primary;
        let server = &mut self.host(id).server;
        server.receiving = linked && server.can_stream_from(&primary);
        if server.receiving {
            let upto = primary.wal.len().min(server.wal.len().saturating_add(most));
            let have = server.wal.len();
            server.wal.extend_from_slice(&primary.wal[have..upto]);
            server.timelines = primary.timelines.iter().filter(|(_, at, _)| *at <= upto).copied().collect();
            server.replayed = upto;
        }
    }

    /// A millisecond of the servers' and clients' lives; every 20th, the drivers probe.
    fn tick(&mut self) -> Result<(), (&'static str, String)> {
        let ids: Vec<NodeId> = self.hosts.keys().cloned().collect();
        let millis = self.now / MS;
        for id in &ids {
            if self.chance.random_range(0..4) > 0 {
                self.stream(id, 3);
            }
        }
        for id in &ids {
            let server = &self.hosts[id].server;
            if server.runs && server.primary {
                if millis.is_multiple_of(5) {
                    let write = self.next_write;
                    self.next_write += 1;
                    let server = &mut self.host(id).server;
                    server.wal.push(write);
                    server.waiting.push((server.wal.len(), write));
                }
                self.acknowledge(id);
            }
            let every = if self.hosts[id].closely { 20 } else { 20 * u64::from(CALM_LOOKS) };
            if millis.is_multiple_of(every)
                && self.spec.workloads[&self.workload].replicas.contains_key(id)
                && self.hosts[id].has_power
            {
                let (run, workload, observation) = (self.hosts[id].run, self.workload.clone(), self.observe(id));
                if !self.hosts[id].is_paused {
                    self.input(id, run, Input::Observed { workload, observation })?;
                }
            }
        }
        self.after(MS, Happening::Tick);
        Ok(())
    }

    /// Commits return once everyone that the setting names has them.
    fn acknowledge(&mut self, id: &NodeId) {
        let have = self.followers(id);
        let upto = match &self.hosts[id].server.sync {
            Sync::Impossible => 0,
            Sync::Unprotected => usize::MAX,
            Sync::Names(names) => {
                let position = |n: &NodeId| have.iter().find(|(f, _)| f == n).map_or(0, |(_, at)| *at);
                names.iter().map(position).min().unwrap_or(0)
            }
        };
        let waiting = std::mem::take(&mut self.host(id).server.waiting);
        let (done, still): (Vec<_>, Vec<_>) = waiting.into_iter().partition(|(at, _)| *at <= upto);
        self.host(id).server.waiting = still;
        if !done.is_empty() {
            if self.last_acknowledged > 0 {
                self.longest_pause = self.longest_pause.max(self.now - self.last_acknowledged);
            }
            self.last_acknowledged = self.now;
        }
        self.truth.acknowledged.extend(done.into_iter().map(|(_, write)| write));
    }

    fn begin_fault(&mut self, fault: Fault) -> Result<(), (&'static str, String)> {
        self.tell(format!("FAULT {fault:?}"));
        let mut lasts = None;
        match &fault {
            Fault::KillDaemon { node, down_ms } => {
                self.stop_daemon(node);
                lasts = Some(*down_ms);
            }
            Fault::PauseDaemon { node, for_ms } => {
                self.host(node).is_paused = true;
                lasts = Some(*for_ms);
            }
            Fault::PowerCut { node, down_ms } => {
                self.stop_daemon(node);
                let host = self.host(node);
                host.has_power = false;
                host.boot += 1;
                host.deadline = None;
                host.deadline_count += 1;
                (host.has_address, host.address_deadline) = (false, None);
                host.server.stop();
                lasts = Some(*down_ms);
            }
            Fault::KillServer { node } => {
                self.host(node).server.stop();
                let (run, workload, observation) = (self.hosts[node].run, self.workload.clone(), self.observe(node));
                // Its first process is seen to exit before what it left behind has ended.
                let exited = Observation { runs: true, exited: true, ..observation.clone() };
                let first = Input::Observed { workload: workload.clone(), observation: exited };
                self.after(10 * MS, Happening::Input(node.clone(), run, first));
                self.after(20 * MS, Happening::Input(node.clone(), run, Input::Observed { workload, observation }));
            }
            Fault::Isolate { node, for_ms } => {
                self.host(node).isolated += 1;
                lasts = Some(*for_ms);
            }
            Fault::OneWay { from, to, for_ms } => {
                *self.cut.entry((from.clone(), to.clone())).or_default() += 1;
                lasts = Some(*for_ms);
            }
            Fault::Lossy { percent, for_ms } => {
                self.lossy = *percent;
                lasts = Some(*for_ms);
            }
            Fault::SlowDisk { node, sync_ms, for_ms } => {
                self.host(node).sync_ms = *sync_ms;
                lasts = Some(*for_ms);
            }
            Fault::DeadDevices { for_ms } => {
                self.dead_devices += 1;
                lasts = Some(*for_ms);
            }
            Fault::Switchover { to } => {
                let Some(asked) = self.hosts.keys().next().cloned() else { return Ok(()) };
                let request = karst_core::node::Request::Switchover {
                    workload: self.workload.clone(),
                    to: Some(to.clone()),
                    by: "captain".into(),
                    plan_only: false,
                };
                let run = self.hosts[&asked].run;
                self.input(&asked, run, Input::Asked { ticket: 1, request })?;
            }
        }
        if let Some(ms) = lasts {
            self.after(ms * MS, Happening::End(fault));
        }
        Ok(())
    }

    fn end_fault(&mut self, fault: Fault) -> Result<(), (&'static str, String)> {
        self.tell(format!("ENDS {fault:?}"));
        match fault {
            Fault::KillDaemon { node, .. } => {
                if self.hosts[&node].has_power && self.hosts[&node].node.is_none() {
                    self.start_daemon(&node);
                }
            }
            Fault::PauseDaemon { node, .. } => {
                let host = self.host(&node);
                host.is_paused = false;
                let (run, waited) = (host.run, std::mem::take(&mut host.paused));
                for input in waited {
                    self.input(&node, run, input)?;
                }
            }
            Fault::PowerCut { node, .. } => {
                if !self.hosts[&node].has_power {
                    self.host(&node).has_power = true;
                    self.start_daemon(&node);
                }
            }
            Fault::Isolate { node, .. } => self.host(&node).isolated -= 1,
            Fault::OneWay { from, to, .. } => *self.cut.entry((from, to)).or_default() -= 1,
            Fault::Lossy { .. } => self.lossy = 0,
            Fault::DeadDevices { .. } => self.dead_devices -= 1,
            Fault::SlowDisk { node, .. } => self.host(&node).sync_ms = 1,
            Fault::KillServer { .. } | Fault::Switchover { .. } => {}
        }
        Ok(())
    }

    /// One millisecond scale for callers that print times.
    pub fn now(&self) -> Duration {
        Duration::from_nanos(self.now)
    }
}
