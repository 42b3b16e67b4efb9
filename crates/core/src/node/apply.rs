//! Committed entries take effect: the state, the record, the running operation's steps, the answers
//! that waited.

use super::Node;
use super::questions::Asker;
use crate::command::{ClusterAct, Command, NodeAct, WorkloadAct};
use crate::event::Event;
use crate::fact::{self, Fact};
use crate::ids::{Index, NodeId, OperationId, WorkloadId};
use crate::operation::Phase;
use crate::progress::Step;
use crate::request::Answer;
use crate::steward::Stamps;
use std::collections::BTreeMap;

impl Node {
    /// Not before this run knows what is committed by now: a node that was away must not act on
    /// what it knew then, and be the standby of a primary that is none any more.
    pub(super) fn apply_committed(&mut self) {
        if !self.consensus.is_current() {
            return;
        }
        self.restore();
        while self.state.applied < self.consensus.commit() {
            let index = self.state.applied.next();
            let Some(entry) = self.consensus.log().get(index).cloned() else {
                return;
            };
            let changed = self.state.apply(index, &entry.command);
            self.answer_committed(index, &entry.command, changed);
            if changed {
                self.put_on_agenda(&entry.command);
                self.on_applied(index, &entry.command);
            }
        }
        self.follow_charter();
        self.refuse_gone();
        self.reach_vouched();
        // Everything that the others committed is here, and they take this store in (A6).
        let enrolled = self
            .state
            .nodes
            .get(&self.me)
            .and_then(|n| n.enrolled.as_ref());
        if enrolled.is_some() && enrolled == self.consensus.store() && !self.consensus.counts() {
            self.consensus.enrol(self.now);
        }
    }

    /// What was decided is looked at for what follows from it.
    fn put_on_agenda(&mut self, command: &Command) {
        let Some(lead) = &mut self.lead else { return };
        if let Some(id) = command.workload() {
            lead.agenda.add_workload(id);
        }
        if let Some(node) = command.node() {
            lead.agenda.add_node(node);
        }
        if let Command::Cluster(_) = command {
            lead.agenda.add_all();
        }
    }

    /// Begins anew with what the log's snapshot says, where entries are missing that led there.
    fn restore(&mut self) {
        let Some(snapshot) = self
            .consensus
            .snapshot()
            .filter(|s| s.last.index > self.state.applied)
        else {
            return;
        };
        self.state = snapshot.state.clone();
        if let Some(lead) = &mut self.lead {
            lead.agenda.add_all();
        }
        for (id, agent) in &mut self.here.agents {
            if let Some(opened) = &self.state.workload(id).opened {
                agent.on_opened(opened.epoch, &opened.holder);
            }
        }
    }

    /// Whoever waits for an entry to be committed hears that this node, which leads no more, cannot
    /// say what becomes of it.
    pub(super) fn leave_unanswered(&mut self, undecided: BTreeMap<Index, Asker>) {
        for asker in undecided.into_values() {
            let why = "the coordinator changed before this was decided; look at the status, and ask again if need be";
            self.answer(asker, Answer::Refused { why: why.into() });
        }
    }

    fn on_applied(&mut self, index: Index, command: &Command) {
        match command {
            Command::Noop => {}
            Command::Cluster(act) => {
                self.record_event(Event::of(&Fact::OfCluster(act.clone())).at(index));
            }
            Command::Node(node, act) => self.on_node(index, node, act),
            Command::Workload(workload, act) => self.on_workload(index, workload, act),
        }
    }

    fn on_workload(&mut self, index: Index, id: &WorkloadId, act: &WorkloadAct) {
        let now = self.now;
        let stamps = self.journal.stamps.entry(id.clone()).or_default();
        if let WorkloadAct::Begin(_) = act {
            let notes = self.lead.as_mut().and_then(|l| l.notes.get_mut(id));
            *stamps = Stamps {
                operation: Some(OperationId(index.0)),
                lost: notes.and_then(|notes| notes.lost.take()),
                began: Some(now),
                ..Stamps::default()
            };
        }
        let phase = match act {
            WorkloadAct::Begin(_) => Some(Phase::Detect),
            WorkloadAct::Revoke { .. } => Some(Phase::Decide),
            WorkloadAct::End { .. } => Some(Phase::Isolate),
            WorkloadAct::Open { .. } => Some(Phase::Promote),
            _ => None,
        };
        if let Some(phase) = phase {
            stamps.reach(phase, now);
        }
        if let (WorkloadAct::Open { epoch, .. }, Some(opened)) =
            (act, &self.state.workload(id).opened)
            && let Some(agent) = self.here.agents.get_mut(id)
        {
            agent.on_opened(*epoch, &opened.holder);
        }
        let operation = match act {
            WorkloadAct::Begin(_) => Some(OperationId(index.0)),
            WorkloadAct::Finish { operation, .. } => Some(*operation),
            _ => self.state.workload(id).operation,
        };
        let fact = Fact::OfWorkload(id.clone(), act.clone());
        if let Some(operation) = operation {
            let text = fact::workload_text(act);
            self.journal.note(
                operation,
                Step {
                    kind: fact.kind(),
                    text,
                    phase,
                    at: now,
                },
            );
        }
        self.record_event(Event::of(&fact).within(operation).at(index));
    }

    fn on_node(&mut self, index: Index, node: &NodeId, act: &NodeAct) {
        if matches!(act, NodeAct::System { .. }) {
            return;
        }
        let fact = Fact::OfNode(node.clone(), act.clone());
        let mut event = Event::of(&fact).at(index);
        // A fence is a step of whatever is under way because of it.
        if matches!(act, NodeAct::Fence { .. } | NodeAct::PowerOff { .. }) {
            let held = self
                .state
                .workloads
                .values()
                .filter(|w| w.holder() == Some(node));
            let under_way: Vec<OperationId> = held.filter_map(|w| w.operation).collect();
            for operation in under_way {
                event = event.within(Some(operation));
                let text = event.text.clone();
                self.journal.note(
                    operation,
                    Step {
                        kind: fact.kind(),
                        text,
                        phase: None,
                        at: self.now,
                    },
                );
            }
        }
        self.record_event(event);
    }

    fn answer_committed(&mut self, index: Index, command: &Command, changed: bool) {
        let lead = self.lead.as_mut();
        let Some(asker) = lead.and_then(|lead| lead.undecided.remove(&index)) else {
            return;
        };
        let answer = match command {
            _ if !changed => {
                let why = "something else was decided first; look at the status and ask again";
                Answer::Refused { why: why.into() }
            }
            Command::Workload(_, WorkloadAct::Begin(_)) => Answer::Started {
                operation: OperationId(index.0),
            },
            Command::Workload(_, act) => Answer::Done {
                index,
                text: fact::workload_text(act),
            },
            Command::Node(node, act) => Answer::Done {
                index,
                text: fact::node_text(node, act),
            },
            Command::Cluster(ClusterAct::Intend(_) | ClusterAct::Invite(_)) => Answer::Started {
                operation: OperationId(index.0),
            },
            Command::Cluster(act) => Answer::Done {
                index,
                text: fact::cluster_text(act),
            },
            Command::Noop => return,
        };
        self.answer(asker, answer);
    }
}
