//! What each node notes of operations as their entries are committed: their steps, and when their
//! phases ended. Any of them may be the next coordinator, who tells of them.

use crate::ids::{OperationId, WorkloadId};
use crate::progress::Step;
use crate::steward::Stamps;
use std::collections::BTreeMap;

/// Operations whose steps are remembered.
const STEPS_OF: usize = 50;

#[derive(Default)]
pub(super) struct Journal {
    steps: BTreeMap<OperationId, Vec<Step>>,
    /// Of the last operation of each workload.
    pub stamps: BTreeMap<WorkloadId, Stamps>,
}

impl Journal {
    pub fn note(&mut self, operation: OperationId, step: Step) {
        self.steps.entry(operation).or_default().push(step);
        while self.steps.len() > STEPS_OF {
            self.steps.pop_first();
        }
    }

    pub fn steps_of(&self, operation: OperationId) -> Vec<Step> {
        self.steps.get(&operation).cloned().unwrap_or_default()
    }
}
