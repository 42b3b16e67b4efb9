//! What an intent takes, as one list of steps: before it is in the log that is the plan which people
//! approve, afterwards their progress, and the coordinator does what the first step needs that is
//! not done. No progress is kept anywhere, so that a change of coordinator loses none.

use super::{Cause, Kind, Operation, Scene};
use super::{candidates, enrolling, holding, readiness, rolling, voting};
use crate::command::{ClusterAct, Command, WorkloadAct};
use crate::fact::listed;
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::intent::{Intended, Maintenance, Want};
use crate::operation::Outcome;
use crate::ownstep::Point;
use crate::replica::Observation;
use crate::spec::{Alone, Loss, Revision, WorkloadSpec};
use crate::state::{HoldsOn, Tenure};
use std::collections::BTreeSet;

/// One step.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Todo {
    pub text: String,
    pub done: bool,
    /// What it waits for, if it waits.
    pub waits: Option<String>,
    /// Nothing is held any more: here a maintenance rests until it is ended.
    pub rests: bool,
    /// What the coordinator commits for it, once everything before it is done.
    pub next: Vec<Command>,
}

impl Todo {
    pub(super) fn new(text: String, done: bool) -> Self {
        Self {
            text,
            done,
            waits: None,
            rests: false,
            next: Vec::new(),
        }
    }

    pub(super) fn waiting(self, waits: Option<String>) -> Self {
        let waits = waits.filter(|_| !self.done);
        Self { waits, ..self }
    }

    pub(super) fn by(self, next: Option<Command>) -> Self {
        let next = next.filter(|_| !self.done).into_iter().collect();
        Self { next, ..self }
    }
}

/// The steps of an intent, in their order. It may not be in the log yet.
pub fn steps(scene: &Scene, intended: &Intended) -> Vec<Todo> {
    match &intended.what.want {
        Want::Revision(revision) => of_revision(scene, intended, revision),
        Want::Maintenance(maintenance) => of_maintenance(scene, intended, maintenance),
        Want::Restart(restart) => rolling::steps(scene, intended, restart),
        Want::SafetyPoint(point) => holding::steps(scene, intended, point),
        Want::GoingBack(back) => holding::steps_back(scene, intended, back),
        Want::Enrolment(enrolment) => enrolling::steps(scene, intended, enrolment),
    }
}

/// What to commit for all intents now; and to whom to hand over first, if to anybody.
pub fn decide(scene: &Scene) -> (Vec<Command>, Option<NodeId>) {
    let charter = &scene.state.charter;
    let mut commands = Vec::new();
    for (since, timings) in &charter.live {
        let relied_on = [timings.lease, timings.election_timeout].into_iter().max();
        let over = scene.elected_at.max(scene.shaped_at)
            + crate::time::stretched(relied_on.unwrap_or_default());
        if over <= scene.now {
            let since = *since;
            commands.push(Command::Cluster(ClusterAct::Retire { since }));
        }
    }
    let votes = scene.leaves_lead().unwrap_or_else(|| scene.next_of_votes());
    let to = match votes {
        voting::Step::HandOver(to) => Some(to),
        voting::Step::Propose(command) => {
            commands.push(*command);
            None
        }
        voting::Step::Done | voting::Step::Waits(_) => None,
    };
    commands.extend(rolling::ended(scene));
    commands.extend(holding::ended(scene));
    commands.extend(enrolling::ended(scene));
    let closed: BTreeSet<OperationId> = commands.iter().filter_map(closes).collect();
    for (id, intended) in &charter.intents {
        // A wish that is said to be over does nothing more (G4).
        if !closed.contains(id) {
            commands.extend(of_intent(scene, *id, intended));
        }
    }
    (commands, to)
}

fn closes(command: &Command) -> Option<OperationId> {
    match command {
        Command::Cluster(ClusterAct::Close { intent, .. }) => Some(*intent),
        _ => None,
    }
}

