//! One replica on its own node: what its driver observes, what it can be told to do, and what it
//! reports.
//!
//! The rules of what to do when are in [`agent`].

pub mod agent;
mod inout;

use crate::about::About;
use crate::address::AddressReport;
use crate::health::Hearing;
use crate::ids::{BootId, Epoch, History, Index, NodeId, OperationId, RunId, StoreId, WorkloadId};
use crate::ownstep::Prepared;
use crate::position::{Position, SwitchPoint};
use crate::safetypoint::Mark;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// What a server is at the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Role {
    Primary,
    Standby,
}

/// What is in the data directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "data", content = "why")]
pub enum Data {
    Empty,
    /// A server's data; `standby` where it is set up to follow somebody.
    Present {
        standby: bool,
    },
    /// A server's data that no server can be started from; a copy may take their place.
    Unusable(String),
    /// Something else than a server's data, or nothing that can be looked at: nobody touches it.
    Foreign(String),
}

/// What of a server's processes is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Presence {
    /// No process of the workload is left on the host, verified (C1).
    Gone,
    /// Its first process has exited, so that nobody can be served any more; what it left behind is
    /// being ended.
    Exited,
    Runs,
}

/// One probe of a driver.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observation {
    pub presence: Presence,
    /// Which run of its server this is; none while none runs.
    #[serde(default)]
    pub run: Option<RunId>,
    /// A server runs on its data that Karst did not start, and that is not spoken to.
    #[serde(default)]
    pub strange: bool,
    pub data: Data,
    /// Whose copies its data are: each copy says the same; none where nobody can tell.
    #[serde(default)]
    pub identity: Option<String>,
    /// What it says it is; none while it does not answer.
    pub role: Option<Role>,
    /// A primary's flushed position; a standby's, which is the further of received and replayed
    /// (D6). None: not known, which is not zero (F2).
    pub position: Option<Position>,
    /// Of a standby, on the history of its position.
    pub received: Option<u64>,
    pub replayed: Option<u64>,
    /// Where it is in the words of its program.
    pub place: Option<String>,
    /// Whom a standby is set up to follow.
    pub upstream: Option<NodeId>,
    /// Whether a standby receives from it.
    pub streaming: bool,
    /// A primary's view of its standbys.
    pub standbys: Vec<Downstream>,
    /// The write probe's verdict on a primary; none: it cannot tell (yet).
    pub can_write: Option<bool>,
    /// Settings that are in force in place of those that Karst wrote, or that its promises rest on
    /// (F11).
    pub overruled: Vec<Setting>,
    /// Settings of the spec that are in force after its next start, and not before.
    #[serde(default)]
    pub pending: Vec<String>,
    /// Servers of its kind can be held back at a point.
    #[serde(default)]
    pub can_hold_back: bool,
    /// The label of the point that a standby was started to go up to, whether it is there or not:
    /// this run of it follows nobody beyond.
    #[serde(default)]
    pub goes_up_to: Option<String>,
    /// The label of the point that a standby has gone up to and stays at.
    #[serde(default)]
    pub held_at: Option<String>,
    /// What the probe ran into, if anything.
    pub trouble: Option<String>,
    /// How far a clone or a rewind is.
    pub copied: Option<Copied>,
}

/// A setting of a server as it is in force.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Setting {
    pub name: String,
    pub value: String,
    /// Where it is for some role or database only, and the reason why it is not what it should be.
    pub source: String,
    /// Commits may return without the standbys that confirm them: what they were promised has ended
    /// (D1).
    pub ends_promise: bool,
}

/// Bytes that a clone or a rewind has copied, of those that it will, as its program says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Copied {
    pub done: u64,
    pub total: u64,
}

impl Copied {
    /// Of all that it will copy; a program may say less beforehand than it copies.
    pub fn percent(self) -> u64 {
        let percent = u128::from(self.done) * 100 / u128::from(self.total.max(1));
        u64::try_from(percent).unwrap_or(u64::MAX)
    }

