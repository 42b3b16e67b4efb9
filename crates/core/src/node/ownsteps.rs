//! The site's own steps on this node: when they are run, and what came of them.

use super::{Effect, Node};
use crate::event::Event;
use crate::fact::Fact;
use crate::ids::{Epoch, NodeId, OperationId, WorkloadId};
use crate::operation::Kind;
use crate::ownstep::{Occasion, Point, Prepared, Ran, bounded};

impl Node {
    /// What was promoted here, in this run, is open.
    pub(super) fn after_promotion(&mut self, id: &WorkloadId, epoch: Epoch) {
        let running = self.state.running(id);
        let running = running.map(|(operation, o)| (operation, o.what.kind));
        let planned = running.is_some_and(|(_, kind)| kind == Kind::Switchover);
        let points = [
            planned.then_some(Point::AfterSwitchover),
            Some(Point::AfterPromotion),
        ];
        for at in points.into_iter().flatten() {
            if self.has_steps(at, Some(id)) {
                let occasion = Occasion {
                    operation: running.map(|(operation, _)| operation),
                    epoch: Some(epoch),
                    ..Occasion::of(at, Some(id.clone()), self.me.clone())
                };
                self.outbox.emit_now(Effect::Steps { occasion });
            }
        }
    }

    fn has_steps(&self, at: Point, workload: Option<&WorkloadId>) -> bool {
        self.spec.steps_at(at, workload, &self.me).next().is_some()
    }

    /// Whether this node begins to rest, or takes part again. What was in the store at the start was
    /// seen to before it; but a primary that is still here waits for this node's word.
    pub(super) fn rest_steps(&mut self) {
        if self.state.applied < self.here.stored {
            return;
        }
        let mut all = self.state.charter.maintenances();
        let mine = all.find(|(_, maintenance)| maintenance.nodes.contains(&self.me));
        let now = mine.map(|(id, _)| id);
        if now == self.here.resting {
            return;
        }
        let before = std::mem::replace(&mut self.here.resting, now);
        let new = |id: OperationId| id.0 > self.here.stored.0 || self.holds_something();
        let waits = now.filter(|id| new(*id) && self.has_steps(Point::BeforeMaintenance, None));
        // A step that the spec gets meanwhile is none of before it.
        let nothing = now.filter(|_| waits.is_none());
        self.here.prepared = nothing.map(Prepared::nothing_failed);
        let (at, operation) = match (before, waits) {
            (_, Some(id)) => (Point::BeforeMaintenance, id),
            (Some(id), None) if now.is_none() => (Point::AfterMaintenance, id),
            _ => return,
        };
        // Whoever is to try again until it works is told as well when nobody wants that any more.
        if self.has_steps(at, None) || self.has_steps(Point::BeforeMaintenance, None) {
            let occasion = Occasion {
                operation: Some(operation),
                ..Occasion::of(at, None, self.me.clone())
            };
            self.outbox.emit_now(Effect::Steps { occasion });
        }
    }

    fn holds_something(&self) -> bool {
        let mut all = self.state.workloads.values();
        all.any(|w| w.holder() == Some(&self.me))
    }

    pub(super) fn on_stepped(&mut self, occasion: &Occasion, ran: Vec<Ran>) {
        if occasion.at == Point::BeforeMaintenance && occasion.operation == self.here.resting {
            let stops = |ran: &&Ran| {
                let step = self.spec.steps.get(&ran.step);
                step.is_some_and(|step| step.stops(&ran.ended))
            };
            let failed = ran.iter().filter(stops);
            let failed = failed.map(|ran| bounded(&format!("{}: {}", ran.step, ran.ended)));
            let failed = failed.take(Prepared::MOST).collect();
            let intent = occasion.operation;
            self.here.prepared = intent.map(|intent| Prepared { intent, failed });
            self.timers.stirred = true;
        }
        for ran in ran {
            let fact = Fact::OwnStep {
                by: self.me.clone(),
                occasion: occasion.clone(),
                ran,
            };
            self.record_event(Event::of(&fact).within(occasion.operation));
        }
    }

    /// What this node's own steps came to before the maintenance that it is in.
    pub(super) fn prepared(&self) -> Option<Prepared> {
        let prepared = self.here.prepared.clone();
        prepared.filter(|prepared| Some(prepared.intent) == self.here.resting)
    }

    /// For a plan: what runs at this point, and for how long at most.
    pub(super) fn steps_text(
        &self,
        at: Point,
        workload: Option<&WorkloadId>,
        node: &NodeId,
    ) -> Option<String> {
        let all = self.spec.steps_at(at, workload, node);
        let one = |(name, step): (&String, &crate::ownstep::OwnStep)| {
            format!("{name}, {} at most", crate::text::span(step.limit))
        };
        let all: Vec<String> = all.map(one).collect();
        let text = || format!("own steps on {node}, {}: {}", at.word(), all.join("; "));
        (!all.is_empty()).then(text)
    }
}
