//! Whose key is whose (M1): what each node shows is on record, so that it speaks for nobody once the
//! node has left or another host has taken its name. Whoever shows such a key is told, and lets go
//! of everything.

use super::{Effect, Node};
use crate::fact::Fact;
use crate::ids::{Index, NodeId};
use crate::spec::Revision;
use std::collections::BTreeMap;
use std::sync::Arc;

#[derive(Default)]
pub(super) struct Keys {
    /// What each node has shown to this one.
    pub shown: BTreeMap<NodeId, String>,
    /// The entry up to which the refusal of keys was passed on.
    passed_on: Index,
    /// Who says that this node is none any more, and since which entry.
    removed_by: BTreeMap<NodeId, Index>,
    /// What this node acted by until it was told so.
    before: Option<Arc<Revision>>,
}

impl Node {
    pub(super) fn on_shown(&mut self, node: NodeId, key: String) {
        self.note_news(&node);
        self.keys.shown.insert(node, key);
    }

    /// Which keys are refused is the log's word, and of one that is current: a node that has just
    /// started must keep nobody out who has come back since.
    pub(super) fn refuse_gone(&mut self) {
        let gone = &self.state.charter.gone;
        if gone.at != self.keys.passed_on {
            self.keys.passed_on = gone.at;
            let gone = gone.clone();
            self.outbox.emit_now(Effect::Refuse { gone });
        }
    }

    /// By which entry this node is none any more, by the word of a majority of the other voters that
    /// it knows. One alone may be wrong, or lie.
    pub fn removed(&self) -> Option<Index> {
        let by = &self.keys.removed_by;
        let said = by.values().max()?;
        let others = self.voters().all();
        let others: Vec<&NodeId> = others.into_iter().filter(|n| **n != self.me).collect();
        let agree = others.iter().filter(|n| by.contains_key(**n)).count();
        (2 * agree > others.len()).then_some(*said)
    }

    pub(super) fn on_removed(&mut self, by: NodeId, since: Index) {
        if by == self.me || !self.spec.nodes.contains_key(&by) {
            return;
        }
        let before = self.removed();
        self.keys.removed_by.insert(by, since);
        if let Some(since) = self.removed().filter(|_| before.is_none()) {
            let node = self.me.clone();
            self.record(Fact::Removed { node, since });
            self.follow_charter();
        }
    }

    /// Whoever speaks to this node does not refuse it.
    pub(super) fn is_spoken_to(&mut self, by: &NodeId) {
        let changes = self.keys.removed_by.remove(by).is_some();
        if changes && self.keys.before.is_some() && self.removed().is_none() {
            self.follow_charter();
        }
    }

    /// What this node acts by in the place of the revision in force, where it is no node of that:
    /// the same nodes, and nothing on them.
    pub(super) fn acts_by(&mut self, in_force: Arc<Revision>) -> Arc<Revision> {
        if self.removed().is_none() {
            let before = self.keys.before.take();
            let logged = self.state.charter.revision.is_some();
            return before.filter(|_| !logged).unwrap_or(in_force);
        }
        if self.keys.before.is_some() {
            return self.revision.clone();
        }
        let mut spec = (*in_force.spec).clone();
        spec.workloads.clear();
        spec.steps.clear();
        let emptied = Revision {
            spec: Arc::new(spec),
            ..(*in_force).clone()
        };
        self.keys.before = Some(in_force);
        Arc::new(emptied)
    }
}
