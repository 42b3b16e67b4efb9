//! The world: one queue of happenings in true time, hosts with clocks of their own, a network, and
//! servers.

mod addresses;
mod daemon;
mod deadman;
mod devices;
mod disturb;
mod happening;
mod host;
mod hostile;
mod names;
mod ownsteps;
mod progress;
mod servers;
mod watch;

use crate::check::{Failure, Truth, Verdict};
use crate::script::Script;
use crate::server::Server;
use happening::Happening;
use host::{Clock, Disk, Host, Slot, Syncs};
use karst_core::author::Level;
use karst_core::authority::Claim;
use karst_core::consensus::Stored;
use karst_core::gate::GateOrder;
use karst_core::message::Message;
use karst_core::replica::Examined;
use karst_core::request::Answer;
use karst_core::spec::{Revision, Spec};
use karst_core::view::Status;
use karst_core::votes::Voters;
use karst_core::{Effect, Input, Node, NodeId, Planted, StoreId, WorkloadId};
use names::NameServer;
use ownsteps::OwnSteps;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};
use std::sync::Arc;
use std::time::Duration;

const MS: u64 = 1_000_000;
const SECOND: u64 = 1_000 * MS;
/// What wall clocks show when the world begins, in seconds since the Unix epoch.
pub const WALL: u64 = 1_800_000_000;
/// A daemon that is woken more often in one second turns round and round.
const WAKES_A_SECOND: u32 = 4_000;
/// A world in which more happens in one second does.
const HAPPENINGS_A_SECOND: u64 = 1_000_000;

fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

/// What happens, and when: happenings are large, and the queue moves its entries about.
struct Entry {
    at: u64,
    order: u64,
    happening: Box<Happening>,
}

impl PartialEq for Entry {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}
impl Eq for Entry {}
impl PartialOrd for Entry {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Entry {
    fn cmp(&self, other: &Self) -> Ordering {
        (other.at, other.order).cmp(&(self.at, self.order))
    }
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

/// How long clients could not write, per workload.
#[derive(Clone, Copy, Debug, Default)]
struct Service {
    last_acknowledged: u64,
    longest_pause: u64,
    address_answered: u64,
    /// When something was broken last that its clients have to wait for.
    hindered_at: u64,
}

/// What is broken for everybody.
#[derive(Default)]
struct Weather {
    cut: BTreeMap<(usize, usize), u32>,
    /// Per cent lost, and by how many milliseconds late at most.
    lossy: Option<(u32, u64)>,
    dead_devices: u32,
    late_devices: Option<u64>,
    flaky: u32,
}

/// A whole cluster with its clients, driven by one seed.
pub struct World {
    seed: u64,
    /// All that there is, whether or not it takes part.
    spec: Spec,
    /// What the cluster is formed with.
    founding: Arc<Revision>,
    names: Vec<NodeId>,
    workloads: Vec<WorkloadId>,
    /// Which of them have a floating address.
    floats: Vec<bool>,
    planted: Option<Planted>,
    chance: Pcg64Mcg,
    now: u64,
    order: u64,
    queue: BinaryHeap<Entry>,
    hosts: Vec<Host>,
    weather: Weather,
    slow: Slow,
    truth: Truth,
    service: Vec<Service>,
    story: Vec<String>,
    next_write: u64,
    next_promotion: u64,
    /// Who held the address, and whose clients the holders were told to rouse.
    holders: Vec<NodeId>,
    roused: BTreeSet<NodeId>,
    answers: Vec<Answer>,
    name_server: NameServer,
    own_steps: OwnSteps,
    /// What lies on every host to make data from, of each workload.
    base_backups: Vec<Option<Server>>,
    /// Hosts have a packet guard (C3).
    guarded: bool,
    /// Daemons look at their hosts' wall clocks.
    tells_time: bool,
}

impl World {
    pub fn new(spec: Spec, seed: u64, planted: Option<Planted>) -> Self {
        let founding = spec.clone();
        Self::of(spec, founding, seed, planted)
    }

