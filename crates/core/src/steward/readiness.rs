//! A revision is in force only when the hosts that it gives something have what that needs (R8): each
//! has looked with its own eyes. Whoever is not heard is not waited for: it looks again when it makes
//! what is new, and says then what it lacks.

use super::Scene;
use super::steps::Todo;
use crate::ids::{NodeId, OperationId};
use crate::planted::Planted;
use crate::spec::{Change, Revision};

/// The step, if there is anything to look at, and whether nothing is in the way.
pub(super) fn look(
    scene: &Scene,
    change: &Change,
    revision: &Revision,
    taken: bool,
) -> (Option<Todo>, bool) {
    let nodes = scene.spec.nodes.keys();
    let concerned: Vec<&NodeId> = nodes
        .filter(|n| change.concerns(&revision.spec, n))
        .collect();
    if concerned.is_empty() {
        return (None, true);
    }
    let names: Vec<&str> = concerned.iter().map(|n| n.as_str()).collect();
    let text = format!("{} can take it: seen on the host", names.join(", "));
    // Before it is in the log nobody has looked.
    let lacking = match scene.state.charter.pending() {
        _ if taken || scene.breaks(Planted::AdoptUnseen) => Vec::new(),
        Some((intent, _)) => concerned
            .iter()
            .filter_map(|n| lacking(scene, intent, n))
            .collect(),
        None => vec!["nobody has looked yet".to_string()],
    };
    let ready = lacking.is_empty();
    let todo = Todo::new(text, ready).waiting((!ready).then(|| lacking.join("; ")));
    (Some(todo), ready)
}

fn lacking(scene: &Scene, intent: OperationId, node: &NodeId) -> Option<String> {
    if !scene.is_up(node) {
        return None;
    }
    let report = &scene.reports.get(node)?.report;
    let seen = report.parts.examined.as_ref();
    match seen.filter(|seen| seen.intent == intent) {
        None => Some(format!("{node} has not looked yet")),
        Some(seen) if seen.lacks.is_empty() => None,
        Some(seen) => Some(format!("{node}: {}", seen.lacks.join("; "))),
    }
}
