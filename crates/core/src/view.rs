//! What a person is shown: one sentence, then the evidence.

use crate::about::{Authorities, Room};
use crate::author::Author;
use crate::ids::{Epoch, Index, NodeId, OperationId, Term, WorkloadId};
use crate::operation::{Mode, ModeSet, Outcome};
use crate::position::Position;
use crate::progress::Progress;
use crate::replica::{Copied, Role, Setting};
use crate::spec::{Alone, Finding, Leads};
use crate::state::Acknowledged;
use crate::steward::candidates::Candidate;
use crate::steward::outlook::Writes;
use crate::time::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, SocketAddr};

/// How the whole or a workload is, in one fixed word each.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum Condition {
    /// Everything that the spec asks for is there.
    Healthy,
    /// Something is under way that needs nobody, and comes along.
    Recovering,
    /// It works, with less protection than the spec asks for.
    Degraded,
    /// Whoever knew is not heard.
    Unknown,
    /// Clients cannot write until a person acts.
    Down,
}

impl Condition {
    pub const ALL: [Condition; 5] = [
        Condition::Healthy,
        Condition::Recovering,
        Condition::Degraded,
        Condition::Unknown,
        Condition::Down,
    ];

    pub fn word(self) -> &'static str {
        match self {
            Condition::Healthy => "healthy",
            Condition::Recovering => "recovering",
            Condition::Degraded => "degraded",
            Condition::Unknown => "unknown",
            Condition::Down => "down",
        }
    }
}

/// Whether clients' writes are taken, and for how long that has been so.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WritesView {
    pub state: Writes,
    /// As far as the present coordinator saw; none where that is not known.
    pub for_ms: Option<u64>,
}

/// What only a person can do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NeedView {
    pub kind: NeedKind,
    /// The workload or the node that it is about.
    pub about: String,
    pub what: String,
    /// What to do, a command where there is one.
    pub next: String,
    /// For how long it has been so, as far as the present coordinator saw.
    pub for_ms: Option<u64>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum NeedKind {
    /// A move is prepared and waits to be approved.
    Approve,
    /// The primary is lost, and the mode leaves it to a person.
    TakeOver,
    /// Several replicas have data, and nobody knows whose are right.
    ChooseData,
    /// Nobody has every write and may take over.
    BringBack,
    /// No standby can confirm writes.
    BringStandby,
    /// A fenced node is reachable, and its spec says that a person takes it back.
    Readmit,
    /// A node store is new, and its node does not vote.
    Enrol,
    /// Too few voters are heard for anything to be decided.
    BringVoters,
}

impl NeedKind {
    pub const ALL: [NeedKind; 8] = [
        NeedKind::Approve,
        NeedKind::TakeOver,
        NeedKind::ChooseData,
        NeedKind::BringBack,
        NeedKind::BringStandby,
        NeedKind::Readmit,
        NeedKind::Enrol,
        NeedKind::BringVoters,
    ];
}

/// A finding that stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FindingView {
    /// What it is called where somebody acknowledges it.
    pub name: String,
    #[serde(flatten)]
    pub finding: Finding,
    /// Who knows of it.
    pub acknowledged: Option<Acknowledged>,
}

