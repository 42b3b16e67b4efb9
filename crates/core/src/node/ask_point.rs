//! What a safety point would be and cost, and going back to one; and what stands in the way.

use super::Node;
use crate::ids::{NodeId, WorkloadId};
use crate::intent::{Intended, Want};
use crate::outage::PROMOTE_ALLOWANCE;
use crate::replica::Role;
use crate::safetypoint::{GoingBack, HeldBack, SafetyPoint};
use crate::spec::{Alone, Loss, WorkloadSpec};
use crate::steward::Scene;
use crate::steward::candidates;
use crate::steward::holding::{obstacle_to_taking_over, stands, written_since};

/// A safety point as somebody asks for it.
pub(super) struct Asked {
    pub workload: WorkloadId,
    pub name: String,
    pub node: Option<NodeId>,
    pub bare: bool,
    pub until: Option<u64>,
}

impl Node {
    /// # Errors
    /// What of it cannot be.
    pub(super) fn point_wanted(
        &self,
        scene: &Scene,
        asked: Asked,
        at: u64,
    ) -> Result<SafetyPoint, String> {
        let spec = self.known_workload(&asked.workload)?;
        let Asked {
            workload,
            name,
            node,
            bare,
            until,
        } = asked;
        if !SafetyPoint::is_name(&name) {
            return Err(format!(
                "a safety point is called by 1 to {} lower-case letters, digits and -, such as before-fares",
                SafetyPoint::LONGEST_NAME
            ));
        }
        if until.is_some_and(|until| until <= at) {
            return Err("the time until which it is kept is over already".into());
        }
        let node = match node {
            Some(node) if spec.replicas.contains_key(&node) => node,
            Some(node) => {
                let nodes: Vec<&str> = spec.replicas.keys().map(NodeId::as_str).collect();
                return Err(format!(
                    "{workload} has no replica on {node}; it has one on {}",
                    nodes.join(", ")
                ));
            }
            None => fittest(scene, &workload, spec)
                .ok_or_else(|| format!("{workload} has no standby that could be held back"))?,
        };
        Ok(SafetyPoint {
            workload,
            name,
            node,
            bare,
        })
    }

    /// # Errors
    /// If nothing is kept that it could go back to.
    pub(super) fn back_wanted(&self, workload: WorkloadId) -> Result<GoingBack, String> {
        self.known_workload(&workload)?;
        let charter = &self.state.charter;
        let Some((point, kept)) = charter.safety_point_of(&workload) else {
            return Err(format!("no safety point of {workload} is kept"));
        };
        Ok(GoingBack {
            name: kept.name.clone(),
            node: kept.node.clone(),
            workload,
            point,
        })
    }
}

/// The standby that is missed least: the last that would take over.
fn fittest(scene: &Scene, id: &WorkloadId, spec: &WorkloadSpec) -> Option<NodeId> {
    let list = candidates::list(scene, id, spec);
    let best = candidates::best(&list, false).map(|c| &c.node);
    let follows = |n: &&NodeId| obstacle_to_holding(scene, id, n).is_none();
    let fit = spec.replicas.keys().filter(follows);
    let last = fit.max_by_key(|n| (Some(*n) != best, spec.replicas[*n].rank));
    last.cloned()
}

fn obstacle_to_holding(scene: &Scene, id: &WorkloadId, node: &NodeId) -> Option<String> {
    let w = scene.state.workload(id);
    if w.holder() == Some(node) {
        return Some(format!(
            "{node} is the primary of {id}: a standby is held back"
        ));
    }
    if scene.state.fenced(node).is_some() {
        return Some(format!("{node} is fenced: readmit it first"));
    }
    if !scene.is_up(node) {
        return Some(format!("{node} is not heard"));
    }
    if scene.leaving.node(node) {
        return Some(format!("{node} is in maintenance"));
    }
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    let follows = seen.is_some_and(|o| o.is(Role::Standby) && o.streaming);
    let fit = follows && w.unsound(node).is_none();
    (!fit).then(|| format!("the standby of {id} on {node} does not stream from its primary"))
}

