//! Who may become primary, and why the others may not: one reason each, and the newest of the safe ones first.

use karst_core::authority::Ledger;
use karst_core::health::Health;
use karst_core::ids::Lsn;
use karst_core::operation::{Kind, Mode, Operation};
use karst_core::replica::{Data, Observation, ReplicaReport, Report, Role};
use karst_core::spec::{Alone, Loss, NodeSpec, Readmit, ReplicaSpec, Spec, Timings, WorkloadSpec};
use karst_core::state::{ClusterState, Command, Ended, Standing};
use karst_core::steward::candidates::{Candidate, MayLack, list};
use karst_core::steward::{Heard, Notes, Scene, decide};
use karst_core::{BootId, Epoch, NodeId, Time, WorkloadId};
use std::collections::BTreeMap;
use std::time::Duration;

const NODES: [&str; 4] = ["doline", "polje", "ponor", "uvala"];

/// Epoch 1 of `doline` has ended; `polje` and `uvala` have every write and have settled.
struct Case {
    spec: Spec,
    state: ClusterState,
    reports: BTreeMap<NodeId, Heard>,
    health: Health,
    now: Time,
}

fn w() -> WorkloadId {
    "sailings".into()
}

fn standby(position: u64) -> ReplicaReport {
    let seen = Observation {
        runs: true,
        role: Some(Role::Standby),
        timeline: 1,
        position: Lsn(position),
        ..Observation::down(Data::Present { standby: true })
    };
    ReplicaReport { seen: Some(seen), settled: Some((Epoch(1), 1, Lsn(position))), ..ReplicaReport::default() }
}

