//! Committed decisions in words, each with its kind and level.

use crate::command::{NodeAct, WorkloadAct};
use crate::event::Level;
use crate::ids::NodeId;
use crate::operation::{Operation, Outcome};
use crate::state::{Ended, Standing};

pub(super) struct Described {
    pub level: Level,
    pub kind: &'static str,
    pub text: String,
}

fn notice(kind: &'static str, text: String) -> Described {
    Described { level: Level::Notice, kind, text }
}

fn info(kind: &'static str, text: String) -> Described {
    Described { level: Level::Info, kind, text }
}

fn warning(kind: &'static str, text: String) -> Described {
    Described { level: Level::Warning, kind, text }
}

pub(super) fn of_node(node: &NodeId, act: &NodeAct) -> Described {
    match act {
        NodeAct::Fence { why, by, .. } => notice("fenced", format!("{node} is fenced by {by}: {why}")),
        NodeAct::PowerOff { .. } => {
            notice("power-off", format!("the power of {node} is off, read back from its device"))
        }
        NodeAct::TurnOn { by } => notice("turn-on", format!("{node} is to be turned on, as {by} asked")),
        NodeAct::TurnedOn { .. } => notice("power-on", format!("the power of {node} is on, read back from its device")),
        NodeAct::Readmit { why, by, .. } => notice("readmitted", format!("{node} is readmitted by {by}: {why}")),
        NodeAct::Enrol { by, .. } => {
            notice("enrolled", format!("{node}'s node store counts from here on, enrolled by {by}"))
        }
        NodeAct::System { system } => info("system", format!("{node} is hardware {system}")),
    }
}

pub(super) fn of_workload(act: &WorkloadAct) -> Described {
    match act {
        WorkloadAct::Begin(operation) => notice("operation-began", begun(operation)),
        WorkloadAct::Approve { by, .. } => notice("approved", format!("approved by {by}")),
        WorkloadAct::Mode { mode, by } => notice("mode", format!("mode is {} from here on, set by {by}", mode.word())),
        WorkloadAct::Revoke { epoch, why } => notice("revoked", format!("epoch {epoch} is revoked: {why}")),
        WorkloadAct::End { epoch, how } => {
            notice("isolated", format!("epoch {epoch} has ended: {}", end_of_epoch(how)))
        }
        WorkloadAct::Assign { epoch, holder, why } => {
            notice("assigned", format!("epoch {epoch} goes to {holder} ({why})"))
        }
        WorkloadAct::Open { epoch, timeline, switch, sync, .. } => {
            let sync = names(sync);
            notice("opened", format!("epoch {epoch} is open on timeline {timeline} from {switch}; sync set: {sync}"))
        }
        WorkloadAct::Serve { epoch } => notice("serving", format!("epoch {epoch} serves: a write is replicated")),
        WorkloadAct::Sync { sure, asked, why, number, .. } if sure.len() < asked.len() => {
            let (sure, asked) = (names(sure), names(asked));
            info("sync-set", format!("sync set {number} grows to {asked}: {why}; guaranteed so far: {sure}"))
        }
        WorkloadAct::Sync { sure, why, number, .. } => {
            notice("sync-set", format!("sync set {number} is {}: {why}", names(sure)))
        }
        WorkloadAct::Mark { node, standing: Standing::NeedsClone(why) } => {
            notice("needs-clone", format!("{node} comes back by a fresh clone: {why}"))
        }
        WorkloadAct::Mark { node, standing: Standing::Diverged(why) } => {
            notice("diverged", format!("{node} comes back by a rewind, or a clone: {why}"))
        }
        WorkloadAct::Mark { node, standing: Standing::Sound } => notice("sound", format!("{node} has a sound copy")),
        WorkloadAct::Finish { outcome: Outcome::Done, .. } => notice("operation-done", "done".into()),
        WorkloadAct::Finish { outcome: Outcome::Undone(why), .. } => {
            warning("operation-undone", format!("not done: {why}"))
        }
        WorkloadAct::Finish { outcome: Outcome::Diverted(why), .. } => {
            warning("operation-diverted", format!("done otherwise: {why}"))
        }
        WorkloadAct::Place { number, holder, why } => {
            notice("address-placed", format!("its address goes to {holder} (number {number}; {why})"))
        }
        WorkloadAct::Withdraw { why, .. } => notice("address-leaves", format!("its address leaves: {why}")),
        WorkloadAct::Vacate { how, .. } => {
            notice("address-gone", format!("its address is nowhere: {}", end_of_place(how)))
        }
    }
}

fn begun(operation: &Operation) -> String {
    let Operation { kind, by, why, .. } = operation;
    let to = operation.to.as_ref().map(|to| format!(" to {to}")).unwrap_or_default();
    let from = operation.from.as_ref().map(|from| format!(" from {from}")).unwrap_or_default();
    let waits = if operation.asks { "; it waits for approval" } else { "" };
    format!("{kind}{from}{to} began, by {by}: {why}{waits}")
}

fn end_of_epoch(how: &Ended) -> String {
    match how {
        Ended::Surrender { clean_at: Some(at), .. } => format!("the old primary stopped cleanly at {at}"),
        Ended::Surrender { .. } => "the old primary surrendered: nothing of it runs any more".into(),
        Ended::PowerOff => "the power of the old primary's host is off, read back from its device".into(),
        Ended::LeaseOver => "no lease of the old primary can be valid any more".into(),
    }
}

fn end_of_place(how: &Ended) -> &'static str {
    match how {
        Ended::Surrender { .. } => "its node gave it up",
        Ended::PowerOff => "its host's power is off, read back from its device",
        Ended::LeaseOver => "no lease of it can be valid any more",
    }
}

fn names(list: &[NodeId]) -> String {
    let names: Vec<&str> = list.iter().map(NodeId::as_str).collect();
    if names.is_empty() { "nobody".to_string() } else { names.join(", ") }
}