fn of_intent(scene: &Scene, id: OperationId, intended: &Intended) -> Vec<Command> {
    let goes_back = scene.state.charter.goes_back_to(id).is_some();
    if intended.lasts()
        && !goes_back
        && let Some(until) = intended.what.until
        && scene.wall.is_some_and(|now| now >= until)
    {
        let by = crate::author::Author::Cluster;
        return vec![Command::Cluster(ClusterAct::End { intent: id, by })];
    }
    let todos = steps(scene, intended);
    let first = todos.iter().find(|todo| !todo.done);
    match first {
        Some(todo) => todo
            .next
            .iter()
            .map(|command| named(command.clone(), id))
            .collect(),
        None => vec![Command::Cluster(ClusterAct::Close {
            intent: id,
            outcome: Outcome::Done,
        })],
    }
}

/// Steps are made before the intent has a number.
fn named(mut command: Command, id: OperationId) -> Command {
    match &mut command {
        Command::Cluster(ClusterAct::Adopt { intent }) => *intent = id,
        Command::Workload(_, WorkloadAct::HoldBack(Some(held))) => held.intent = id,
        Command::Workload(_, WorkloadAct::Begin(operation)) => operation.intent = Some(id),
        _ => {}
    }
    command
}

fn of_revision(scene: &Scene, intended: &Intended, revision: &Revision) -> Vec<Todo> {
    let change = &intended.change;
    let taken = intended.turned.is_some();
    let mut todos = Vec::new();
    for node in &change.nodes_out {
        let voters = scene.state.charter.voters.as_ref();
        if taken
            || voters.is_some_and(|v| v.weight(node) > 0)
            || scene.spec.votes().weight(node) > 0
        {
            let done = taken || voters.is_some_and(|v| v.weight(node) == 0);
            todos.push(Todo::new(format!("{node} loses its vote"), done).waiting(waits(scene)));
        }
    }
    for id in &change.workloads_out {
        let w = scene.state.workload(id);
        let done =
            taken || (w.holder().is_none() && w.operation.is_none() && w.place.holder.is_none());
        let text = format!(
            "{id} ends: its clients are cut off for good, and its data stay where they are"
        );
        todos.push(Todo::new(text, done));
    }
    for (id, node) in &change.replicas_out {
        todos.extend(empty_replica(scene, intended, id, node, taken));
    }
    for (id, node) in &change.holders_out {
        let here = scene.state.workload(id).place.holder.as_ref() == Some(node);
        if here && !taken && !change.addresses_out.contains(id) {
            let text = format!("the address of {id} leaves {node}");
            todos.push(Todo::new(text, false));
        }
    }
    for id in &change.addresses_out {
        let done = taken || scene.state.workload(id).place.holder.is_none();
        todos.push(Todo::new(
            format!("the address of {id} is taken away"),
            done,
        ));
    }
    let (look, ready) = readiness::look(scene, change, revision, taken);
    todos.extend(look);
    let adopt = Command::Cluster(ClusterAct::Adopt {
        intent: OperationId(0),
    });
    let text = format!("revision {} is in force", revision.number);
    let held = scene.state.holds_on(change);
    let held = held.map(|held| held_text(&held));
    let free = held.is_none() && ready;
    todos.push(
        Todo::new(text, taken)
            .waiting(held)
            .by(free.then_some(adopt)),
    );
    let known = |id: &WorkloadId, node: &NodeId| {
        let spec = scene.spec.workloads.get(id);
        !taken || spec.is_some_and(|w| w.replicas.contains_key(node))
    };
    for node in &change.nodes_in {
        if taken && !scene.spec.nodes.contains_key(node) {
            continue;
        }
        let done = taken && scene.is_up(node);
        let waits = taken.then(|| format!("{node} is expected and not heard yet"));
        todos.push(Todo::new(format!("{node} takes part"), done).waiting(waits));
    }
    for (id, node) in change
        .replicas_in
        .iter()
        .filter(|(id, node)| known(id, node))
    {
        let done = taken && follows(scene, id, node);
        let waits = taken.then(|| doing(scene, id, node));
        todos
            .push(Todo::new(format!("{node} has a copy of {id} and follows"), done).waiting(waits));
    }
    for id in &change.workloads_in {
        if taken && !scene.spec.workloads.contains_key(id) {
            continue;
        }
        let serves = matches!(
            scene.state.workload(id).tenure,
            Tenure::Open { serving: true, .. }
        );
        todos.push(Todo::new(
            format!("{id} has a primary and serves"),
            taken && serves,
        ));
    }
    if change.votes {
        let done = taken && scene.next_of_votes() == voting::Step::Done;
        let text = format!("votes: {}", listed(&revision.spec.votes()));
        let waits = if taken { waits(scene) } else { None };
        todos.push(Todo::new(text, done).waiting(waits));
    }
    todos
}

