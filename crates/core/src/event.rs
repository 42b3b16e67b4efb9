//! What a node saw or did, for the history. The daemon stamps and numbers it.

use crate::ids::{Index, OperationId, WorkloadId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Info,
    Notice,
    Warning,
}

/// One line of the record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Event {
    pub level: Level,
    /// A fixed word: `elected`, `suspected`, `server-exited`, `opened`, ...
    pub kind: String,
    /// One sentence for a reader.
    pub text: String,
    pub workload: Option<WorkloadId>,
    pub operation: Option<OperationId>,
    /// Set where the event is a committed decision: every node records it, and readers show it once.
    pub index: Option<Index>,
    /// The evidence: who saw what, numbers with units.
    pub data: BTreeMap<String, String>,
}

impl Event {
    pub fn new(level: Level, kind: &str, text: impl Into<String>) -> Self {
        Self {
            level,
            kind: kind.into(),
            text: text.into(),
            workload: None,
            operation: None,
            index: None,
            data: BTreeMap::new(),
        }
    }

    pub fn about(mut self, workload: &WorkloadId) -> Self {
        self.workload = Some(workload.clone());
        self
    }

    pub fn within(mut self, operation: Option<OperationId>) -> Self {
        self.operation = operation;
        self
    }

    pub fn with(mut self, key: &str, value: impl ToString) -> Self {
        self.data.insert(key.into(), value.to_string());
        self
    }
}
