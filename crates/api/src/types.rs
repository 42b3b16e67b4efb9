//! Bodies of the HTTP interface.

use crate::invitation::Proof;
use karst_core::event::Level;
use karst_core::operation::Mode;
use karst_core::outage::WorstCase;
use karst_core::ownstep::{IfFails, Point};
use karst_core::request::{NodePlan, PowerWish};
use karst_core::spec::Finding;
use karst_core::view::Status;
use karst_core::{Index, NodeId, OperationId, WorkloadId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// `GET /api/v1/status`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StatusReply {
    /// False where no coordinator answered: then this is what the asked node knows by itself.
    pub complete: bool,
    pub status: Status,
    pub history: HistoryState,
    /// When it was made, RFC 3339.
    pub at: String,
}

/// How the record is coming along on the asked node.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HistoryState {
    /// False while the history store cannot be reached; events wait in the node store.
    pub reachable: bool,
    /// Events of this node that the history store has not confirmed.
    pub waiting: u64,
}

/// `POST /api/v1/workloads/{workload}/switchover`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SwitchoverBody {
    /// The node to move to; without one the best candidate is taken.
    #[serde(default)]
    pub to: Option<NodeId>,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
}

/// `POST /api/v1/workloads/{workload}/failover`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FailoverBody {
    /// The node that becomes primary.
    pub to: NodeId,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
    /// Acknowledged bytes that may be lost, a size such as `16MiB`, or `all`. Default none.
    #[serde(default)]
    #[schema(pattern = "^(all|[0-9]{1,9} ?(B|KiB|MiB|GiB|kB|MB|GB))$")]
    pub accept_loss: Option<String>,
}

/// Either of both, as a client asks for it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct MoveBody {
    pub to: Option<NodeId>,
    pub plan_only: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub accept_loss: Option<String>,
}

/// `PUT /api/v1/workloads/{workload}/mode`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModeBody {
    /// `act`, `ask` or `watch`.
    pub mode: Mode,
    /// For the record, and for whoever asks why nothing is done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub why: Option<String>,
    /// After so many seconds it is `act` again; at most a year.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 31_536_000)]
    pub for_seconds: Option<u64>,
}

impl From<Mode> for ModeBody {
    fn from(mode: Mode) -> Self {
        Self {
            mode,
            why: None,
            for_seconds: None,
        }
    }
}

/// `POST /api/v1/nodes/{node}/power`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PowerBody {
    /// `on`, `off` or `cycle`.
    pub what: PowerWish,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
}

/// What comes of that: what would be done, or what was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum PowerReply {
    Plan(NodePlan),
    Changed(ChangedReply),
}

/// A change that one entry of the log makes by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ChangedReply {
    pub index: Index,
    /// What it says, for people.
    pub text: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StartedReply {
    pub operation: OperationId,
}

/// `GET /api/v1/spec`: the one in force.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SpecReply {
    /// Which one it is; 1 is the one that the cluster was formed with.
    pub revision: u64,
    pub by: String,
    /// In seconds since the Unix epoch; 0 for the first.
    pub at: u64,
    pub why: Option<String>,
    /// SHA-256 of the text; the same on every node.
    pub digest: String,
    /// As it was written.
    pub text: String,
    pub findings: Vec<Finding>,
    pub worst_cases: Vec<WorstCase>,
}

/// `PUT /api/v1/spec`, and `POST /api/v1/spec/plan` for what it would take.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SpecBody {
    /// The whole file; at most 4 MiB.
    pub text: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub why: Option<String>,
    /// What the plan that was approved says of itself: where it is another one by now, nothing is
    /// done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
}

/// A revision of the spec, without its text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PastRevision {
    pub number: u64,
    pub by: String,
    /// In seconds since the Unix epoch; 0 for the first.
    pub at: u64,
    pub why: Option<String>,
    pub in_force: bool,
}

/// `GET /api/v1/spec/revisions/{number}`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RevisionReply {
    pub revision: PastRevision,
    pub text: String,
}

