//! What a coordinator's work costs as a cluster grows: all beats and check-ins of one heartbeat,
//! its own heartbeat with a look at every workload, and the whole step after one piece of news. The
//! coordinator is the only voter, so that nothing is waited for.
//!
//! No machine has a thousand hosts to spare: the coordinator's core alone runs, on made-up
//! messages, and its effects go nowhere.

use crate::quantile::quantile;
use karst_core::author::Level;
use karst_core::command::{Command, WorkloadAct};
use karst_core::consensus::{LogId, Snapshot, Stored};
use karst_core::health::Hears;
use karst_core::members::Ordered;
use karst_core::message::{Message, Says};
use karst_core::node::{Effect, Input, NodeConfig, SNAPSHOT_AFTER};
use karst_core::replica::{
    Data, Downstream, GateReport, Observation, Parts, Presence, ReplicaReport, Report, Role,
};
use karst_core::request::{Plea, Request};
use karst_core::spec::{
    Alone, Clock, Judged, Loss, NodeSpec, Readmit, ReplicaSpec, Spec, Timings, WorkloadSpec,
};
use karst_core::state::ClusterState;
use karst_core::{BootId, Epoch, Index, Node, NodeId, Position, SwitchPoint, Term, Time};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

const ROUNDS: usize = 9;
/// Looks until a revision has to be in force.
const TRIES: usize = 200;
const SIZES: [(usize, usize); 5] = [(7, 10), (7, 100), (50, 250), (200, 1_000), (1_000, 5_000)];
/// The limits hold at every size: of a whole step after one piece of news, of all beats of one
/// heartbeat, and of all of its check-ins.
const NEWS_LIMIT: Duration = Duration::from_millis(10);
const BEATS_LIMIT: Duration = Duration::from_millis(100);

/// The medians of one size's heartbeats, in microseconds.
#[derive(Clone, Debug, Serialize)]
pub struct Scale {
    pub members: usize,
    pub workloads: usize,
    pub beats_us: f64,
    pub checkins_us: f64,
    pub heartbeat_us: f64,
    pub news_us: f64,
    /// The longest step until another revision of a spec of that size is in force.
    pub revision_us: f64,
}

impl Scale {
    pub fn is_kept(&self) -> bool {
        self.news_us < NEWS_LIMIT.as_micros() as f64
            && self.beats_us < BEATS_LIMIT.as_micros() as f64
            && self.checkins_us < BEATS_LIMIT.as_micros() as f64
    }
}

/// Every size, measured.
pub fn measure() -> Vec<Scale> {
    SIZES
        .iter()
        .map(|(members, workloads)| of_size(*members, *workloads))
        .collect()
}

fn of_size(members: usize, workloads: usize) -> Scale {
    let (rounds, revision) = rounds(members, workloads);
    let median = |part: fn(&Round) -> Duration| {
        let mut parts: Vec<f64> = rounds
            .iter()
            .map(|r| part(r).as_nanos() as f64 / 1_000.0)
            .collect();
        parts.sort_by(f64::total_cmp);
        quantile(&parts, 0.5)
    };
    Scale {
        members,
        workloads,
        beats_us: median(|r| r.beats),
        checkins_us: median(|r| r.checkins),
        heartbeat_us: median(|r| r.heartbeat),
        news_us: median(|r| r.news),
        revision_us: revision.as_nanos() as f64 / 1_000.0,
    }
}

fn name(i: usize) -> NodeId {
    NodeId::from(format!("n{i:04}"))
}

fn address(i: usize, port: usize) -> SocketAddr {
    ([10, 0, (i / 250) as u8, (i % 250) as u8], port as u16).into()
}

fn node_spec(i: usize) -> NodeSpec {
    NodeSpec {
        zone: "z".into(),
        votes: u32::from(i == 0),
        witness: false,
        peer: address(i, 1),
        api: None,
        console: None,
        power: None,
        readmit: Readmit::Auto,
        clock: Clock::Unsaid,
        local: Level::Observe,
    }
}

/// Three replicas and two gates, on five nodes one after the other.
fn workload_spec(k: usize, members: usize) -> WorkloadSpec {
    let on = |j: usize| (k * 3 + j) % members;
    let replica = |j: usize| ReplicaSpec {
        rank: j as u32 + 1,
        address: address(on(j), 5_000 + k),
        data: format!("/d/{k}"),
        log: None,
        copy_from: None,
        base_backup: None,
    };
    WorkloadSpec {
        driver: "postgres".into(),
        loss: Loss::None,
        alone: Alone::Block,
        adopt: false,
        rules: Default::default(),
        restart: false,
        replicas: (0..3).map(|j| (name(on(j)), replica(j))).collect(),
        gates: (3..5)
            .map(|j| (name(on(j)), address(on(j), 20_000 + k)))
            .collect(),
        reads: None,
        name: None,
        address: None,
        settings: BTreeMap::new(),
    }
}

