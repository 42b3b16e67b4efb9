//! The sentences for whoever reads the record, made here, once.

use super::{Ballot, Fact, OfReplica};
use crate::author::Author;
use crate::command::{ClusterAct, Ended, NodeAct, Restarting, Standing, WorkloadAct};
use crate::ids::{Epoch, History, NodeId};
use crate::operation::{ModeSet, Operation, Outcome};
use crate::ownstep::{Occasion, Ran};
use crate::power::PowerOrder;
use crate::safetypoint::{HeldBack, Stage};
use crate::text::utc;
use crate::votes::{Voters, Votes};
use std::fmt;

impl Fact {
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
            Self::Removed { node, since } => {
                format!(
                    "{node} is no node of the cluster any more, by entry {since}: it lets go of everything"
                )
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
        ClusterAct::End { intent, by } => format!("{by} ends {intent}"),
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
        NodeAct::Key { key } => format!("{node} shows the key {key}"),
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
        WorkloadAct::HoldBack(Some(held)) => held_text(held),
        WorkloadAct::HoldBack(None) => "no standby is held back any more".into(),
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

fn held_text(held: &HeldBack) -> String {
    let HeldBack { name, node, .. } = held;
    match &held.stage {
        Stage::Stops => format!("{node} is held back for safety point {name}: its server stops"),
        Stage::Marks => format!("safety point {name}: the primary writes it into its log"),
        Stage::Stands(mark) => format!(
            "safety point {name} is written ({}, at {} of history {}): {node} goes up to it and stays",
            mark.label, mark.at.number, mark.at.history
        ),
    }
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
