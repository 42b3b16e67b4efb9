//! What was seen, decided or done, as data. Code matches on facts and their kinds, never on words;
//! the sentences for whoever reads the record are made here, once.

use crate::author::Author;
use crate::command::{ClusterAct, Ended, NodeAct, Restarting, Standing, WorkloadAct};
use crate::ids::{Epoch, History, Index, NodeId, Term, WorkloadId};
use crate::operation::{ModeSet, Operation, Outcome};
use crate::ownstep::{Occasion, Ran};
use crate::power::PowerOrder;
use crate::replica::Action;
use crate::text::utc;
use crate::votes::{Voters, Votes};

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;
use std::time::Duration;

/// How much a line of the record matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = RecordLevel))]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Info,
    Notice,
    Warning,
}

impl Level {
    pub const ALL: [Level; 3] = [Level::Info, Level::Notice, Level::Warning];

    pub fn word(self) -> &'static str {
        match self {
            Level::Info => "info",
            Level::Notice => "notice",
            Level::Warning => "warning",
        }
    }
}

/// The kinds, each with the one word that it has in the record.
macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident = $word:literal,)*) => {
        /// The kinds of lines in the record, each by one fixed word.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "kebab-case")]
        #[non_exhaustive]
        pub enum FactKind {
            $($(#[$doc])* $kind,)*
        }

        impl FactKind {
            /// The word that it has in the record.
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$kind => $word,)*
                }
            }
        }
    };
}

kinds! {
    Acknowledged = "acknowledged",
    AcknowledgementEnds = "acknowledgement-ends",
    /// A revision of the spec is in force.
    Adopted = "adopted",
    ActionDone = "action-done",
    ActionFailed = "action-failed",
    AddressConflict = "address-conflict",
    AddressGone = "address-gone",
    AddressLeaves = "address-leaves",
    AddressPlaced = "address-placed",
    AddressTrouble = "address-trouble",
    NameLeads = "name-leads",
    NameFails = "name-fails",
    StepDone = "step-done",
    StepFailed = "step-failed",
    /// Somebody answered a request for a change.
    Answered = "answered",
    Approved = "approved",
    /// Somebody asked for a change.
    Asked = "asked",
    Assigned = "assigned",
    Diverged = "diverged",
    Elected = "elected",
    Enrolled = "enrolled",
    Fenced = "fenced",
    /// The spec that the cluster was formed with is in the log.
    Founded = "founded",
    HandedOver = "handed-over",
    HeardAgain = "heard-again",
    /// Somebody wants something of the cluster.
    Intended = "intended",
    IntentDone = "intent-done",
    IntentUndone = "intent-undone",
    Invited = "invited",
    Isolated = "isolated",
    /// A host has got what it needs to be a node.
    Joined = "joined",
    /// Lines of the record that could not be kept.
    LeftOut = "left-out",
    MaintenanceEnds = "maintenance-ends",
    Mode = "mode",
    NeedsClone = "needs-clone",
    Opened = "opened",
    OperationBegan = "operation-began",
    OperationDiverted = "operation-diverted",
    OperationDone = "operation-done",
    OperationUndone = "operation-undone",
    PowerDevice = "power-device",
    PowerOff = "power-off",
    PowerOn = "power-on",
    PowerOnFails = "power-on-fails",
    PowerUnconfirmed = "power-unconfirmed",
    Readmitted = "readmitted",
    Refused = "refused",
    Revoked = "revoked",
    StoppedByLease = "stopped-by-lease",
    ServerExited = "server-exited",
    Serving = "serving",
    Snapshot = "snapshot",
    Sound = "sound",
    SteppedDown = "stepped-down",
    StoreRegressed = "store-regressed",
    Stranded = "stranded",
    Suspected = "suspected",
    SyncSet = "sync-set",
    ServerRestarts = "server-restarts",
    Identified = "identified",
    System = "system",
    TimingsRetired = "timings-retired",
    TurnOn = "turn-on",
    Voters = "voters",
}

