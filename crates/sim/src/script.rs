//! A schedule of faults: written by hand, or drawn.

use crate::cluster::HOSTILE;
use crate::edit::Edit;
use crate::fault::Fault;
use crate::world::WALL;
use karst_core::operation::Mode;
use karst_core::request::{Plea, Request};
use karst_core::spec::{Alone, Loss, Rules, Spec, Timings};
use karst_core::{NodeId, WorkloadId};
use rand::Rng;
use rand_pcg::Pcg64Mcg;
use std::collections::BTreeSet;

/// A schedule of faults.
#[derive(Clone, Debug, Default)]
pub struct Script {
    /// When each begins, in milliseconds of true time.
    pub faults: Vec<(u64, Fault)>,
    /// When the run ends.
    pub until_ms: u64,
    /// The last of this many milliseconds are free of faults, and the cluster has to be whole at
    /// the end (L1).
    pub calm_ms: u64,
}

/// Faults are over by then, and what people left behind is put right a little later.
const STORMY_MS: u64 = 30_000;
const END_MS: u64 = 75_000;
/// Who puts things right at the end.
const TIDY: &str = "marlin";
const TIDY_MS: u64 = 43_000;

impl Script {
    /// Nothing happens for so many seconds.
    pub fn calm(seconds: u64) -> Self {
        Self {
            faults: Vec::new(),
            until_ms: seconds * 1000,
            calm_ms: seconds * 1000,
        }
    }

    /// Up to `count` faults of every kind over half a minute, from the formation on, then calm.
    pub fn random(chance: &mut Pcg64Mcg, spec: &Spec, count: usize) -> Self {
        let mut draw = Draw::new(chance, spec);
        let hostile = NodeId::from(HOSTILE);
        let votes = spec.nodes.get(&hostile).map(|node| node.votes);
        if votes.is_some_and(|votes| votes > 0) {
            // No honest part of it is left, and a coordinator decides: so it never coordinates.
            draw.nodes.retain(|node| *node != hostile);
            // All three others are needed then.
            draw.store_lost = true;
        }
        let number = draw.chance.random_range(1..=count);
        let mut faults = Vec::new();
        for _ in 0..number {
            let at = draw.chance.random_range(300..STORMY_MS);
            let fault = draw.fault();
            faults.push((at, fault));
        }
        if let Some(votes) = votes {
            faults.extend(hostile_for(STORMY_MS, votes > 0));
        }
        draw.tidy_up(&mut faults);
        faults.sort_by_key(|(at, _)| *at);
        Self {
            faults,
            until_ms: END_MS,
            calm_ms: 25_000,
        }
    }
}

/// A node is hostile for so long from the formation on. A node that votes has no honest daemon beside it, until the end.
fn hostile_for(for_ms: u64, votes: bool) -> impl Iterator<Item = (u64, Fault)> {
    let node = NodeId::from(HOSTILE);
    let killed = Fault::KillDaemon {
        node: node.clone(),
        down_ms: END_MS,
    };
    let says = (300, Fault::Hostile { node, for_ms });
    votes.then_some((250, killed)).into_iter().chain([says])
}

/// People change things until then.
const EDITS_MS: u64 = 36_000;

impl Script {
    /// Edits and rests among a few faults; in the end the spec is the whole world's.
    pub fn changes(chance: &mut Pcg64Mcg, spec: &Spec) -> Self {
        let mut draw = Draw::new(chance, spec);
        let mut faults = Vec::new();
        for _ in 0..draw.chance.random_range(0..=5) {
            let at = draw.chance.random_range(300..STORMY_MS);
            let fault = draw.fault();
            faults.push((at, fault));
        }
        for _ in 0..draw.chance.random_range(2..=9) {
            let at = draw.chance.random_range(2_000..EDITS_MS);
            let what = draw.edit_or_rest();
            let nodes = draw.nodes.clone();
            faults.extend(nodes.into_iter().map(|of| (at, what(of))));
        }
        draw.points(&mut faults);
        draw.tidy_up(&mut faults);
        for at in [TIDY_MS + 6_000, TIDY_MS + 12_000, TIDY_MS + 20_000] {
            for of in draw.nodes.clone() {
                let (nodes, end) = (Vec::new(), true);
                let ends = Fault::Rest {
                    of: of.clone(),
                    nodes,
                    end,
                };
                let submit = Fault::Submit {
                    of: of.clone(),
                    edit: Edit::AllBack,
                };
                // Whoever was fenced and taken out comes back fenced.
                let again = draw.nodes.iter().map(|node| Fault::Ask {
                    of: of.clone(),
                    request: readmit(node),
                });
                faults.extend(again.map(|ask| (at + 4_000, ask)));
                faults.extend([(at, ends), (at + 2_500, submit)]);
            }
        }
        faults.sort_by_key(|(at, _)| *at);
        Self {
            faults,
            until_ms: 100_000,
            calm_ms: 30_000,
        }
    }
}

