//! A node has lost its store and has a new one: its vote goes, the new store is taken in, and the
//! vote comes back when it has the whole log (V6).

use super::Scene;
use super::steps::{Todo, waits};
use super::voting::Step;
use crate::command::{ClusterAct, Command, NodeAct};
use crate::fact::listed;
use crate::ids::{NodeId, StoreId};
use crate::intent::{Enrolment, Intended};
use crate::operation::Outcome;

/// The others have committed that this store is the node's.
pub(super) fn is_taken_in(scene: &Scene, enrolment: &Enrolment) -> bool {
    let Enrolment { node, store } = enrolment;
    let known = scene.state.nodes.get(node);
    known.is_some_and(|n| n.enrolled.as_ref() == Some(store))
}

pub(super) fn steps(scene: &Scene, intended: &Intended, enrolment: &Enrolment) -> Vec<Todo> {
    let Enrolment { node, store } = enrolment;
    let taken = is_taken_in(scene, enrolment);
    let voters = scene.state.charter.voters.as_ref();
    let votes = voters.is_some_and(|v| v.weight(node) > 0);
    let will_vote = scene.spec.votes().weight(node) > 0;
    let mut todos = Vec::new();
    if votes || will_vote {
        let text = format!("{node} has no vote");
        todos.push(Todo::new(text, taken || !votes).waiting(waits(scene)));
    }
    let (store, by) = (store.clone(), intended.what.by.clone());
    let enrol = Command::Node(node.clone(), NodeAct::Enrol { store, by });
    let text = format!("{node}'s new store is taken in");
    todos.push(Todo::new(text, taken).by((!votes).then_some(enrol)));
    if will_vote {
        let done = taken && scene.next_of_votes() == Step::Done;
        let waits = if taken { waits(scene) } else { None };
        let text = format!("votes: {}", listed(&scene.spec.votes()));
        todos.push(Todo::new(text, done).waiting(waits));
    }
    todos
}

/// Why a store need not, or cannot, be taken in any more.
fn obstacle(scene: &Scene, enrolment: &Enrolment) -> Option<String> {
    let Enrolment { node, store } = enrolment;
    if !scene.spec.nodes.contains_key(node) {
        return Some(format!("{node} is no node any more"));
    }
    let now = has_now(scene, node)?;
    (now != store).then(|| format!("{node} has another store by now"))
}

/// Which store a node has, by its own word.
pub(crate) fn has_now<'a>(scene: &'a Scene, node: &NodeId) -> Option<&'a StoreId> {
    let heard = scene.reports.get(node).filter(|_| scene.is_up(node))?;
    heard.report.store.as_ref()
}

/// Those that come to nothing: where a store is lost once more, another is to be taken in.
pub(super) fn ended<'a>(scene: &'a Scene) -> impl Iterator<Item = Command> + 'a {
    let all = scene.state.charter.enrolments();
    all.filter_map(|(intent, enrolment)| {
        let outcome = Outcome::Undone(obstacle(scene, enrolment)?);
        Some(Command::Cluster(ClusterAct::Close { intent, outcome }))
    })
}
