//! What people want of the cluster as a whole: another spec, nodes to work on, another coordinator.
//! Each is looked at as a plan first, and the plan is the steps that will be taken.

use super::lead::Lead;
use super::{Node, ask_enrol, ask_point, ask_restart};
use crate::author::Author;
use crate::command::{ClusterAct, Command};
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::intent::{Intended, Intent, Maintenance, Want};
use crate::operation::Outcome;
use crate::outage::PROMOTE_ALLOWANCE;
use crate::planted::Planted;
use crate::request::{IntentPlan, Plea};
use crate::spec::{Alone, Judged, Loss, Revision, standbys};
use crate::steward::Scene;
use crate::steward::steps::{Todo, steps};
use crate::view::TodoView;
use crate::votes::Votes;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

impl From<&Todo> for TodoView {
    fn from(todo: &Todo) -> Self {
        Self {
            text: todo.text.clone(),
            done: todo.done,
            waits: todo.waits.clone(),
        }
    }
}

impl Node {
    /// What is wanted, as the log would have it.
    ///
    /// # Errors
    /// Why it cannot be wanted.
    pub(super) fn intended(
        &self,
        lead: &Lead,
        plea: Plea,
        (by, at, why): (Author, u64, Option<String>),
    ) -> Result<(Intended, Judged), String> {
        let mut judgement = Judged::default();
        let (want, until) = match plea {
            Plea::Revision {
                text,
                spec,
                based_on,
                judged,
            } => {
                let now = &self.revision;
                if let Some(number) = based_on
                    && number != now.number
                {
                    return Err(format!(
                        "it was written for revision {number}, and revision {} is in force, by {}: look at what that changed, and write it anew",
                        now.number, now.by
                    ));
                }
                judgement = match judged {
                    Some(judged) => *judged,
                    None => Judged::new(now, &text, &spec),
                };
                if judgement.based_on != now.number {
                    return Err(format!(
                        "revision {} by {} came into force meanwhile: ask again",
                        now.number, now.by
                    ));
                }
                let revision = Revision {
                    number: now.number + 1,
                    text: text.into(),
                    spec: Arc::new(*spec),
                    by: by.clone(),
                    at,
                    why: why.clone(),
                };
                (Want::Revision(Arc::new(revision)), None)
            }
            Plea::Maintenance {
                nodes,
                back,
                bare,
                cut_off,
                until,
            } => {
                nodes.iter().try_for_each(|node| self.known_node(node))?;
                let mut named = bare.iter().chain(&cut_off);
                named.try_for_each(|id| self.known_workload(id).map(|_| ()))?;
                let scene = self.scene_of(lead);
                let maintenance = Maintenance {
                    votes: votes_without(&scene, &nodes),
                    held: held_inside(&scene, &nodes),
                    nodes,
                    back,
                    bare,
                    cut_off,
                };
                (Want::Maintenance(maintenance), until)
            }
            Plea::Restart { workload } => {
                let restart = self.restart_wanted(&self.scene_of(lead), workload)?;
                (Want::Restart(restart), None)
            }
            Plea::SafetyPoint {
                workload,
                name,
                node,
                bare,
                until,
            } => {
                let asked = ask_point::Asked {
                    workload,
                    name,
                    node,
                    bare,
                    until,
                };
                let point = self.point_wanted(&self.scene_of(lead), asked, at)?;
                (Want::SafetyPoint(point), until)
            }
            Plea::GoBack { workload } => (Want::GoingBack(self.back_wanted(workload)?), None),
            Plea::Enrol { node } => {
                let enrolment = self.enrolment_wanted(&self.scene_of(lead), node)?;
                (Want::Enrolment(enrolment), None)
            }
        };
        let what = Intent {
            want,
            by,
            at,
            why,
            until,
        };
        let intended = Intended {
            what,
            change: judgement.change.clone(),
            turned: None,
        };
        Ok((intended, judgement))
    }