/// Wishes come in bursts of so many at most, and so close to each other.
const BURST: usize = 4;
const BURST_MS: u64 = 400;

impl Script {
    /// Every wish with every option, in bursts that are close to each other and to trouble, with
    /// clocks that move, servers that are slow to do what they are told, and people who do what
    /// their screen allows.
    pub fn lively(chance: &mut Pcg64Mcg, spec: &Spec) -> Self {
        let mut script = Self::changes(chance, spec);
        let mut draw = Draw::new(chance, spec);
        let mut faults = Vec::new();
        for _ in 0..draw.chance.random_range(1..=3) {
            let at = draw.chance.random_range(4_000..EDITS_MS);
            for _ in 0..draw.chance.random_range(1..=BURST) {
                let later = at + draw.chance.random_range(0..BURST_MS);
                let what = draw.any_wish(later);
                let nodes = draw.nodes.clone();
                faults.extend(nodes.into_iter().map(|of| (later, what(of))));
            }
            if draw.chance.random_range(0..2) == 0 {
                let later = at + draw.chance.random_range(0..BURST_MS);
                let trouble = draw.trouble();
                faults.push((later, trouble));
            }
        }
        for _ in 0..draw.chance.random_range(0..=2) {
            let at = draw.chance.random_range(2_000..STORMY_MS);
            let nodes = draw.nodes.clone();
            let down_ms = draw.one(&[2_000u64, 6_000, 12_000]);
            let off = |of| (at, Fault::SwitchOff { of, down_ms });
            faults.extend(nodes.into_iter().map(off));
        }
        let modes = faults.iter().filter_map(|(_, fault)| match fault {
            Fault::Ask {
                request: Request::Mode { workload, .. },
                ..
            } => Some(workload.clone()),
            _ => None,
        });
        let modes: BTreeSet<WorkloadId> = modes.collect();
        for (workload, of) in modes
            .iter()
            .flat_map(|w| draw.nodes.iter().map(move |n| (w, n)))
        {
            let request = Request::Mode {
                workload: workload.clone(),
                mode: Mode::Act,
                by: TIDY.into(),
                at: 0,
                why: None,
                until: None,
            };
            let of = of.clone();
            faults.push((TIDY_MS, Fault::Ask { of, request }));
        }
        script.faults.extend(faults);
        script.faults.sort_by_key(|(at, _)| *at);
        script
    }
}

struct Draw<'a> {
    chance: &'a mut Pcg64Mcg,
    spec: &'a Spec,
    nodes: Vec<NodeId>,
    replicas: Vec<NodeId>,
    workloads: Vec<WorkloadId>,
    store_lost: bool,
}

impl<'a> Draw<'a> {
    fn new(chance: &'a mut Pcg64Mcg, spec: &'a Spec) -> Self {
        let nodes = spec.nodes.keys().cloned().collect();
        let mut replicas: Vec<NodeId> = spec
            .workloads
            .values()
            .flat_map(|w| w.replicas.keys().cloned())
            .collect();
        replicas.sort();
        replicas.dedup();
        Self {
            chance,
            spec,
            nodes,
            replicas,
            workloads: spec.workloads.keys().cloned().collect(),
            store_lost: false,
        }
    }

    fn one<T: Clone>(&mut self, of: &[T]) -> T {
        of[self.chance.random_range(0..of.len())].clone()
    }

