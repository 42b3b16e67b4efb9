//! Fencing and its end: who is gone, whose power may be cut, who comes back (C7, S6).
//!
//! A silence is enough to fence and never enough to move authority: that takes a state which was
//! read as off, a surrender, or the lease's end.

use super::scene::{Desk, Scene};
use crate::author::Author;
use crate::command::{Command, NodeAct};
use crate::ids::{Index, NodeId, WorkloadId};
use crate::operation::Kind;
use crate::planted::Planted;
use crate::replica::Role;
use crate::spec::{After, Readmit};
use crate::state::{ClusterState, Fenced, NodeState, Tenure, WorkloadState};
use std::time::Duration;

impl Scene<'_> {
    /// What the spec says becomes of a host whose power was cut.
    pub(crate) fn after(&self, node: &NodeId) -> After {
        self.spec
            .nodes
            .get(node)
            .and_then(|n| n.power.as_ref())
            .map_or(After::Off, |p| p.after)
    }

    /// Nobody who can be heard has heard this node lately, though a majority can be heard and this
    /// node itself did not stand still meanwhile (L2). Not before half the way from the detector's
    /// floor to its ceiling: a daemon that is started again at once is no lost host.
    pub fn is_gone(&self, node: &NodeId) -> bool {
        let (floor, ceiling) = (
            self.spec.timings.suspicion_floor,
            self.spec.timings.suspicion_ceiling,
        );
        let bound = self.health.bound(node).max((floor + ceiling) / 2);
        let silent = |since: Duration| since >= bound;
        let unheard = silent(self.health.silence(node, self.now))
            && self
                .reports
                .get(node)
                .is_none_or(|h| silent(self.now.since(h.at)))
            && silent(self.now.since(self.awake_since));
        if !unheard {
            return false;
        }
        let near =
            |p: &&NodeId| *p != node && *p != self.me && self.health.silence(p, self.now) < floor;
        let peers: Vec<&NodeId> = self.spec.nodes.keys().filter(near).collect();
        // Of one that speaks of other members than this node knows it is not known.
        let hears = |p: &&NodeId| self.health.heard_by(p, node) != Some(false);
        let majority = self
            .consensus
            .voters()
            .is_majority(peers.iter().copied().chain([self.me]));
        majority && !peers.iter().any(hears)
    }
}

impl Desk<'_> {
    /// Whether the holder's host may be fenced now: it has a power device, nobody hears it,
    /// somebody may take over (F8), and no person asked for the move (planned moves fence nobody).
    pub(super) fn may_fence(&self, holder: &NodeId) -> bool {
        let planned = self
            .scene
            .state
            .running_kind(self.id)
            .is_some_and(|kind| kind != Kind::Failover);
        let powered = self
            .scene
            .spec
            .nodes
            .get(holder)
            .is_some_and(|n| n.power.is_some());
        let helps = || self.somebody_else(holder) || self.scene.breaks(Planted::FenceForNothing);
        // Whoever is in maintenance may be silent.
        let expected = self.scene.leaving.node(holder);
        powered
            && !expected
            && !planned
            && holder != self.scene.me
            && self.scene.is_gone(holder)
            && helps()
    }

    /// The entry that permits the power device's use, unless it is there already.
    pub(super) fn fence(&self, holder: &NodeId, why: &str) -> Option<Command> {
        if self.scene.state.fenced(holder).is_some() || !self.may_fence(holder) {
            return None;
        }
        let boot = self
            .scene
            .reports
            .get(holder)
            .map(|h| h.report.boot.clone());
        let after = self.scene.after(holder);
        Some(Command::Node(
            holder.clone(),
            NodeAct::Fence {
                boot,
                why: why.into(),
                by: Author::Cluster,
                after,
            },
        ))
    }
}

/// What to commit about these nodes as such.
pub fn decide_nodes(scene: &Scene, nodes: &[NodeId]) -> Vec<Command> {
    let mut commands = Vec::new();
    for (node, spec) in nodes
        .iter()
        .filter_map(|n| scene.spec.nodes.get_key_value(n))
    {
        let known = scene.state.nodes.get(node);
        let report = scene.reports.get(node).map(|h| &h.report);
        if let Some(system) = report.and_then(|r| r.system.as_ref())
            && known.and_then(|k| k.system.as_ref()) != Some(system)
        {
            commands.push(Command::Node(
                node.clone(),
                NodeAct::System {
                    system: system.clone(),
                },
            ));
        }
        let newest = known.and_then(|k| k.keys.last());
        let gone = &scene.state.charter.gone.keys;
        if let Some(key) = scene.shown.get(node)
            && newest != Some(key)
            && !gone.contains_key(key)
            && !scene.state.is_anothers(node, key)
        {
            let key = key.clone();
            commands.push(Command::Node(node.clone(), NodeAct::Key { key }));
        }
        if let Some(asked) = known
            .and_then(|k| k.turn_on)
            .filter(|asked| scene.on.get(node) == Some(asked))
        {
            commands.push(Command::Node(node.clone(), NodeAct::TurnedOn { asked }));
        }
        let Some(fenced) = scene.state.fenced(node) else {
            continue;
        };
        if !fenced.off && scene.off.get(node) == Some(&fenced.id) {
            commands.push(Command::Node(
                node.clone(),
                NodeAct::PowerOff { fence: fenced.id },
            ));
        } else if let Some(why) = grounds_to_return(scene, node, fenced, spec.readmit) {
            let by = Author::Cluster;
            commands.push(Command::Node(
                node.clone(),
                NodeAct::Readmit {
                    fence: fenced.id,
                    why,
                    by,
                },
            ));
        }
    }
    commands
}