fn of_maintenance(scene: &Scene, intended: &Intended, maintenance: &Maintenance) -> Vec<Todo> {
    let over = intended.turned.is_some();
    let inside = |n: &NodeId| maintenance.nodes.contains(n);
    let mut todos = Vec::new();
    let leads = inside(scene.me);
    let text = "a node outside coordinates".to_string();
    todos.push(Todo::new(text, over || !leads).waiting(waits(scene)));
    if let Some(votes) = &maintenance.votes {
        let voters = scene.state.charter.voters.as_ref();
        let done = over || voters.is_some_and(|v| v.now == *votes && !v.is_joint());
        let text = format!("votes meanwhile: {}", listed(votes));
        todos.push(Todo::new(text, done).waiting(waits(scene)));
    }
    let prepare = maintenance.nodes.iter();
    todos.extend(prepare.filter_map(|node| prepares(scene, node, over)));
    for (id, spec) in &scene.spec.workloads {
        for node in spec.replicas.keys().filter(|n| inside(n)) {
            todos.extend(empty_replica(scene, intended, id, node, over));
        }
        let w = scene.state.workload(id);
        if let Some(holder) = w.place.holder.as_ref().filter(|n| inside(n) && !over) {
            let text = format!("the address of {id} leaves {holder}");
            todos.push(Todo::new(text, false));
        }
    }
    let names: Vec<&str> = maintenance.nodes.iter().map(NodeId::as_str).collect();
    let names = names.join(", ");
    // Live, and over all that rests: a voter that is lost later takes it back (G5).
    let lacks = scene.obstacle_to_switching_off(&maintenance.nodes);
    let text = format!("a majority of the votes is heard without {names}");
    todos.push(Todo::new(text, over || lacks.is_none()).waiting(lacks));
    let text = format!("{names} may be switched off: nothing is held there");
    let empty = todos.iter().all(|todo| todo.done);
    let rests = match intended.what.until {
        Some(until) => format!("until {}, or until it is ended", crate::text::utc(until)),
        None => "until it is ended".into(),
    };
    let rest = Todo::new(text, over).waiting(empty.then_some(rests));
    todos.push(Todo {
        rests: true,
        ..rest
    });
    if maintenance.votes.is_some() {
        let done = over && scene.next_of_votes() == voting::Step::Done;
        let waits = if over { waits(scene) } else { None };
        let text = format!("votes: {}", listed(&scene.spec.votes()));
        todos.push(Todo::new(text, done).waiting(waits));
    }
    let back = maintenance.held.iter().filter(|_| maintenance.back);
    for (id, node) in back {
        let Some(spec) = scene.spec.workloads.get(id) else {
            continue;
        };
        let w = scene.state.workload(id);
        let there = w.is_open() && w.holder() == Some(node) && w.operation.is_none();
        let gone = !spec.replicas.contains_key(node);
        let todo = Todo::new(
            format!("{id} moves back to {node}"),
            over && (there || gone),
        );
        let (waits, next) = if over {
            moving(scene, intended, id, Some(node))
        } else {
            (None, None)
        };
        todos.push(todo.waiting(waits).by(next));
    }
    todos
}