impl fmt::Display for FactKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// One voter's answer to who asked for its vote.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ballot {
    pub node: NodeId,
    pub votes: u32,
    pub yes: bool,
}

/// What a node saw, decided or did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fact {
    /// `by` has not heard `node` for so long, and takes it for lost after `bound`.
    Suspected {
        by: NodeId,
        node: NodeId,
        silent: Duration,
        bound: Duration,
    },
    HeardAgain {
        by: NodeId,
        node: NodeId,
        silent: Duration,
    },
    /// `node` said what no honest one says.
    Refused {
        by: NodeId,
        node: NodeId,
        why: &'static str,
    },
    CatchesUp {
        node: NodeId,
        from: Index,
        to: Index,
    },
    Elected {
        node: NodeId,
        term: Term,
        ballots: Vec<Ballot>,
    },
    SteppedDown {
        node: NodeId,
        term: Term,
        why: &'static str,
    },
    /// Another one is to lead in its place.
    HandedOver {
        node: NodeId,
        term: Term,
        to: NodeId,
    },
    StoreRegressed {
        node: NodeId,
        acknowledged: Index,
        found: Index,
    },
    PowerFails {
        node: NodeId,
        order: PowerOrder,
        why: String,
    },
    AddressConflict {
        workload: WorkloadId,
        by: NodeId,
        other: String,
    },
    AddressTrouble {
        workload: WorkloadId,
        node: NodeId,
        why: String,
    },
    /// The name server has it lead there now.
    NameLeads {
        workload: WorkloadId,
        record: String,
        to: BTreeSet<IpAddr>,
    },
    NameFails {
        workload: WorkloadId,
        record: String,
        why: String,
    },
    /// A step of the site's own has run.
    OwnStep {
        by: NodeId,
        occasion: Occasion,
        ran: Ran,
    },
    /// A replica's node did something about it, or saw something of it.
    Replica {
        workload: WorkloadId,
        node: NodeId,
        what: OfReplica,
    },
    /// A committed decision.
    OfCluster(ClusterAct),
    OfNode(NodeId, NodeAct),
    OfWorkload(WorkloadId, WorkloadAct),
}

/// What a replica's own node says of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OfReplica {
    ServerExited,
    ActionDone {
        action: Action,
        took: Duration,
    },
    ActionFailed {
        action: Action,
        took: Duration,
        why: String,
    },
    /// Its authority ends.
    StoppedByLease,
    /// The log that it needs is gone.
    Stranded {
        upstream: NodeId,
        since: Duration,
    },
}

impl Fact {
    pub fn kind(&self) -> FactKind {
        match self {
            Self::Suspected { .. } => FactKind::Suspected,
            Self::HeardAgain { .. } => FactKind::HeardAgain,
            Self::Refused { .. } => FactKind::Refused,
            Self::CatchesUp { .. } => FactKind::Snapshot,
            Self::Elected { .. } => FactKind::Elected,
            Self::SteppedDown { .. } => FactKind::SteppedDown,
            Self::HandedOver { .. } => FactKind::HandedOver,
            Self::StoreRegressed { .. } => FactKind::StoreRegressed,
            Self::PowerFails {
                order: PowerOrder::Off { .. },
                ..
            } => FactKind::PowerUnconfirmed,
            Self::PowerFails {
                order: PowerOrder::On { .. },
                ..
            } => FactKind::PowerOnFails,
            Self::PowerFails {
                order: PowerOrder::Look,
                ..
            } => FactKind::PowerDevice,
            Self::AddressConflict { .. } => FactKind::AddressConflict,
            Self::AddressTrouble { .. } => FactKind::AddressTrouble,
            Self::NameLeads { .. } => FactKind::NameLeads,
            Self::NameFails { .. } => FactKind::NameFails,
            Self::OwnStep { ran, .. } if ran.ended.is_well() => FactKind::StepDone,
            Self::OwnStep { .. } => FactKind::StepFailed,
            Self::Replica { what, .. } => what.kind(),
            Self::OfCluster(act) => of_cluster(act),
            Self::OfNode(_, act) => of_node(act),
            Self::OfWorkload(_, act) => of_workload(act),
        }
    }