    /// Bytes a second so far.
    pub fn pace(self, since: Duration) -> u64 {
        let pace = u128::from(self.done) * 1_000 / since.as_millis().max(1);
        u64::try_from(pace).unwrap_or(u64::MAX)
    }

    /// How long the rest takes at the pace so far; none while that cannot be said.
    pub fn rest(self, since: Duration) -> Option<Duration> {
        let left = self.total.checked_sub(self.done)?;
        let ratio = left as f64 / (self.done > 0).then_some(self.done)? as f64;
        Duration::try_from_secs_f64(since.as_secs_f64() * ratio).ok()
    }
}

impl Observation {
    pub fn down(data: Data) -> Self {
        Self {
            presence: Presence::Gone,
            run: None,
            strange: false,
            data,
            identity: None,
            role: None,
            position: None,
            received: None,
            replayed: None,
            place: None,
            upstream: None,
            streaming: false,
            standbys: Vec::new(),
            can_write: None,
            overruled: Vec::new(),
            pending: Vec::new(),
            can_hold_back: false,
            goes_up_to: None,
            held_at: None,
            trouble: None,
            copied: None,
        }
    }

    /// Whether any process of the workload is left on the host.
    pub fn runs(&self) -> bool {
        self.presence != Presence::Gone
    }

    /// Whether its first process has exited, and something of it is left.
    pub fn has_exited(&self) -> bool {
        self.presence == Presence::Exited
    }

    /// What others act on at once: all but the numbers that move all the time.
    pub fn without_progress(&self) -> Self {
        let mut rest = self.clone();
        if let Some(at) = &mut rest.position {
            at.number = 0;
        }
        (rest.received, rest.replayed) = Default::default();
        (rest.place, rest.copied) = Default::default();
        for standby in &mut rest.standbys {
            (standby.sent, standby.flushed, standby.replayed) = Default::default();
            standby.delay = None;
        }
        rest
    }

    /// Commits may have returned that no standby confirmed.
    pub fn is_unprotected(&self) -> bool {
        self.overruled.iter().any(|s| s.ends_promise)
    }

    /// How far it is on its own history.
    pub fn number(&self) -> Option<u64> {
        Some(self.position.as_ref()?.number)
    }

    pub fn is(&self, role: Role) -> bool {
        self.runs() && self.role == Some(role)
    }
}

/// A standby as its primary sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Downstream {
    pub node: NodeId,
    /// None where the primary does not know (F2).
    pub sent: Option<u64>,
    pub flushed: Option<u64>,
    pub replayed: Option<u64>,
    pub streaming: bool,
    /// So close behind that what is left can be waited for.
    pub near: bool,
    /// How long its last writes took until they were replayed there; none while nothing is written.
    #[serde(default)]
    pub delay: Option<Duration>,
}

/// What a driver can be told to do. Every action is idempotent.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "action")]
pub enum Action {
    /// Make new data where there is none, start it as a primary if nothing runs, and see that what
    /// Karst needs is in it.
    Create,
    /// Start existing data as a primary, with a setting that lets no commit return yet (D4).
    StartPrimary,
    StartStandby {
        upstream: NodeId,
    },
    /// A checkpoint, so that the stop that follows is short.
    Checkpoint,
    /// A clean stop within the limit; what is left after that is ended.
    StopClean {
        limit: Duration,
    },
    /// End every process at once, and verify (C1, D12).
    StopNow,
    /// Become primary on a new history, or say on which one it is already (D10). `after` is the one
    /// that was open last, which may be unknown here.
    Promote {
        after: Option<History>,
    },
    /// Stop receiving, and report the final position (D6). Where a clean stop ended the log,
    /// whoever has it up to `enough` has nothing more to receive.
    Settle {
        enough: Option<u64>,
    },
    Repoint {
        upstream: NodeId,
    },
    /// Take back what that node's history does not have, and follow it from there (D9, D11); or say
    /// that only a copy can.
    Rewind {
        to: NodeId,
    },
    /// Replace the data by a copy of that node's.
    Clone {
        from: NodeId,
    },
    /// Make the first data from the base backup that lies on this host, if it is of that node's
    /// history: what that node has written since is still to be received.
    Restore {
        from: String,
        to: NodeId,
    },
    /// Write a point of that name into the program's log, and report where it is once whoever
    /// confirms writes has it.
    Mark {
        label: String,
    },
    /// Go up to that point as a standby of `upstream`, and stay there following nobody.
    HoldBack {
        upstream: NodeId,
        mark: Mark,
    },
    /// Wait for these standbys at every commit, and report when all of them have everything written
    /// before (D2).
    SetSync(SyncSetting),
}

