//! A safety point, from its making to its end, and how a workload goes back to it.
//!
//! No write waits for the standby any more; its server stops; the primary writes the point into its
//! log; the standby goes up to it and stays. What is in the log of that is [`HeldBack`], and this
//! commits its next stage once what comes before it is seen to be so.

use super::Scene;
use super::candidates;
use super::steps::{Todo, bare, doing, follows};
use crate::command::{ClusterAct, Command, WorkloadAct};
use crate::ids::{NodeId, OperationId, WorkloadId};
use crate::intent::{Intended, Want};
use crate::operation::{Cause, Kind, Operation, Outcome};
use crate::planted::Planted;
use crate::replica::{Observation, Role};
use crate::safetypoint::{GoingBack, HeldBack, Mark, SafetyPoint, Stage};
use crate::spec::Loss;

pub(super) fn steps(scene: &Scene, intended: &Intended, point: &SafetyPoint) -> Vec<Todo> {
    let SafetyPoint {
        workload: id,
        name,
        node,
        ..
    } = point;
    let over = intended.turned.is_some();
    let w = scene.state.workload(id);
    let held = w.held_back(node).filter(|held| held.name == *name);
    let mut todos = Vec::new();
    let spec = scene.spec.workloads.get(id);
    if spec.is_some_and(|spec| spec.loss == Loss::None) {
        let member = w.sync.asked.contains(node) || w.sync.sure.contains(node);
        let waits = bare(scene, id, node).filter(|_| member);
        let text = format!("no write of {id} waits for {node}");
        todos.push(Todo::new(text, over || !member).waiting(waits));
    }
    let stops = over || held.is_some_and(|held| held.stage != Stage::Stops);
    let text = format!("the server of {id} on {node} stops");
    let next = next_stage(scene, point, held);
    todos.push(Todo::new(text, stops).waiting(next.0).by(next.1));
    let written = over || held.is_some_and(|held| held.mark().is_some());
    let text = format!("the primary of {id} writes point {name} into its log");
    let next = if stops {
        next_stage(scene, point, held)
    } else {
        (None, None)
    };
    todos.push(Todo::new(text, written).waiting(next.0).by(next.1));
    let stands = held
        .and_then(HeldBack::mark)
        .is_some_and(|mark| stands(scene, id, node, mark));
    let text = format!("{node} goes up to point {name} and stays there");
    let waits = written.then(|| waits_to_stand(scene, id, node));
    todos.push(Todo::new(text, over || stands).waiting(waits));
    let kept = match intended.what.until {
        Some(until) => format!(
            "kept until {}, or until it is dropped",
            crate::text::utc(until)
        ),
        None => "kept until it is dropped".into(),
    };
    let text = format!("{node} is held back, and stays as it is");
    let rest = Todo::new(text, over).waiting((written && stands).then_some(kept));
    todos.push(Todo {
        rests: true,
        ..rest
    });
    let back =
        over && held.is_none() && (follows(scene, id, node) || !has_replica(scene, id, node));
    let let_go = over.then_some(held).flatten();
    let next = let_go.map(|_| about(id, None));
    let waits = (over && held.is_none()).then(|| doing(scene, id, node));
    let text = format!("{node} follows again");
    todos.push(Todo::new(text, back).waiting(waits).by(next));
    todos
}

/// What a point waits for, or what is committed for it next.
fn next_stage(
    scene: &Scene,
    point: &SafetyPoint,
    held: Option<&HeldBack>,
) -> (Option<String>, Option<Command>) {
    let SafetyPoint {
        workload: id, node, ..
    } = point;
    let w = scene.state.workload(id);
    let waits = |why: String| (Some(why), None);
    let Some(primary) = w.holder().filter(|_| w.is_open()) else {
        return waits(format!("{id} has no primary"));
    };
    let Some(held) = held else {
        if w.operation.is_some() || w.restarting.is_some() || !follows(scene, id, node) {
            return waits(doing(scene, id, node));
        }
        let held = HeldBack {
            intent: OperationId(0),
            name: point.name.clone(),
            node: node.clone(),
            stage: Stage::Stops,
        };
        return (None, Some(about(id, Some(held))));
    };
    let seen = |n: &NodeId| {
        let replica = scene.replica(n, id).filter(|_| scene.is_up(n));
        replica.and_then(|r| r.seen.as_ref())
    };
    let stage = match &held.stage {
        Stage::Stops => match seen(node) {
            None => return waits(format!("{node} is not heard")),
            Some(seen) if seen.runs() => return waits(format!("the server on {node} still runs")),
            Some(_) => Stage::Marks,
        },
        Stage::Marks => {
            let report = scene.replica(primary, id);
            let marked = report.and_then(|r| r.marked.as_ref());
            let ours =
                |(of, mark): &&(OperationId, Mark)| (*of, mark.epoch) == (held.intent, w.epoch);
            match marked.filter(ours) {
                Some((_, mark)) => Stage::Stands(mark.clone()),
                None => {
                    let failed = report.and_then(|r| r.failed.clone());
                    let why = failed.unwrap_or_else(|| "it has not written it yet".into());
                    return waits(format!("{primary}: {why}"));
                }
            }
        }
        Stage::Stands(_) => return (None, None),
    };
    let next = HeldBack {
        stage,
        ..held.clone()
    };
    (None, Some(about(id, Some(next))))
}

