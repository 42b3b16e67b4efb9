//! Draws messages of other nodes: every kind of them, with numbers and lengths of time that
//! cannot be, and names that nobody has.

use karst_core::about::{About, Room};
use karst_core::address::{AddressReport, Connection};
use karst_core::author::Token;
use karst_core::authority::{Claim, Lease};
use karst_core::command::{Command, Ended, NodeAct, Standing, WorkloadAct};
use karst_core::consensus::{Entry, LogId, Piece, Talk};
use karst_core::heads::Head;
use karst_core::health::{Hearing, Hears};
use karst_core::members::Ordered;
use karst_core::message::{Message, Says};
use karst_core::operation::Mode;
use karst_core::ownstep::Prepared;
use karst_core::replica::{
    Action, Copied, Data, Doing, Downstream, Examined, GateReport, Observation, Parts, Presence,
    Promotion, ReadReport, ReplicaReport, Report, Role,
};
use karst_core::request::{Answer, JoinProof, Plea, PowerWish, Request};
use karst_core::spec::Spec;
use karst_core::state::ClusterState;
use karst_core::{
    BootId, Epoch, History, Index, NodeId, OperationId, Position, SwitchPoint, Term, Time,
    WorkloadId,
};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64Mcg;
use std::time::Duration;

/// The number of a kind of message. A new kind does not compile until it has one here, and the tests
/// fail until it is drawn.
#[must_use]
pub fn kind_of(message: &Message) -> u32 {
    match message {
        Message::Beat { .. } => 0,
        Message::Vouch { .. } => 1,
        Message::Checkin { .. } => 2,
        Message::Grant { .. } => 3,
        Message::Connections { .. } => 4,
        Message::Answer { .. } => 5,
        Message::Talk(talk) => {
            6 + match talk {
                Talk::PreVote { .. } => 0,
                Talk::PreVoteReply { .. } => 1,
                Talk::RequestVote { .. } => 2,
                Talk::RequestVoteReply { .. } => 3,
                Talk::AppendEntries { .. } => 4,
                Talk::AppendEntriesReply { .. } => 5,
                Talk::InstallSnapshot { .. } => 6,
                Talk::InstallSnapshotReply { .. } => 7,
                Talk::Expelled { .. } => 8,
                Talk::Take { .. } => 9,
            }
        }
        Message::Ask { request, .. } => {
            16 + match request {
                Request::Status => 0,
                Request::OwnStatus => 1,
                Request::Switchover { .. } => 2,
                Request::Failover { .. } => 3,
                Request::Mode { .. } => 4,
                Request::Approve { .. } => 5,
                Request::Fence { .. } => 6,
                Request::Readmit { .. } => 7,
                Request::Power { .. } => 8,
                Request::Acknowledge { .. } => 9,
                Request::EndIntent { .. } => 10,
                Request::Invite { .. } => 11,
                Request::Join { .. } => 12,
                Request::HandOver { .. } => 13,
                Request::Intend { plea, .. } => {
                    14 + match plea {
                        Plea::Revision { .. } => 0,
                        Plea::Maintenance { .. } => 1,
                        Plea::Restart { .. } => 2,
                        Plea::SafetyPoint { .. } => 3,
                        Plea::GoBack { .. } => 4,
                        Plea::Enrol { .. } => 5,
                    }
                }
            }
        }
    }
}

/// So many kinds there are.
pub const KINDS: u32 = 36;

/// Messages are near what their receiver has, or far from it.
#[derive(Clone, Debug)]
pub struct Dice {
    chance: Pcg64Mcg,
    spec: Spec,
    nodes: Vec<NodeId>,
    workloads: Vec<WorkloadId>,
    /// The receiver's term, and the last entry of its log.
    pub term: Term,
    pub last: Index,
}

impl Dice {
    #[must_use]
    pub fn new(seed: u64, spec: Spec) -> Self {
        Self {
            chance: Pcg64Mcg::seed_from_u64(seed),
            nodes: spec.nodes.keys().cloned().collect(),
            workloads: spec.workloads.keys().cloned().collect(),
            spec,
            term: Term(0),
            last: Index(0),
        }
    }

