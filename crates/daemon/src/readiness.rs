//! Whether this host has what a revision gives it that is not in force yet (R8). Looked at again
//! while something is missing, so that whoever brings it need not ask anew.

use crate::arguments::Run;
use crate::heart::Tell;
use karst_adapters::process::Processes;
use karst_adapters::{Placed, Server};
use karst_core::replica::Examined;
use karst_core::spec::{Change, Revision, Spec};
use karst_core::{Input, NodeId, OperationId, WorkloadId};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;

/// Between two looks at a host that lacks something.
const AGAIN: Duration = Duration::from_secs(2);
/// A look that takes longer is a look at something that hangs.
const LIMIT: Duration = Duration::from_secs(20);

/// What is to be looked at; none: nothing.
pub type Wanted = Option<(OperationId, Arc<Revision>)>;

/// Until the daemon ends.
pub async fn run(
    run: Run,
    me: NodeId,
    in_force: watch::Receiver<Arc<Revision>>,
    mut wanted: watch::Receiver<Wanted>,
    tell: Tell,
) {
    loop {
        let now = wanted.borrow_and_update().clone();
        let mut all_there = true;
        if let Some((intent, revision)) = now {
            let before = in_force.borrow().spec.clone();
            let looked = lacks(&run, &me, &before, &revision.spec);
            let lacks = tokio::time::timeout(LIMIT, looked).await;
            let late = || vec![format!("nothing is known after {} s", LIMIT.as_secs())];
            let lacks = bounded(lacks.unwrap_or_else(|_| late()));
            all_there = lacks.is_empty();
            tell.input(Input::Examined(Examined { intent, lacks }));
        }
        let changed = if all_there {
            wanted.changed().await
        } else {
            tokio::time::timeout(AGAIN, wanted.changed())
                .await
                .unwrap_or(Ok(()))
        };
        if changed.is_err() {
            return;
        }
    }
}

/// It goes to other nodes, and from there onto screens.
fn bounded(lacks: Vec<String>) -> Vec<String> {
    let plain = |text: String| -> String {
        let all = text.chars().map(|c| if c.is_control() { ' ' } else { c });
        all.take(Examined::LONGEST / 4).collect()
    };
    lacks.into_iter().take(Examined::MOST).map(plain).collect()
}

async fn lacks(run: &Run, me: &NodeId, before: &Spec, after: &Spec) -> Vec<String> {
    let change = Change::between(before, after);
    let here = run.steps_of(&after.cluster, me);
    let steps = change
        .steps
        .iter()
        .filter_map(|name| after.steps.get_key_value(name));
    let steps = steps.filter(|(_, step)| step.is_of(me));
    let lacks =
        steps.filter_map(|(name, step)| Some(format!("step {name}: {}", here.lacks(step)?)));
    let mut all: Vec<String> = lacks.collect();
    for (id, workload) in &after.workloads {
        let Some(here) = workload.replicas.get(me) else {
            continue;
        };
        let is_new = |id: &WorkloadId| {
            change.workloads_in.contains(id)
                || change.replicas_in.contains(&(id.clone(), me.clone()))
        };
        if !is_new(id) && !change.settings.contains(id) {
            continue;
        }
        if let Err(error) = run.allowed().server(after, me, id) {
            all.push(format!("{error:#}"));
            continue;
        }
        let server = Server::of(Placed {
            workload: id,
            spec: workload,
            me,
            runtime: &run.common.runtime,
            tls: &run.tls,
            processes: Processes::new(Path::new(&here.data), None),
        });
        match server {
            Err(error) => all.push(error.to_string()),
            Ok(server) => {
                let before = before.workloads.get(id);
                let known = before.filter(|before| before.replicas.contains_key(me));
                let found = server.obstacles(known).await;
                all.extend(found.into_iter().map(|what| format!("{id}: {what}")));
            }
        }
    }
    all
}
