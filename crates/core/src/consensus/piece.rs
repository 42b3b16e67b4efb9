//! A snapshot, and the pieces that it travels in.

use super::log::LogId;
use crate::state::{Charter, ClusterState};
use serde::{Deserialize, Serialize};

/// Workloads, operations and nodes in one piece: some ten kilobytes, so that a piece holds up no
/// heartbeat.
const PIECE: usize = 64;

/// Everything that the log said up to and including `last`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    pub last: LogId,
    pub state: ClusterState,
}

/// A part of a snapshot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Piece {
    pub last: LogId,
    /// Which one it is, and how many there are.
    pub number: u32,
    pub of: u32,
    /// Some of the state's workloads, operations and nodes.
    pub part: ClusterState,
}

impl Snapshot {
    pub(super) fn pieces(&self) -> u32 {
        let state = &self.state;
        let rows = state
            .workloads
            .len()
            .max(state.operations.len())
            .max(state.nodes.len())
            .max(state.acknowledged.len());
        u32::try_from(rows.div_ceil(PIECE).max(1)).unwrap_or(u32::MAX)
    }

    pub(super) fn piece(&self, number: u32) -> Piece {
        let skip = number as usize * PIECE;
        let part = ClusterState {
            applied: self.state.applied,
            workloads: self
                .state
                .workloads
                .iter()
                .skip(skip)
                .take(PIECE)
                .map(|(k, v)| (k.clone(), v.clone()))
                .collect(),
            operations: self
                .state
                .operations
                .iter()
                .skip(skip)
                .take(PIECE)
                .map(|(k, v)| (k, v.clone()))
                .collect(),
            nodes: self
                .state
                .nodes
                .iter()
                .skip(skip)
                .take(PIECE)
                .map(|(k, v)| (k.clone(), v.clone()))
                .collect(),
            acknowledged: self.state.acknowledged.part(skip, PIECE),
            charter: if number == 0 {
                self.state.charter.clone()
            } else {
                Charter::default()
            },
        };
        Piece {
            last: self.last,
            number,
            of: self.pieces(),
            part,
        }
    }
}