    pub fn of(&mut self, n: usize) -> usize {
        self.chance.random_range(0..n)
    }
    fn yes(&mut self) -> bool {
        self.of(2) == 0
    }
    fn maybe<T>(&mut self, draw: impl FnOnce(&mut Self) -> T) -> Option<T> {
        if self.yes() { Some(draw(self)) } else { None }
    }
    fn some<T>(&mut self, mut draw: impl FnMut(&mut Self) -> T) -> Vec<T> {
        (0..self.of(3)).map(|_| draw(self)).collect()
    }
    fn number(&mut self) -> u64 {
        let small = self.chance.random_range(0..12);
        let near = (self.last.0 + small).saturating_sub(6);
        [
            small,
            near,
            (1 << 59) + small,
            (1 << 60) - 1,
            u64::MAX - small,
            u64::MAX,
        ][self.of(6)]
    }
    fn time(&mut self) -> Time {
        Time([0, 1, 4_000_000_000, 11_000_000_000, 1 << 59, u64::MAX][self.of(6)])
    }
    fn length(&mut self) -> Duration {
        let ms = [0, 1, 900, 4_000, 86_400_000][self.of(5)];
        [
            Duration::from_millis(ms),
            Duration::from_secs(1 << 31),
            Duration::MAX,
        ][self.of(3)]
    }
    fn term(&mut self) -> Term {
        Term(
            [
                self.term.0,
                self.term.0 + 1,
                self.term.0 + 999_999,
                self.term.0.saturating_sub(1),
                u64::MAX,
            ][self.of(5)],
        )
    }
    fn index(&mut self) -> Index {
        Index(self.number())
    }
    fn history(&mut self) -> History {
        let long = "x".repeat(self.of(4) * 100);
        ["1", "2", &long][self.of(3)].into()
    }
    fn position(&mut self) -> Position {
        Position {
            history: self.history(),
            number: self.number(),
        }
    }
    fn point(&mut self) -> SwitchPoint {
        SwitchPoint {
            history: self.history(),
            parent: self.maybe(Self::history),
            began: self.number(),
            writes_from: self.number(),
        }
    }
    fn epoch(&mut self) -> Epoch {
        Epoch(self.number())
    }
    pub fn node(&mut self) -> NodeId {
        let known = self.of(self.nodes.len() + 1);
        self.nodes
            .get(known)
            .cloned()
            .unwrap_or_else(|| "stranger".into())
    }
    fn workload(&mut self) -> WorkloadId {
        let known = self.of(self.workloads.len() * 4 + 1);
        self.workloads
            .get(known / 4)
            .cloned()
            .unwrap_or_else(|| "ghost".into())
    }
    fn claim(&mut self) -> (Claim, Epoch) {
        let id = self.workload();
        (
            if self.yes() {
                Claim::Primary(id)
            } else {
                Claim::Address(id)
            },
            self.epoch(),
        )
    }
    fn ended(&mut self) -> Ended {
        match self.of(3) {
            0 => Ended::Surrender {
                boot: "b".into(),
                clean_at: self.maybe(Self::number),
            },
            1 => Ended::LeaseOver,
            _ => Ended::PowerOff,
        }
    }

    fn command(&mut self) -> Command {
        let (workload, node, epoch) = (self.workload(), self.node(), self.epoch());
        let why = String::new();
        match self.of(13) {
            0 => Command::Workload(workload, WorkloadAct::Revoke { epoch, why }),
            1 => Command::Workload(
                workload,
                WorkloadAct::End {
                    epoch,
                    how: self.ended(),
                },
            ),
            2 => Command::Workload(
                workload,
                WorkloadAct::Assign {
                    epoch,
                    holder: node,
                    why,
                },
            ),
            3 => Command::Workload(
                workload,
                WorkloadAct::Open {
                    unprotected: false,
                    epoch,
                    point: self.point(),
                    sync: self.some(Self::node),
                    doubtful: self.some(Self::node),
                },
            ),
            4 => Command::Workload(workload, WorkloadAct::Serve { epoch }),
            5 => {
                let (sure, asked) = (self.some(Self::node), self.some(Self::node));
                Command::Workload(
                    workload,
                    WorkloadAct::Sync {
                        unprotected: false,
                        epoch,
                        number: self.number(),
                        sure,
                        asked,
                        why,
                    },
                )
            }
            6 => Command::Workload(
                workload,
                WorkloadAct::Mark {
                    node,
                    standing: Standing::NeedsClone(why),
                },
            ),
            7 => Command::Workload(
                workload,
                WorkloadAct::Place {
                    number: epoch,
                    holder: node,
                    why,
                },
            ),
            8 => Command::Workload(workload, WorkloadAct::Withdraw { number: epoch, why }),
            9 => Command::Workload(
                workload,
                WorkloadAct::Vacate {
                    number: epoch,
                    how: self.ended(),
                },
            ),
            10 => Command::Node(
                node,
                NodeAct::PowerOff {
                    fence: self.index(),
                },
            ),
            11 => Command::Node(
                node,
                NodeAct::Enrol {
                    store: "s".into(),
                    by: karst_core::author::Author::Cluster,
                },
            ),
            _ => Command::Workload(
                workload,
                WorkloadAct::Approve {
                    operation: OperationId(self.number()),
                    by: karst_core::author::Author::person("marlin"),
                },
            ),
        }
    }