    /// With hosts, servers and workloads that may take part later.
    pub fn of(spec: Spec, founding: Spec, seed: u64, planted: Option<Planted>) -> Self {
        let founding = Arc::new(Revision::first(founding, ""));
        let mut chance = Pcg64Mcg::seed_from_u64(seed);
        let names: Vec<NodeId> = spec.nodes.keys().cloned().collect();
        let workloads: Vec<WorkloadId> = spec.workloads.keys().cloned().collect();
        let mut host = |name: &NodeId| Host {
            node: None,
            run: 0,
            boot: 0,
            stores: 0,
            // The very first start: all of them form the cluster.
            disk: Disk {
                stored: if founding.spec.nodes.contains_key(name) {
                    Stored::forming(StoreId::from(format!("{name}-0")))
                } else {
                    Stored {
                        store: Some(StoreId::from(format!("{name}-0"))),
                        ..Stored::default()
                    }
                },
                ..Disk::default()
            },
            backup: None,
            lost: None,
            sync_ms: 1,
            syncs: Syncs::default(),
            ways: BTreeMap::new(),
            waiting: Vec::new(),
            paused: 0,
            frozen: 0,
            suspended: 0,
            given: None,
            deadman_dead: 0,
            deadman_late: 0,
            deadman_from: 0,
            has_power: true,
            clock: Clock::new(
                chance.random_range(0..1_000_000 * MS),
                chance.random_range(-9_000..=9_000),
            ),
            hanging: 0,
            slow_standby: 0,
            checkpoint_ms: 0,
            stalled: 0,
            wall_off: 0,
            ill_at: 0,
            wake: 0,
            wakes: (0, 0),
            isolated: 0,
            slots: workloads.iter().map(|_| Slot::default()).collect(),
        };
        let hosts: Vec<Host> = names.iter().map(&mut host).collect();
        let names_of = workloads.len();
        let mut world = Self {
            seed,
            truth: Truth::new(workloads.len()),
            floats: spec
                .workloads
                .values()
                .map(|w| w.address.is_some())
                .collect(),
            service: vec![Service::default(); workloads.len()],
            spec,
            founding: founding.clone(),
            names,
            workloads,
            planted,
            chance,
            now: 0,
            order: 0,
            queue: BinaryHeap::new(),
            hosts,
            weather: Weather::default(),
            slow: Slow::default(),
            story: Vec::new(),
            next_write: 1,
            next_promotion: 1,
            holders: Vec::new(),
            roused: BTreeSet::new(),
            answers: Vec::new(),
            name_server: NameServer::new(names_of, seed),
            own_steps: OwnSteps::new(seed),
            base_backups: Vec::new(),
            guarded: true,
            tells_time: false,
        };
        (0..world.hosts.len()).for_each(|h| world.start_daemon(h));
        world.after(4 * MS, Happening::Tick);
        world
    }

    /// From here on these take that long.
    pub fn slow_down(&mut self, slow: Slow) {
        self.slow = slow;
    }

    /// From here on no host has a packet guard: a host that stands still as a whole is not covered
    /// (C3), everything else is.
    pub fn without_guard(mut self) -> Self {
        self.guarded = false;
        self
    }

    /// Daemons know what the time is, and what people set for a time ends by it.
    pub fn with_wall_clocks(mut self) -> Self {
        self.tells_time = true;
        self
    }

    /// Until then the site's own steps fail now and then.
    pub fn with_failing_steps(mut self, until_ms: u64) -> Self {
        self.own_steps.fail_until(until_ms * MS);
        self
    }

    /// Of the committed log, the epoch of the first workload; how often it moved.
    pub fn epoch(&self) -> u64 {
        self.truth.state.workload(&self.workloads[0]).epoch.0
    }

    /// Who holds the first workload, by the committed log.
    pub fn holder(&self) -> Option<&NodeId> {
        self.truth.state.workload(&self.workloads[0]).holder()
    }