    /// What it takes, what it costs, and what stands in its way.
    pub(super) fn intent_plan(
        &self,
        lead: &Lead,
        intended: &Intended,
        judged: &Judged,
    ) -> IntentPlan {
        let scene = self.scene_of(lead);
        let todos = steps(&scene, intended);
        let (consequences, unmet) = match &intended.what.want {
            Want::Revision(revision) => (
                consequences(&scene, judged),
                self.obstacles(revision, judged),
            ),
            Want::Maintenance(maintenance) => (
                of_maintenance(&scene, maintenance),
                self.obstacles_to_rest(&scene, maintenance),
            ),
            Want::Restart(restart) => (
                ask_restart::consequences(&scene, restart),
                ask_restart::obstacles(&scene, restart),
            ),
            Want::SafetyPoint(point) => (
                ask_point::consequences(&scene, point),
                ask_point::obstacles(&scene, point),
            ),
            Want::GoingBack(back) => (
                ask_point::consequences_of_going_back(&scene, back),
                ask_point::obstacles_to_going_back(&scene, back),
            ),
            Want::Enrolment(enrolment) => (
                ask_enrol::consequences(&scene, enrolment),
                ask_enrol::obstacles(&scene, enrolment),
            ),
        };
        let mut plan = IntentPlan {
            title: intended.what.want.title(),
            based_on: self.revision.number,
            steps: todos.iter().map(TodoView::from).collect(),
            consequences,
            unmet,
            given_up: ask_point::given_up(&scene, intended),
            seen: String::new(),
        };
        plan.seen = plan.print();
        plan
    }

    /// The cluster's state, and what the specs alone say, stand in the way of another spec.
    fn obstacles(&self, revision: &Revision, judged: &Judged) -> Vec<String> {
        let mut unmet = judged.unmet.clone();
        if let Some((id, pending)) = self.state.charter.pending() {
            unmet.push(format!(
                "{id}, revision {} by {}, is not in force yet: wait for it, or end it with `karst operation end {id}`",
                pending.number, pending.by
            ));
        }
        let rests = |n: &NodeId| {
            let mut all = self.state.charter.maintenances();
            all.any(|(_, maintenance)| maintenance.nodes.contains(n))
        };
        if revision.spec.votes().voters().all(&rests) {
            unmet.push("nobody would have a vote but nodes in maintenance".into());
        }
        let before = self.spec.votes();
        let mut stay = before
            .voters()
            .filter(|n| revision.spec.nodes.contains_key(*n));
        if stay.all(rests) {
            unmet.push("no voter would stay that is not in maintenance".into());
        }
        for (id, spec) in &revision.spec.workloads {
            let w = self.state.workload(id);
            let now = self.spec.workloads.get(id);
            let shrinks =
                now.is_some_and(|now| now.replicas.keys().any(|n| !spec.replicas.contains_key(n)));
            if shrinks && w.opened.is_some() && !w.is_open() {
                unmet.push(format!(
                    "{id} has no primary just now: who has every write is not settled; wait until it has one"
                ));
            }
            let Some(holder) = w.holder().filter(|_| w.opened.is_some()) else {
                continue;
            };
            let confirmed = w.confirming();
            let confirmed = confirmed.filter(|n| spec.replicas.contains_key(*n)).count();
            let stays = spec.replicas.contains_key(holder);
            let goes_on = spec.alone == Alone::Continue || spec.loss != Loss::None;
            let needed = usize::from(!stays) + usize::from(!goes_on);
            if shrinks && confirmed < needed {
                unmet.push(format!(
                    "{id} would be left without a copy that has every write: add one in a revision of its own, and wait until it follows"
                ));
            }
        }
        unmet
    }

