//! What this node says of the cluster: made by the coordinator, or, where there is none, by the
//! node that was asked from what it knows itself.

mod findings;
mod links;
mod nodes;
mod workloads;

use super::Node;
use super::account::Account;
use super::lead::Lead;
use super::sentence::{Whole, headline};
use crate::ids::OperationId;
use crate::intent::{Intended, Want};
use crate::operation::Phase;
use crate::progress::{PhaseTime, Progress};
use crate::spec::Readmit;
use crate::state::Over;
use crate::steward::Heard;
use crate::steward::outlook::{Need, Writes};
use crate::steward::steps::steps;
use crate::view::{
    IntentKind, IntentOver, IntentView, NeedKind, NeedView, NodeState, NodeView, Status, TodoView,
    WorkloadView, WritesView,
};
use std::time::Duration;

impl Node {
    /// What this node can say about the cluster now.
    pub fn status(&self) -> Status {
        let own = || Heard::now(self.now, self.report());
        match &self.lead {
            Some(lead) => self.account(lead).status(),
            None => self.account(&Lead::alone(&self.me, own())).status(),
        }
    }
}

impl Account<'_> {
    fn status(&self) -> Status {
        let scene = &self.scene;
        let nodes: Vec<NodeView> = self
            .scene
            .spec
            .nodes
            .keys()
            .map(|n| self.node_view(n))
            .collect();
        let quorum = self.quorum_view(&nodes);
        let workloads: Vec<WorkloadView> = self
            .scene
            .spec
            .workloads
            .keys()
            .map(|id| self.workload_view(id))
            .collect();
        let coordinator = self.node.coordinator().cloned();
        let (condition, sentence) = headline(&Whole {
            coordinator: coordinator.as_ref(),
            quorum: &quorum,
            nodes: &nodes,
            workloads: &workloads,
            me: self.scene.me,
            removed: self.node.removed(),
            leads: self.leads,
            cut: &self.cut_links(&nodes),
        });
        let worst = workloads.iter().max_by_key(|w| w.writes.state);
        let writes = worst.map_or(NOT_KNOWN, |w| w.writes);
        let mut needs_you = self.needs(&nodes, &workloads);
        needs_you.extend(self.lacks_voters(&quorum, &nodes));
        let operations = self
            .scene
            .state
            .operations
            .iter()
            .rev()
            .take(30)
            .map(|(id, o)| Progress {
                id,
                what: o.what.clone(),
                waits: o.waits() && o.outcome.is_none(),
                steps: self.node.journal.steps_of(id),
                target: o.target.clone(),
                outcome: o.outcome.clone(),
                phases: timed(&o.phases),
            });
        Status {
            cluster: self.scene.spec.cluster.clone(),
            seen_by: self.scene.me.clone(),
            coordinator,
            term: self.node.term(),
            applied: self.scene.state.applied,
            condition,
            sentence,
            writes,
            needs_you,
            quorum,
            nodes,
            operations: operations.collect(),
            intents: self.intents(),
            intents_over: self.intents_over(),
            revision: self.node.revision.number,
            workloads,
            findings: self.findings(),
            at: scene.now,
        }
    }

    fn intents(&self) -> Vec<IntentView> {
        let view = |(id, intended): (&OperationId, &Intended)| {
            let steps = steps(&self.scene, intended);
            let (kind, nodes) = match &intended.what.want {
                Want::Revision(_) => (IntentKind::Revision, Vec::new()),
                Want::Maintenance(m) => {
                    (IntentKind::Maintenance, m.nodes.iter().cloned().collect())
                }
                Want::Restart(_) => (IntentKind::Restart, Vec::new()),
                Want::SafetyPoint(point) => (IntentKind::SafetyPoint, vec![point.node.clone()]),
                Want::GoingBack(back) => (IntentKind::GoingBack, vec![back.node.clone()]),
                Want::Enrolment(new) => (IntentKind::Enrolment, vec![new.node.clone()]),
            };
            IntentView {
                id: *id,
                kind,
                title: intended.what.want.title(),
                nodes,
                workload: intended.what.want.workload().cloned(),
                by: intended.what.by.clone(),
                at: intended.what.at,
                why: intended.what.why.clone(),
                until: intended.what.until,
                turned: intended.turned.is_some(),
                empty: steps
                    .iter()
                    .find(|step| !step.done)
                    .is_some_and(|s| s.rests),
                steps: steps.iter().map(TodoView::from).collect(),
            }
        };
        self.scene.state.charter.intents.iter().map(view).collect()
    }

    fn intents_over(&self) -> Vec<IntentOver> {
        let view = |(id, over): (&OperationId, &Over)| IntentOver {
            id: *id,
            title: over.title.clone(),
            by: over.by.clone(),
            at: over.at,
            why: over.why.clone(),
            outcome: over.outcome.clone(),
        };
        let over = self.scene.state.charter.over.iter().rev();
        over.map(view).collect()
    }

    /// All that waits for a person.
    fn needs(&self, nodes: &[NodeView], workloads: &[WorkloadView]) -> Vec<NeedView> {
        let mut of_workloads: Vec<&WorkloadView> = workloads.iter().collect();
        of_workloads.sort_by_key(|w| std::cmp::Reverse(w.writes.state));
        let of_workloads = of_workloads.into_iter().filter_map(|w| w.needs_you.clone());
        let readmit = |n: &NodeView| {
            let asks = self.scene.spec.nodes.get(&n.node)?.readmit == Readmit::Ask;
            let why = n.fenced.as_ref()?;
            (asks && self.leads && n.state == NodeState::Up).then(|| NeedView {
                kind: NeedKind::Readmit,
                about: n.node.to_string(),
                what: format!("{} is fenced ({why}) and reachable", n.node),
                next: format!("karst node readmit {}", n.node),
                for_ms: None,
            })
        };
        let enrol = |n: &NodeView| {
            (n.votes > 0 && n.votes_count == Some(false)).then(|| NeedView {
                kind: NeedKind::Enrol,
                about: n.node.to_string(),
                what: format!("{} does not vote: its node store is new", n.node),
                next: format!(
                    "see that its state directory is the right one; karst node enrol {}",
                    n.node
                ),
                for_ms: None,
            })
        };
        let of_nodes = nodes.iter().filter_map(|n| readmit(n).or_else(|| enrol(n)));
        of_workloads.chain(of_nodes).collect()
    }
}

const NOT_KNOWN: WritesView = WritesView {
    state: Writes::Unknown,
    for_ms: None,
};

impl From<&Need> for NeedKind {
    fn from(need: &Need) -> Self {
        match need {
            Need::Approve(_) => NeedKind::Approve,
            Need::TakeOver { .. } => NeedKind::TakeOver,
            Need::ChooseData(_) => NeedKind::ChooseData,
            Need::BringBack { .. } => NeedKind::BringBack,
            Need::BringStandby => NeedKind::BringStandby,
        }
    }
}

fn timed(phases: &[(Phase, Duration)]) -> Vec<PhaseTime> {
    let timed = |(phase, took): &(Phase, Duration)| PhaseTime {
        phase: *phase,
        took: *took,
    };
    phases.iter().map(timed).collect()
}