    /// Who leads, as far as a node knows that its own word holds.
    pub fn coordinator(&self) -> Option<&NodeId> {
        let leads = |h: &&Host| {
            h.node
                .as_ref()
                .is_some_and(|n| n.leads_at(h.clock.at(self.now)))
        };
        self.hosts
            .iter()
            .find(leads)
            .and_then(|h| h.node.as_ref())
            .map(Node::me)
    }

    /// What a person who asks this node is shown now; none where no daemon runs.
    pub fn status(&self, node: &NodeId) -> Option<Status> {
        Some(self.hosts[self.place(node)].node.as_ref()?.status())
    }

    /// What was answered to those who asked.
    pub fn answers(&self) -> &[Answer] {
        &self.answers
    }

    /// The epoch that this node's gate of the first workload forwards to.
    pub fn forwarding(&self, node: &NodeId) -> Option<u64> {
        self.hosts[self.place(node)].slots[0]
            .gate
            .forwarding
            .map(|e| e.0)
    }

    /// Whose power was ever cut, or was about to be.
    pub fn was_fenced(&self) -> bool {
        self.story
            .iter()
            .any(|line| line.contains(" is fenced by "))
    }

    /// The longest time without an acknowledged write of the first workload, after the first.
    pub fn longest_pause(&self) -> Duration {
        Duration::from_nanos(self.service[0].longest_pause)
    }

    /// Who had the address, in order, and whose clients were told by the holder after.
    pub fn address_story(&self) -> (&[NodeId], &BTreeSet<NodeId>) {
        (&self.holders, &self.roused)
    }

    /// What happened so far, a line each.
    pub fn story(&self) -> &[String] {
        &self.story
    }

    pub fn acknowledged(&self) -> usize {
        self.truth.acknowledged()
    }

    pub fn now(&self) -> Duration {
        Duration::from_nanos(self.now)
    }

    /// The spec in force.
    fn in_force(&self) -> &Spec {
        let committed = self.truth.state.charter.revision.as_ref();
        &committed.unwrap_or(&self.founding).spec
    }

    /// Who votes.
    fn voters(&self) -> Voters {
        let committed = self.truth.state.charter.voters.clone();
        committed.unwrap_or_else(|| self.founding.spec.votes().into())
    }

    /// Whether a host's daemon looks after a server of a workload.
    fn looks_after(&self, h: usize, workload: &WorkloadId) -> bool {
        let node = self.hosts[h].node.as_ref();
        node.is_some_and(|node| node.looks_after(workload))
    }

    fn place(&self, node: &NodeId) -> usize {
        self.names.binary_search(node).expect("it is in the spec")
    }

    fn place_of(&self, workload: &WorkloadId) -> usize {
        self.workloads
            .binary_search(workload)
            .expect("it is in the spec")
    }

    /// Runs the script to its end; the first broken guarantee stops it.
    pub fn run(&mut self, script: &Script) -> Result<(), Box<Failure>> {
        let calm_from = script.until_ms.saturating_sub(script.calm_ms);
        self.name_server.is_well_from(calm_from * MS);
        for (at, fault) in &script.faults {
            self.at(at * MS, Happening::Fault(fault.clone()));
        }
        let mut happened = 0;
        while self
            .queue
            .peek()
            .is_some_and(|next| next.at < script.until_ms * MS)
        {
            let Some(Entry { at, happening, .. }) = self.queue.pop() else {
                break;
            };
            if at / SECOND != self.now / SECOND {
                happened = 0;
            }
            happened += 1;
            self.now = at;
            if happened > HAPPENINGS_A_SECOND {
                let what = format!("{happened} happenings in a second and no end");
                return Err(self.failure(("busy", what)));
            }
            self.step(*happening)
                .map_err(|broken| self.failure(broken))?;
        }
        self.now = script.until_ms * MS;
        self.check_end(script.calm_ms)
            .map_err(|broken| self.failure(broken))
    }

