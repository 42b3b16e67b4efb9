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
use crate::ownstep::{IfFails, OwnStep};
use crate::planted::Planted;
use crate::request::{IntentPlan, Plea};
use crate::spec::{
    Alone, Change, Finding, Leads, Loss, Revision, Severity, Spec, WorkloadSpec, check, fixed,
    newly_reached,
};
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
    ) -> Result<Intended, String> {
        let (want, until) = match plea {
            Plea::Revision {
                text,
                spec,
                based_on,
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
        let change = match &what.want {
            Want::Revision(revision) => Change::between(&self.spec, &revision.spec),
            Want::Maintenance(_)
            | Want::Restart(_)
            | Want::SafetyPoint(_)
            | Want::GoingBack(_)
            | Want::Enrolment(_) => Change::default(),
        };
        Ok(Intended {
            what,
            change,
            turned: None,
        })
    }

    /// What it takes, what it costs, and what stands in its way.
    pub(super) fn intent_plan(&self, lead: &Lead, intended: &Intended) -> IntentPlan {
        let scene = self.scene_of(lead);
        let todos = steps(&scene, intended);
        let (consequences, unmet) = match &intended.what.want {
            Want::Revision(revision) => (
                self.consequences(&scene, intended, revision),
                self.obstacles(revision),
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

    /// What stands in the way of another spec.
    fn obstacles(&self, revision: &Revision) -> Vec<String> {
        let mut unmet: Vec<String> = fixed(&self.spec, &revision.spec)
            .into_iter()
            .map(|fixed| {
                let key = fixed.path.join(".");
                format!(
                    "{key} cannot change while the cluster runs; {}",
                    fixed.remedy
                )
            })
            .collect();
        let errors = check(&revision.spec).into_iter();
        let errors = errors.filter(|finding| finding.severity == Severity::Error);
        unmet.extend(errors.map(|e| format!("{}: {}; {}", e.path.join("."), e.what, e.remedy)));
        if let Some((id, pending)) = self.state.charter.pending() {
            unmet.push(format!(
                "{id}, revision {} by {}, is not in force yet: wait for it, or end it with `karst operation end {id}`",
                pending.number, pending.by
            ));
        }
        if *revision.spec == *self.spec && revision.text == self.revision.text {
            unmet.push("nothing is different from the spec in force".into());
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

    fn consequences(&self, scene: &Scene, intended: &Intended, revision: &Revision) -> Vec<String> {
        let change = &intended.change;
        let mut all = Vec::new();
        let pause = PROMOTE_ALLOWANCE.as_millis();
        for (id, node) in &change.replicas_out {
            if scene.state.workload(id).holder() == Some(node) {
                all.push(format!(
                    "{id} moves away from {node}: its writes pause for about {pause} ms"
                ));
            }
            let data = scene
                .spec
                .workloads
                .get(id)
                .and_then(|w| w.replicas.get(node));
            if let Some(replica) = data {
                all.push(format!(
                    "the data of {id} stay on {node} in {}: nothing removes them",
                    replica.data
                ));
            }
        }
        for id in &change.workloads_out {
            if let Some(workload) = scene.spec.workloads.get(id) {
                let places = workload.replicas.iter();
                let places: Vec<String> = places.map(|(n, r)| format!("{n} {}", r.data)).collect();
                all.push(format!(
                    "{id} is served no more; its data stay: {}",
                    places.join(", ")
                ));
            }
        }
        for node in &change.nodes_out {
            all.push(format!(
                "{node} is heard no more, and its key is refused; its daemon runs on there, with nothing to do, until somebody stops it"
            ));
        }
        for (id, spec) in &revision.spec.workloads {
            let left = spec.replicas.len();
            let before = scene.spec.workloads.get(id).map(|w| w.replicas.len());
            if before.is_some_and(|before| left < before) {
                let standbys = standbys(left.saturating_sub(1));
                all.push(format!("{id} has {standbys} from then on"));
            }
        }
        for (id, was) in &scene.spec.workloads {
            let is = revision.spec.workloads.get(id);
            let closes = |n: &&NodeId| is.is_some_and(|is| !is.gates.contains_key(*n));
            for node in was.gates.keys().filter(closes) {
                all.push(format!(
                    "the gate of {id} on {node} closes: whoever is connected there connects anew elsewhere"
                ));
            }
        }
        for (id, was) in &scene.spec.workloads {
            let is = revision.spec.workloads.get(id);
            let gates = |w: &WorkloadSpec| w.reads.as_ref().map(|reads| reads.gates.clone());
            let (was, is) = (gates(was), is.map(|is| gates(is).unwrap_or_default()));
            for (node, at) in was.into_iter().flatten() {
                if is.as_ref().is_some_and(|is| is.get(&node) != Some(&at)) {
                    all.push(format!(
                        "the read gate of {id} on {node} closes: whoever reads there connects anew elsewhere"
                    ));
                }
            }
        }
        all.extend(newly_reached(scene.spec, &revision.spec));
        all.extend(words_changed(scene.spec, &revision.spec));
        all.extend(names_changed(scene.spec, &revision.spec));
        all.extend(steps_changed(change, scene.spec, &revision.spec));
        for id in &change.settings {
            let was = scene.spec.workloads.get(id).map(|w| &w.settings);
            let is = revision.spec.workloads.get(id).map(|w| &w.settings);
            if let Some((was, is)) = was.zip(is) {
                let keys = was.keys().chain(is.keys()).collect::<BTreeSet<_>>();
                let other = keys.into_iter().filter(|k| was.get(*k) != is.get(*k));
                let other: Vec<&str> = other.map(String::as_str).collect();
                all.push(format!("{id} has other settings: {}", other.join(", ")));
                all.extend(clients_changed(id, was, is));
            }
        }
        let known: BTreeSet<String> = check(scene.spec).iter().map(Finding::name).collect();
        let new = check(&revision.spec).into_iter();
        let new = new.filter(|f| f.severity == Severity::Warning && !known.contains(&f.name()));
        all.extend(new.map(|f| format!("from then on: {}", f.what)));
        if change.timings {
            let (was, is) = (&scene.spec.timings, &revision.spec.timings);
            all.push(format!(
                "leases last {} ms in place of {} ms; until {} ms later a failover waits as long as before",
                is.lease.as_millis(),
                was.lease.as_millis(),
                was.lease_is_over_after().as_millis()
            ));
        }
        let out = change
            .nodes_out
            .iter()
            .filter(|n| scene.spec.nodes.get(*n).is_some_and(|node| node.votes > 0));
        let out: Vec<&str> = out.map(NodeId::as_str).collect();
        if !out.is_empty() {
            let left = scene.spec.votes().total() - scene.spec.votes().granted(&change.nodes_out);
            all.push(format!(
                "without {} there are {left} votes, and {} of them are needed, until others have joined",
                out.join(", "),
                left / 2 + 1
            ));
        }
        all
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

/// Lines of a list of clients that come or go.
fn clients_changed(
    id: &WorkloadId,
    was: &BTreeMap<String, String>,
    is: &BTreeMap<String, String>,
) -> Vec<String> {
    let lines = |of: &BTreeMap<String, String>| -> Vec<String> {
        let text = of.get("clients").map_or("", String::as_str);
        let lines = text.lines().map(str::trim);
        let written = |line: &&str| !line.is_empty() && !line.starts_with('#');
        lines.filter(written).map(String::from).collect()
    };
    let (was, is) = (lines(was), lines(is));
    let out = was.iter().filter(|line| !is.contains(line));
    let out = out.map(|line| format!("{id} goes by this line for clients no more: {line}"));
    let new = is.iter().filter(|line| !was.contains(line));
    let new = new.map(|line| format!("{id} goes by a new line for clients: {line}"));
    out.chain(new).collect()
}

fn standbys(count: usize) -> String {
    match count {
        0 => "no standby".into(),
        1 => "one standby".into(),
        more => format!("{more} standbys"),
    }
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

/// Another `loss` or `alone` holds for the cluster from its entry, and for writes from when the primary
/// has taken it. A primary that is cut off takes nothing until its lease is over.
fn words_changed(was: &Spec, is: &Spec) -> Vec<String> {
    let most = was.timings.lease_is_over_after().as_millis();
    let both = is.workloads.iter();
    let both = both.filter_map(|(id, is)| Some((id, was.workloads.get(id)?, is)));
    let text = |(id, was, is): (&WorkloadId, &WorkloadSpec, &WorkloadSpec)| {
        let loss = (was.loss != is.loss).then_some("loss");
        let alone = (was.alone != is.alone).then_some("alone");
        let keys: Vec<&str> = loss.into_iter().chain(alone).collect();
        (!keys.is_empty()).then(|| {
            format!(
                "the new {} of {id} holds for writes once its primary has taken it; a primary that is cut off acknowledges by the old one for {most} ms at most",
                keys.join(" and ")
            )
        })
    };
    both.filter_map(text).collect()
}

/// Names that begin to lead somewhere, and those that nobody keeps any more.
fn names_changed(was: &Spec, is: &Spec) -> Vec<String> {
    let name = |spec: &Spec, id: &WorkloadId| {
        let name = spec.workloads.get(id)?.name.as_ref()?;
        Some((name.record.clone(), name.leads))
    };
    let ids: BTreeSet<&WorkloadId> = was.workloads.keys().chain(is.workloads.keys()).collect();
    let mut all = Vec::new();
    for id in ids {
        let (was, is) = (name(was, id), name(is, id));
        if let Some((record, leads)) = is.clone().filter(|_| was != is) {
            let to = match leads {
                Leads::Address => "the floating address",
                Leads::Gates => "the gates",
                Leads::Primary => "the primary",
            };
            all.push(format!("{record} leads to {to} of {id} from then on"));
        }
        let kept = is.map(|(record, _)| record);
        if let Some((record, _)) = was.filter(|(record, _)| kept.as_ref() != Some(record)) {
            all.push(format!(
                "{record} stays at its name server and is kept no more: remove it there"
            ));
        }
    }
    all
}

/// Own steps that run from then on, and those that do not any more.
fn steps_changed(change: &Change, was: &Spec, is: &Spec) -> Vec<String> {
    let new = change.steps.iter();
    let new = new.filter_map(|name| Some((name, is.steps.get(name)?)));
    let runs = |(name, step): (&String, &OwnStep)| {
        let so = match step.if_fails {
            IfFails::GoOn => "and everything goes on if it fails",
            IfFails::Stop => "and may keep it from being done",
        };
        let (at, limit) = (step.at.word(), crate::text::span(step.limit));
        format!("own step {name} runs {at}, for {limit} at most, {so}")
    };
    let gone = was
        .steps
        .keys()
        .filter(|name| !is.steps.contains_key(*name));
    let gone = gone.map(|name| format!("own step {name} runs no more"));
    new.map(runs).chain(gone).collect()
}
