//! Operations: what the cluster does on purpose or by itself, from its beginning to its end, with
//! phase times.

use crate::author::Author;
use crate::ids::{NodeId, OperationId, WorkloadId};
use serde::{Deserialize, Serialize};

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The primary was lost; the cluster acts by itself.
    Failover,
    /// A planned move: nothing is lost and the old primary follows without a clone.
    Switchover,
    /// An operator moves the workload without waiting for the old primary's clean stop.
    ForcedFailover,
    /// The first primary of a new workload.
    FirstStart,
}

/// One step of a move.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// The primary writes out what it has, so that its stop is short.
    Checkpoint,
    /// Its authority is revoked.
    Revoke,
    /// It stops once its standbys have everything.
    StopClean,
    /// It is stopped at once, or its lease is waited for.
    StopNow,
    /// Another is promoted, under a new epoch.
    Promote,
    /// Gates let clients through to it.
    Release,
    /// The old primary follows as it is.
    Follow,
    /// It comes back by a rewind or a copy.
    ComeBack,
}

impl Kind {
    /// What a move of this kind takes, in order: what is shown as its plan, and what the coordinator
    /// and the nodes do.
    pub fn stages(self) -> &'static [Stage] {
        use Stage::{Checkpoint, ComeBack, Follow, Promote, Release, Revoke, StopClean, StopNow};
        match self {
            Kind::Switchover => &[Checkpoint, Revoke, StopClean, Promote, Release, Follow],
            Kind::Failover | Kind::ForcedFailover => &[Revoke, StopNow, Promote, Release, ComeBack],
            Kind::FirstStart => &[Promote, Release],
        }
    }

    pub fn takes(self, stage: Stage) -> bool {
        self.stages().contains(&stage)
    }
}

impl std::fmt::Display for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(match self {
            Kind::Failover => "failover",
            Kind::Switchover => "switchover",
            Kind::ForcedFailover => "forced failover",
            Kind::FirstStart => "first start",
        })
    }
}

/// Whether a workload is moved without a person.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// A lost primary is replaced at once.
    #[default]
    Act,
    /// The move is prepared, and waits for a person's approval.
    Ask,
    /// The loss is reported, and nothing is done.
    Watch,
}

/// A mode that was set. Times are seconds since the Unix epoch, as the asked node's clock had them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ModeSet {
    pub mode: Mode,
    pub by: Author,
    pub at: u64,
    pub why: Option<String>,
    /// From then on it is `act` again.
    pub until: Option<u64>,
}

impl ModeSet {
    /// Without a reason or an end.
    pub fn plain(mode: Mode, by: Author) -> Self {
        Self {
            mode,
            by,
            at: 0,
            why: None,
            until: None,
        }
    }
}

impl Mode {
    pub const ALL: [Mode; 3] = [Mode::Act, Mode::Ask, Mode::Watch];

    pub fn word(self) -> &'static str {
        match self {
            Mode::Act => "act",
            Mode::Ask => "ask",
            Mode::Watch => "watch",
        }
    }
}

/// What an operation was begun for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// A person wants it.
    AskedFor,
    /// The workload has no primary yet.
    NoPrimaryYet,
    /// The server's processes have ended.
    ServerEnded,
    /// The server runs and answers nobody.
    ServerSilent,
    /// The server runs and takes no writes.
    WritesFail,
    /// The primary's node was fenced.
    NodeFenced,
    /// Nobody hears the primary's node, and its power can be read.
    NodeSilent,
    /// The primary's lease has run out.
    LeaseOver,
    /// Whoever was assigned has not opened the workload.
    NeverOpened,
}

/// What is to be done; its id is the log index of the entry that carries it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Operation {
    pub kind: Kind,
    pub workload: WorkloadId,
    pub from: Option<NodeId>,
    /// The target that was asked for; none where the cluster chooses.
    pub to: Option<NodeId>,
    pub by: Author,
    pub cause: Cause,
    /// What was seen, by whom.
    pub why: String,
    /// Begun in mode `ask`: it goes no further until somebody approves it.
    #[serde(default)]
    pub asks: bool,
    /// Acknowledged bytes that its asker accepts to lose (forced failover only).
    #[serde(default)]
    pub accept_loss: u64,
    /// The intent that it is a step of: it is not begun, and goes no further, once that is over.
    #[serde(default)]
    pub intent: Option<OperationId>,
}

/// Where the time of a failover or switchover goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Phase {
    /// From the loss as its own node saw it to the coordinator's decision to act.
    Detect,
    /// Until the old authority is revoked in the log.
    Decide,
    /// Until the old primary is confirmed gone.
    Isolate,
    /// Until the new primary is open in the log; choosing it included.
    Promote,
    /// Until its first write is replicated to the whole new sync set and a gate forwards to it.
    Route,
    /// Until the first write of a client, where one was watched; else until both of the above.
    FirstWrite,
}

impl Phase {
    pub const ALL: [Phase; 6] = [
        Phase::Detect,
        Phase::Decide,
        Phase::Isolate,
        Phase::Promote,
        Phase::Route,
        Phase::FirstWrite,
    ];

    pub fn name(self) -> &'static str {
        match self {
            Phase::Detect => "detect",
            Phase::Decide => "decide",
            Phase::Isolate => "isolate",
            Phase::Promote => "promote",
            Phase::Route => "route",
            Phase::FirstWrite => "first write",
        }
    }

    /// What its length is called in the record, in microseconds.
    pub fn key(self) -> String {
        format!("{}_us", self.name().replace(' ', "_"))
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", tag = "result", content = "why")]
pub enum Outcome {
    Done,
    /// Nothing was changed, or everything was put back.
    Undone(String),
    /// It ended elsewhere than it was meant to.
    Diverted(String),
}