    fn failure(&self, (guarantee, what): (&'static str, String)) -> Box<Failure> {
        let story = self.story.iter().rev().take(400).rev().cloned().collect();
        Box::new(Failure {
            guarantee,
            what,
            seed: self.seed,
            at_ms: self.now / MS,
            story,
        })
    }

    fn tell(&mut self, line: String) {
        self.story
            .push(format!("{:>9.3} ms  {line}", self.now as f64 / MS as f64));
    }

    fn at(&mut self, at: u64, happening: Happening) {
        self.order += 1;
        self.queue.push(Entry {
            at: at.max(self.now),
            order: self.order,
            happening: Box::new(happening),
        });
    }

    fn after(&mut self, delay: u64, happening: Happening) {
        self.at(self.now + delay, happening);
    }

    fn step(&mut self, happening: Happening) -> Verdict {
        // What a node is told changes no server and no guard by itself.
        let inside = matches!(
            happening,
            Happening::Input(..) | Happening::Wake(..) | Happening::Durable(..)
        );
        match happening {
            Happening::Input(h, run, input) => self.input(h, run, input)?,
            Happening::Wake(h, run, order) => {
                if self.hosts[h].wake == order {
                    self.count_wake(h, run)?;
                    self.input(h, run, Input::Woke)?;
                }
            }
            Happening::Durable(h, run, number, writes) => {
                let host = &mut self.hosts[h];
                if host.run == run && host.has_power {
                    writes.into_iter().for_each(|w| host.disk.write(w));
                    self.input(h, run, Input::Persisted { number })?;
                }
            }
            Happening::Act(h, run, w, number, action) => {
                self.finish_action(h, run, w, number, action)?
            }
            Happening::Deadman(h, w, moved) => self.deadman(h, w, moved),
            Happening::Address(h, run, w, order) => self.address(h, run, w, order)?,
            Happening::AddressLook(h, run, w, turn) => self.look_at_address(h, run, w, turn)?,
            Happening::Device(by, run, h, order, step) => self.device(by, run, h, order, step)?,
            Happening::Swap(swap) => self.swap_name(*swap),
            Happening::Steps(h, run, occasion) if self.hosts[h].run == run => {
                self.run_steps(h, run, *occasion);
            }
            Happening::Steps(..) => {}
            Happening::Fault(fault) => self.begin_fault(fault)?,
            Happening::End(fault, when) => self.end_fault(fault, when)?,
            Happening::Resume(h, when) => self.resume(h, when)?,
            Happening::Pass {
                via,
                run,
                speaker,
                to,
                message,
            } => {
                let host = &self.hosts[via];
                if host.run == run && host.has_power && !host.is_still() {
                    self.carry(speaker, via, to, message);
                }
            }
            Happening::Hostile(h, until) => self.say_anything(h, until)?,
            Happening::Tick => self.tick()?,
        }
        if inside { Ok(()) } else { self.check_instant() }
    }

    fn count_wake(&mut self, h: usize, run: u64) -> Verdict {
        let (second, host) = (self.now / (1_000 * MS), &mut self.hosts[h]);
        if host.run != run || host.wakes.0 != second {
            host.wakes = (second, 0);
        }
        host.wakes.1 += 1;
        if host.wakes.1 > WAKES_A_SECOND {
            return Err((
                "busy",
                format!(
                    "{} was woken {} times in a second",
                    self.names[h], host.wakes.1
                ),
            ));
        }
        Ok(())
    }

    /// Gives one input to a node, and carries out what follows.
    fn input(&mut self, h: usize, run: u64, input: Input) -> Verdict {
        let now = self.now;
        let host = &mut self.hosts[h];
        if host.run != run || !host.has_power {
            return Ok(());
        }
        if host.is_still() {
            host.waiting.push(input);
            return Ok(());
        }
        let from = match &input {
            Input::Received {
                from,
                message: Message::Checkin { .. },
            } => Some(from.clone()),
            _ => None,
        };
        let clock = host.clock.at(now);
        let Some(node) = host.node.as_mut() else {
            return Ok(());
        };
        node.handle(clock, input);
        while let Some(effect) = self.hosts[h].node.as_mut().and_then(Node::poll_effect) {
            self.carry_out(h, run, effect)?;
        }
        let host = &self.hosts[h];
        let Some(node) = host.node.as_ref().filter(|_| host.run == run) else {
            return Ok(());
        };
        let due = host.clock.true_time(node.poll_timeout()).max(now + 1_000);
        // The number that the next happening gets.
        let order = self.order + 1;
        self.hosts[h].wake = order;
        self.at(due, Happening::Wake(h, run, order));
        self.check_node(h, from.as_ref())
    }

    fn carry_out(&mut self, h: usize, run: u64, effect: Effect) -> Verdict {
        match effect {
            Effect::Shape { revision, .. } => self.shape(h, run, &revision.spec),
            Effect::Examine { wanted } => {
                // Something is missing at first, now and then, and somebody brings it.
                let Some((intent, _)) = wanted else {
                    return Ok(());
                };
                let brought = self.chance.random_range(0..4) == 0;
                for (at, lacks) in [(1..100, brought), (100..3_000, false)] {
                    let lacks = if lacks { vec!["room".into()] } else { vec![] };
                    let seen = Input::Examined(Examined { intent, lacks });
                    let delay = self.chance.random_range(at) * MS;
                    self.after(delay, Happening::Input(h, run, seen));
                }
            }
            // There are no certificates here.
            Effect::Refuse { .. } => {}
            Effect::Dismiss { claim } => {
                // Whatever is there later has hands of its own.
                let w = self.place_of(claim.workload());
                if let Claim::Address(_) = claim {
                    self.hosts[h].slots[w].address_turn = (run, 0);
                }
            }
            Effect::Send { to, message } => {
                let to = self.place(&to);
                self.deliver(h, to, message);
            }
            Effect::Readers { workload, order } => {
                let w = self.place_of(&workload);
                self.hosts[h].slots[w].readers = order;
            }
            // Here every host has every other's address.
            Effect::Reach { .. } => {}
            Effect::Way { to, via } => {
                let to = self.place(&to);
                let via = via.map(|via| self.place(&via));
                match via {
                    Some(via) => self.hosts[h].ways.insert(to, via),
                    None => self.hosts[h].ways.remove(&to),
                };
            }
            Effect::Persist { number, writes } => {
                let sync = self.hosts[h].sync_ms * MS;
                let delay = self
                    .slow
                    .disk
                    .map_or_else(|| self.chance.random_range(sync / 4..=sync), nanos);
                let end = self.hosts[h].syncs.end_of(self.now, delay);
                self.at(end, Happening::Durable(h, run, number, writes));
            }
            Effect::Act {
                workload,
                id,
                action,
                ..
            } => self.begin_action(h, run, &workload, id, action)?,
            Effect::Attend { workload, closely } => {
                self.attend(h, run, workload, closely);
            }
            Effect::Cancel { workload, id } => {
                let w = self.place_of(&workload);
                self.hosts[h].slots[w].acting.remove(&id);
            }
            Effect::Address {
                workload,
                order,
                connections,
            } => {
                let w = self.place_of(&workload);
                self.order_address(h, run, w, order, &connections);
            }
            Effect::Arm { claim, deadline } => self.arm(h, run, claim, Some(deadline)),
            Effect::Disarm { claim } => self.arm(h, run, claim, None),
            Effect::Gate { workload, order } => {
                self.order_gate(h, run, workload, &order);
            }
            Effect::Steps { occasion } => self.run_steps(h, run, occasion),
            Effect::Name { workload, order } => {
                let w = self.place_of(&workload);
                self.ask_for_name((h, run), w, order);
            }
            Effect::Power { node, order, .. } => {
                let to = self.place(&node);
                self.ask_device(h, run, to, order);
            }
            Effect::Answer { answer, .. } => self.answers.push(answer),
            Effect::Record(event) => {
                let line = format!("{} records: {}", self.names[h], event.text);
                self.tell(line);
            }
        }
        Ok(())
    }

    /// A look at the server now, and the next ones sooner or later.
    fn attend(&mut self, h: usize, run: u64, workload: WorkloadId, closely: bool) {
        let w = self.place_of(&workload);
        self.hosts[h].slots[w].closely = closely;
        if closely {
            let observation = self.observe(h, w);
            let seen = Input::Observed {
                workload,
                observation,
            };
            self.after(MS, Happening::Input(h, run, seen));
        }
    }

    fn order_gate(&mut self, h: usize, run: u64, workload: WorkloadId, order: &GateOrder) {
        let w = self.place_of(&workload);
        // A gate that doubts tries, and finds the way as it is.
        let (forwarding, unreachable) = match order {
            GateOrder::Forward {
                epoch,
                primary,
                to,
                round,
            } => {
                let p = self.place(primary);
                let reached = !to.cut || (self.connected(h, p) && self.connected(p, h));
                ((reached || round.is_some()).then_some(*epoch), !reached)
            }
            GateOrder::Hold { .. } => (None, false),
        };
        let gate = &mut self.hosts[h].slots[w].gate;
        (gate.forwarding, gate.unreachable) = (forwarding, unreachable);
        let report = gate.clone();
        let seen = Input::GateSeen { workload, report };
        self.after(MS / 5, Happening::Input(h, run, seen));
    }

    fn connected(&self, from: usize, to: usize) -> bool {
        let well = |h: &Host| h.has_power && h.isolated == 0 && h.suspended == 0;
        let cut = self.weather.cut.get(&(from, to)).is_some_and(|n| *n > 0);
        from == to || (well(&self.hosts[from]) && well(&self.hosts[to]) && !cut)
    }

    fn deliver(&mut self, from: usize, to: usize, message: Message) {
        if let Some(via) = self.hosts[from].ways.get(&to).copied()
            && !message.is_beat()
            && self.connected(from, via)
        {
            let (run, delay) = (
                self.hosts[via].run,
                self.chance.random_range(MS / 10..2 * MS),
            );
            self.after(
                delay,
                Happening::Pass {
                    via,
                    run,
                    speaker: from,
                    to,
                    message: message.clone(),
                },
            );
        }
        self.carry(from, from, to, message);
    }

    /// One way over the network; what the speaker says may come by another host.
    fn carry(&mut self, speaker: usize, from: usize, to: usize, message: Message) {
        if !self.connected(from, to) {
            return;
        }
        let dice = self
            .weather
            .lossy
            .map_or(50, |_| self.chance.random_range(0..100u32));
        let (lost, late) = self
            .weather
            .lossy
            .map_or((0, 2), |(lost, late)| (lost, late.max(2)));
        let mut again = 0;
        if dice < lost {
            if message.is_repeated() {
                return;
            }
            // News travels on a stream, which sends again what was lost (RFC 9002): it comes late.
            again = self.chance.random_range(20 * MS..250 * MS);
        }
        let run = self.hosts[to].run;
        let sender = self.names[speaker].clone();
        if dice > 95 {
            let delay = self.chance.random_range(MS / 10..late * MS);
            let input = received(sender.clone(), message.clone());
            self.after(delay, Happening::Input(to, run, input));
        }
        let delay = again + self.chance.random_range(MS / 10..late * MS);
        self.after(delay, Happening::Input(to, run, received(sender, message)));
    }
}

/// The token that everybody has who is asked in earnest.
const KNOWN: &str = "a token of the ferry company";

/// The door of a daemon looks up the token that comes with a request, and believes no level that
/// another node says.
fn received(from: NodeId, message: Message) -> Input {
    match message {
        Message::Ask {
            number,
            request,
            token: Some(token),
        } if token.secret() == KNOWN => Input::Introduced {
            from,
            number,
            request,
            level: Level::Administer,
        },
        message => Input::Received { from, message },
    }
}