fn waits_to_stand(scene: &Scene, id: &WorkloadId, node: &NodeId) -> String {
    let report = scene.replica(node, id).filter(|_| scene.is_up(node));
    let doing = report.and_then(|r| Some(r.doing.as_ref()?.action.describe()));
    let why = doing.or_else(|| report?.failed.clone());
    match (why, report) {
        (Some(why), _) => format!("{node}: {why}"),
        (None, Some(_)) => format!("{node} is not there yet"),
        (None, None) => format!("{node} is not heard"),
    }
}

/// Whether a standby is seen to be at its point, and to follow nobody.
pub(crate) fn stands(scene: &Scene, id: &WorkloadId, node: &NodeId, mark: &Mark) -> bool {
    let seen = scene.replica(node, id).and_then(|r| r.seen.as_ref());
    let there = |o: &Observation| {
        o.is(Role::Standby) && !o.streaming && o.held_at.as_ref() == Some(&mark.label)
    };
    scene.is_up(node) && seen.is_some_and(there)
}

/// How much was written since the point, in bytes of log; none where that is not known.
pub(crate) fn written_since(scene: &Scene, id: &WorkloadId) -> Option<u64> {
    let w = scene.state.workload(id);
    let mark = w.held_back.as_ref()?.mark()?;
    let (head, _) = scene.heads.under(id, w.opened.as_ref()?.epoch)?;
    Some(head.saturating_sub(mark.at.number))
}

pub(super) fn steps_back(scene: &Scene, intended: &Intended, back: &GoingBack) -> Vec<Todo> {
    let GoingBack {
        workload: id,
        point,
        name,
        node,
    } = back;
    let w = scene.state.workload(id);
    let kept = w.held_back(node).is_some_and(|held| held.intent == *point);
    let there = w.is_open() && w.holder() == Some(node) && w.operation.is_none();
    let (waits, next) = match w.operation {
        Some(operation) => (Some(format!("{operation} runs")), None),
        None => match obstacle_to_beginning(scene, back) {
            Some(why) => (Some(why), None),
            None => (None, Some(move_back(scene, intended, back))),
        },
    };
    let text = format!("{node} takes {id} over as it is at {name}");
    let mut todos = vec![Todo::new(text, there && !kept).waiting(waits).by(next)];
    let spec = scene.spec.workloads.get(id);
    for other in spec.iter().flat_map(|spec| spec.replicas.keys()) {
        if other == node {
            continue;
        }
        let seen = scene.replica(other, id).and_then(|r| r.seen.as_ref());
        let to_it = seen.is_some_and(|o| o.upstream.as_ref() == Some(node));
        let done = there && to_it && follows(scene, id, other);
        let waits = there.then(|| doing(scene, id, other));
        let text = format!("{other} gives up what was written since, and follows");
        todos.push(Todo::new(text, done).waiting(waits));
    }
    todos
}

/// Why it would not be chosen, whatever loss is accepted.
pub(crate) fn obstacle_to_taking_over(
    scene: &Scene,
    id: &WorkloadId,
    node: &NodeId,
) -> Option<String> {
    let spec = scene.spec.workloads.get(id)?;
    let list = candidates::list(scene, id, spec);
    let judged = list.into_iter().find(|c| c.node == *node)?;
    judged
        .excluded
        .clone()
        .filter(|_| !judged.may_with_loss(u64::MAX))
}