/// Whom commits wait for; (epoch, number) is a setting in full (D2).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SyncSetting {
    pub epoch: Epoch,
    pub number: u64,
    pub standbys: Vec<NodeId>,
    /// With nobody to wait for, commits return all the same (D3).
    pub unprotected: bool,
}

impl Action {
    /// How long it may take before it is given up, whatever its driver says (F6). Each is more than
    /// the driver's own limit, which knows better.
    pub fn limit(&self) -> Duration {
        let seconds = match self {
            Action::Promote { .. } | Action::Settle { .. } => 10,
            Action::StopNow => 15,
            Action::Repoint { .. } => 20,
            Action::Mark { .. } => 30,
            Action::StopClean { limit } => return *limit + Duration::from_secs(15),
            Action::SetSync(_) => 75,
            Action::Checkpoint => 300,
            Action::Create | Action::StartPrimary | Action::StartStandby { .. } => 180,
            Action::Rewind { .. } | Action::HoldBack { .. } => 3_600,
            Action::Clone { .. } | Action::Restore { .. } => 24 * 3_600,
        };
        Duration::from_secs(seconds)
    }

    /// Whether it brings data back to what the primary has.
    pub fn is_rejoining(&self) -> bool {
        matches!(
            self,
            Action::Rewind { .. } | Action::Clone { .. } | Action::Restore { .. }
        )
    }

    /// What is so once it is done, for people.
    pub fn result(&self) -> String {
        match self {
            Action::Create => "the first data are made".into(),
            Action::StartPrimary => "started as primary".into(),
            Action::StartStandby { upstream } => format!("started as standby of {upstream}"),
            Action::Checkpoint => "checkpoint before the move written".into(),
            Action::StopClean { .. } => "stopped cleanly".into(),
            Action::StopNow => "stopped at once".into(),
            Action::Promote { .. } => "promoted".into(),
            Action::Settle { .. } => "final position reported".into(),
            Action::Repoint { upstream } => format!("now follows {upstream}"),
            Action::Rewind { to } => format!("rewound to the history of {to}"),
            Action::Clone { from } => format!("copied anew from {from}"),
            Action::Restore { from, .. } => format!("made from the base backup in {from}"),
            Action::Mark { label } => format!("point {label} written"),
            Action::HoldBack { mark, .. } => format!("stands at {}", mark.label),
            Action::SetSync(setting) if setting.standbys.is_empty() => {
                "commits wait for nobody".into()
            }
            Action::SetSync(setting) => {
                let names: Vec<&str> = setting.standbys.iter().map(|n| n.as_str()).collect();
                format!("commits wait for {}", names.join(", "))
            }
        }
    }

    /// What it is while it is done, for people.
    pub fn describe(&self) -> String {
        match self {
            Action::Create => "creating the first data".into(),
            Action::StartPrimary => "starting as primary".into(),
            Action::StartStandby { upstream } => format!("starting as standby of {upstream}"),
            Action::Checkpoint => "checkpoint before the move".into(),
            Action::StopClean { .. } => "clean stop".into(),
            Action::StopNow => "immediate stop".into(),
            Action::Promote { .. } => "promotion".into(),
            Action::Settle { .. } => "settling the final position".into(),
            Action::Repoint { upstream } => format!("repointing to {upstream}"),
            Action::Rewind { to } => format!("rewind to the history of {to}"),
            Action::Clone { from } => format!("fresh clone from {from}"),
            Action::Restore { from, to } => {
                format!("copying the base backup in {from}, to follow {to} from there")
            }
            Action::Mark { label } => format!("writing point {label}"),
            Action::HoldBack { mark, .. } => format!("going up to point {}", mark.label),
            Action::SetSync(setting) if setting.standbys.is_empty() => {
                "setting no synchronous standby".into()
            }
            Action::SetSync(setting) => {
                let names: Vec<&str> = setting.standbys.iter().map(|n| n.as_str()).collect();
                format!("synchronous standbys {}", names.join(", "))
            }
        }
    }
}