pub(super) fn consequences(scene: &Scene, point: &SafetyPoint) -> Vec<String> {
    let SafetyPoint {
        workload: id, node, ..
    } = point;
    let Some(spec) = scene.spec.workloads.get(id) else {
        return Vec::new();
    };
    let left = spec.replicas.len().saturating_sub(2);
    let others = match left {
        0 => "nobody else could".to_string(),
        1 => "one other standby could".into(),
        more => format!("{more} other standbys could"),
    };
    let mut all = vec![
        format!("{node} takes nothing over meanwhile, and confirms no write; {others}"),
        format!("{node} can be read as it is at the point, by its own address"),
        format!(
            "when the point is dropped {node} follows again, by a fresh copy where the log that it needs is gone by then"
        ),
    ];
    if spec
        .reads
        .as_ref()
        .is_some_and(|reads| !reads.except.contains(node))
    {
        all.push(format!("the read gates of {id} pass {node} over"));
    }
    all
}

pub(super) fn obstacles(scene: &Scene, point: &SafetyPoint) -> Vec<String> {
    let SafetyPoint {
        workload: id,
        node,
        bare,
        ..
    } = point;
    let mut unmet = Vec::new();
    let kept = scene.state.charter.intents.iter();
    let mut kept = kept.filter_map(|(of, intended)| match &intended.what.want {
        Want::SafetyPoint(other) if other.workload == *id => Some((of, intended, other)),
        _ => None,
    });
    if let Some((of, intended, other)) = kept.next() {
        unmet.push(match intended.turned {
            None => format!(
                "safety point {} of {id} is kept already, on {}: drop it first (karst safety-point drop {id})",
                other.name, other.node
            ),
            Some(_) => format!(
                "{} is being brought back from safety point {}, by {of}: wait for it",
                other.node, other.name
            ),
        });
    }
    let Some(spec) = scene.spec.workloads.get(id) else {
        return unmet;
    };
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    if seen.is_some_and(|o| !o.can_hold_back) {
        unmet.push(format!(
            "servers of driver {} cannot be held back at a point",
            spec.driver
        ));
    }
    let w = scene.state.workload(id);
    if !w.is_open() || w.operation.is_some() {
        unmet.push(format!("{id} has no primary, or is being moved"));
    }
    unmet.extend(obstacle_to_holding(scene, id, node));
    let others = w.confirming().any(|n| n != node);
    if spec.loss == Loss::None && !others && !(*bare && spec.alone == Alone::Continue) {
        let remedy = match spec.alone {
            Alone::Continue => "go on without that with --bare",
            Alone::Block => "its writes would wait: add a replica elsewhere first",
        };
        unmet.push(format!(
            "{id} would be left without a standby that has every write; {remedy}"
        ));
    }
    unmet
}

pub(super) fn consequences_of_going_back(scene: &Scene, back: &GoingBack) -> Vec<String> {
    let GoingBack {
        workload: id,
        name,
        node,
        ..
    } = back;
    let pause = PROMOTE_ALLOWANCE.as_millis();
    let mut all = vec![
        format!("everything that was written to {id} since {name} is given up, on every node"),
        format!(
            "clients of {id} are cut off, and its writes pause for about {pause} ms until {node} takes them"
        ),
    ];
    let w = scene.state.workload(id);
    if let Some(holder) = w.holder().filter(|holder| *holder != node) {
        all.push(format!(
            "{holder} and every other replica are rewound to the point, or copied anew from {node}"
        ));
    }
    all.push("the point is not kept any more afterwards".into());
    all
}

pub(super) fn obstacles_to_going_back(scene: &Scene, back: &GoingBack) -> Vec<String> {
    let GoingBack {
        workload: id,
        name,
        node,
        ..
    } = back;
    let w = scene.state.workload(id);
    let mut unmet = Vec::new();
    if let Some((other, _)) = scene.state.charter.going_back(id) {
        unmet.push(format!("{other} takes {id} back already"));
    }
    let mark = w.held_back(node).and_then(HeldBack::mark);
    if !mark.is_some_and(|mark| stands(scene, id, node, mark)) {
        unmet.push(format!("{node} is not seen to stand at {name}"));
    }
    if let Some(operation) = w.operation {
        unmet.push(format!("{operation} moves {id} just now"));
    }
    let why = obstacle_to_taking_over(scene, id, node);
    unmet.extend(why.map(|why| format!("{node} cannot take over: {why}")));
    unmet
}

/// What somebody gives up with it, in bytes of log: `u64::MAX` where that is not known.
pub(super) fn given_up(scene: &Scene, intended: &Intended) -> Option<u64> {
    let Want::GoingBack(back) = &intended.what.want else {
        return None;
    };
    Some(written_since(scene, &back.workload).unwrap_or(u64::MAX))
}