fn move_back(scene: &Scene, intended: &Intended, back: &GoingBack) -> Command {
    Command::begin(Operation {
        kind: Kind::ForcedFailover,
        workload: back.workload.clone(),
        from: scene.state.workload(&back.workload).holder().cloned(),
        to: Some(back.node.clone()),
        by: intended.what.by.clone(),
        cause: Cause::AskedFor,
        why: intended.what.want.title(),
        asks: false,
        accept_loss: u64::MAX,
        intent: None,
    })
}

/// Points that are over without anybody having dropped them, and standbys that are held back for
/// nobody.
pub(super) fn ended<'a>(scene: &'a Scene) -> impl Iterator<Item = Command> + 'a {
    let intents = &scene.state.charter.intents;
    let over = intents.iter().filter_map(|(id, intended)| {
        let why = match &intended.what.want {
            Want::SafetyPoint(_) => obstacle_to_being(scene, intended.safety_point()?)?,
            Want::GoingBack(back) => obstacle_to_going_back(scene, *id, back)?,
            _ => return None,
        };
        Some(Command::Cluster(ClusterAct::Close {
            intent: *id,
            outcome: Outcome::Undone(why),
        }))
    });
    let workloads = scene.state.workloads.iter();
    let stray = workloads.filter_map(|(id, w)| {
        let held = w.held_back.as_ref()?;
        (!intents.contains_key(&held.intent)).then(|| about(id, None))
    });
    over.chain(stray)
}

/// Why there can be no such point any more, if so.
fn obstacle_to_being(scene: &Scene, point: &SafetyPoint) -> Option<String> {
    let SafetyPoint {
        workload: id, node, ..
    } = point;
    let w = scene.state.workload(id);
    if !has_replica(scene, id, node) {
        return Some(format!("{id} has no replica on {node} any more"));
    }
    if w.is_open() && w.holder() == Some(node) {
        return Some(format!("{node} is the primary of {id} now"));
    }
    let why = w.unsound(node)?;
    Some(format!("its data on {node} are no point any more: {why}"))
}

/// Why a workload cannot go back any more, if so.
fn obstacle_to_going_back(scene: &Scene, intent: OperationId, back: &GoingBack) -> Option<String> {
    let GoingBack {
        workload: id,
        point,
        name,
        node,
    } = back;
    let w = scene.state.workload(id);
    let mut moves = scene.state.operations.iter().rev();
    let moved = moves.find(|(_, o)| o.what.intent == Some(intent));
    if moved.is_some_and(|(_, o)| o.outcome.is_none()) {
        return None;
    }
    let kept = w.held_back(node).is_some_and(|held| held.intent == *point);
    let elsewhere = w.holder() != Some(node) && w.operation.is_none();
    if (elsewhere && !kept) || !has_replica(scene, id, node) {
        return Some(format!("{name} is not kept any more"));
    }
    if !elsewhere {
        return match moved {
            None if w.operation.is_some() => {
                Some("it could not begin at once: another move was under way".into())
            }
            _ => None,
        };
    }
    // Each move cuts clients off: one that came to nothing is not tried again and again.
    if let Some((tried, _)) = moved {
        return Some(format!("{tried} did not make {node} the primary"));
    }
    // A person gave up what had been written by then, and not what is written later (G4).
    let why = obstacle_to_beginning(scene, back)?;
    let later = scene.breaks(Planted::ConsentForEver);
    (!later).then(|| format!("it could not begin at once: {why}"))
}

/// Why the move cannot begin now, if so.
fn obstacle_to_beginning(scene: &Scene, back: &GoingBack) -> Option<String> {
    let GoingBack {
        workload: id,
        point,
        name,
        node,
    } = back;
    let w = scene.state.workload(id);
    let Some(held) = w.held_back(node).filter(|held| held.intent == *point) else {
        return Some(format!("{name} is not kept any more"));
    };
    let there = held
        .mark()
        .is_some_and(|mark| stands(scene, id, node, mark));
    if !there {
        return Some(waits_to_stand(scene, id, node));
    }
    let why = obstacle_to_taking_over(scene, id, node)?;
    Some(format!("{node}: {why}"))
}

fn has_replica(scene: &Scene, id: &WorkloadId, node: &NodeId) -> bool {
    let spec = scene.spec.workloads.get(id);
    spec.is_some_and(|spec| spec.replicas.contains_key(node))
}

fn about(id: &WorkloadId, held: Option<HeldBack>) -> Command {
    Command::Workload(id.clone(), WorkloadAct::HoldBack(held))
}