    fn fault(&mut self) -> Fault {
        let (nodes, replicas) = (self.nodes.clone(), self.replicas.clone());
        let (node, other, replica) = (self.one(&nodes), self.one(&nodes), self.one(&replicas));
        let for_ms = self.one(&[50u64, 300, 900, 2_500, 6_000]);
        match self.chance.random_range(0..30) {
            0 => Fault::KillDaemon {
                node,
                down_ms: for_ms,
            },
            1 => Fault::PauseDaemon { node, for_ms },
            2 | 3 => Fault::PowerCut {
                node,
                down_ms: for_ms,
            },
            4 => Fault::KillServer {
                node: replica,
                lingers_ms: self.chance.random_range(1..60),
            },
            5 => Fault::KillServer {
                node: replica,
                lingers_ms: for_ms,
            },
            n @ 6..=10 => self.link_fault(n, node, other, for_ms),
            11 => Fault::SlowDisk {
                node,
                sync_ms: self.chance.random_range(5..200),
                for_ms,
            },
            12 => Fault::SlowDisk {
                node,
                sync_ms: self.chance.random_range(200..8_000),
                for_ms,
            },
            13 => Fault::DeadDevices { for_ms: for_ms * 2 },
            14 => Fault::LateDevices {
                by_ms: self.chance.random_range(100..4_000),
                for_ms: for_ms * 2,
            },
            15 | 16 => self.request(Self::switchover),
            17 => Fault::KillDeadman {
                node,
                for_ms: for_ms * 2,
            },
            18 => Fault::LateDeadman {
                node,
                for_ms: for_ms * 2,
            },
            19 if self.may_lose_its_store(&node) => Fault::LoseStore {
                node,
                down_ms: for_ms,
            },
            20 => Fault::FreezeHost { node, for_ms },
            21 => Fault::Suspend { node, for_ms },
            22 => Fault::HangServer {
                node: replica,
                for_ms: for_ms * 2,
            },
            23 => Fault::ClockRate {
                node,
                ppm: self.one(&[-10_000, -4_000, 0, 4_000, 10_000]),
            },
            24 => Fault::Flaky {
                percent: self.chance.random_range(10..60),
                for_ms: for_ms * 2,
            },
            25 => Fault::HangActions {
                node: replica,
                for_ms: for_ms * 2,
            },
            26 => Fault::SlowStandby {
                node: replica,
                for_ms: for_ms * 3,
            },
            27 => self.request(Self::failover),
            28 => self.request(Self::fence),
            _ => self.request(Self::mode),
        }
    }

    /// What somebody wants, asked of one node.
    fn edit_or_rest(&mut self) -> Box<dyn Fn(NodeId) -> Fault> {
        let nodes = self.nodes.clone();
        let node = self.one(&nodes);
        let workload = self.workload();
        let replica = self.replica_of(&workload);
        let edit = match self.chance.random_range(0..18) {
            0 => Edit::Timings(Box::new(Timings::brisk())),
            1 => Edit::Timings(Box::default()),
            2 | 3 => Edit::Votes(node, self.one(&[0, 0, 1, 2])),
            4 => Edit::NodeOut(node),
            5 => Edit::NodeIn(node),
            6 => Edit::ReplicaOut(workload, replica),
            7 => Edit::ReplicaIn(workload, replica),
            8 => Edit::WorkloadOut(workload),
            9 => Edit::WorkloadIn(workload),
            10 => Edit::AddressOut(workload),
            11 => Edit::Loss(workload, self.one(&[Loss::None, Loss::Bytes(50)])),
            12 => Edit::Alone(workload, self.one(&[Alone::Block, Alone::Continue])),
            13 => {
                return Box::new(|of| Fault::Ask {
                    of,
                    request: Request::HandOver {
                        to: None,
                        by: "marlin".into(),
                    },
                });
            }
            16 | 17 => {
                return Box::new(move |of| Fault::Restart {
                    of,
                    workload: workload.clone(),
                });
            }
            14 => {
                let end = self.chance.random_range(0..3) == 0;
                return Box::new(move |of| Fault::Rest {
                    of,
                    nodes: vec![node.clone()],
                    end,
                });
            }
            _ => {
                let zone = self.spec.nodes[&node].zone.clone();
                let inside = self.spec.nodes.iter().filter(|(_, n)| n.zone == zone);
                let nodes: Vec<NodeId> = inside.map(|(n, _)| n.clone()).collect();
                return Box::new(move |of| Fault::Rest {
                    of,
                    nodes: nodes.clone(),
                    end: false,
                });
            }
        };
        Box::new(move |of| Fault::Submit {
            of,
            edit: edit.clone(),
        })
    }