    pub fn level(&self) -> Level {
        match self {
            Self::OwnStep { ran, .. } if !ran.ended.is_well() => Level::Warning,
            Self::HeardAgain { .. }
            | Self::OwnStep { .. }
            | Self::Replica { .. }
            | Self::OfCluster(ClusterAct::Retire { .. })
            | Self::OfNode(_, NodeAct::System { .. }) => Level::Info,
            Self::OfWorkload(_, WorkloadAct::Sync { sure, asked, .. })
                if sure.len() < asked.len() =>
            {
                Level::Info
            }
            Self::OfWorkload(
                _,
                WorkloadAct::Finish {
                    outcome: Outcome::Undone(_) | Outcome::Diverted(_),
                    ..
                },
            )
            | Self::Refused { .. }
            | Self::StoreRegressed { .. }
            | Self::PowerFails { .. }
            | Self::AddressConflict { .. }
            | Self::AddressTrouble { .. }
            | Self::NameFails { .. } => Level::Warning,
            _ => Level::Notice,
        }
    }

    /// One sentence for a reader, which names what it is about.
    pub fn text(&self) -> String {
        match self {
            Self::Suspected {
                by, node, silent, ..
            } => {
                format!("{by} has not heard {node} for {} ms", silent.as_millis())
            }
            Self::HeardAgain { by, node, silent } => {
                format!("{by} hears {node} again after {} ms", silent.as_millis())
            }
            Self::Refused { by, node, why } => {
                format!("{by} refuses what {node} says: {why}; look at what runs on {node}")
            }
            Self::CatchesUp { node, from, to } => {
                format!("{node} catches up by a snapshot, from entry {from} to {to}")
            }
            Self::Elected {
                node,
                term,
                ballots,
            } => {
                let ballot = |b: &Ballot| {
                    format!(
                        "{} ({}) {}",
                        b.node,
                        b.votes,
                        if b.yes { "yes" } else { "no" }
                    )
                };
                let list: Vec<String> = ballots.iter().map(ballot).collect();
                format!(
                    "{node} is coordinator of term {term}; votes: {}",
                    list.join(", ")
                )
            }
            Self::SteppedDown { node, term, why } => {
                format!("{node} is no longer coordinator of term {term}: {why}")
            }
            Self::HandedOver { node, term, to } => {
                format!("{node}, coordinator of term {term}, hands over to {to}")
            }
            Self::StoreRegressed {
                node,
                acknowledged,
                found,
            } => format!(
                "{node} had acknowledged the log up to {acknowledged} and now has it up to {found}: its store went back in \
                 time, and its acknowledgements no longer count"
            ),
            Self::PowerFails { node, order, why } => power_text(node, *order, why),
            Self::AddressConflict {
                workload,
                by,
                other,
            } => {
                format!(
                    "{workload}: {other} answers for its address too, as {by} sees it (RFC 5227)"
                )
            }
            Self::AddressTrouble {
                workload,
                node,
                why,
            } => {
                format!("{workload}: its address cannot be held on {node}: {why}")
            }
            Self::NameLeads {
                workload,
                record,
                to,
            } => {
                let to: Vec<String> = to.iter().map(ToString::to_string).collect();
                format!("{workload}: {record} leads to {}", to.join(", "))
            }
            Self::NameFails {
                workload,
                record,
                why,
            } => format!("{workload}: {record} cannot be kept in DNS: {why}"),
            Self::OwnStep { by, occasion, ran } => own_step_text(by, occasion, ran),
            Self::Replica {
                workload,
                node,
                what,
            } => format!("{workload} on {node}: {what}"),
            Self::OfCluster(act) => cluster_text(act),
            Self::OfNode(node, act) => node_text(node, act),
            Self::OfWorkload(workload, act) => format!("{workload}: {}", workload_text(act)),
        }
    }