    fn obstacles_to_rest(&self, scene: &Scene, maintenance: &Maintenance) -> Vec<String> {
        let mut unmet = Vec::new();
        for (id, other) in self.state.charter.maintenances() {
            let both = other.nodes.intersection(&maintenance.nodes);
            unmet.extend(both.map(|node| format!("{node} is in maintenance already, by {id}")));
        }
        let now = scene.wanted_votes();
        let votes = maintenance.votes.as_ref().unwrap_or(&now);
        if let Some(why) = scene.lacks_majority_without(&maintenance.nodes, votes) {
            unmet.push(format!(
                "without what rests then, {why}: bring back who is not heard, or end another maintenance first"
            ));
        }
        for (id, spec) in &scene.spec.workloads {
            let lost = scene.ways_in_lost(id, spec, &maintenance.nodes);
            if let Some(lost) = lost.filter(|_| !maintenance.cut_off.contains(id)) {
                unmet.push(format!("{lost}; go on without it with --cut-off {id}"));
            }
        }
        for (id, spec) in &scene.spec.workloads {
            let inside = |n: &&NodeId| maintenance.nodes.contains(*n);
            let w = scene.state.workload(id);
            let touched = spec.replicas.keys().any(|n| inside(&n));
            let holder_stays = w.holder().is_some_and(|h| !inside(&h));
            let confirmed = w.confirming().filter(|n| !inside(n)).count();
            // After a move away the new primary needs a standby outside as well.
            let needed = if holder_stays { 1 } else { 2 };
            let bare = maintenance.bare.contains(id) && spec.alone == Alone::Continue;
            if !touched || spec.loss != Loss::None || bare {
                continue;
            }
            if w.opened.is_some() && !w.is_open() {
                unmet.push(format!(
                    "{id} has no primary just now: who has every write is not settled; wait until it has one"
                ));
                continue;
            }
            if confirmed >= needed {
                continue;
            }
            let remedy = match spec.alone {
                Alone::Continue => format!("go on without that with --bare {id}"),
                Alone::Block => "its writes would wait: add a replica elsewhere first".into(),
            };
            unmet.push(format!(
                "{id} would be left without a standby that has every write; {remedy}"
            ));
        }
        unmet
    }

    /// An intent is over before it is done, as a person wants.
    pub(super) fn end_intent(&self, intent: OperationId, by: Author) -> Result<Command, String> {
        let Some(intended) = self.state.charter.intents.get(&intent) else {
            if self.state.charter.over.contains_key(&intent) {
                return Err(format!("{intent} is over already"));
            }
            return Err(format!(
                "{intent} is nothing that anybody wants of the cluster as a whole"
            ));
        };
        let act = match &intended.what.want {
            _ if intended.lasts() => {
                if let Some((back, _)) = self.state.charter.goes_back_to(intent) {
                    return Err(format!(
                        "{back} goes back to it just now: wait for that, or end that first"
                    ));
                }
                ClusterAct::End { intent, by }
            }
            Want::SafetyPoint(point) => {
                return Err(format!(
                    "safety point {} is dropped already, and {} comes back",
                    point.name, point.node
                ));
            }
            Want::Revision(revision) if intended.turned.is_some() => {
                return Err(format!(
                    "revision {} is in force: go back with `karst spec revert {}`",
                    revision.number,
                    revision.number - 1
                ));
            }
            Want::GoingBack(back) if self.state.is_past_return(intent, &back.workload) => {
                return Err(format!(
                    "{} is on its way to {} already, and what was written since {} is given up: it cannot be ended any more",
                    back.workload, back.node, back.name
                ));
            }
            Want::Maintenance(_)
            | Want::Revision(_)
            | Want::Restart(_)
            | Want::GoingBack(_)
            | Want::Enrolment(_) => ClusterAct::Close {
                intent,
                outcome: Outcome::Undone(format!("ended by {by}")),
            },
        };
        Ok(Command::Cluster(act))
    }

    /// A node of the spec that is not here yet, or whose disk was lost.
    pub(super) fn may_be_invited(&self, scene: &Scene, node: &NodeId) -> Result<(), String> {
        self.known_node(node)?;
        if scene.is_up(node) {
            return Err(format!("{node} is here already: its daemon is heard"));
        }
        Ok(())
    }

    /// Whether somebody may join by an invitation: with a text if the same host has already, whose
    /// answer was lost.
    pub(super) fn may_join(
        &self,
        invitation: OperationId,
        (node, digest, key): (&NodeId, &str, &str),
        at: u64,
    ) -> Result<Option<String>, String> {
        let found = self.state.charter.invitations.get(&invitation);
        let found = found.filter(|i| i.node == *node && i.digest == digest);
        let Some(found) = found else {
            return Err(format!(
                "there is no such invitation of {node}: ask for another with `karst node add {node}`"
            ));
        };
        if at > found.until {
            return Err(format!(
                "the invitation of {node} has ended: ask for another with `karst node add {node}`"
            ));
        }
        match &found.used {
            None if self.state.is_anothers(node, key) => Err(format!(
                "another node shows that key already: each host joins with a key of its own; make one with `karst join` on {node}"
            )),
            None => Ok(None),
            Some(used) if used == key => Ok(Some(format!("{node} has joined"))),
            Some(_) => Err(format!(
                "the invitation of {node} was used already, by another key: if that was not you, invite it anew and look who has that key"
            )),
        }
    }

