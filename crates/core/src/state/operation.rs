//! Operations as the log has them: those that run, and the last ones that are over.

use crate::author::Author;
use crate::ids::{Index, NodeId, OperationId};
use crate::operation::{Operation, Outcome, Phase};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// Operations that are over and still remembered; the history has all of them.
const REMEMBERED: usize = 100;

/// An operation as the log has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoggedOperation {
    pub what: Operation,
    /// Who let it go on, where it had to be asked.
    pub approved: Option<Author>,
    pub target: Option<NodeId>,
    pub outcome: Option<Outcome>,
    pub phases: Vec<(Phase, Duration)>,
}

impl LoggedOperation {
    /// It was prepared, and waits for a person.
    pub fn waits(&self) -> bool {
        self.what.asks && self.approved.is_none()
    }
}

/// By the index of the entry that began them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Operations(BTreeMap<OperationId, LoggedOperation>);

impl Operations {
    pub fn get(&self, id: OperationId) -> Option<&LoggedOperation> {
        self.0.get(&id)
    }

    /// The oldest first.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (OperationId, &LoggedOperation)> {
        self.0.iter().map(|(id, logged)| (*id, logged))
    }

    pub fn len(&self) -> usize {
        self.0.len()
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    pub(super) fn begin(&mut self, index: Index, what: &Operation) -> OperationId {
        let id = OperationId(index.0);
        let phases = Vec::new();
        let logged = LoggedOperation {
            what: what.clone(),
            approved: None,
            target: None,
            outcome: None,
            phases,
        };
        self.0.insert(id, logged);
        id
    }

    /// Only what waits for a person is approved.
    pub(super) fn approve(&mut self, id: OperationId, by: &Author) -> bool {
        let Some(logged) = self.0.get_mut(&id).filter(|logged| logged.waits()) else {
            return false;
        };
        logged.approved = Some(by.clone());
        true
    }

    pub(super) fn aim(&mut self, id: OperationId, target: &NodeId) {
        if let Some(logged) = self.0.get_mut(&id) {
            logged.target = Some(target.clone());
        }
    }

    pub(super) fn finish(
        &mut self,
        id: OperationId,
        outcome: &Outcome,
        phases: &[(Phase, Duration)],
    ) {
        if let Some(logged) = self.0.get_mut(&id) {
            logged.outcome = Some(outcome.clone());
            logged.phases = phases.to_vec();
        }
        let over: Vec<OperationId> = self
            .iter()
            .filter(|(_, o)| o.outcome.is_some())
            .map(|(id, _)| id)
            .collect();
        for old in over.iter().take(over.len().saturating_sub(REMEMBERED)) {
            self.0.remove(old);
        }
    }
}

impl FromIterator<(OperationId, LoggedOperation)> for Operations {
    fn from_iter<I: IntoIterator<Item = (OperationId, LoggedOperation)>>(all: I) -> Self {
        Self(all.into_iter().collect())
    }
}

impl IntoIterator for Operations {
    type Item = (OperationId, LoggedOperation);
    type IntoIter = std::collections::btree_map::IntoIter<OperationId, LoggedOperation>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl Extend<(OperationId, LoggedOperation)> for Operations {
    fn extend<I: IntoIterator<Item = (OperationId, LoggedOperation)>>(&mut self, more: I) {
        self.0.extend(more);
    }
}