    /// The workload that it is about.
    pub fn workload(&self) -> Option<&WorkloadId> {
        match self {
            Self::AddressConflict { workload, .. }
            | Self::AddressTrouble { workload, .. }
            | Self::NameLeads { workload, .. }
            | Self::NameFails { workload, .. }
            | Self::Replica { workload, .. }
            | Self::OfWorkload(workload, _) => Some(workload),
            Self::OwnStep { occasion, .. } => occasion.workload.as_ref(),
            _ => None,
        }
    }

    /// The evidence, for programs: who and how much, with units.
    pub fn data(&self) -> Vec<(String, String)> {
        let of = |key: &str, value: &dyn fmt::Display| (key.to_string(), value.to_string());
        match self {
            Self::Suspected { node, bound, .. } => {
                vec![of("node", node), of("bound_ms", &bound.as_millis())]
            }
            Self::HeardAgain { node, .. }
            | Self::Refused { node, .. }
            | Self::StoreRegressed { node, .. }
            | Self::PowerFails { node, .. } => vec![of("node", node)],
            Self::Elected { term, ballots, .. } => {
                let votes = ballots
                    .iter()
                    .map(|b| of(&format!("vote.{}", b.node), &b.yes));
                std::iter::once(of("term", term)).chain(votes).collect()
            }
            Self::OwnStep { occasion, ran, .. } => vec![
                of("step", &ran.step),
                of("at", &occasion.at.word()),
                of("node", &occasion.node),
                of("took_ms", &ran.took.as_millis()),
                of("output", &ran.output),
            ],
            Self::SteppedDown { term, .. } => vec![of("term", term)],
            Self::AddressConflict { other, .. } => vec![of("other", other)],
            Self::OfWorkload(_, WorkloadAct::Finish { phases, .. }) => {
                let phases = phases.iter();
                phases
                    .map(|(phase, took)| of(&phase.key(), &took.as_micros()))
                    .collect()
            }
            Self::OfWorkload(_, WorkloadAct::Begin(operation)) => {
                vec![of("kind", &operation.kind)]
            }
            Self::OfWorkload(_, WorkloadAct::Sync { sure, .. })
            | Self::OfWorkload(_, WorkloadAct::Open { sync: sure, .. }) => {
                vec![of("sure", &sure.len())]
            }
            _ => Vec::new(),
        }
    }
}

impl OfReplica {
    fn kind(&self) -> FactKind {
        match self {
            Self::ServerExited => FactKind::ServerExited,
            Self::ActionDone { .. } => FactKind::ActionDone,
            Self::ActionFailed { .. } => FactKind::ActionFailed,
            Self::StoppedByLease => FactKind::StoppedByLease,
            Self::Stranded { .. } => FactKind::Stranded,
        }
    }
}

impl fmt::Display for OfReplica {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::ServerExited => f.write_str("the server's first process has exited"),
            Self::ActionDone { action, took } => {
                write!(f, "{} ({} ms)", action.result(), took.as_millis())
            }
            Self::ActionFailed { action, took, why } => {
                write!(
                    f,
                    "{} failed after {} ms: {why}",
                    action.describe(),
                    took.as_millis()
                )
            }
            Self::StoppedByLease => f.write_str("lease about to expire: stopping the server"),
            Self::Stranded { upstream, since } => write!(
                f,
                "it has neither streamed from {upstream} nor moved on for {} s: the log that it needs is gone, and a fresh \
                 copy takes its place",
                since.as_secs()
            ),
        }
    }
}

fn power_text(node: &NodeId, order: PowerOrder, why: &str) -> String {
    match order {
        PowerOrder::Off { .. } => {
            format!("the power of {node} is not confirmed off: {why}; trying on")
        }
        PowerOrder::On { .. } => format!("{node} is not turned on: {why}; trying on"),
        PowerOrder::Look => format!("the power device of {node} fails: {why}"),
    }
}