    /// Who may lead in place of this node: a voter that is heard and has everything.
    pub(super) fn successor(&self, lead: &Lead, to: Option<NodeId>) -> Result<NodeId, String> {
        let scene = self.scene_of(lead);
        if let Some(to) = &to {
            self.known_node(to)?;
            if *to == self.me {
                return Err(format!("{to} is the coordinator already"));
            }
        }
        let obstacle = |n: &NodeId| {
            if self.consensus.voters().weight(n) == 0 {
                Some("it has no vote")
            } else if !scene.is_up(n) {
                Some("it is not heard")
            } else if scene.leaving.node(n) {
                Some("it is in maintenance")
            } else {
                (!self.consensus.has_all(n)).then_some("it has not all of the log yet")
            }
        };
        if let Some(to) = to {
            return match obstacle(&to) {
                Some(why) => Err(format!("{to} cannot coordinate now: {why}")),
                None => Ok(to),
            };
        }
        let mut voters = self.consensus.voters().all().into_iter();
        let fit = voters.find(|n| **n != self.me && obstacle(n).is_none());
        fit.cloned()
            .ok_or_else(|| "nobody else can coordinate now".into())
    }
}

fn consequences(scene: &Scene, judged: &Judged) -> Vec<String> {
    let pause = PROMOTE_ALLOWANCE.as_millis();
    let held = |(id, node): &&(WorkloadId, NodeId)| scene.state.workload(id).holder() == Some(node);
    let out = judged.change.replicas_out.iter();
    let moves = out.filter(held).map(|(id, node)| {
        format!("{id} moves away from {node}: its writes pause for about {pause} ms")
    });
    moves.chain(judged.consequences.iter().cloned()).collect()
}

/// The votes while these nodes rest beside those that rest already, where the others would be no
/// majority (G5).
fn votes_without(scene: &Scene, nodes: &BTreeSet<NodeId>) -> Option<Votes> {
    let all = scene.spec.votes();
    let alone = scene.breaks(Planted::RestsAlone);
    let rests = |n: &NodeId| nodes.contains(n) || (scene.leaving.node(n) && !alone);
    let outside = all.iter().filter(|(n, _)| !rests(n));
    let outside = Votes::new(outside.map(|(n, w)| (n.clone(), w)));
    let enough = 2 * outside.total() > all.total();
    (!enough && outside.total() > 0).then_some(outside)
}

fn held_inside(scene: &Scene, nodes: &BTreeSet<NodeId>) -> BTreeMap<WorkloadId, NodeId> {
    let held = scene.spec.workloads.keys().filter_map(|id| {
        let holder = scene.state.workload(id).holder()?;
        nodes.contains(holder).then(|| (id.clone(), holder.clone()))
    });
    held.collect()
}

fn of_maintenance(scene: &Scene, maintenance: &Maintenance) -> Vec<String> {
    let mut all = Vec::new();
    let pause = PROMOTE_ALLOWANCE.as_millis();
    for (id, node) in &maintenance.held {
        all.push(format!(
            "{id} moves away from {node}: its writes pause for about {pause} ms"
        ));
    }
    for (id, spec) in &scene.spec.workloads {
        all.extend(scene.ways_in_lost(id, spec, &maintenance.nodes));
        let inside = spec
            .replicas
            .keys()
            .filter(|n| maintenance.nodes.contains(*n));
        let outside = spec.replicas.len() - inside.clone().count();
        if inside.count() > 0 {
            let standbys = standbys(outside.saturating_sub(1));
            all.push(format!("{id} has {standbys} meanwhile"));
        }
    }
    if let Some(votes) = &maintenance.votes {
        all.push(format!(
            "{} votes meanwhile, and {} of them are needed",
            votes.total(),
            votes.needed()
        ));
    } else {
        let outside = scene.spec.votes();
        let left = outside.total() - outside.granted(&maintenance.nodes);
        if left < outside.total() {
            all.push(format!(
                "{left} of {} votes are heard meanwhile, and {} are needed",
                outside.total(),
                outside.needed()
            ));
        }
    }
    all
}