/// `POST /api/v1/workloads/{workload}/restart`: its servers, one after the other.
/// `POST /api/v1/workloads/{workload}/safety-point/go-back`: as if nothing had been written since.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct WishBody {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub why: Option<String>,
    /// What the plan that was approved says of itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
}

/// `POST /api/v1/workloads/{workload}/safety-point`: a place in its writes that is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SafetyPointBody {
    /// 1 to 40 lower-case letters, digits and `-`.
    #[schema(min_length = 1, max_length = 40, pattern = "^[a-z0-9-]+$")]
    pub name: String,
    /// The standby that is held back; the one that is missed least where it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<NodeId>,
    /// No other standby need have every write meanwhile.
    #[serde(default)]
    pub bare: bool,
    /// It is dropped by itself then: 1 to 7776000 (90 days).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 7_776_000)]
    pub for_seconds: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub why: Option<String>,
    /// What the plan that was approved says of itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
}

/// `POST /api/v1/maintenance`: of these nodes, or of a whole zone.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MaintenanceBody {
    #[serde(default)]
    pub nodes: Vec<NodeId>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// What is held there moves back afterwards.
    #[serde(default)]
    pub back: bool,
    /// Workloads that may be left without a standby that has every write meanwhile.
    #[serde(default)]
    pub bare: Vec<WorkloadId>,
    /// Workloads whose clients may be left without a way in meanwhile: no gate, or no holder of the
    /// address.
    #[serde(default)]
    pub cut_off: Vec<WorkloadId>,
    /// It ends by itself then: 1 to 7776000 (90 days).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 7_776_000)]
    pub for_seconds: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub why: Option<String>,
    /// What the plan that was approved says of itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
    /// Only say what would be done.
    #[serde(default)]
    pub plan_only: bool,
}

/// `POST /api/v1/invitations`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InviteBody {
    /// A node of the spec that is not here.
    pub node: NodeId,
    /// 1 to 604800 (a week); an hour where it is not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 604_800)]
    pub for_seconds: Option<u64>,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InvitationReply {
    pub operation: OperationId,
    /// In seconds since the Unix epoch.
    pub until: u64,
    /// The line that `karst join` reads on the new host. It has the secret.
    pub line: String,
}

/// `POST /api/v1/nodes/{node}/certificates`: for keys that its host has made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RenewBody {
    /// For a certificate to speak as the node (RFC 2986, PEM).
    pub request: String,
    /// For one to answer as its servers.
    pub server_request: String,
    /// The certificate that it speaks with now (PEM).
    pub certificate: String,
    /// By the key of that certificate, over the text `karst renew`, the node's name and the SHA-256 of
    /// the public key of each request in hexadecimal digits, each with a line end (ECDSA P-256 with
    /// SHA-256, or what the key is for); in hexadecimal digits.
    pub signature: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RenewReply {
    pub certificate: String,
    pub server_certificate: String,
    /// The CAs to believe, the one that signs first (PEM).
    pub ca: String,
    /// What they revoked, where there are such lists (RFC 5280, PEM).
    pub crl: Option<String>,
}

/// `POST /api/v1/join`: nobody is signed in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JoinBody {
    pub invitation: u64,
    pub node: NodeId,
    /// Shows that the host has the secret, for the keys of these requests.
    pub proof: Proof,
    /// For a certificate to speak as the node (RFC 2986, PEM).
    pub request: String,
    /// For one to answer as its servers.
    pub server_request: String,
    /// What the host's clock says, in seconds since the Unix epoch.
    pub unix: u64,
}

/// All that a new host needs to be a node. It has secrets: nobody keeps it.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct JoinReply {
    pub certificate: String,
    pub server_certificate: String,
    pub ca: String,
    /// What the CA revoked, where there is such a list (RFC 5280, PEM).
    pub crl: Option<String>,
    pub revision: u64,
    pub spec: String,
    /// Who may use the HTTP interface, as lines of names, levels and digests.
    pub tokens: String,
    /// The files that the spec refers to, by their paths.
    pub secrets: BTreeMap<String, String>,
}