    /// Some wish, with options as chance has them.
    fn any_wish(&mut self, at: u64) -> Box<dyn Fn(NodeId) -> Fault> {
        let (nodes, workload) = (self.nodes.clone(), self.workload());
        let replica = self.replica_of(&workload);
        let node = self.one(&nodes);
        let yes = |d: &mut Self| d.chance.random_range(0..2) == 0;
        let until = yes(self).then(|| WALL + at / 1_000 + self.chance.random_range(1..8));
        let (bare, cut_off) = (yes(self), yes(self));
        let named = |named: bool| -> BTreeSet<WorkloadId> {
            named.then(|| workload.clone()).into_iter().collect()
        };
        let plea = match self.chance.random_range(0..10) {
            0 => {
                let mode = self.mode();
                let Request::Mode {
                    workload, mode, by, ..
                } = mode
                else {
                    unreachable!("it was drawn as one")
                };
                let request = Request::Mode {
                    workload,
                    mode,
                    by,
                    at: WALL + at / 1_000,
                    why: None,
                    until,
                };
                return Box::new(move |of| Fault::Ask {
                    of,
                    request: request.clone(),
                });
            }
            1 => {
                let accept_loss = self.one(&[0u64, 3, u64::MAX]);
                let request = Request::Failover {
                    workload,
                    to: replica,
                    by: "marlin".into(),
                    accept_loss,
                    plan_only: false,
                };
                return Box::new(move |of| Fault::Ask {
                    of,
                    request: request.clone(),
                });
            }
            2 => {
                let rules = Rules {
                    keep: self.chance.random_range(0..2),
                    never: if yes(self) {
                        [replica].into()
                    } else {
                        BTreeSet::new()
                    },
                    ..Rules::default()
                };
                let edit = Edit::Rules(workload, Box::new(rules));
                return Box::new(move |of| Fault::Submit {
                    of,
                    edit: edit.clone(),
                });
            }
            3 | 4 => Plea::Maintenance {
                nodes: [node, self.one(&nodes)].into(),
                back: yes(self),
                bare: named(bare),
                cut_off: named(cut_off),
                until,
            },
            5 => Plea::Restart { workload },
            6 => Plea::SafetyPoint {
                workload,
                name: "after-fares".into(),
                node: yes(self).then_some(replica),
                bare,
                until,
            },
            7 => Plea::GoBack { workload },
            8 => Plea::Enrol { node },
            _ => return self.edit_or_rest(),
        };
        Box::new(move |of| Fault::Ask {
            of,
            request: wish(plea.clone()),
        })
    }

    /// What strikes while people want something.
    fn trouble(&mut self) -> Fault {
        let (nodes, replicas) = (self.nodes.clone(), self.replicas.clone());
        let (node, replica) = (self.one(&nodes), self.one(&replicas));
        let for_ms = self.one(&[100u64, 600, 1_500, 4_000]);
        match self.chance.random_range(0..9) {
            0 => Fault::KillDaemon {
                node,
                down_ms: for_ms,
            },
            1 => Fault::PowerCut {
                node,
                down_ms: for_ms,
            },
            2 => Fault::Isolate { node, for_ms },
            3 => Fault::PauseDaemon { node, for_ms },
            4 => Fault::SlowDisk {
                node,
                sync_ms: 60,
                for_ms,
            },
            5 => Fault::SlowCheckpoint {
                node: replica,
                takes_ms: self.one(&[3_000, 28_000]),
                for_ms: 15_000,
            },
            6 => Fault::StalledSetting {
                node: replica,
                for_ms: for_ms * 3,
            },
            7 => Fault::WallClock {
                node,
                by_s: self.one(&[-3_600, -5, 5, 3_600]),
            },
            _ => Fault::OneWay {
                from: node,
                to: replica,
                for_ms,
            },
        }
    }

    /// Now and then somebody wants a safety point, and perhaps to go back to it.
    fn points(&mut self, faults: &mut Vec<(u64, Fault)>) {
        for _ in 0..self.chance.random_range(0..=2) {
            let at = self.chance.random_range(4_000..EDITS_MS);
            let workload = self.workload();
            let node = self.replica_of(&workload);
            let point = Plea::SafetyPoint {
                workload: workload.clone(),
                name: "before-fares".into(),
                node: Some(node),
                bare: self.chance.random_range(0..2) == 0,
                until: None,
            };
            let mut wishes = vec![(at, point)];
            if self.chance.random_range(0..2) == 0 {
                let later = at + self.chance.random_range(1_000..10_000);
                wishes.push((later, Plea::GoBack { workload }));
            }
            for (at, plea) in wishes {
                let ask = |of: &NodeId| Fault::Ask {
                    of: of.clone(),
                    request: wish(plea.clone()),
                };
                faults.extend(self.nodes.iter().map(|of| (at, ask(of))));
            }
        }
    }