/// Why the cluster takes a fenced node back by itself, if it does.
fn grounds_to_return(
    scene: &Scene,
    node: &NodeId,
    fenced: &Fenced,
    readmit: Readmit,
) -> Option<String> {
    let report = &scene
        .reports
        .get(node)
        .filter(|_| scene.is_up(node))?
        .report;
    if obstacle_to_return(scene, node).is_some() {
        return None;
    }
    let same_boot = fenced.boot.as_ref() == Some(&report.boot);
    if same_boot && !fenced.off && !fenced.by.is_person() {
        return Some("its power was never cut, and its authority has ended otherwise".into());
    }
    // Fenced by a coordinator that had never heard it, its boot is not known to be another one; its
    // authority has ended all the same, and nothing runs there.
    (readmit == Readmit::Auto && !same_boot)
        .then(|| "it has booted anew, and nothing runs there".into())
}

/// Why a fenced node cannot be taken back yet, if so: something of it may still act.
pub fn obstacle_to_return(scene: &Scene, node: &NodeId) -> Option<String> {
    let Some(heard) = scene.reports.get(node).filter(|_| scene.is_up(node)) else {
        return Some("it is not heard".into());
    };
    let fenced = scene.state.fenced(node);
    if fenced.is_some_and(|f| f.off && f.boot.as_ref() == Some(&heard.report.boot)) {
        return Some("it is not heard since its power was cut".into());
    }
    for (id, replica) in &heard.report.parts.replicas {
        let Some(seen) = &replica.seen else {
            return Some(format!("its server of {id} was not probed yet"));
        };
        if seen.runs() && seen.role != Some(Role::Standby) {
            return Some(format!("a server of {id} runs there"));
        }
    }
    held(scene.state, node)
}

/// What a node still holds, if anything.
fn held(state: &ClusterState, node: &NodeId) -> Option<String> {
    let holds = |(id, w): (&WorkloadId, &WorkloadState)| {
        let epoch =
            (w.holder() == Some(node)).then(|| format!("it still holds epoch {} of {id}", w.epoch));
        epoch.or_else(|| {
            (w.place.holder.as_ref() == Some(node))
                .then(|| format!("{id}'s address has not left it"))
        })
    };
    state.workloads.iter().find_map(holds)
}

/// The nodes whose power is to be turned on, and by which entry: they hold nothing any more. With
/// them, whether others hold by now what each held last: a host that starts costs the others
/// nothing that they need just then.
pub fn to_turn_on(scene: &Scene) -> Vec<(NodeId, Index, bool)> {
    let wanted = |(node, state): (&NodeId, &NodeState)| {
        let asked = state
            .turn_on
            .filter(|asked| scene.on.get(node) != Some(asked))?;
        let powered = scene.spec.nodes.get(node)?.power.is_some();
        let waits =
            |w: &WorkloadState| matches!(&w.tenure, Tenure::Ended { last, .. } if last == node);
        let moved = !scene.state.workloads.values().any(waits);
        (powered && held(scene.state, node).is_none()).then(|| (node.clone(), asked, moved))
    };
    scene.state.nodes.iter().filter_map(wanted).collect()
}

/// The fences whose power has still to be cut: a node that is heard again is left its power, and so
/// is one that was to be turned on again and has booted since, as nothing of before runs there.
pub fn to_cut(scene: &Scene) -> Vec<(NodeId, Index)> {
    let wanted = |(node, state): (&NodeId, &NodeState)| {
        let fenced = state.fenced.as_ref()?;
        let powered = scene.spec.nodes.get(node)?.power.is_some();
        let open = powered && !fenced.off && scene.off.get(node) != Some(&fenced.id);
        let report = scene.reports.get(node).filter(|_| scene.is_up(node));
        let anew = fenced.after == After::On
            && report.is_some_and(|h| fenced.boot.as_ref().is_some_and(|b| *b != h.report.boot));
        let spared = scene.is_up(node) && (anew || !fenced.by.is_person());
        (open && !spared).then(|| (node.clone(), fenced.id))
    };
    scene.state.nodes.iter().filter_map(wanted).collect()
}