/// A node's own steps before it rests; no primary leaves it before they have run. Whoever is not
/// heard, or has no primary, is not waited for.
fn prepares(scene: &Scene, node: &NodeId, over: bool) -> Option<Todo> {
    let all = scene.spec.steps_at(Point::BeforeMaintenance, None, node);
    let names: Vec<&str> = all.map(|(name, _)| name.as_str()).collect();
    if names.is_empty() {
        return None;
    }
    let mut workloads = scene.state.workloads.values();
    let holds = workloads.any(|w| w.holder() == Some(node));
    // A new coordinator has heard nothing of it yet, which is no word that nothing is to be waited for.
    let silent = node != scene.me && scene.health.is_suspected(node, scene.now);
    let mut all = scene.state.charter.maintenances();
    let mine = all.find(|(_, maintenance)| maintenance.nodes.contains(node));
    let report = scene.reports.get(node);
    let prepared = report.and_then(|heard| heard.report.parts.prepared.as_ref());
    // What it says of an earlier rest is no word about this one.
    let prepared = prepared.filter(|prepared| mine.is_some_and(|(id, _)| id == prepared.intent));
    let waits = match prepared {
        None => Some("they have not run yet".to_string()),
        Some(prepared) if prepared.failed.is_empty() => None,
        Some(prepared) => Some(prepared.failed.join("; ")),
    };
    let waits = waits.filter(|_| !over && holds && !silent);
    let text = format!("{node} runs its own steps: {}", names.join(", "));
    Some(Todo::new(text, waits.is_none()).waiting(waits))
}

/// A replica holds nothing any more: it is not primary, and no write waits for it.
fn empty_replica(
    scene: &Scene,
    intended: &Intended,
    id: &WorkloadId,
    node: &NodeId,
    over: bool,
) -> Vec<Todo> {
    let w = scene.state.workload(id);
    let mut todos = Vec::new();
    let held = match &intended.what.want {
        Want::Maintenance(maintenance) => maintenance.held.get(id) == Some(node),
        Want::Revision(_)
        | Want::Restart(_)
        | Want::SafetyPoint(_)
        | Want::GoingBack(_)
        | Want::Enrolment(_) => false,
    };
    let holds = w.holder() == Some(node);
    if holds || held {
        let text = format!("{id} moves away from {node}");
        let (waits, next) = if holds && !over {
            moving(scene, intended, id, None)
        } else {
            (
                w.operation.map(|operation| format!("{operation} runs")),
                None,
            )
        };
        let done = over || (!holds && w.operation.is_none());
        todos.push(Todo::new(text, done).waiting(waits).by(next));
    }
    let member = w.sync.asked.contains(node) || w.sync.sure.contains(node);
    let spec = scene.spec.workloads.get(id);
    let waited_for = spec.is_some_and(|spec| spec.loss == Loss::None);
    if waited_for {
        let alone = bare(scene, id, node).filter(|_| member);
        let text = format!("no write of {id} waits for {node}");
        todos.push(Todo::new(text, over || (!member && !holds)).waiting(alone));
    }
    todos
}

/// Why a member cannot leave the sync set yet, if so: nobody else would have every write (K2).
pub(super) fn bare(scene: &Scene, id: &WorkloadId, node: &NodeId) -> Option<String> {
    let w = scene.state.workload(id);
    let spec = scene.spec.workloads.get(id)?;
    let others = w.confirming().any(|n| n != node);
    let soon = scene.state.charter.pending();
    let soon = soon.and_then(|(_, revision)| revision.spec.workloads.get(id));
    // What is gone from the spec in a moment is judged by what the spec says then.
    let goes_on = |spec: &WorkloadSpec| spec.alone == Alone::Continue || spec.loss != Loss::None;
    let accepted = (scene.leaving.may_be_bare(id) && goes_on(spec))
        || scene.leaving.workload(id)
        || soon.is_some_and(|soon| !soon.replicas.contains_key(node) && goes_on(soon));
    (!others && !accepted).then(|| format!("{id} has no other standby that has every write"))
}