fn of_node(act: &NodeAct) -> FactKind {
    match act {
        NodeAct::Fence { .. } => FactKind::Fenced,
        NodeAct::PowerOff { .. } => FactKind::PowerOff,
        NodeAct::TurnOn { .. } => FactKind::TurnOn,
        NodeAct::TurnedOn { .. } => FactKind::PowerOn,
        NodeAct::Readmit { .. } => FactKind::Readmitted,
        NodeAct::Enrol { .. } => FactKind::Enrolled,
        NodeAct::System { .. } => FactKind::System,
    }
}

fn of_workload(act: &WorkloadAct) -> FactKind {
    match act {
        WorkloadAct::Begin(_) => FactKind::OperationBegan,
        WorkloadAct::Approve { .. } => FactKind::Approved,
        WorkloadAct::Mode(_) => FactKind::Mode,
        WorkloadAct::Revoke { .. } => FactKind::Revoked,
        WorkloadAct::End { .. } => FactKind::Isolated,
        WorkloadAct::Assign { .. } => FactKind::Assigned,
        WorkloadAct::Open { .. } => FactKind::Opened,
        WorkloadAct::Serve { .. } => FactKind::Serving,
        WorkloadAct::Sync { .. } => FactKind::SyncSet,
        WorkloadAct::Mark {
            standing: Standing::NeedsClone(_),
            ..
        } => FactKind::NeedsClone,
        WorkloadAct::Mark {
            standing: Standing::Diverged(_),
            ..
        } => FactKind::Diverged,
        WorkloadAct::Mark {
            standing: Standing::Sound,
            ..
        } => FactKind::Sound,
        WorkloadAct::Finish {
            outcome: Outcome::Done,
            ..
        } => FactKind::OperationDone,
        WorkloadAct::Finish {
            outcome: Outcome::Undone(_),
            ..
        } => FactKind::OperationUndone,
        WorkloadAct::Finish {
            outcome: Outcome::Diverted(_),
            ..
        } => FactKind::OperationDiverted,
        WorkloadAct::Identify { .. } => FactKind::Identified,
        WorkloadAct::Restart(_) => FactKind::ServerRestarts,
        WorkloadAct::Place { .. } => FactKind::AddressPlaced,
        WorkloadAct::Withdraw { .. } => FactKind::AddressLeaves,
        WorkloadAct::Vacate { .. } => FactKind::AddressGone,
    }
}

/// What was decided about the whole.
pub fn cluster_text(act: &ClusterAct) -> String {
    match act {
        ClusterAct::Acknowledge {
            finding, by, note, ..
        } if note.is_empty() => format!("{by} knows of {finding}"),
        ClusterAct::Acknowledge {
            finding, by, note, ..
        } => format!("{by} knows of {finding}: {note}"),
        ClusterAct::Forget {
            finding,
            by: Author::Cluster,
        } => format!("{finding} is over, and so is its acknowledgement"),
        ClusterAct::Forget { finding, by } => {
            format!("{by} takes the acknowledgement of {finding} back")
        }
        ClusterAct::Found { revision, founders } => {
            format!(
                "the spec that {} was formed with is in force; votes: {}",
                revision.spec.cluster,
                listed(founders)
            )
        }
        ClusterAct::Invite(invitation) => {
            let (by, node, until) = (&invitation.by, &invitation.node, invitation.until);
            format!(
                "{by} invites a host to join as {node}, until {}",
                utc(until)
            )
        }
        ClusterAct::Join { invitation, .. } => format!("somebody has joined by {invitation}"),
        ClusterAct::Intend(intent) => {
            let why = intent.why.as_ref().map(|why| format!(": {why}"));
            let (by, title) = (&intent.by, intent.want.title());
            format!("{by} wants {title}{}", why.unwrap_or_default())
        }
        ClusterAct::End { intent, by } => format!("{by} ends the maintenance of {intent}"),
        ClusterAct::Close { intent, outcome } => match outcome {
            Outcome::Done => format!("{intent} is done"),
            Outcome::Undone(why) | Outcome::Diverted(why) => format!("{intent} is over: {why}"),
        },
        ClusterAct::Adopt { intent } => format!("the spec of {intent} is in force"),
        ClusterAct::Voters(Voters { now, next: None }) => format!("votes: {}", listed(now)),
        ClusterAct::Voters(Voters {
            now,
            next: Some(next),
        }) => format!("votes go from {} to {}", listed(now), listed(next)),
        ClusterAct::Retire { .. } => "nobody relies on the former timings any more".into(),
    }
}

