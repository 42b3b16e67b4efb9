//! The servers of a workload are restarted, one after the other: its standbys first, and whoever is
//! primary last, by a move away from it, after which its server starts as a standby.
//!
//! Which are to be restarted is which runs of them are to end, so that no clock is asked, and a server
//! that was restarted for another reason meanwhile is not restarted again.

use super::Scene;
use super::steps::{Todo, bare, doing, follows, moving};
use crate::command::{Command, Restarting, WorkloadAct};
use crate::ids::{NodeId, RunId, WorkloadId};
use crate::intent::{Intended, Restart};
use crate::replica::Role;
use crate::spec::Loss;

pub(super) fn steps(scene: &Scene, intended: &Intended, restart: &Restart) -> Vec<Todo> {
    let id = &restart.workload;
    let (last, first): (Vec<_>, Vec<_>) = restart
        .runs
        .iter()
        .partition(|(node, _)| **node == restart.primary);
    let mut before = true;
    let todo = |(node, run): (&NodeId, &RunId)| {
        let moves = *node == restart.primary;
        let text = if moves {
            format!("{id} moves away from {node}, whose server starts again as a standby")
        } else {
            format!("the server of {id} on {node} is restarted")
        };
        let done = is_done(scene, id, node, run) && (!moves || follows(scene, id, node));
        let (waits, next) = if before && !done {
            next(scene, intended, id, (node, run))
        } else {
            (None, None)
        };
        before &= done;
        Todo::new(text, done).waiting(waits).by(next)
    };
    first.into_iter().chain(last).map(todo).collect()
}

/// It is another run, and nobody waits for it any more; or it is no replica.
fn is_done(scene: &Scene, id: &WorkloadId, node: &NodeId, run: &RunId) -> bool {
    let spec = scene.spec.workloads.get(id);
    if !spec.is_some_and(|spec| spec.replicas.contains_key(node)) {
        return true;
    }
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    let now = seen.and_then(|o| o.run.as_ref());
    now.is_some_and(|now| now != run) && !scene.state.workload(id).restarts(node)
}

/// Why no standby is to stop yet: it would be the last one that has every write, and another may be
/// that in a moment.
fn others_first(scene: &Scene, id: &WorkloadId, node: &NodeId) -> Option<String> {
    let w = scene.state.workload(id);
    let spec = scene.spec.workloads.get(id)?;
    let comes = |n: &NodeId| {
        let seen = scene.replica(n, id).and_then(|r| r.seen.as_ref());
        n != node
            && scene.is_up(n)
            && seen.is_some_and(|o| o.is(Role::Standby))
            && w.unsound(n).is_none()
            && scene.leaving.replica(id, n).is_none()
    };
    let waited_for = spec.loss == Loss::None && w.sync.asked.contains(node);
    let alone = bare(scene, id, node).filter(|_| waited_for);
    alone.filter(|_| spec.replicas.keys().any(comes))
}

/// What the step of one server waits for, or what is committed for it.
fn next(
    scene: &Scene,
    intended: &Intended,
    id: &WorkloadId,
    (node, run): (&NodeId, &RunId),
) -> (Option<String>, Option<Command>) {
    let w = scene.state.workload(id);
    if !scene.is_up(node) {
        return (Some(format!("{node} is not heard")), None);
    }
    if w.holder() == Some(node) {
        return moving(scene, intended, id, None);
    }
    let held_back = w.held_back(node).is_some();
    if w.restarting.is_some() || held_back || !w.is_open() || w.operation.is_some() {
        return (Some(doing(scene, id, node)), None);
    }
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    if seen.and_then(|o| o.run.as_ref()) != Some(run) {
        return (Some(doing(scene, id, node)), None);
    }
    if let Some(why) = others_first(scene, id, node) {
        return (Some(why), None);
    }
    let restarting = Restarting {
        node: node.clone(),
        run: run.clone(),
    };
    let act = WorkloadAct::Restart(Some(restarting));
    (None, Some(Command::Workload(id.clone(), act)))
}

/// Restarts that are over, or that nobody wants any more.
pub(super) fn ended<'a>(scene: &'a Scene) -> impl Iterator<Item = Command> + 'a {
    let all = scene.state.workloads.iter();
    all.filter_map(|(id, w)| {
        let Restarting { node, run } = w.restarting.as_ref()?;
        let wanted = scene.state.charter.restart_of(id).is_some();
        let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
        let another = seen
            .and_then(|o| o.run.as_ref())
            .is_some_and(|now| now != run);
        let over = !wanted || (another && follows(scene, id, node));
        over.then(|| Command::Workload(id.clone(), WorkloadAct::Restart(None)))
    })
}