    fn entries(&mut self, prev: Index) -> Vec<Entry> {
        let (term, skew) = (self.term(), self.yes());
        let mut entries = Vec::new();
        for i in 1..=self.of(4) as u64 {
            let index = if skew && self.yes() {
                self.index()
            } else {
                Index(prev.0.saturating_add(i))
            };
            entries.push(Entry {
                term,
                index,
                command: self.command(),
            });
        }
        entries
    }

    fn talk(&mut self) -> Talk {
        let (term, sent, counts, news) = (self.term(), self.time(), self.yes(), self.yes());
        match self.of(10) {
            0 => Talk::PreVote {
                term,
                last: LogId::new(self.term(), self.index()),
            },
            1 => Talk::PreVoteReply {
                term,
                yes: self.yes(),
                own: self.term(),
            },
            2 => Talk::RequestVote {
                term,
                last: LogId::new(self.term(), self.index()),
                handed: self.yes(),
            },
            3 => Talk::RequestVoteReply {
                term,
                yes: self.yes(),
            },
            4 => {
                let prev = self.index();
                let (entries, commit) = (self.entries(prev), self.index());
                Talk::AppendEntries {
                    term,
                    prev: LogId::new(self.term(), prev),
                    entries,
                    commit,
                    sent,
                    news,
                    keep: self.length(),
                }
            }
            5 => {
                let index = self.index();
                Talk::AppendEntriesReply {
                    term,
                    matched: if self.yes() { Ok(index) } else { Err(index) },
                    sent,
                    news,
                    counts,
                }
            }
            6 => {
                let (number, of) = (self.number() as u32, self.number() as u32);
                let last = LogId::new(self.term(), self.index());
                let piece = Box::new(Piece {
                    last,
                    number,
                    of,
                    part: ClusterState::default(),
                });
                let keep = self.length();
                Talk::InstallSnapshot {
                    term,
                    piece,
                    sent,
                    keep,
                }
            }
            7 => Talk::InstallSnapshotReply {
                term,
                last: self.index(),
                pieces: self.number() as u32,
                sent,
                counts,
            },
            8 => Talk::Take { term },
            _ => Talk::Expelled { term },
        }
    }

    fn observation(&mut self) -> Observation {
        let data = match self.of(4) {
            0 => Data::Empty,
            1 => Data::Foreign("nets".into()),
            _ => Data::Present {
                standby: self.yes(),
            },
        };
        Observation {
            presence: match self.of(3) {
                0 => Presence::Gone,
                1 => Presence::Exited,
                _ => Presence::Runs,
            },
            role: self.maybe(|d| {
                if d.yes() {
                    Role::Primary
                } else {
                    Role::Standby
                }
            }),
            position: self.maybe(Self::position),
            received: self.maybe(Self::number),
            replayed: self.maybe(Self::number),
            upstream: self.maybe(Self::node),
            streaming: self.yes(),
            standbys: self.some(|d| Downstream {
                node: d.node(),
                sent: d.maybe(Self::number),
                flushed: d.maybe(Self::number),
                replayed: d.maybe(Self::number),
                streaming: d.yes(),
                near: d.yes(),
                delay: d.maybe(Self::length),
            }),
            can_write: self.maybe(Self::yes),
            copied: self.maybe(|d| Copied {
                done: d.number(),
                total: d.number(),
            }),
            ..Observation::down(data)
        }
    }

