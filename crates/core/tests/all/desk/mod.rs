//! One workload on the coordinator's desk: what is committed, what was heard, and what is decided
//! from it.

pub mod calm;

use karst_core::author::{Author, Level};
use karst_core::authority::Ledger;
use karst_core::command::{Command, Ended, WorkloadAct};
use karst_core::consensus::{Consensus, Pace, Setup, Stored};
use karst_core::heads::Heads;
use karst_core::health::{Health, Hears};
use karst_core::operation::{Cause, Kind, Operation};
use karst_core::replica::{Data, Observation, Parts, Presence, ReplicaReport, Report, Role};
use karst_core::spec::{
    Alone, Clock, Loss, NodeSpec, Readmit, ReplicaSpec, Spec, Timings, WorkloadSpec,
};

use karst_core::state::ClusterState;
use karst_core::steward::candidates::{Candidate, list};
use karst_core::steward::{Heard, Leaving, Notes, Scene, Stamps, decide};
use karst_core::{BootId, Epoch, Index, NodeId, Planted, Position, SwitchPoint, Time, WorkloadId};
use std::collections::BTreeMap;
use std::time::Duration;

pub const NODES: [&str; 4] = ["doline", "polje", "ponor", "uvala"];

/// Epoch 1 of `doline` has ended; `polje` and `uvala` have every write and have settled.
pub struct Case {
    pub spec: Spec,
    pub state: ClusterState,
    pub reports: BTreeMap<NodeId, Heard>,
    pub health: Health,
    pub now: Time,
    /// Seconds since the Unix epoch, where it is told.
    pub wall: Option<u64>,
    /// When the coordinator, which is `ponor`, was elected, and since when it has not stood still.
    pub elected_at: Time,
    pub awake_since: Time,
    /// Fenced nodes whose power was read as off, and the entry that it was read after.
    pub off: BTreeMap<NodeId, Index>,
    pub on: BTreeMap<NodeId, Index>,
    pub heads: Heads,
    pub planted: Option<Planted>,
}

pub fn w() -> WorkloadId {
    "sailings".into()
}

/// On the first history.
pub fn at(number: u64) -> Position {
    Position::new("1", number)
}

pub fn standby(position: u64) -> ReplicaReport {
    let seen = Observation {
        presence: Presence::Runs,
        role: Some(Role::Standby),
        position: Some(at(position)),
        ..Observation::down(Data::Present { standby: true })
    };
    ReplicaReport {
        seen: Some(seen),
        settled: Some((Epoch(1), at(position))),
        ..ReplicaReport::default()
    }
}

impl Case {
    pub fn new(loss: Loss) -> Self {
        let address = |n: usize, port| ([10, 0, 0, n as u8], port).into();
        let node = |n: usize| NodeSpec {
            zone: "z".into(),
            votes: 1,
            witness: n == 2,
            peer: address(n, 1),
            api: None,
            console: None,
            power: None,
            readmit: Readmit::Auto,
            clock: Clock::Steady,
            local: Level::Observe,
        };
        let replica = |n: usize| ReplicaSpec {
            rank: n as u32 + 1,
            address: address(n, 2),
            data: "/d".into(),
            log: None,
            copy_from: None,
            base_backup: None,
        };
        let workload = WorkloadSpec {
            driver: "postgres".into(),
            loss,
            alone: Alone::Block,
            adopt: false,
            rules: Default::default(),
            restart: false,
            replicas: [0, 1, 3]
                .map(|n| (NodeId::from(NODES[n]), replica(n)))
                .into(),
            gates: BTreeMap::new(),
            reads: None,
            name: None,
            address: None,
            settings: BTreeMap::new(),
        };
        let spec = Spec {
            cluster: "skerry".into(),
            timings: Timings::default(),
            zones: vec!["z".into()],
            nodes: NODES
                .iter()
                .enumerate()
                .map(|(n, name)| (NodeId::from(*name), node(n)))
                .collect(),
            workloads: BTreeMap::from([(w(), workload)]),
            steps: BTreeMap::new(),
        };
        let mut state = ClusterState::default();
        let sync = vec!["polje".into(), "uvala".into()];
        let (workload, epoch, why) = (w(), Epoch(1), String::new());
        let how = Ended::Surrender {
            boot: BootId::from("b"),
            clean_at: None,
        };
        for command in [
            Command::Workload(
                workload.clone(),
                WorkloadAct::Assign {
                    epoch,
                    holder: "doline".into(),
                    why: why.clone(),
                },
            ),
            Command::Workload(
                workload.clone(),
                WorkloadAct::Open {
                    unprotected: false,
                    epoch,
                    point: SwitchPoint::first("1"),
                    doubtful: vec![],
                    sync,
                },
            ),
            Command::Workload(workload.clone(), WorkloadAct::Revoke { epoch, why }),
            Command::Workload(workload, WorkloadAct::End { epoch, how }),
        ] {
            let next = state.applied.next();
            assert!(state.apply(next, &command));
        }
        let now = Time::from_millis(5_000);
        let mut health = Health::new(
            &spec.timings,
            "ponor".into(),
            NODES.map(NodeId::from).into_iter().collect(),
            now,
        );
        for node in NODES {
            health.on_beat(&node.into(), 0, Hears::default(), now);
        }
        let mut case = Self {
            wall: None,
            spec,
            state,
            reports: BTreeMap::new(),
            health,
            now,
            elected_at: Time::ZERO,
            awake_since: Time::ZERO,
            off: BTreeMap::new(),
            on: BTreeMap::new(),
            heads: Heads::default(),
            planted: None,
        };
        case.report(
            "doline",
            ReplicaReport {
                seen: Some(Observation::down(Data::Present { standby: false })),
                ..ReplicaReport::default()
            },
        );
        case.report("polje", standby(100));
        case.report("uvala", standby(100));
        case
    }