impl From<Finding> for FindingView {
    fn from(finding: Finding) -> Self {
        Self {
            name: finding.name(),
            finding,
            acknowledged: None,
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Status {
    pub cluster: String,
    /// The node whose view this is.
    pub seen_by: NodeId,
    pub coordinator: Option<NodeId>,
    pub term: Term,
    pub applied: Index,
    pub condition: Condition,
    pub sentence: String,
    /// Of the workload that is worst off.
    pub writes: WritesView,
    /// All that waits for a person; of what stops writes first.
    pub needs_you: Vec<NeedView>,
    pub quorum: Quorum,
    pub nodes: Vec<NodeView>,
    pub workloads: Vec<WorkloadView>,
    /// Newest first.
    pub operations: Vec<Progress>,
    /// What people want of the cluster and is not all done, the oldest first.
    pub intents: Vec<IntentView>,
    /// The last ones that are over, newest first.
    pub intents_over: Vec<IntentOver>,
    /// The number of the spec in force.
    pub revision: u64,
    /// Those that nobody knows of first, then the errors.
    pub findings: Vec<FindingView>,
    /// The viewing node's steady clock.
    pub at: Time,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Quorum {
    pub total: u32,
    pub needed: u32,
    /// Votes of the nodes that are heard now, the own included; not those that are known not to
    /// count.
    pub heard: u32,
    /// Nodes whose single loss would cost the majority now; none where it is lost already.
    pub cannot_lose: Vec<NodeId>,
    /// What the loss of each voter, of each zone, and of two voters where neither alone stops it,
    /// would leave now.
    pub if_lost: Vec<IfLost>,
    /// While the votes change: who will vote, and needs a majority as well.
    pub next: Option<QuorumNext>,
}

/// The other half of a change of votes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct QuorumNext {
    pub votes: BTreeMap<NodeId, u32>,
    pub needed: u32,
    pub heard: u32,
}

/// What somebody wants of the cluster, and how far that is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IntentView {
    pub id: OperationId,
    pub kind: IntentKind,
    pub title: String,
    /// In maintenance while it lasts, or held back.
    pub nodes: Vec<NodeId>,
    /// The one that it is about, where it is about one.
    pub workload: Option<WorkloadId>,
    pub by: Author,
    /// In seconds since the Unix epoch.
    pub at: u64,
    pub why: Option<String>,
    pub until: Option<u64>,
    /// The revision is in force; the maintenance has ended; the safety point is dropped.
    pub turned: bool,
    /// A maintenance: nothing is held there any more. A safety point: its standby stands there.
    pub empty: bool,
    pub steps: Vec<TodoView>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IntentKind {
    Revision,
    Maintenance,
    Restart,
    SafetyPoint,
    GoingBack,
    Enrolment,
}

/// One step of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TodoView {
    pub text: String,
    pub done: bool,
    /// What it waits for, if it does.
    pub waits: Option<String>,
}

/// What somebody wanted, and what came of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IntentOver {
    pub id: OperationId,
    pub title: String,
    pub by: Author,
    pub at: u64,
    pub why: Option<String>,
    pub outcome: Outcome,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct IfLost {
    /// `doline`, `all of northquay`, `doline and polje`.
    pub what: String,
    /// Votes that would still be heard.
    pub left: u32,
    /// Whether they are enough.
    pub holds: bool,
}

/// How a node is heard by the viewer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum NodeState {
    Up,
    Suspected,
    /// Never heard yet.
    Unheard,
}

impl fmt::Display for NodeState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Up => "up",
            Self::Suspected => "not heard",
            Self::Unheard => "never heard",
        })
    }
}

/// What a replica's server is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum ReplicaState {
    Primary,
    Standby,
    /// It runs and does not say yet what it is.
    Starting,
    Stopped,
    /// Its data are being brought back to what the primary has.
    Rejoining,
    /// Its node is not heard, or has not looked yet.
    Unknown,
}

impl fmt::Display for ReplicaState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Primary => "primary",
            Self::Standby => "standby",
            Self::Starting => "starting",
            Self::Stopped => "stopped",
            Self::Rejoining => "rejoining",
            Self::Unknown => "unknown",
        })
    }
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NodeView {
    pub node: NodeId,
    pub zone: String,
    pub votes: u32,
    /// Nothing is held there, and nobody is alarmed where it is silent.
    pub maintenance: bool,
    /// Whether they count: not where its node store is new, or was put back. None while that is not
    /// known.
    pub votes_count: Option<bool>,
    pub witness: bool,
    pub state: NodeState,
    pub silent_ms: u64,
    /// Nodes of which nothing arrives there, as it says itself. One way only, unless they say the
    /// same of it.
    pub does_not_hear: Vec<NodeId>,
    /// Of whose beats it misses some, in per cent; not what a few lost packets amount to.
    pub misses: BTreeMap<NodeId, u8>,
    /// Why it may hold nothing until it is readmitted, if so (S6).
    pub fenced: Option<String>,
    /// None without a device.
    pub power: Option<PowerView>,
    /// Where a browser reaches its HTTP service; none where it has none for other hosts.
    pub console: Option<String>,
    /// What it says of itself and its host; none while nothing was heard of it.
    pub about: Option<AboutView>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AboutView {
    /// Of karstd.
    pub version: String,
    /// Of the servers here, as each says it.
    pub servers: BTreeMap<WorkloadId, String>,
    /// Of the host's present run.
    pub boot: String,
    /// Why the host has no packet guard, if so.
    pub unguarded: Option<String>,
    /// The watchdog device that the deadman feeds.
    pub watchdog: Option<String>,
    pub rooms: Vec<RoomView>,
    /// When the node's certificate ends, in seconds since the Unix epoch.
    pub certificate_until: Option<u64>,
    pub authorities: Authorities,
    /// When this run of the daemon began, in seconds since the Unix epoch.
    pub since: u64,
}

/// How much room there is on the volume of a directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RoomView {
    /// What the directory is for: `node store`, `data of sailings`.
    pub of: String,
    pub path: String,
    /// Bytes, of which a little less than this may be free.
    pub free: u64,
    pub total: u64,
    pub nearly_full: bool,
}