    fn replica(&mut self) -> ReplicaReport {
        ReplicaReport {
            seen: self.maybe(Self::observation),
            looks: self.number(),
            age: self.length(),
            down_for: self.maybe(Self::length),
            opened: self.maybe(|d| {
                let promotion = Promotion {
                    point: d.point(),
                    unique: d.yes(),
                };
                (d.epoch(), promotion)
            }),
            settled: self.maybe(|d| (d.epoch(), d.position())),
            surrendered: self.maybe(|d| (d.epoch(), d.maybe(Self::number))),
            sync_held: self.maybe(|d| (d.epoch(), d.number())),
            prepared: self.maybe(|d| OperationId(d.number())),
            refused: self.maybe(|d| (OperationId(d.number()), "a step".into())),
            marked: None,
            rejoined: self.maybe(Self::epoch),
            let_go: self.maybe(Self::epoch).map(|epoch| Index(epoch.0)),
            suspect: self.yes(),
            unguarded: None,
            doing: self.maybe(|d| Doing {
                action: Action::Promote { after: None },
                time: d.length(),
            }),
            failed: None,
        }
    }

    fn about(&mut self) -> About {
        About {
            certificate_until: self.maybe(Self::number),
            since: self.number(),
            rooms: self.some(|d| Room {
                of: "data".into(),
                path: "/".into(),
                free: d.number(),
                total: d.number(),
            }),
            ..About::default()
        }
    }

    fn parts(&mut self) -> Parts {
        let gate = |d: &mut Self| GateReport {
            listening: d.yes(),
            forwarding: d.maybe(Self::epoch),
            unreachable: d.yes(),
            connections: d.number(),
            waiting: d.number(),
            refused: d.number(),
        };
        let address = |d: &mut Self| AddressReport {
            held: d.yes(),
            connections: d.number() as usize,
            surrendered: d.maybe(Self::epoch),
            ..AddressReport::default()
        };
        let hearing = |d: &mut Self| Hearing {
            age: d.length(),
            lost: d.number() as u8,
            knocks: d.yes(),
        };
        let examined = |d: &mut Self| Examined {
            intent: OperationId(d.number()),
            lacks: d.some(|d| {
                if d.yes() {
                    "room".into()
                } else {
                    "\u{7}".into()
                }
            }),
        };
        let prepared = |d: &mut Self| Prepared {
            intent: OperationId(d.number()),
            failed: d.some(|d| if d.yes() { "drain" } else { "\u{7}" }.to_string()),
        };
        Parts {
            examined: self.maybe(examined),
            prepared: self.maybe(prepared),
            hears_ill: self.maybe(|d| d.some(|d| (d.node(), hearing(d))).into_iter().collect()),
            replicas: self
                .some(|d| (d.workload(), d.replica()))
                .into_iter()
                .collect(),
            gates: self.some(|d| (d.workload(), gate(d))).into_iter().collect(),
            addresses: self
                .some(|d| (d.workload(), address(d)))
                .into_iter()
                .collect(),
            read_gates: self
                .some(|d| (d.workload(), ReadReport::default()))
                .into_iter()
                .collect(),
            about: self.maybe(|d| Box::new(d.about())),
        }
    }

    /// One of each kind of request, of those that may be wanted as well.
    fn request(&mut self) -> Request {
        let (workload, node, by) = (self.workload(), self.node(), self.name());
        let (at, why) = (self.number(), self.maybe(Self::note));
        match self.of(16) {
            0 => Request::Switchover {
                workload,
                to: self.maybe(Self::node),
                by,
                plan_only: self.yes(),
            },
            1 => Request::Failover {
                workload,
                to: node,
                by,
                accept_loss: at,
                plan_only: self.yes(),
            },
            2 => Request::Mode {
                workload,
                mode: Mode::ALL[self.of(3)],
                by,
                at,
                why,
                until: self.maybe(Self::number),
            },
            3 => Request::Approve {
                operation: OperationId(at),
                by,
            },
            4 => Request::Fence { node, by },
            5 => Request::Readmit { node, by },
            6 => Request::Power {
                node,
                what: PowerWish::ALL[self.of(3)],
                by,
                plan_only: self.yes(),
            },
            7 => Request::Acknowledge {
                finding: self.note(),
                note: why,
                by,
                at,
            },
            8 => Request::EndIntent {
                intent: OperationId(at),
                by,
            },
            9 => Request::Invite {
                node,
                digest: self.name(),
                until: at,
                by,
            },
            10 => Request::Join {
                invitation: OperationId(self.number()),
                node,
                digest: self.name(),
                key: self.name(),
                at,
                proof: JoinProof::default(),
            },
            11 => Request::HandOver {
                to: self.maybe(Self::node),
                by,
            },
            12 => Request::Status,
            13 => Request::OwnStatus,
            _ => Request::Intend {
                plea: self.plea(),
                by,
                at,
                why,
                seen: self.maybe(Self::name),
                plan_only: self.yes(),
            },
        }
    }