/// Who has how many votes.
pub fn listed(votes: &Votes) -> String {
    let all: Vec<String> = votes.iter().map(|(n, w)| format!("{n} {w}")).collect();
    all.join(", ")
}

fn of_cluster(act: &ClusterAct) -> FactKind {
    match act {
        ClusterAct::Acknowledge { .. } => FactKind::Acknowledged,
        ClusterAct::Forget { .. } => FactKind::AcknowledgementEnds,
        ClusterAct::Found { .. } => FactKind::Founded,
        ClusterAct::Invite(_) => FactKind::Invited,
        ClusterAct::Join { .. } => FactKind::Joined,
        ClusterAct::Intend(_) => FactKind::Intended,
        ClusterAct::End { .. } => FactKind::MaintenanceEnds,
        ClusterAct::Close {
            outcome: Outcome::Done,
            ..
        } => FactKind::IntentDone,
        ClusterAct::Close { .. } => FactKind::IntentUndone,
        ClusterAct::Adopt { .. } => FactKind::Adopted,
        ClusterAct::Voters(_) => FactKind::Voters,
        ClusterAct::Retire { .. } => FactKind::TimingsRetired,
    }
}

/// What was decided about a node.
pub fn node_text(node: &NodeId, act: &NodeAct) -> String {
    match act {
        NodeAct::Fence { why, by, .. } => format!("{node} is fenced by {by}: {why}"),
        NodeAct::PowerOff { .. } => {
            format!("{node} confirmed off by its power controller")
        }
        NodeAct::TurnOn { by } => format!("{node} is to be turned on, as {by} asked"),
        NodeAct::TurnedOn { .. } => format!("{node} confirmed on by its power controller"),
        NodeAct::Readmit { why, by, .. } => format!("{node} is readmitted by {by}: {why}"),
        NodeAct::Enrol { by, .. } => {
            format!("{node}'s node store counts from here on, enrolled by {by}")
        }
        NodeAct::System { system } => format!("{node} is hardware {system}"),
    }
}

fn opened(epoch: Epoch, history: &History, sync: &[NodeId]) -> String {
    let confirm = match sync {
        [] => "no standby confirms writes yet".to_string(),
        sync => format!("writes are confirmed by {}", names(sync)),
    };
    format!("the new primary is open (epoch {epoch}, history {history}); {confirm}")
}