    pub fn copy(&self) -> Self {
        Self {
            spec: self.spec.clone(),
            state: self.state.clone(),
            reports: self.reports.clone(),
            health: self.health.clone(),
            now: self.now,
            wall: self.wall,
            elected_at: self.elected_at,
            awake_since: self.awake_since,
            off: self.off.clone(),
            on: self.on.clone(),
            heads: self.heads.clone(),
            planted: self.planted,
        }
    }

    /// Epoch 2 is open, with `doline` again.
    pub fn open_again(mut self) -> Self {
        let (workload, epoch) = (w(), Epoch(2));
        let sync = vec!["polje".into(), "uvala".into()];
        for command in [
            Command::Workload(
                workload.clone(),
                WorkloadAct::Assign {
                    epoch,
                    holder: "doline".into(),
                    why: String::new(),
                },
            ),
            Command::Workload(
                workload,
                WorkloadAct::Open {
                    unprotected: false,
                    epoch,
                    point: SwitchPoint::first("1"),
                    doubtful: vec![],
                    sync,
                },
            ),
        ] {
            assert!(self.state.apply(self.state.applied.next(), &command));
        }
        self
    }

    pub fn report(&mut self, node: &str, replica: ReplicaReport) {
        let replicas = BTreeMap::from([(w(), replica)]);
        let parts = Parts {
            replicas,
            ..Parts::default()
        };
        let report = Report {
            boot: BootId::from("b"),
            store: None,
            counts: true,
            system: None,
            parts,
        };
        self.reports
            .insert(node.into(), Heard::now(self.now, report));
    }

    pub fn with<T>(&self, ask: impl FnOnce(&Scene, &WorkloadSpec) -> T) -> T {
        let (ledger, me) = (Ledger::default(), NodeId::from("ponor"));
        let setup = Setup {
            me: me.clone(),
            members: self.spec.nodes.keys().cloned().collect(),
            founders: self.spec.votes().into(),
            pace: Pace {
                heartbeat: Duration::ZERO,
                election_timeout: Duration::ZERO,
                election_jitter: Duration::ZERO,
            },
            quiet: Duration::ZERO,
            planted: None,
        };
        let consensus = Consensus::new(setup, Stored::default(), Time::ZERO, 0.0);
        let scene = Scene {
            wall: self.wall,
            now: self.now,
            me: &me,
            shown: &BTreeMap::new(),
            spec: &self.spec,
            state: &self.state,
            reports: &self.reports,
            health: &self.health,
            ledger: &ledger,
            elected_at: self.elected_at,
            awake_since: self.awake_since,
            off: &self.off,
            on: &self.on,
            heads: &self.heads,
            leaving: Leaving::of(&self.state),
            consensus: &consensus,
            shaped_at: self.elected_at,
            planted: self.planted,
        };
        ask(&scene, &self.spec.workloads[&w()])
    }

    pub fn verdict(&self, node: &str) -> Candidate {
        let list = self.with(|scene, spec| list(scene, &w(), spec));
        list.into_iter()
            .find(|c| c.node.as_str() == node)
            .expect("it is listed")
    }

    pub fn chosen(&self) -> Option<String> {
        self.chosen_with(&mut Notes::default())
    }

    pub fn chosen_with(&self, notes: &mut Notes) -> Option<String> {
        let commands =
            self.with(|scene, spec| decide(scene, &w(), spec, notes, &mut Stamps::default()));
        commands.into_iter().find_map(|c| match c {
            Command::Workload(_, WorkloadAct::Assign { holder, .. }) => Some(holder.to_string()),
            _ => None,
        })
    }

    /// Commits it.
    pub fn apply(&mut self, command: &Command) -> Index {
        let at = self.state.applied.next();
        assert!(self.state.apply(at, command), "{command:?} changes nothing");
        at
    }

    /// What is proposed for the workload now.
    pub fn decided(&self, notes: &mut Notes) -> Vec<Command> {
        self.with(|scene, spec| decide(scene, &w(), spec, notes, &mut Stamps::default()))
    }

    /// Time passes, and everybody is heard again.
    pub fn pass(&mut self, time: Duration) {
        self.pass_without(time, "");
    }

    /// The same, and that node is not heard.
    pub fn pass_without(&mut self, time: Duration, silent: &str) {
        self.now += time;
        for node in NODES.into_iter().filter(|node| *node != silent) {
            self.health
                .on_beat(&node.into(), 0, Hears::default(), self.now);
            if let Some(heard) = self.reports.get_mut(&NodeId::from(node)) {
                heard.at = self.now;
            }
        }
    }

    pub fn refused(&self, node: &str, words: &str) {
        let why = self.verdict(node).excluded.unwrap_or_default();
        assert!(
            why.contains(words),
            "{node}: `{why}` does not say `{words}`"
        );
    }
}

/// A move to `polje`, asked for by a person.
pub fn asked(kind: Kind, accept_loss: u64) -> Operation {
    Operation {
        kind,
        workload: w(),
        from: Some("doline".into()),
        to: Some("polje".into()),
        by: Author::person("captain"),
        cause: Cause::AskedFor,
        why: String::new(),
        asks: false,
        accept_loss,
        intent: None,
    }
}

pub fn assign(epoch: u64, holder: &str) -> Command {
    Command::Workload(
        w(),
        WorkloadAct::Assign {
            epoch: Epoch(epoch),
            holder: holder.into(),
            why: String::new(),
        },
    )
}

/// A second history, which went on from the first one there.
pub fn second(began: u64) -> SwitchPoint {
    SwitchPoint {
        history: "2".into(),
        parent: Some("1".into()),
        began,
        writes_from: began,
    }
}