/// What a promotion, or the start of a primary, has come to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Promotion {
    /// Where it is now, before any client can write (F1).
    pub point: SwitchPoint,
    /// No earlier history can have the same name, as far as the driver can tell from the one that
    /// was open before (D5).
    pub unique: bool,
}

/// What came of an action.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "done")]
pub enum Done {
    Ok,
    /// Where a clean stop ended the log; none if it was not clean.
    Stopped {
        clean_at: Option<u64>,
    },
    Promoted(Promotion),
    Settled {
        at: Position,
    },
    /// The point is there.
    Marked {
        at: Position,
    },
    /// It was not begun: the site's own step before it says so.
    Refused {
        why: String,
    },
    /// A rewind cannot bring these data there, for certain: a copy has to take their place.
    MustClone {
        why: String,
    },
}

/// An action that is under way, and for how long.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Doing {
    pub action: Action,
    pub time: Duration,
}

/// A node's part in the check-in with the coordinator.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Report {
    pub boot: BootId,
    /// Its node store, and whether that votes and counts (A6).
    pub store: Option<StoreId>,
    pub counts: bool,
    /// The hardware's UUID, where the host can tell.
    pub system: Option<String>,
    pub parts: Parts,
}

/// What of a report may be different in the next one.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Parts {
    /// The peers that it does not hear as it should; none where what it said last still counts.
    /// Here too, since reports find a way round a broken link and beats do not (A4).
    pub hears_ill: Option<BTreeMap<NodeId, Hearing>>,
    pub replicas: BTreeMap<WorkloadId, ReplicaReport>,
    pub gates: BTreeMap<WorkloadId, GateReport>,
    pub addresses: BTreeMap<WorkloadId, AddressReport>,
    #[serde(default)]
    pub read_gates: BTreeMap<WorkloadId, ReadReport>,
    /// Whether this host has what the revision needs here that is not in force yet.
    #[serde(default)]
    pub examined: Option<Examined>,
    /// What its own steps before it rests came to.
    #[serde(default)]
    pub prepared: Option<Prepared>,
    /// For people; none where what it said last is still so.
    #[serde(default)]
    pub about: Option<Box<About>>,
}

/// What a host lacks for a revision that is to be in force.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Examined {
    pub intent: OperationId,
    /// Each in a sentence, with what to do about it.
    pub lacks: Vec<String>,
}

impl Examined {
    /// So many things at most are told, of so many bytes each.
    pub const MOST: usize = 20;
    pub const LONGEST: usize = 2_000;
}

impl Parts {
    /// Without what the mere passing of time changes.
    pub fn still(&self) -> Self {
        let mut still = self.clone();
        (still.hears_ill, still.about) = (None, None);
        for replica in still.replicas.values_mut() {
            replica.times().for_each(|time| *time = Duration::ZERO);
        }
        still
    }

    /// Those which are different in what was said before; how it hears its peers always is.
    pub(crate) fn since(self, before: &Parts, still: &Parts) -> Self {
        fn differ<T: PartialEq>(
            parts: BTreeMap<WorkloadId, T>,
            before: &BTreeMap<WorkloadId, T>,
            still: &BTreeMap<WorkloadId, T>,
        ) -> BTreeMap<WorkloadId, T> {
            parts
                .into_iter()
                .filter(|(id, _)| before.get(id) != still.get(id))
                .collect()
        }
        Self {
            hears_ill: self.hears_ill,
            replicas: differ(self.replicas, &before.replicas, &still.replicas),
            gates: differ(self.gates, &before.gates, &still.gates),
            addresses: differ(self.addresses, &before.addresses, &still.addresses),
            read_gates: differ(self.read_gates, &before.read_gates, &still.read_gates),
            examined: self.examined,
            prepared: self.prepared,
            about: self.about,
        }
    }

