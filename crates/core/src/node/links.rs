//! How other nodes are reached, and what came from them.

use crate::ids::NodeId;
use crate::time::Time;
use std::collections::BTreeMap;
use std::time::Duration;

/// A node that sends what no honest one does is named once in this time.
const REFUSED_AGAIN: Duration = Duration::from_secs(60);

#[derive(Default)]
pub(super) struct Links {
    /// Heartbeats so far; the last one's number.
    pub beats: u64,
    /// By which other nodes those are reached whose direct link is broken (A4).
    ways: BTreeMap<NodeId, NodeId>,
    /// When a message of each was refused last, for the record.
    refused: BTreeMap<NodeId, Time>,
}

impl Links {
    /// Notes by which node another is reached; returns whether that is new.
    pub fn set_way(&mut self, to: &NodeId, via: Option<&NodeId>) -> bool {
        if self.ways.get(to) == via {
            return false;
        }
        match via {
            Some(via) => self.ways.insert(to.clone(), via.clone()),
            None => self.ways.remove(to),
        };
        true
    }

    /// Whether it is said now that a node sends what none should: once in a while.
    pub fn may_refuse(&mut self, from: &NodeId, now: Time) -> bool {
        let last = self.refused.get(from);
        if last.is_some_and(|at| now.since(*at) < REFUSED_AGAIN) {
            return false;
        }
        self.refused.insert(from.clone(), now);
        true
    }

    /// Forgets nodes that are none any more.
    pub fn retain(&mut self, is_node: impl Fn(&NodeId) -> bool) {
        self.ways.retain(|to, via| is_node(to) && is_node(via));
        self.refused.retain(|node, _| is_node(node));
    }
}