/// A move of a workload that somebody's intent asks for.
pub(super) fn moving(
    scene: &Scene,
    intended: &Intended,
    id: &WorkloadId,
    to: Option<&NodeId>,
) -> (Option<String>, Option<Command>) {
    let Some(spec) = scene.spec.workloads.get(id) else {
        return (None, None);
    };
    let w = scene.state.workload(id);
    if let Some(operation) = w.operation {
        return (Some(format!("{operation} runs")), None);
    }
    if !w.is_open() {
        return (Some(format!("{id} has no primary")), None);
    }
    // One move after the other: each takes its clients' writes away for a moment.
    let mut others = scene.state.workloads.keys();
    let moves = |other: &&WorkloadId| {
        let running = scene.state.running(other);
        running.is_some_and(|(_, o)| !o.waits())
    };
    if let Some(other) = others.find(moves) {
        return (Some(format!("{other} is being moved")), None);
    }
    let list = candidates::list(scene, id, spec);
    let target = match to {
        Some(to) => list.iter().find(|c| c.node == *to && c.excluded.is_none()),
        None => candidates::best(&list, false).filter(|c| !c.leaving),
    };
    let Some(target) = target else {
        let why = match to {
            Some(to) => {
                let judged = list.iter().find(|c| c.node == *to);
                let why = judged.and_then(|c| c.excluded.clone());
                format!(
                    "{to}: {}",
                    why.unwrap_or_else(|| "it has no replica".into())
                )
            }
            None => format!("no standby of {id} may take over"),
        };
        return (Some(why), None);
    };
    let begin = Operation {
        kind: Kind::Switchover,
        workload: id.clone(),
        from: w.holder().cloned(),
        to: Some(target.node.clone()),
        by: intended.what.by.clone(),
        cause: Cause::AskedFor,
        why: intended.what.want.title(),
        asks: false,
        accept_loss: 0,
        intent: None,
    };
    (None, Some(Command::begin(begin)))
}

/// What a change of who votes waits for.
pub(super) fn waits(scene: &Scene) -> Option<String> {
    match scene.leaves_lead().unwrap_or_else(|| scene.next_of_votes()) {
        voting::Step::Waits(why) => Some(why),
        _ => None,
    }
}

pub(super) fn follows(scene: &Scene, id: &WorkloadId, node: &NodeId) -> bool {
    let w = scene.state.workload(id);
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    let streams = |o: &Observation| o.runs() && o.streaming;
    w.holder() == Some(node) || (w.unsound(node).is_none() && seen.is_some_and(streams))
}

pub(super) fn doing(scene: &Scene, id: &WorkloadId, node: &NodeId) -> String {
    let replica = scene.replica(node, id);
    match replica.and_then(|r| r.doing.as_ref()) {
        Some(doing) => format!("{node}: {}", doing.action.describe()),
        None if scene.state.fenced(node).is_some() => format!("{node} is fenced: readmit it"),
        None if !scene.is_up(node) => format!("{node} is not heard"),
        None => format!("{node} does not follow yet"),
    }
}

fn held_text(held: &HoldsOn) -> String {
    match held {
        HoldsOn::Vote(node) => format!("{node} votes"),
        HoldsOn::Workload(id) => format!("{id} has not ended"),
        HoldsOn::Epoch(id, node) => format!("{node} holds {id}, or it is being moved"),
        HoldsOn::SyncSet(id, node) => format!("writes of {id} wait for {node}"),
        HoldsOn::Address(id, node) => format!("the address of {id} is on {node}"),
    }
}