    /// Takes what is different so much later. How it hears its peers stays as it said last.
    pub(crate) fn take(&mut self, changed: Parts, later: Duration) {
        self.replicas.values_mut().for_each(|replica| {
            replica
                .times()
                .for_each(|time| *time = time.saturating_add(later))
        });
        self.hears_ill = changed.hears_ill.or(self.hears_ill.take());
        self.replicas.extend(changed.replicas);
        self.gates.extend(changed.gates);
        self.addresses.extend(changed.addresses);
        self.read_gates.extend(changed.read_gates);
        self.examined = changed.examined;
        self.prepared = changed.prepared;
        self.about = changed.about.or(self.about.take());
    }
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ReplicaReport {
    pub seen: Option<Observation>,
    /// How often was looked: what is said again as it was is a new look, and not an old one.
    pub looks: u64,
    /// Age of `seen`.
    pub age: Duration,
    /// How long the server has been found not running.
    pub down_for: Option<Duration>,
    /// This node promoted itself under this epoch, with this result.
    pub opened: Option<(Epoch, Promotion)>,
    /// The final position after the end of this epoch.
    pub settled: Option<(Epoch, Position)>,
    /// Nothing of this epoch runs here any more, for good (C5); with the end of a clean stop.
    pub surrendered: Option<(Epoch, Option<u64>)>,
    /// Commits wait for the set of this number, and every member has everything before.
    pub sync_held: Option<(Epoch, u64)>,
    /// Ready for this switchover's stop.
    pub prepared: Option<OperationId>,
    /// This switchover is not to be: the site's own step before it says why.
    #[serde(default)]
    pub refused: Option<(OperationId, String)>,
    /// The point that this primary has written for that intent.
    #[serde(default)]
    pub marked: Option<(OperationId, Mark)>,
    /// The data were rewound to the history of this epoch's primary, or are a complete copy of it.
    pub rejoined: Option<Epoch>,
    /// Its server runs as a standby that nothing here is about to stop, where so much of the log says
    /// who has been let go of; none while it is not so (K4).
    #[serde(default)]
    pub let_go: Option<Index>,
    /// A promotion was tried here and never opened (D5).
    pub suspect: bool,
    /// Why no packet guard is in force for the primary here (C3).
    pub unguarded: Option<String>,
    pub doing: Option<Doing>,
    pub failed: Option<String>,
}

impl ReplicaReport {
    /// What grows by itself.
    fn times(&mut self) -> impl Iterator<Item = &mut Duration> {
        let doing = self.doing.as_mut().map(|doing| &mut doing.time);
        [Some(&mut self.age), self.down_for.as_mut(), doing]
            .into_iter()
            .flatten()
    }
}

/// A gate as its node sees it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct GateReport {
    /// Clients can connect to it.
    pub listening: bool,
    /// The epoch it forwards to; none while it holds, or does not reach the primary.
    pub forwarding: Option<Epoch>,
    /// It is to forward, and the primary's host does not answer from here.
    #[serde(default)]
    pub unreachable: bool,
    pub connections: u64,
    pub waiting: u64,
    pub refused: u64,
}

impl GateReport {
    /// What others act on at once.
    pub fn without_counts(&self) -> Self {
        Self {
            connections: 0,
            waiting: 0,
            refused: 0,
            ..self.clone()
        }
    }
}

/// A read gate as its node sees it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadReport {
    /// Clients can connect to it.
    pub listening: bool,
    /// Those that it forwards to; nobody while it holds.
    pub to: BTreeSet<NodeId>,
    /// Those of them whose hosts do not answer from here.
    #[serde(default)]
    pub unreachable: BTreeSet<NodeId>,
    pub connections: u64,
    pub waiting: u64,
    pub refused: u64,
}

impl ReadReport {
    /// What others act on at once.
    pub(crate) fn without_counts(&self) -> Self {
        Self {
            connections: 0,
            waiting: 0,
            refused: 0,
            ..self.clone()
        }
    }
}