fn first(spec: &WorkloadSpec) -> &NodeId {
    spec.replicas
        .iter()
        .find(|(_, r)| r.rank == 1)
        .map(|(n, _)| n)
        .expect("one is the first")
}

/// Every workload is served by its first replica, with two standbys that confirm.
fn served(spec: &Spec) -> ClusterState {
    let mut state = ClusterState::default();
    for (workload, w) in &spec.workloads {
        let (workload, epoch, holder) = (workload.clone(), Epoch(1), first(w).clone());
        let sync = w
            .replicas
            .keys()
            .filter(|n| **n != holder)
            .cloned()
            .collect();
        for command in [
            Command::Workload(
                workload.clone(),
                WorkloadAct::Assign {
                    epoch,
                    holder,
                    why: String::new(),
                },
            ),
            Command::Workload(
                workload.clone(),
                WorkloadAct::Open {
                    unprotected: false,
                    epoch,
                    point: SwitchPoint::first("1"),
                    doubtful: Vec::new(),
                    sync,
                },
            ),
            Command::Workload(workload, WorkloadAct::Serve { epoch }),
        ] {
            assert!(state.apply(state.applied.next(), &command));
        }
    }
    state
}

fn seen(w: &WorkloadSpec, me: &NodeId) -> Observation {
    let primary = first(w) == me;
    let position = Some(Position::new("1", 9));
    let standby = |node: &NodeId| Downstream {
        node: node.clone(),
        sent: Some(9),
        flushed: Some(9),
        replayed: Some(9),
        streaming: true,
        near: true,
        delay: None,
    };
    let others = w.replicas.keys().filter(|n| primary && *n != me);
    Observation {
        presence: Presence::Runs,
        role: Some(if primary {
            Role::Primary
        } else {
            Role::Standby
        }),
        position,
        streaming: !primary,
        can_write: primary.then_some(true),
        standbys: others.map(standby).collect(),
        ..Observation::down(Data::Present { standby: !primary })
    }
}

fn report(spec: &Spec, me: &NodeId) -> Report {
    let mut parts = Parts::default();
    for (id, w) in &spec.workloads {
        if w.replicas.contains_key(me) {
            let sync_held = (first(w) == me).then_some((Epoch(1), 1));
            let report = ReplicaReport {
                seen: Some(seen(w, me)),
                sync_held,
                ..ReplicaReport::default()
            };
            parts.replicas.insert(id.clone(), report);
        }
        if w.gates.contains_key(me) {
            let report = GateReport {
                listening: true,
                forwarding: Some(Epoch(1)),
                ..GateReport::default()
            };
            parts.gates.insert(id.clone(), report);
        }
    }
    Report {
        boot: BootId::from("b"),
        store: None,
        counts: true,
        system: None,
        parts,
    }
}

/// Carries out the writes, drops everything else, and returns how much that was.
fn drain(node: &mut Node, now: Time) -> usize {
    let mut effects = 0;
    while let Some(effect) = node.poll_effect() {
        effects += 1;
        if let Effect::Persist { number, .. } = effect {
            node.handle(now, Input::Persisted { number });
        }
    }
    effects
}

fn coordinator(spec: &Spec) -> (Node, Time) {
    let state = served(spec);
    let snapshot = Some(Snapshot {
        last: LogId::new(Term(3), state.applied),
        state,
    });
    let stored = Stored {
        term: Term(3),
        vote: None,
        snapshot,
        ..Stored::forming("s".into())
    };
    let config = NodeConfig {
        me: name(0),
        given: std::sync::Arc::new(karst_core::spec::Revision::first(spec.clone(), "")),
        alone: false,
        boot: BootId::from("b"),
        system: None,
        seed: 1,
        stored,
        kept: BTreeMap::new(),
        snapshot_after: SNAPSHOT_AFTER,
        planted: None,
    };
    let mut now = Time::ZERO;
    let mut node = Node::new(config, now);
    while !node.is_coordinator() {
        now += Duration::from_millis(10);
        node.handle(now, Input::Woke);
        drain(&mut node, now);
    }
    (node, now)
}

/// What one heartbeat took.
struct Round {
    beats: Duration,
    checkins: Duration,
    heartbeat: Duration,
    news: Duration,
}

fn timed(work: impl FnOnce()) -> Duration {
    let begun = Instant::now();
    work();
    begun.elapsed()
}

fn spec(members: usize, workloads: usize) -> Spec {
    Spec {
        cluster: "c".into(),
        timings: Timings::default(),
        zones: vec!["z".into()],
        nodes: (0..members).map(|i| (name(i), node_spec(i))).collect(),
        workloads: (0..workloads)
            .map(|k| (format!("w{k:05}").into(), workload_spec(k, members)))
            .collect(),
        steps: BTreeMap::new(),
    }
}