impl Case {
    fn new(loss: Loss) -> Self {
        let address = |n: usize, port| ([10, 0, 0, n as u8], port).into();
        let node = |n: usize| NodeSpec {
            zone: "z".into(),
            votes: 1,
            witness: n == 2,
            peer: address(n, 1),
            api: None,
            power: None,
            readmit: Readmit::Auto,
        };
        let replica =
            |n: usize| ReplicaSpec { rank: n as u32 + 1, address: address(n, 2), data: "/d".into(), log: None };
        let workload = WorkloadSpec {
            driver: "postgres".into(),
            loss,
            alone: Alone::Block,
            restart: false,
            replicas: [0, 1, 3].map(|n| (NodeId::from(NODES[n]), replica(n))).into(),
            gates: BTreeMap::new(),
            address: None,
            settings: BTreeMap::new(),
        };
        let spec = Spec {
            cluster: "skerry".into(),
            timings: Timings::default(),
            zones: vec!["z".into()],
            nodes: NODES.iter().enumerate().map(|(n, name)| (NodeId::from(*name), node(n))).collect(),
            workloads: BTreeMap::from([(w(), workload)]),
        };
        let mut state = ClusterState::default();
        let sync = vec!["polje".into(), "uvala".into()];
        let (workload, epoch, why) = (w(), Epoch(1), String::new());
        let how = Ended::Surrender { boot: BootId::from("b"), clean_at: None };
        for command in [
            Command::Assign { workload: workload.clone(), epoch, holder: "doline".into(), why: why.clone() },
            Command::Open { workload: workload.clone(), epoch, timeline: 1, switch: Lsn(0), sync },
            Command::Revoke { workload: workload.clone(), epoch, why },
            Command::End { workload, epoch, how },
        ] {
            let next = state.applied.next();
            assert!(state.apply(next, &command));
        }
        let now = Time::from_millis(5_000);
        let mut health = Health::new(&spec.timings, now);
        for node in NODES {
            health.on_beat(&node.into(), 0, vec![], now);
        }
        let mut case = Self { spec, state, reports: BTreeMap::new(), health, now };
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

    fn copy(&self) -> Self {
        Self {
            spec: self.spec.clone(),
            state: self.state.clone(),
            reports: self.reports.clone(),
            health: self.health.clone(),
            now: self.now,
        }
    }

    /// Epoch 2 is open, with `doline` again.
    fn open_again(mut self) -> Self {
        let (workload, epoch) = (w(), Epoch(2));
        let sync = vec!["polje".into(), "uvala".into()];
        for command in [
            Command::Assign { workload: workload.clone(), epoch, holder: "doline".into(), why: String::new() },
            Command::Open { workload, epoch, timeline: 1, switch: Lsn(0), sync },
        ] {
            assert!(self.state.apply(self.state.applied.next(), &command));
        }
        self
    }

    fn report(&mut self, node: &str, replica: ReplicaReport) {
        let replicas = BTreeMap::from([(w(), replica)]);
        let report = Report {
            boot: BootId::from("b"),
            system: None,
            hears: BTreeMap::new(),
            replicas,
            gates: BTreeMap::new(),
            addresses: BTreeMap::new(),
        };
        self.reports.insert(node.into(), Heard { at: self.now, report });
    }

    fn with<T>(&self, ask: impl FnOnce(&Scene, &WorkloadSpec) -> T) -> T {
        let (ledger, me) = (Ledger::default(), NodeId::from("ponor"));
        let scene = Scene {
            now: self.now,
            me: &me,
            spec: &self.spec,
            state: &self.state,
            reports: &self.reports,
            health: &self.health,
            ledger: &ledger,
            elected_at: Time::ZERO,
            awake_since: Time::ZERO,
            off: &BTreeMap::new(),
            planted: None,
        };
        ask(&scene, &self.spec.workloads[&w()])
    }

    fn verdict(&self, node: &str) -> Candidate {
        let list = self.with(|scene, spec| list(scene, &w(), spec));
        list.into_iter().find(|c| c.node.as_str() == node).expect("it is listed")
    }

    fn chosen(&self) -> Option<String> {
        self.chosen_with(&mut Notes::default())
    }

    fn chosen_with(&self, notes: &mut Notes) -> Option<String> {
        let commands = self.with(|scene, spec| decide(scene, &w(), spec, notes));
        commands.into_iter().find_map(|c| match c {
            Command::Assign { holder, .. } => Some(holder.to_string()),
            _ => None,
        })
    }

    /// Time passes, and everybody is heard again.
    fn pass(&mut self, time: Duration) {
        self.now += time;
        for node in NODES {
            self.health.on_beat(&node.into(), 0, vec![], self.now);
            if let Some(heard) = self.reports.get_mut(&NodeId::from(node)) {
                heard.at = self.now;
            }
        }
    }

    fn refused(&self, node: &str, words: &str) {
        let why = self.verdict(node).excluded.unwrap_or_default();
        assert!(why.contains(words), "{node}: `{why}` does not say `{words}`");
    }
}

#[test]
fn the_newest_is_chosen_then_the_first_in_rank() {
    let mut case = Case::new(Loss::None);
    assert_eq!(case.chosen().as_deref(), Some("polje"));
    case.report("uvala", standby(101));
    assert_eq!(case.chosen().as_deref(), Some("uvala"));
}

#[test]
fn one_that_has_not_settled_is_waited_for() {
    let mut case = Case::new(Loss::None);
    case.report("uvala", ReplicaReport { settled: None, ..standby(200) });
    assert!(case.verdict("uvala").pending);
    assert_eq!(case.chosen(), None);
    case.report("uvala", ReplicaReport { settled: Some((Epoch(0), 1, Lsn(200))), ..standby(200) });
    assert!(case.verdict("uvala").pending, "a position from an earlier epoch says nothing");
}

#[test]
fn each_exclusion_has_its_reason() {
    let mut case = Case::new(Loss::None);
    case.report("polje", ReplicaReport { suspect: true, ..standby(100) });
    case.refused("polje", "never completed (D5)");
    let mut primary = standby(100);
    primary.seen.as_mut().unwrap().role = Some(Role::Primary);
    case.report("polje", primary);
    case.refused("polje", "does not answer as a standby");
    let stopped = ReplicaReport { seen: Some(Observation::down(Data::Present { standby: true })), ..standby(100) };
    case.report("polje", stopped);
    case.refused("polje", "does not run");
    case.reports.remove(&NodeId::from("polje"));
    case.refused("polje", "not heard");
    let (workload, node) = (w(), NodeId::from("uvala"));
    let next = case.state.applied.next();
    case.state.apply(next, &Command::Mark { workload, node, standing: Standing::NeedsClone("a test".into()) });
    case.refused("uvala", "must be rewound or cloned first: a test");
    assert_eq!(case.chosen(), None, "nobody is better than somebody unsafe");
}

#[test]
fn outside_the_sync_set_or_the_history_nobody_is_safe() {
    let mut case = Case::new(Loss::None);
    let state = case.state.workloads.get_mut(&w()).unwrap();
    state.sync.sure = vec!["uvala".into()];
    case.refused("polje", "not in the sync set");
    assert_eq!(case.chosen().as_deref(), Some("uvala"));
    let state = case.state.workloads.get_mut(&w()).unwrap();
    state.opened.as_mut().unwrap().timeline = 2;
    state.opened.as_mut().unwrap().switch = Lsn(90);
    case.refused("uvala", "does not contain 0/5A");
    // Exactly at the switch point, it has the history and nothing else.
    case.report("uvala", standby(90));
    assert_eq!(case.verdict("uvala").excluded, None);
}

#[test]
fn a_bounded_loss_counts_bytes() {
    let mut case = Case::new(Loss::Bytes(50));
    let mut lost = standby(0);
    lost.seen.as_mut().unwrap().position = Lsn(140);
    case.report("doline", lost);
    assert_eq!(case.verdict("polje").excluded, None, "40 bytes behind");
    case.report("uvala", standby(80));
    case.refused("uvala", "60 bytes behind; 50 may be lost");
}

/// A formation that lost its authority before the epoch was opened is tried again where its data are, once every report
/// is fresh, and not at once.
#[test]
fn a_formation_cut_short_is_tried_again() {
    let mut case = Case::new(Loss::None);
    case.state.workloads.get_mut(&w()).unwrap().opened = None;
    for node in ["polje", "uvala"] {
        let seen = Some(Observation::down(Data::Empty));
        case.report(node, ReplicaReport { seen, ..ReplicaReport::default() });
    }
    let mut notes = Notes::default();
    assert_eq!(case.chosen_with(&mut notes), None, "a try that failed at once would fail again at once");
    case.pass(case.spec.timings.lease);
    assert_eq!(case.chosen_with(&mut notes).as_deref(), Some("doline"));
    case.reports.remove(&NodeId::from("doline"));
    assert_eq!(case.chosen_with(&mut notes), None, "whether the absent one has data decides");
}

/// A replica outside the sync set takes over only where a person accepts what it may lack, and the number is said.
#[test]
fn a_loss_is_taken_only_when_it_is_accepted() {
    let mut case = Case::new(Loss::None);
    let command =
        Command::Sync { workload: w(), epoch: Epoch(1), number: 2, sure: vec![], asked: vec![], why: String::new() };
    assert!(case.state.apply(case.state.applied.next(), &command));
    let last = Observation { position: Lsn(340), ..Observation::down(Data::Present { standby: false }) };
    case.report("doline", ReplicaReport { seen: Some(last), ..ReplicaReport::default() });
    let judged = case.verdict("polje");
    assert!(judged.excluded.is_some_and(|why| why.contains("S5")));
    assert_eq!(judged.may_lack, Some(MayLack::Bytes(240)));
    assert_eq!(case.chosen(), None);
    let forced = |accept_loss| Operation {
        kind: Kind::ForcedFailover,
        workload: w(),
        from: Some("doline".into()),
        to: Some("polje".into()),
        by: "captain".into(),
        why: String::new(),
        asks: false,
        accept_loss,
    };
    for (accepted, chosen) in [(239, None), (240, Some("polje".to_string()))] {
        let mut case = case.copy();
        let begun = case.state.apply(case.state.applied.next(), &Command::Begin(forced(accepted)));
        assert!(begun);
        assert_eq!(case.chosen(), chosen, "{accepted} accepted");
    }
    // Not heard by this coordinator: more than any size.
    case.reports.remove(&NodeId::from("doline"));
    assert_eq!(case.verdict("polje").may_lack, Some(MayLack::Unknown));
}

/// S6: a fenced node is nobody's candidate.
#[test]
fn a_fenced_node_is_excluded_until_it_is_readmitted() {
    let mut case = Case::new(Loss::None);
    let (boot, why, by) = (None, String::new(), "cluster".to_string());
    let fence = Command::Fence { node: "polje".into(), boot, why: why.clone(), by: by.clone() };
    let at = case.state.applied.next();
    assert!(case.state.apply(at, &fence) && !case.state.apply(at.next(), &fence), "once only");
    assert!(case.verdict("polje").excluded.is_some_and(|why| why.contains("S6")));
    assert_eq!(case.chosen(), Some("uvala".into()));
    let late = Command::Readmit { node: "polje".into(), fence: at.next(), why: why.clone(), by: by.clone() };
    assert!(!case.state.apply(at.next(), &late), "of another fence");
    assert!(case.state.apply(at.next(), &Command::Readmit { node: "polje".into(), fence: at, why, by }));
    assert_eq!(case.chosen(), Some("polje".into()));
}

/// Mode `ask` prepares and waits for approval, `watch` does nothing, `act` goes on at once.
#[test]
fn the_mode_says_who_decides() {
    for mode in Mode::ALL {
        let mut case = Case::new(Loss::None).open_again();
        let apply = |case: &mut Case, command: &Command| assert!(case.state.apply(case.state.applied.next(), command));
        apply(&mut case, &Command::Mode { workload: w(), mode, by: "captain".into() });
        let down = Observation::down(Data::Present { standby: false });
        let surrendered = Some((Epoch(2), None));
        case.report("doline", ReplicaReport { seen: Some(down), surrendered, ..ReplicaReport::default() });
        let decided = |case: &Case| case.with(|scene, spec| decide(scene, &w(), spec, &mut Notes::default()));
        let first = decided(&case);
        match (mode, first.as_slice()) {
            (Mode::Watch, []) => {}
            (Mode::Act, [Command::Begin(o), Command::Revoke { .. }, Command::End { .. }]) => assert!(!o.asks),
            (Mode::Ask, [begin @ Command::Begin(o)]) => {
                assert!(o.asks);
                apply(&mut case, begin);
                assert_eq!(decided(&case), vec![], "it waits");
                let operation = case.state.workload(&w()).operation.expect("it has begun");
                apply(&mut case, &Command::Approve { operation, workload: w(), by: "captain".into() });
                assert!(matches!(decided(&case).as_slice(), [Command::Revoke { .. }, Command::End { .. }]));
            }
            other => panic!("{other:?}"),
        }
    }
}

/// The only one that has everything is started again, though an earlier try of it was cut short before its epoch opened:
/// otherwise the workload would have no primary for ever. Not at once: what failed would fail again.
#[test]
fn the_last_holder_tries_again() {
    let mut case = Case::new(Loss::None).open_again();
    let (epoch, why, how) = (Epoch(2), String::new(), Ended::Surrender { boot: BootId::from("b"), clean_at: None });
    let unsound = |node: &str| Command::Mark {
        workload: w(),
        node: node.into(),
        standing: Standing::Diverged("it did not stop cleanly".into()),
    };
    for command in [
        Command::Revoke { workload: w(), epoch, why: why.clone() },
        Command::End { workload: w(), epoch, how: how.clone() },
        Command::Assign { workload: w(), epoch: Epoch(3), holder: "doline".into(), why: why.clone() },
        Command::Revoke { workload: w(), epoch: Epoch(3), why },
        Command::End { workload: w(), epoch: Epoch(3), how },
        unsound("polje"),
        unsound("uvala"),
    ] {
        assert!(case.state.apply(case.state.applied.next(), &command));
    }
    let mut notes = Notes::default();
    assert_eq!(case.chosen_with(&mut notes), None);
    case.now += case.spec.timings.lease;
    for node in NODES {
        case.health.on_beat(&node.into(), 0, vec![], case.now);
    }
    let down = Observation::down(Data::Present { standby: false });
    case.report("doline", ReplicaReport { seen: Some(down), ..ReplicaReport::default() });
    assert_eq!(case.chosen_with(&mut notes), Some("doline".into()));
}

/// A holder whose server runs as a standby serves nobody, whatever made it one: seen by its patience, and replaced (L1).
#[test]
fn a_holder_that_is_a_standby_is_replaced() {
    let mut case = Case::new(Loss::None).open_again();
    case.report("doline", standby(300));
    let mut notes = Notes::default();
    let revoked = |case: &Case, notes: &mut Notes| {
        let commands = case.with(|scene, spec| decide(scene, &w(), spec, notes));
        commands.into_iter().find_map(|c| match c {
            Command::Revoke { why, .. } => Some(why),
            _ => None,
        })
    };
    assert_eq!(revoked(&case, &mut notes), None, "it may just have been promoted");
    case.pass(case.spec.timings.suspicion_ceiling);
    let why = revoked(&case, &mut notes).unwrap_or_default();
    assert!(why.contains("runs as a standby"), "{why}");
}