impl From<&Room> for RoomView {
    fn from(room: &Room) -> Self {
        Self {
            of: room.of.clone(),
            path: room.path.clone(),
            free: room.free,
            total: room.total,
            nearly_full: room.is_nearly_full(),
        }
    }
}

/// What a power device said last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", tag = "state")]
pub enum PowerView {
    On,
    Off,
    /// It was not asked yet.
    NotRead,
    Unknown {
        why: String,
    },
}

impl fmt::Display for PowerView {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::On => f.write_str("on"),
            Self::Off => f.write_str("off"),
            Self::NotRead => f.write_str("not read yet"),
            Self::Unknown { why } => write!(f, "unknown: {why}"),
        }
    }
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WorkloadView {
    pub workload: WorkloadId,
    pub condition: Condition,
    pub sentence: String,
    pub writes: WritesView,
    pub needs_you: Option<NeedView>,
    /// What a person can safely do next, if anything.
    pub next: Option<String>,
    pub epoch: Epoch,
    pub mode: Mode,
    /// By whom that was set, when and why; none while it is as it was made.
    pub mode_set: Option<ModeSet>,
    pub primary: Option<NodeId>,
    /// What the spec says that matters when something fails.
    pub settings: SettingsView,
    /// For how long the primary's lease holds at the most, as the coordinator granted it.
    pub lease_left_ms: Option<u64>,
    pub sync: SyncView,
    pub replicas: Vec<ReplicaView>,
    pub candidates: Vec<Candidate>,
    pub gates: Vec<GateView>,
    /// Who serves readers, where the spec has them spread over standbys.
    pub reads: Option<ReadsView>,
    pub address: Option<AddressView>,
    /// Its name in DNS.
    pub name: Option<NameView>,
    pub safety_point: Option<SafetyPointView>,
    pub operation: Option<OperationId>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingsView {
    pub driver: String,
    /// Bytes of log that a failover may lose; 0 for none.
    pub loss: u64,
    pub alone: Alone,
    /// A dead primary is started where it died before another is looked for.
    pub restart: bool,
}

#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReplicaView {
    pub node: NodeId,
    pub state: ReplicaState,
    pub detail: String,
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: SocketAddr,
    pub rank: u32,
    pub in_sync_set: bool,
    /// Bytes behind the primary's flushed position.
    pub lag: Option<u64>,
    /// Why its data cannot be used as they are, if so.
    pub unsound: Option<String>,
    /// Why nothing is done with it any more, or for a while, if so: its node is in maintenance, or
    /// it is being removed.
    pub leaving: Option<String>,
    /// Its server as its node saw it last; none where nothing was heard of it.
    pub server: Option<ServerView>,
    pub doing: Option<DoingView>,
    /// The epoch whose history its data were brought to by a rewind or a copy.
    pub rejoined: Option<Epoch>,
}

/// The standbys that have every acknowledged write.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SyncView {
    /// Counts the settings within the epoch.
    pub number: u64,
    /// Any of them is safe to promote.
    pub sure: Vec<NodeId>,
    /// Whom commits wait for: more than those while the set grows.
    pub asked: Vec<NodeId>,
    /// Commits wait for nobody.
    pub unprotected: bool,
    /// The setting by which the primary acknowledges writes, as its node says; none where that
    /// is not known.
    pub taken: Option<u64>,
    /// All of that in a sentence.
    pub sentence: String,
}

