//! What a node saw or did, for the history. The daemon stamps and numbers it.

use crate::fact::Fact;
use crate::ids::{Index, OperationId, WorkloadId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

pub use crate::fact::{FactKind, Level};

/// One line of the record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Event {
    pub level: Level,
    pub kind: FactKind,
    /// One sentence for a reader.
    pub text: String,
    pub workload: Option<WorkloadId>,
    pub operation: Option<OperationId>,
    /// Set where the event is a committed decision: every node records it, and readers show it
    /// once.
    pub index: Option<Index>,
    /// The evidence: who saw what, numbers with units.
    pub data: BTreeMap<String, String>,
}

impl Event {
    pub fn new(level: Level, kind: FactKind, text: impl Into<String>) -> Self {
        Self {
            level,
            kind,
            text: text.into(),
            workload: None,
            operation: None,
            index: None,
            data: BTreeMap::new(),
        }
    }

    pub fn of(fact: &Fact) -> Self {
        let workload = fact.workload().cloned();
        let data = fact.data().into_iter().collect();
        Self {
            workload,
            data,
            ..Self::new(fact.level(), fact.kind(), fact.text())
        }
    }

    pub fn within(mut self, operation: Option<OperationId>) -> Self {
        self.operation = operation;
        self
    }

    pub fn at(mut self, index: Index) -> Self {
        self.index = Some(index);
        self
    }

    pub fn with(mut self, key: &str, value: impl ToString) -> Self {
        self.data.insert(key.into(), value.to_string());
        self
    }
}