    fn plea(&mut self) -> Plea {
        let (workload, until) = (self.workload(), self.maybe(Self::number));
        match self.of(7) {
            0 => Plea::Revision {
                text: self.note(),
                spec: Box::new(self.spec()),
                based_on: self.maybe(Self::number),
                judged: None,
            },
            1 => Plea::Maintenance {
                nodes: self.some(Self::node).into_iter().collect(),
                back: self.yes(),
                bare: self.some(Self::workload).into_iter().collect(),
                cut_off: self.some(Self::workload).into_iter().collect(),
                until,
            },
            2 => Plea::Restart { workload },
            3 => Plea::SafetyPoint {
                workload,
                name: self.name(),
                node: self.maybe(Self::node),
                bare: self.yes(),
                until,
            },
            4 => Plea::GoBack { workload },
            _ => Plea::Enrol { node: self.node() },
        }
    }

    /// The spec in force with something that nobody would write.
    fn spec(&mut self) -> Spec {
        let mut spec = self.spec.clone();
        match self.of(6) {
            0 => spec.timings.suspicion_ceiling = self.length(),
            1 => spec.timings.heartbeat = self.length(),
            2 => spec.timings.lease = self.length(),
            3 => spec.nodes.clear(),
            4 => spec
                .nodes
                .values_mut()
                .for_each(|node| node.votes = u32::MAX),
            _ => spec.workloads.values_mut().for_each(|w| {
                w.replicas.clear();
            }),
        }
        spec
    }

    fn name(&mut self) -> String {
        let long = "x".repeat(500);
        ["marlin", "", "mar\u{7}lin", &long][self.of(4)].into()
    }

    fn note(&mut self) -> String {
        let long = "x".repeat(5_000);
        ["", "for the quay", "a\nb", &long][self.of(4)].into()
    }

    pub fn message(&mut self) -> Message {
        let (number, sent, news) = (self.number(), self.time(), self.yes());
        match self.of(10) {
            0 => {
                let lately = self
                    .nodes
                    .iter()
                    .cloned()
                    .collect::<Ordered>()
                    .pick(|_| true);
                let heads = self.some(|d| {
                    (
                        d.workload(),
                        Head {
                            epoch: d.epoch(),
                            position: d.number(),
                        },
                    )
                });
                Message::Beat {
                    number,
                    hears: Hears {
                        you: self.maybe(Self::length),
                        lately,
                        of: self.number(),
                    },
                    heads,
                    votes: Index(self.number()),
                }
            }
            1..=3 => Message::Talk(self.talk()),
            4 | 5 => {
                let parts = self.parts();
                let says = if self.yes() {
                    let (boot, store) = (BootId::from("b"), self.maybe(|_| "s".into()));
                    Says::Full(Box::new(Report {
                        boot,
                        store,
                        counts: self.yes(),
                        system: None,
                        parts,
                    }))
                } else {
                    Says::Delta(self.number(), Box::new(parts))
                };
                Message::Checkin {
                    number,
                    sent,
                    wants: self.some(Self::claim),
                    says,
                    news,
                }
            }
            6 => {
                let leases = self.some(|d| {
                    let (claim, epoch) = d.claim();
                    Lease {
                        claim,
                        epoch,
                        length: d.length(),
                        kill_bound: d.length(),
                    }
                });
                Message::Grant {
                    number,
                    sent,
                    term: self.term(),
                    leases,
                    readers: Default::default(),
                    round: self
                        .some(|d| ("sailings".into(), d.node()))
                        .into_iter()
                        .collect(),
                    news,
                }
            }
            7 => {
                let connection = Connection {
                    client: ([192, 0, 2, 1], 7).into(),
                    here: ([10, 30, 0, 50], 7433).into(),
                };
                Message::Connections {
                    workload: self.workload(),
                    connections: vec![connection; self.of(4)],
                }
            }
            8 => Message::Vouch {
                at: Index(self.number()),
                voters: self.some(|d| (d.node(), ([192, 0, 2, 1], 7).into())),
            },
            _ if self.yes() => Message::Answer {
                number,
                answer: Answer::NoCoordinator,
            },
            _ => Message::Ask {
                number,
                request: self.request(),
                token: self.maybe(|_| Token::new("a guess")),
            },
        }
    }
}
