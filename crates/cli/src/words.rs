//! Phrases that several commands share.

use crate::ending::Ending;
use crate::output::{span, utc};
use anyhow::{Result, bail};
use karst_api::core::NodeId;
use karst_api::core::operation::Mode;
use karst_api::core::view::{Condition, NeedView, Status, WorkloadView, WritesView};
use std::time::Duration;

pub fn ending(status: &Status) -> Ending {
    if status.condition == Condition::Healthy {
        Ending::Done
    } else {
        Ending::NotWell
    }
}

/// With how long it has been so.
pub fn lasting(writes: WritesView) -> String {
    let time = writes.for_ms.map(Duration::from_millis);
    time.map_or(writes.state.to_string(), |time| {
        format!("{} for {}", writes.state, span(time))
    })
}

pub fn needs_line(needs: &[NeedView]) -> String {
    match needs {
        [] => "no".into(),
        [only] => format!("yes: {}", only.next),
        [first, rest @ ..] => format!("yes: {} (and {} more: karst why)", first.next, rest.len()),
    }
}

pub fn mode_text(w: &WorkloadView) -> String {
    let word = w.mode.word();
    let Some(set) = w.mode_set.as_ref().filter(|_| w.mode != Mode::Act) else {
        return word.into();
    };
    let until = set
        .until
        .map_or(String::new(), |until| format!(", until {}", utc(until)));
    let why = set
        .why
        .as_ref()
        .map_or(String::new(), |why| format!(": {why}"));
    format!("{word} (set by {} at {}{until}{why})", set.by, utc(set.at))
}

pub fn names(list: &[NodeId]) -> String {
    if list.is_empty() {
        "nobody".into()
    } else {
        list.iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join(", ")
    }
}

pub fn quorum_line(s: &Status) -> String {
    let q = &s.quorum;
    let margin = if q.heard < q.needed {
        "NO MAJORITY: nothing is promoted".to_string()
    } else if q.cannot_lose.is_empty() {
        "the majority survives the loss of any one voter".to_string()
    } else {
        let any: Vec<&str> = q.cannot_lose.iter().map(|node| node.as_str()).collect();
        format!("losing {} loses the majority", any.join(" or "))
    };
    format!(
        "{} of {} votes heard, {} needed; {margin}",
        q.heard, q.total, q.needed
    )
}

/// Where it is explained.
pub fn runbook<T: serde::Serialize>(kind: &T) -> String {
    let name = serde_json::to_value(kind).ok();
    let name = name.as_ref().and_then(serde_json::Value::as_str);
    format!("runbook: {}", name.unwrap_or("all of it"))
}

pub fn pick<'a>(status: &'a Status, name: Option<&str>) -> Result<Vec<&'a WorkloadView>> {
    let Some(name) = name else {
        return Ok(status.workloads.iter().collect());
    };
    let found: Vec<_> = status
        .workloads
        .iter()
        .filter(|w| w.workload.as_str() == name)
        .collect();
    if found.is_empty() {
        let known: Vec<&str> = status
            .workloads
            .iter()
            .map(|w| w.workload.as_str())
            .collect();
        bail!("there is no workload `{name}`; known: {}", known.join(", "));
    }
    Ok(found)
}