/// What was decided about a workload, without its name.
pub fn workload_text(act: &WorkloadAct) -> String {
    match act {
        WorkloadAct::Begin(operation) => begun(operation),
        WorkloadAct::Approve { by, .. } => format!("approved by {by}"),
        WorkloadAct::Mode(set) => mode_text(set),
        WorkloadAct::Revoke { epoch, why } => {
            format!("its primary may no longer take writes (epoch {epoch}): {why}")
        }
        WorkloadAct::End { epoch, how } => {
            format!("epoch {epoch} has ended: {}", end_of_epoch(how))
        }
        WorkloadAct::Assign { epoch, holder, why } => {
            format!("{holder} chosen for epoch {epoch}: {why}")
        }
        WorkloadAct::Open {
            epoch, point, sync, ..
        } => opened(*epoch, &point.history, sync),
        WorkloadAct::Serve { epoch } => format!("clients reach the new primary (epoch {epoch})"),
        WorkloadAct::Sync {
            sure,
            asked,
            why,
            number,
            ..
        } if sure.len() < asked.len() => {
            let (sure, asked) = (names(sure), names(asked));
            format!("{asked} are to confirm each write from now on: {why}; so far {sure}")
        }
        WorkloadAct::Sync { sure, why, .. } => {
            format!("every write is confirmed by {}: {why}", names(sure))
        }
        WorkloadAct::Mark {
            node,
            standing: Standing::NeedsClone(why),
        } => {
            format!("{node} needs a fresh clone: {why}")
        }
        WorkloadAct::Mark {
            node,
            standing: Standing::Diverged(why),
        } => {
            format!("{node} must be rewound or cloned: {why}")
        }
        WorkloadAct::Mark {
            node,
            standing: Standing::Sound,
        } => format!("{node} has a sound copy"),
        WorkloadAct::Identify { identity } => format!("its data are known as {identity}"),
        WorkloadAct::Restart(Some(Restarting { node, .. })) => {
            format!("the server on {node} is being restarted")
        }
        WorkloadAct::Restart(None) => "no server is being restarted any more".into(),
        WorkloadAct::Finish {
            outcome: Outcome::Done,
            ..
        } => "finished".into(),
        WorkloadAct::Finish {
            outcome: Outcome::Undone(why),
            ..
        } => format!("not carried out: {why}"),
        WorkloadAct::Finish {
            outcome: Outcome::Diverted(why),
            ..
        } => format!("finished otherwise: {why}"),
        WorkloadAct::Place {
            number,
            holder,
            why,
        } => {
            format!("floating address goes to {holder}: {why} (number {number})")
        }
        WorkloadAct::Withdraw { why, .. } => format!("floating address leaves: {why}"),
        WorkloadAct::Vacate { how, .. } => {
            format!("floating address unassigned: {}", end_of_place(how))
        }
    }
}

fn mode_text(set: &ModeSet) -> String {
    let why = set
        .why
        .as_ref()
        .map_or(String::new(), |why| format!(": {why}"));
    format!(
        "mode {} from here on, set by {}{why}",
        set.mode.word(),
        set.by
    )
}

fn begun(operation: &Operation) -> String {
    let Operation { kind, by, why, .. } = operation;
    let to = operation
        .to
        .as_ref()
        .map(|to| format!(" to {to}"))
        .unwrap_or_default();
    let from = operation
        .from
        .as_ref()
        .map(|from| format!(" from {from}"))
        .unwrap_or_default();
    let waits = if operation.asks {
        "; it waits for approval"
    } else {
        ""
    };
    match by {
        Author::Cluster => format!("automatic {kind}{from}{to}: {why}{waits}"),
        person => format!("{kind}{from}{to} asked for by {person}{waits}"),
    }
}

fn end_of_epoch(how: &Ended) -> String {
    match how {
        Ended::Surrender {
            clean_at: Some(_), ..
        } => "the old primary stopped cleanly".into(),
        Ended::Surrender { .. } => {
            "the old primary confirmed stopped: no server process left".into()
        }
        Ended::PowerOff => "the old primary's host confirmed off by its power controller".into(),
        Ended::LeaseOver => "the old primary's lease has expired".into(),
    }
}

fn own_step_text(by: &NodeId, occasion: &Occasion, ran: &Ran) -> String {
    let about = match (&occasion.workload, occasion.at.is_of_workload()) {
        (Some(workload), _) => format!(" of {workload}"),
        (None, false) if occasion.node != *by => format!(" of {}", occasion.node),
        _ => String::new(),
    };
    format!(
        "own step {} on {by}, {}{about}: {} ({} ms)",
        ran.step,
        occasion.at.word(),
        ran.ended,
        ran.took.as_millis()
    )
}

fn end_of_place(how: &Ended) -> &'static str {
    match how {
        Ended::Surrender { .. } => "its node gave it up",
        Ended::PowerOff => "its host is confirmed off by its power controller",
        Ended::LeaseOver => "its lease has expired",
    }
}

fn names(list: &[NodeId]) -> String {
    let names: Vec<&str> = list.iter().map(NodeId::as_str).collect();
    if names.is_empty() {
        "nobody".to_string()
    } else {
        names.join(", ")
    }
}