    fn link_fault(&mut self, n: i32, from: NodeId, to: NodeId, for_ms: u64) -> Fault {
        match n {
            6 => Fault::Isolate { node: from, for_ms },
            7 => Fault::OneWay { from, to, for_ms },
            8 => {
                let nodes = self.nodes.clone();
                let inside = nodes
                    .into_iter()
                    .filter(|_| self.chance.random_range(0..2) == 0)
                    .collect();
                Fault::Partition { inside, for_ms }
            }
            9 => Fault::Lossy {
                percent: self.chance.random_range(5..40),
                late_ms: 60,
                for_ms: for_ms * 2,
            },
            _ => {
                let late_ms = self.chance.random_range(60..400);
                Fault::Lossy {
                    percent: self.chance.random_range(0..20),
                    late_ms,
                    for_ms: for_ms * 2,
                }
            }
        }
    }

    /// Once in a script, and only where the others are a majority: they have to take it in again
    /// (A6).
    fn may_lose_its_store(&mut self, node: &NodeId) -> bool {
        let votes = self.spec.votes();
        let others = 2 * (votes.total() - votes.weight(node)) > votes.total();
        others && !std::mem::replace(&mut self.store_lost, true)
    }

    fn request(&mut self, what: fn(&mut Self) -> Request) -> Fault {
        let (nodes, request) = (self.nodes.clone(), what(self));
        Fault::Ask {
            of: self.one(&nodes),
            request,
        }
    }

    fn workload(&mut self) -> WorkloadId {
        let workloads = self.workloads.clone();
        self.one(&workloads)
    }

    fn replica_of(&mut self, workload: &WorkloadId) -> NodeId {
        let replicas: Vec<NodeId> = self.spec.workloads[workload]
            .replicas
            .keys()
            .cloned()
            .collect();
        self.one(&replicas)
    }

    fn switchover(&mut self) -> Request {
        let workload = self.workload();
        let to = Some(self.replica_of(&workload));
        Request::Switchover {
            workload,
            to,
            by: "marlin".into(),
            plan_only: false,
        }
    }

    fn failover(&mut self) -> Request {
        let workload = self.workload();
        let to = self.replica_of(&workload);
        Request::Failover {
            workload,
            to,
            by: "marlin".into(),
            accept_loss: 0,
            plan_only: false,
        }
    }

    fn fence(&mut self) -> Request {
        let nodes = self.nodes.clone();
        Request::Fence {
            node: self.one(&nodes),
            by: "marlin".into(),
        }
    }

    fn mode(&mut self) -> Request {
        let workload = self.workload();
        Request::Mode {
            workload,
            mode: self.one(&Mode::ALL),
            by: "marlin".into(),
            at: 0,
            why: None,
            until: None,
        }
    }

    /// Whoever fenced a node, lost its store, or told the cluster to wait, puts that right before
    /// the calm.
    fn tidy_up(&mut self, faults: &mut Vec<(u64, Fault)>) {
        let mut asks = Vec::new();
        for (at, fault) in faults.iter() {
            match fault {
                Fault::Ask {
                    request: Request::Mode { workload, .. },
                    ..
                } => {
                    let act = Request::Mode {
                        workload: workload.clone(),
                        mode: Mode::Act,
                        by: TIDY.into(),
                        at: 0,
                        why: None,
                        until: None,
                    };
                    asks.push((TIDY_MS, act));
                }
                Fault::Ask {
                    request: Request::Fence { node, .. },
                    ..
                } => asks.push((TIDY_MS, readmit(node))),
                Fault::LoseStore { node, down_ms } => {
                    let times = [at + down_ms + 1_500, TIDY_MS];
                    asks.extend(times.map(|later| (later, enrol(node))));
                }
                _ => {}
            }
        }
        // Fences of the cluster's own leave nodes to be readmitted, too.
        for node in &self.nodes {
            asks.push((TIDY_MS + 1_500, readmit(node)));
            asks.push((TIDY_MS + 3_000, readmit(node)));
            asks.push((TIDY_MS + 4_500, enrol(node)));
        }
        for (at, request) in asks {
            // Any of them passes it on to the coordinator.
            for (late, of) in self.nodes.iter().enumerate() {
                faults.push((
                    at + late as u64,
                    Fault::Ask {
                        of: of.clone(),
                        request: request.clone(),
                    },
                ));
            }
        }
    }
}

fn readmit(node: &NodeId) -> Request {
    Request::Readmit {
        node: node.clone(),
        by: TIDY.into(),
    }
}

fn enrol(node: &NodeId) -> Request {
    wish(Plea::Enrol { node: node.clone() })
}

/// Somebody wants it, without a look at its plan.
pub(crate) fn wish(plea: Plea) -> Request {
    Request::Intend {
        plea,
        by: TIDY.into(),
        at: 0,
        why: None,
        seen: None,
        plan_only: false,
    }
}