/// `POST /api/v1/quorum/hand-over`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct HandOverBody {
    /// Whoever can, where nobody is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<NodeId>,
}

/// `GET /api/v1/workloads/{workload}/written`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WrittenReply {
    /// Oldest first: 5 s each, shorter ones around a change of the primary.
    pub spans: Vec<WrittenSpan>,
}

/// How much log was written in one span of time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WrittenSpan {
    /// Milliseconds since the Unix epoch.
    pub until_ms: u64,
    pub ms: u64,
    /// None where it is not known.
    pub bytes: Option<u64>,
}

/// `PUT /api/v1/findings/{finding}/acknowledgement`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcknowledgeBody {
    /// Why it may stand, for whoever sees it next.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub note: String,
}

/// One event of the history.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Record {
    /// When it was recorded, RFC 3339 in UTC.
    pub at: String,
    pub node: NodeId,
    /// Consecutive per node, without gaps.
    pub number: u64,
    pub level: Level,
    pub kind: String,
    pub text: String,
    pub workload: Option<String>,
    pub operation: Option<u64>,
    /// The log index of a committed decision.
    pub index: Option<u64>,
    pub data: BTreeMap<String, String>,
}

/// `GET /api/v1/history`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HistoryReply {
    /// Oldest first.
    pub records: Vec<Record>,
    /// RFC 3339; as `arrived_after` of the next call it gives what has come into the record since,
    /// and some of it again. None where the history store did not answer.
    #[serde(default)]
    pub latest: Option<String>,
    /// True where the history store did not answer and these are the asked node's own waiting
    /// events only.
    pub own_only: bool,
}

/// `GET /api/v1/self`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SelfReply {
    pub node: NodeId,
    pub cluster: String,
    pub version: String,
    /// Who the token belongs to, and what it allows.
    pub user: String,
    pub level: String,
}

/// `POST /api/v1/session`: a token for a cookie, so that a browser can hold an event stream open;
/// or a ticket of another node, from its event stream. One of the two.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(untagged)]
pub enum SessionBody {
    Token(TokenBody),
    Ticket(TicketBody),
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenBody {
    pub token: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TicketBody {
    pub ticket: String,
}

/// What a person pastes to reach a workload.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Endpoint {
    pub workload: String,
    pub purpose: String,
    /// Which client takes it: `psql`, `jdbc`, `python`, `go`, `dotnet`; `address` for other
    /// programs.
    pub client: String,
    pub text: String,
    /// Whom it leads to now; nobody: connections wait.
    pub reaches: Vec<NodeId>,
}

/// A step of the site's own, as the spec has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StepView {
    pub name: String,
    pub at: Point,
    /// A file of the hosts' directory of steps.
    pub program: String,
    pub args: Vec<String>,
    /// The user that it runs as; none: the daemon's own.
    pub user: Option<String>,
    pub limit_ms: u64,
    pub if_fails: IfFails,
    /// The workloads that it is about; none: all.
    pub workloads: Vec<WorkloadId>,
    /// The nodes that it runs on; none: all.
    pub nodes: Vec<NodeId>,
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryBody {
    /// The workload that it is told of; by itself the first that it is about.
    #[serde(default)]
    pub workload: Option<String>,
}

/// What came of a step that was tried by hand.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TriedReply {
    pub node: NodeId,
    pub step: String,
    pub well: bool,
    /// How it failed, if it did.
    pub why: Option<String>,
    pub took_ms: u64,
    /// The end of what it wrote, 4,096 bytes at most.
    pub output: String,
    /// What it was told by its environment.
    pub told: BTreeMap<String, String>,
}

/// Something that a host needs to be a node, as `karstd examine` finds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostNeed {
    pub what: String,
    pub met: Met,
    /// Why not, or what was found.
    pub why: Option<String>,
    pub remedy: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Met {
    Yes,
    No,
    /// It works without, with less protection.
    Better,
}
