//! That a node's new store counts in place of the one that was lost, as people ask for it.

use super::Node;
use crate::ids::NodeId;
use crate::intent::Enrolment;
use crate::steward::{Scene, enrolling};

impl Node {
    /// The store that a node says it has now.
    ///
    /// # Errors
    /// There is none to take in.
    pub(super) fn enrolment_wanted(
        &self,
        scene: &Scene,
        node: NodeId,
    ) -> Result<Enrolment, String> {
        self.known_node(&node)?;
        let Some(heard) = scene.reports.get(&node).filter(|_| scene.is_up(&node)) else {
            return Err(format!("{node} is not heard: start its daemon first"));
        };
        if heard.report.counts {
            return Err(format!("{node}'s node store counts already"));
        }
        match enrolling::has_now(scene, &node).cloned() {
            Some(store) => Ok(Enrolment { node, store }),
            None => Err(format!("{node} has not said which node store it has")),
        }
    }
}

pub(super) fn obstacles(scene: &Scene, enrolment: &Enrolment) -> Vec<String> {
    let mut running = scene.state.charter.enrolments();
    let same = running.find(|(_, other)| other.node == enrolment.node);
    same.map(|(id, _)| format!("{id} takes a store of {} in already", enrolment.node))
        .into_iter()
        .collect()
}

pub(super) fn consequences(scene: &Scene, enrolment: &Enrolment) -> Vec<String> {
    let node = &enrolment.node;
    let mut all = vec![format!(
        "what {node}'s lost store had promised is lost with it: go on only if it will never come back"
    )];
    let votes = scene.spec.votes();
    let left = votes.total() - votes.weight(node);
    if left < votes.total() {
        all.push(format!(
            "there are {left} votes meanwhile, and {} of them are needed",
            left / 2 + 1
        ));
    }
    all
}
