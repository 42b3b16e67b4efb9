//! What a person may do to a host's power: off is a fence, so that the host holds nothing when it
//! goes.

use super::Node;
use super::lead::Lead;
use crate::author::Author;
use crate::command::{Command, NodeAct};
use crate::ids::NodeId;
use crate::request::{NodePlan, PowerWish};
use crate::spec::After;
use crate::steward::Scene;
use crate::steward::candidates::{self, Way};
use crate::view::PowerView;

impl Node {
    /// The entry that does it. Whoever wants a host to be off wants it to stay so.
    pub(super) fn power(
        &self,
        scene: &Scene,
        node: NodeId,
        what: PowerWish,
        by: Author,
    ) -> Command {
        let after = match what {
            PowerWish::On => return Command::Node(node, NodeAct::TurnOn { by }),
            PowerWish::Off => After::Off,
            PowerWish::Cycle => After::On,
        };
        cut_off(scene, node, by, after)
    }

    /// Why nobody may ask for this host to be cut off now, if so. Where the others that are heard are
    /// no majority nothing is decided while it is down: nobody takes over, and the cut itself is not
    /// recorded, so that it is made again whenever the host is back.
    pub(super) fn obstacle_to_cut(&self, scene: &Scene, node: &NodeId) -> Option<String> {
        if *node == self.me {
            return Some(format!(
                "{node} is the coordinator and cannot cut its own power; stop its daemon first"
            ));
        }
        let powered = |n: &NodeId| self.spec.nodes.get(n).is_some_and(|n| n.power.is_some());
        // What is fenced already may be off at any moment.
        let stays = |n: &&NodeId| scene.is_up(n) && (self.state.fenced(n).is_none() || !powered(n));
        let voters = self.consensus.voters();
        let without = voters.all().into_iter().filter(|v| *v != node);
        let decides = voters.is_majority(without.filter(stays));
        (powered(node) && !decides).then(|| {
            format!(
                "without {node} the voters that are heard are no majority: nobody could take over \
                 from it, nor record that it is off; rest it first, which moves its vote \
                 (`karst node maintenance {node}`), or move what it holds (`karst switchover`)"
            )
        })
    }

    /// What it would do.
    ///
    /// # Errors
    /// If there is no such node.
    pub(super) fn power_plan(
        &self,
        lead: &Lead,
        node: &NodeId,
        what: PowerWish,
    ) -> Result<NodePlan, String> {
        let scene = self.scene_of(lead);
        self.known_node(node)?;
        let (mut steps, mut unmet) = (Vec::new(), None);
        if self.spec.nodes.get(node).is_none_or(|n| n.power.is_none()) {
            unmet = Some(format!("{node} has no power device in the spec"));
        } else if let Some(why) = self
            .obstacle_to_cut(&scene, node)
            .filter(|_| what != PowerWish::On)
        {
            unmet = Some(why);
        } else if what == PowerWish::On
            && lead.devices.power_of(&self.spec, node) == Some(PowerView::On)
        {
            unmet = Some(format!("the power of {node} is on"));
        } else if what != PowerWish::On
            && let Some(fenced) = self.state.fenced(node)
        {
            unmet = Some(format!(
                "{node} is fenced already, by {}: {}; readmit it first",
                fenced.by, fenced.why
            ));
        }
        if what != PowerWish::On {
            steps.push(format!("fence {node}: it holds nothing from then on"));
            for (id, spec) in &self.spec.workloads {
                if self.state.workload(id).holder() != Some(node) {
                    continue;
                }
                let list = candidates::list(&scene, id, spec);
                let best = list
                    .iter()
                    .filter(|c| c.excluded.is_none() && c.way == Way::TakesOver);
                steps.push(match best.min_by_key(|c| (c.rank, c.node.clone())) {
                    Some(best) => format!(
                        "{id} fails over, most likely to {}; its clients wait meanwhile",
                        best.node
                    ),
                    None => format!("{id} is down from then on: nobody else may take over"),
                });
            }
            steps.push(format!(
                "cut the power of {node}, and read back that it is off"
            ));
        }
        match what {
            PowerWish::Off => steps.push(format!(
                "{node} stays off until `karst node power {node} on`"
            )),
            PowerWish::Cycle => steps.push("turn it on once others hold what it held".into()),
            PowerWish::On => steps.push(format!("turn {node} on, and read back that it is")),
        }
        if self
            .spec
            .nodes
            .get(node)
            .is_some_and(|n| n.readmit == crate::spec::Readmit::Ask)
        {
            steps.push(format!(
                "it takes part again once it is readmitted: `karst node readmit {node}`"
            ));
        }
        Ok(NodePlan {
            node: node.clone(),
            steps,
            unmet,
        })
    }
}

/// A fence that somebody asked for.
pub(super) fn cut_off(scene: &Scene, node: NodeId, by: Author, after: After) -> Command {
    let boot = scene.reports.get(&node).map(|h| h.report.boot.clone());
    let why = "asked for".into();
    Command::Node(
        node,
        NodeAct::Fence {
            boot,
            why,
            by,
            after,
        },
    )
}