/// The longest step of the coordinator's heart from the request until it is in force: for so long no other
/// message is answered. The text is as long as a real one.
fn revise(node: &mut Node, spec: &Spec, mut now: Time) -> Duration {
    let mut next = spec.clone();
    for replica in next
        .workloads
        .values_mut()
        .flat_map(|w| w.replicas.values_mut())
    {
        replica.rank += 1;
    }
    let text = "# a line of a spec\n".repeat(25 * spec.workloads.len());
    // A daemon does that beside the heart.
    let judged = Box::new(Judged::new(node.revision(), &text, &next));
    let request = Request::Intend {
        plea: Plea::Revision {
            text,
            spec: Box::new(next),
            based_on: Some(1),
            judged: Some(judged),
        },
        by: "captain".into(),
        at: 0,
        why: None,
        seen: None,
        plan_only: false,
    };
    let (ticket, level) = (1, Level::Administer);
    let asked = Input::Asked {
        ticket,
        request,
        level,
        token: None,
    };
    let mut longest = step(node, now, asked);
    for _ in 0..TRIES {
        if node.revision().number == 2 {
            return longest;
        }
        now += Duration::from_millis(1);
        longest = longest.max(step(node, now, Input::Woke));
    }
    panic!("revision 2 is not in force");
}

/// The longest of what the heart does at once: a write's end comes as an input of its own.
fn step(node: &mut Node, now: Time, input: Input) -> Duration {
    let mut longest = timed(|| node.handle(now, input));
    while let Some(effect) = node.poll_effect() {
        if let Effect::Persist { number, .. } = effect {
            let written = timed(|| node.handle(now, Input::Persisted { number }));
            longest = longest.max(written);
        }
    }
    longest
}

fn rounds(members: usize, workloads: usize) -> (Vec<Round>, Duration) {
    let spec = spec(members, workloads);
    let (mut node, mut now) = coordinator(&spec);
    let others: Vec<NodeId> = (1..members).map(name).collect();
    let reports: Vec<Report> = others.iter().map(|n| report(&spec, n)).collect();
    let lately = spec
        .nodes
        .keys()
        .cloned()
        .collect::<Ordered>()
        .pick(|_| true);
    let hears = Hears {
        you: Some(Duration::from_millis(50)),
        lately,
        of: 1,
    };
    let round = |beat: u64| {
        now += Duration::from_millis(100);
        let receive = |node: &mut Node, now: Time, from: &NodeId, message: Message| {
            node.handle(
                now,
                Input::Received {
                    from: from.clone(),
                    message,
                },
            );
            drain(node, now);
        };
        let checkin = |beat: u64, report: Option<&Report>, news: bool| {
            let says = match report {
                Some(report) => Says::Full(Box::new(report.clone())),
                None => Says::Delta(beat, Box::default()),
            };
            Message::Checkin {
                number: beat + 1,
                sent: now,
                wants: Vec::new(),
                says,
                news,
            }
        };
        let heartbeat = timed(|| {
            node.handle(now, Input::Woke);
            drain(&mut node, now);
        });
        let beats = timed(|| {
            for from in &others {
                let message = Message::Beat {
                    number: beat,
                    hears: hears.clone(),
                    heads: Vec::new(),
                    votes: Index(0),
                };
                receive(&mut node, now, from, message);
            }
        });
        let checkins = timed(|| {
            for (from, report) in others.iter().zip(&reports) {
                receive(
                    &mut node,
                    now,
                    from,
                    checkin(beat, (beat == 0).then_some(report), false),
                );
            }
        });
        let after = now + Duration::from_millis(1);
        let news = timed(|| receive(&mut node, after, &others[0], checkin(beat + 1, None, true)));
        Round {
            beats,
            checkins,
            heartbeat,
            news,
        }
    };
    let rounds = (0..=ROUNDS as u64).map(round).skip(1).collect();
    let revision = revise(&mut node, &spec, now);
    (rounds, revision)
}

/// As a table in Markdown, with the limits.
pub fn table(sizes: &[Scale]) -> String {
    let mut text = format!(
        "A coordinator's own work as a cluster grows, microseconds, medians of {ROUNDS} heartbeats (limits at every size: {} for a step after \
         one piece of news, {} for all beats, and for all check-ins):\n\n\
         | members | workloads | all beats of a heartbeat | all check-ins | own heartbeat, every workload looked at | one piece of news | another revision, its longest step |\n\
         |---|---|---|---|---|---|---|\n",
        NEWS_LIMIT.as_micros(),
        BEATS_LIMIT.as_micros()
    );
    for size in sizes {
        let Scale {
            members,
            workloads,
            beats_us,
            checkins_us,
            heartbeat_us,
            news_us,
            revision_us,
        } = size;
        let _ = writeln!(
            text,
            "| {members} | {workloads} | {beats_us:.0} | {checkins_us:.0} | {heartbeat_us:.0} | {news_us:.0} | {revision_us:.0} |"
        );
    }
    text
}