/// A server, as its node saw it last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerView {
    pub runs: bool,
    pub role: Option<Role>,
    pub position: Option<Position>,
    /// Where it is in the words of its program.
    pub place: Option<String>,
    pub received: Option<u64>,
    pub replayed: Option<u64>,
    pub upstream: Option<NodeId>,
    pub streaming: bool,
    pub can_write: Option<bool>,
    pub standbys: Vec<StandbyView>,
    pub overruled: Vec<Setting>,
    pub trouble: Option<String>,
    pub copied: Option<Copied>,
}

/// A standby as its primary sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StandbyView {
    pub node: NodeId,
    pub sent: Option<u64>,
    pub flushed: Option<u64>,
    pub replayed: Option<u64>,
    pub streaming: bool,
    /// How long its last writes took until they were replayed there; none while nothing is written.
    pub delay_ms: Option<u64>,
}

/// What is being done to a server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DoingView {
    pub work: Work,
    pub text: String,
    pub for_ms: u64,
}

/// The kinds of that.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Work {
    Create,
    Start,
    Checkpoint,
    Stop,
    Promote,
    Settle,
    Repoint,
    Rewind,
    Clone,
    SetSync,
    Mark,
    HoldBack,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AddressView {
    /// `10.30.0.50/24`
    pub on: Vec<String>,
    /// The node that it was given to.
    pub holder: Option<NodeId>,
    /// That node has it and answers for it.
    pub held: bool,
    /// Clients' connections over it; whoever has it next tells these clients.
    pub connections: usize,
    /// What is against it: a conflict, a trouble.
    pub remark: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NameView {
    pub record: String,
    /// What of the workload it leads to.
    pub leads: Leads,
    /// For how long others may remember what it said.
    pub ttl_ms: u64,
    /// Where it led when the coordinator read it last; none while that is not known.
    #[cfg_attr(feature = "schema", schema(value_type = Option<Vec<String>>))]
    pub to: Option<Vec<IpAddr>>,
    /// Where it is to lead; none while nobody is there to be led to: it stays as it is.
    #[cfg_attr(feature = "schema", schema(value_type = Option<Vec<String>>))]
    pub wanted: Option<Vec<IpAddr>>,
    /// Why it cannot be kept.
    pub remark: Option<String>,
}

/// A place in the workload's writes that somebody has kept, to go back to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SafetyPointView {
    pub name: String,
    /// The standby that is held back at it.
    pub node: NodeId,
    /// What keeps it: its steps are among the intents.
    pub intent: OperationId,
    pub by: Author,
    /// In seconds since the Unix epoch, as the asked node's clock had them.
    pub at: u64,
    pub why: Option<String>,
    /// For how long it has been wanted, by the clock of the node that says this.
    pub age_ms: Option<u64>,
    /// It is dropped then, by the same clock.
    pub until: Option<u64>,
    /// The standby is seen to be there; nothing goes back to it before.
    pub stands: bool,
    /// The point's name in the log of the workload's program, once it is written.
    pub label: Option<String>,
    pub position: Option<Position>,
    /// Bytes of log that were written since; none where that is not known.
    pub written_since: Option<u64>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GateView {
    pub node: NodeId,
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: SocketAddr,
    /// The node it forwards to now; none while it holds or is not heard.
    pub forwards_to: Option<NodeId>,
    /// What it says of its clients; none while it is not heard.
    pub seen: Option<GateCounts>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReadsView {
    /// So old may be what a reader sees, and of so many bytes less, if that is bounded.
    pub age_ms: u64,
    pub behind: Option<u64>,
    pub gates: Vec<ReadGateView>,
    pub readers: Vec<ReaderView>,
}

/// A gate for those who only read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReadGateView {
    pub node: NodeId,
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: SocketAddr,
    /// The nodes it forwards to now; none while readers wait or it is not heard.
    pub forwards_to: Vec<NodeId>,
    /// What it says of its clients; none while it is not heard.
    pub seen: Option<GateCounts>,
}

/// A replica as one that may serve readers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReaderView {
    pub node: NodeId,
    /// None where that is not known.
    pub serves: Option<bool>,
    /// Why it does not.
    pub why: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GateCounts {
    /// Clients can connect to it.
    pub listening: bool,
    /// Of clients now; those that it lets wait among them.
    pub connections: u64,
    pub waiting: u64,
    /// Since it started.
    pub refused: u64,
    /// Servers that it is to forward to, and whose hosts do not answer from there.
    #[serde(default)]
    pub unreachable: Vec<NodeId>,
}
